import createClient, { type Middleware } from 'openapi-fetch';
import type { components, paths } from '../api';

type Schemas = components['schemas'];
export type Server = Schemas['Server'];
export type Status = Schemas['Status'];
export type Database = Schemas['Database'];
export type DatabaseList = Schemas['DatabaseList'];
export type DatabaseSpec = Schemas['DatabaseSpec'];
export type Choices = Schemas['Choices'];
export type Engine = Schemas['Engine'];
export type EngineField = Schemas['Field'];
export type Choice = Schemas['Choice'];
export type Brief = Schemas['Brief'];
export type Finding = Schemas['Finding'];
export type Action = Schemas['Action'];
export type Step = Schemas['Step'];
export type Change = Schemas['Change'];
export type ChangeLine = Schemas['ChangeLine'];
export type JournalEntry = Schemas['JournalEntry'];
export type Intent = Schemas['Intent'];
export type Principal = Schemas['Principal'];
export type Account = Schemas['Account'];
export type Holding = Schemas['Holding'];
export type Blueprint = Schemas['Blueprint'];
export type BlueprintCheck = Schemas['BlueprintCheck'];
export type Export = Schemas['Export'];
export type HoldingList = Schemas['HoldingList'];
export type AccountList = Schemas['AccountList'];
export type AccountDetail = Schemas['AccountDetail'];
export type GrantLine = Schemas['GrantLine'];
export type Found = Schemas['Found'];
export type ConsoleSession = Schemas['ConsoleSession'];
export type Matrix = Schemas['Matrix'];
export type MatrixRow = Schemas['MatrixRow'];
export type Why = Schemas['Why'];
export type Handover = Schemas['Handover'];
export type ServerSession = Schemas['ServerSession'];
export type SessionList = Schemas['SessionList'];
export type SessionHistory = Schemas['SessionHistory'];
export type Session = Schemas['Session'];
export type History = Schemas['History'];
export type Attention = Schemas['Attention'];
export type AttentionItem = Schemas['AttentionItem'];
export type Operator = Schemas['Operator'];
export type OperatorInput = Schemas['OperatorInput'];
export type OperatorPatch = Schemas['OperatorPatch'];
export type Token = Schemas['Token'];
export type TokenInput = Schemas['TokenInput'];
export type ServerInput = Schemas['ServerInput'];
export type ServerPatch = Schemas['ServerPatch'];
export type Comparison = Schemas['Comparison'];
export type Problem = Schemas['Problem'];

/** A problem that the service answered, or that it could not be reached. */
export class Failure extends Error {
	constructor(readonly problem: Problem) {
		super(problem.detail);
	}
}

/** Called when the service says that nobody is signed in. */
let onSignedOut = () => {};
let csrf = '';

export function watchSignOut(f: () => void): void {
	onSignedOut = f;
}

export function useCsrf(token: string): void {
	csrf = token;
}

export const csrfToken = (): string => csrf;

const guard: Middleware = {
	onRequest({ request }) {
		if (csrf && request.method !== 'GET') request.headers.set('X-Genarch-CSRF', csrf);
		return request;
	}
};

/** Ends what the page before still reads. */
let page = new AbortController();
export function leavePage(): void {
	page.abort();
	page = new AbortController();
}

/** What a page reads for itself, not what is kept for all of them. */
const ofPage = /\/api\/v1\/(servers\/|changes|journal)/;

const client = createClient<paths>({
	baseUrl: '/api/v1',
	fetch: (request: Request) =>
		fetch(
			request.method === 'GET' && ofPage.test(request.url)
				? new Request(request, { signal: AbortSignal.any([request.signal, page.signal]) })
				: request
		)
});
client.use(guard);

type Answer<T> = { data?: T; error?: unknown; response: Response };

/** Gives the data of a call, or throws a Failure that says what went wrong. */
async function unwrap<T>(call: Promise<Answer<T>>): Promise<T> {
	let answer: Answer<T>;
	try {
		answer = await call;
	} catch (e) {
		if (e instanceof DOMException && e.name === 'AbortError') throw e;
		throw new Failure(unreachable());
	}
	if (answer.response.ok) return answer.data as T;
	const problem = answer.error as Problem | undefined;
	if (answer.response.status === 401 && problem?.code === 'sign_in') onSignedOut();
	throw new Failure(problem?.code ? problem : unreachable());
}

function unreachable(): Problem {
	return {
		title: 'Unreachable',
		status: 0,
		code: 'unreachable',
		detail: 'Genarch does not answer',
		next: 'nothing was lost; this page tries again by itself'
	};
}

/** Turns whatever was thrown into a problem to be shown. */
export function problemOf(e: unknown): Problem {
	if (e instanceof Failure) return e.problem;
	return { title: 'Error', status: 0, code: 'internal', detail: e instanceof Error ? e.message : String(e) };
}

const server = (name: string) => ({ params: { path: { server: name } } });

export const api = {
	session: () => unwrap(client.GET('/session')),
	signIn: (name: string, password: string) => unwrap(client.POST('/session', { body: { name, password } })),
	signOut: () => unwrap(client.DELETE('/session')),
	search: (q: string, signal?: AbortSignal) =>
		unwrap(client.GET('/search', { params: { query: { q, limit: 40 } }, signal })),
	setPassword: (old: string, fresh: string) => unwrap(client.PUT('/session/password', { body: { old, new: fresh } })),
	ownSessions: () => unwrap(client.GET('/session/all')),
	endOtherSessions: () => unwrap(client.DELETE('/session/others')),
	engines: () => unwrap(client.GET('/engines')),
	servers: () => unwrap(client.GET('/servers')),
	server: (name: string, signal?: AbortSignal) => unwrap(client.GET('/servers/{server}', { ...server(name), signal })),
	attention: () => unwrap(client.GET('/attention')),
	serverHistory: (name: string, days: number) =>
		unwrap(client.GET('/servers/{server}/history', { params: { path: { server: name }, query: { days } } })),
	databaseHistory: (name: string, database: string, days: number) =>
		unwrap(
			client.GET('/servers/{server}/databases/{database}/history', {
				params: { path: { server: name, database }, query: { days } }
			})
		),
	checkServer: (name: string) => unwrap(client.GET('/servers/{server}/check', server(name))),
	addServer: (body: ServerInput) => unwrap(client.POST('/servers', { body })),
	editServer: (name: string, body: ServerPatch) => unwrap(client.PATCH('/servers/{server}', { ...server(name), body })),
	acceptServer: (name: string, key: string) =>
		unwrap(client.POST('/servers/{server}/accept', { ...server(name), body: { key } })),
	forgetServer: (name: string) => unwrap(client.DELETE('/servers/{server}', server(name))),
	operators: () => unwrap(client.GET('/operators')),
	addOperator: (body: OperatorInput) => unwrap(client.POST('/operators', { body })),
	editOperator: (name: string, body: OperatorPatch) =>
		unwrap(client.PATCH('/operators/{name}', { params: { path: { name } }, body })),
	tokens: () => unwrap(client.GET('/tokens')),
	addToken: (body: TokenInput) => unwrap(client.POST('/tokens', { body })),
	revokeToken: (id: number) => unwrap(client.DELETE('/tokens/{id}', { params: { path: { id } } })),
	compare: (query: NonNullable<paths['/comparison']['get']['parameters']['query']>) =>
		unwrap(client.GET('/comparison', { params: { query } })),
	choices: (name: string, keys: string[]) =>
		unwrap(client.GET('/servers/{server}/choices', { params: { path: { server: name }, query: { keys } } })),
	databases: (name: string, system: boolean, signal?: AbortSignal) =>
		unwrap(
			client.GET('/servers/{server}/databases', {
				params: { path: { server: name }, query: { system, limit: 20000 } },
				signal
			})
		),
	database: (name: string, database: string) =>
		unwrap(client.GET('/servers/{server}/databases/{database}', { params: { path: { server: name, database } } })),
	brief: (intent: Schemas['Intent'], signal?: AbortSignal) => unwrap(client.POST('/briefs', { body: intent, signal })),
	ask: (intent: Schemas['Intent']) => unwrap(client.POST('/changes', { body: intent, params: { header: {} } })),
	change: (id: number) => unwrap(client.GET('/changes/{id}', { params: { path: { id } } })),
	changes: (query: NonNullable<paths['/changes']['get']['parameters']['query']>) =>
		unwrap(client.GET('/changes', { params: { query } })),
	run: (id: number, fingerprint: string, accept: string[], confirm?: string) =>
		unwrap(client.POST('/changes/{id}/run', { params: { path: { id } }, body: { fingerprint, accept, confirm } })),
	stop: (id: number) => unwrap(client.POST('/changes/{id}/stop', { params: { path: { id } }, body: {} })),
	sessions: (name: string, query: { database?: string; all?: boolean }, signal?: AbortSignal) =>
		unwrap(
			client.GET('/servers/{server}/sessions', {
				params: { path: { server: name }, query: { ...query, limit: 20000 } },
				signal
			})
		),
	sessionHistory: (name: string, signal?: AbortSignal) =>
		unwrap(client.GET('/servers/{server}/sessions/history', { ...server(name), signal })),
	submit: (id: number) => unwrap(client.POST('/changes/{id}/submit', { params: { path: { id } } })),
	decline: (id: number, reason: string) =>
		unwrap(client.POST('/changes/{id}/decline', { params: { path: { id } }, body: { reason } })),
	passwords: (id: number) => unwrap(client.POST('/changes/{id}/passwords', { params: { path: { id } } })),
	blueprints: () => unwrap(client.GET('/blueprints')),
	blueprint: (blueprint: string, version = 0) =>
		unwrap(client.GET('/blueprints/{blueprint}', { params: { path: { blueprint }, query: { version } } })),
	blueprintSchema: () => unwrap(client.GET('/blueprints/schema')),
	checkBlueprint: (text: string) => unwrap(client.POST('/blueprints/check', { body: { text } })),
	putBlueprint: (blueprint: string, text: string) =>
		unwrap(client.PUT('/blueprints/{blueprint}', { params: { path: { blueprint } }, body: { text } })),
	exports: () => unwrap(client.GET('/exports')),
	removeExport: (id: string) => unwrap(client.DELETE('/exports/{export}', { params: { path: { export: id } } })),
	removeBlueprint: (blueprint: string) =>
		unwrap(client.DELETE('/blueprints/{blueprint}', { params: { path: { blueprint } } })),
	holdings: (server = '') => unwrap(client.GET('/holdings', { params: { query: { server: server || undefined } } })),
	accounts: (name: string, system = false) =>
		unwrap(
			client.GET('/servers/{server}/accounts', { params: { path: { server: name }, query: { system, limit: 20000 } } })
		),
	account: (name: string, account: string, role: boolean, within = '') =>
		unwrap(
			client.GET('/servers/{server}/accounts/{account}', {
				params: { path: { server: name, account }, query: { role, within: within || undefined } }
			})
		),
	access: (name: string, query: { database?: string; account?: string; fresh?: boolean } = {}) =>
		unwrap(client.GET('/servers/{server}/access', { params: { path: { server: name }, query } })),
	grants: (name: string, database: string) =>
		unwrap(client.GET('/servers/{server}/grants', { params: { path: { server: name }, query: { database } } })),
	why: (
		name: string,
		query: {
			account: string;
			within?: string;
			role: boolean;
			privilege: string;
			database?: string;
			schema?: string;
			name?: string;
			scope?: 'server' | 'database' | 'schema' | 'table';
		}
	) => unwrap(client.GET('/servers/{server}/access/why', { params: { path: { server: name }, query } })),
	handover: (name: string, database: string) =>
		unwrap(
			client.GET('/servers/{server}/databases/{database}/handover', { params: { path: { server: name, database } } })
		),
	withdraw: (id: number) => unwrap(client.POST('/changes/{id}/withdraw', { params: { path: { id } } })),
	script: async (id: number) => {
		const answer = await fetch(`/api/v1/changes/${id}/script`);
		if (!answer.ok) throw new Failure(unreachable());
		return answer.text();
	},
	journal: (query: NonNullable<paths['/journal']['get']['parameters']['query']>) =>
		unwrap(client.GET('/journal', { params: { query } })),
	checkJournal: () => unwrap(client.GET('/journal/check'))
};

import type { Action, Intent } from './api';
import { to, type Who } from '../router';

/** What an address names, of what the console has pages for. */
type Place = { server: string; database: string; who: Who | null };

/** Reads an address as the API writes it. */
function placeOf(address: string): Place {
	const at = address.indexOf('/');
	const out: Place = { server: at < 0 ? address : address.slice(0, at), database: '', who: null };
	let rest = at < 0 ? '' : address.slice(at + 1);
	const inside = /^(?:database:)?([^/]*)\/(?=account:|role:)/.exec(rest);
	if (inside) [out.database, rest] = [inside[1] ?? '', rest.slice(inside[0].length)];
	const kind = /^(account|role|session|database):/.exec(rest)?.[1];
	const name = kind ? rest.slice(kind.length + 1) : rest;
	if (kind === 'account' || kind === 'role') {
		const host = kind === 'account' ? name.lastIndexOf('@') : -1;
		out.who = {
			name: host < 0 ? name : name.slice(0, host),
			host: host < 0 ? undefined : name.slice(host + 1),
			database: out.database || undefined,
			role: kind === 'role'
		};
	} else if (kind !== 'session' && name) out.database = name;
	return out;
}

/** The page on which an action is done, and what its link says; null: the console has none. */
export function pageOf(action: Action, here: string): { href: string; title: string } | null {
	const { server, database, who } = placeOf(action.at ?? here);
	const pages: Record<string, [string, string] | undefined> = {
		'server.list': ['/', 'All servers'],
		'change.list': ['/changes', 'All changes'],
		'change.show': [to.change(Number(action.at)), `Change ${action.at}`],
		'operator.list': ['/operators', 'All operators'],
		'operator.edit': ['/operators', 'Operators']
	};
	if (server) {
		for (const verb of ['list', 'bring-back', 'release', 'discard'])
			pages[`holding.${verb}`] = [to.holdings(server), `What was set aside on ${server}`];
		pages['server.check'] = [to.settings(server), `Settings of ${server}`];
		pages['server.edit'] = pages['server.accept'] = pages['server.check'];
		pages['database.list'] = [to.server(server), `Databases of ${server}`];
		pages['session.list'] = pages['session.end'] = [to.sessions(server, database), `Sessions of ${database || server}`];
		pages['account.list'] = pages['role.show'] = pages['account.show'] = [to.accounts(server), `Accounts of ${server}`];
		pages['privilege.list'] = pages['account.list'];
		pages['privilege.grant'] = pages['role.grant'] = [to.newGrant(server, database), 'Grant'];
		pages['privilege.revoke'] = pages['account.list'];
		for (const verb of ['alter', 'password', 'lock', 'drop']) pages[`account.${verb}`] = pages['account.list'];
	}
	if (server && database) {
		pages['database.show'] = [to.database(server, database), database];
		pages['database.alter'] = [to.alter(server, database), `Alter ${database}`];
		pages['database.fill'] = [to.fill(server, database), `Fill ${database}`];
		pages['database.drop'] = [to.drop(server, database), `Drop ${database}`];
	}
	if (server && who) {
		const shown =
			(pages['role.show'] =
			pages['account.show'] =
				[to.account(server, who), who.name] as [string, string]);
		pages['account.alter'] = pages['account.password'] = pages['account.lock'] = pages['privilege.list'] = shown;
		pages['account.drop'] = [`${to.account(server, who)}/drop`, `Drop ${who.name}`];
	}
	const page = pages[action.do ?? ''];
	return page ? { href: page[0], title: page[1] } : null;
}

/** The name of an option as a button says it. */
export const optionName = (place: string): string =>
	place === 'clearing' ? 'end their sessions' : (place.split('.').pop() ?? place).replaceAll('_', ' ');

type Part = 'database' | 'account' | 'member' | 'grant' | 'sessions';

/** The part of an intent that says what is asked for. */
export function partOf(kind: Intent['kind']): Part {
	const about = kind.split('.')[0] ?? '';
	return ({ privilege: 'grant', role: 'member', session: 'sessions' }[about] ?? about) as Part;
}

/** The value of an option as an action writes it: no leaves it out, false says no. */
export function optionValue(text: string): unknown {
	return text === 'yes' ? true : text === 'no' ? undefined : text === 'false' ? false : text;
}

/** The intent with an option set, by its place. */
export function withOption(intent: Intent, place: string, value: string): Intent {
	const out = structuredClone(intent);
	const set = optionValue(value);
	const put = (holder: object, path: string[]): void => {
		const [first, ...rest] = path;
		const into = holder as Record<string, unknown>;
		if (!first) return;
		if (!rest.length) into[first] = first === 'clearing' ? (into[first] ?? {}) : set;
		else put((into[first] ??= {}) as object, rest);
	};
	const path = place.split('.');
	const part = partOf(out.kind);
	if (path[0] === 'clearing') put(out, path);
	else put((out[part] ??= {} as never) as object, path);
	return out;
}

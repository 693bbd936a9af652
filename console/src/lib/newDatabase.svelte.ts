import { api, problemOf, type Brief, type Choices, type DatabaseSpec, type Engine, type Finding, type Problem, type Server } from './api';

/** How long typing must rest before the server is asked, in milliseconds. */
const rest = 250;

/** The form for a new database: what is asked, and what the server says to it. */
export class NewDatabaseForm {
	spec = $state<DatabaseSpec>({ name: '' });
	server = $state<Server | null>(null);
	engine = $state<Engine | null>(null);
	choices = $state.raw<Choices | null>(null);
	brief = $state.raw<Brief | null>(null);
	problem = $state<Problem | null>(null);
	checking = $state(false);
	team = $state('');
	teamHost = $state('');
	#abort: AbortController | null = null;
	#timer: ReturnType<typeof setTimeout> | undefined;

	constructor(readonly name: string) {}

	/** What is asked, without the fields that were left empty. */
	readonly asked = $derived.by((): DatabaseSpec => {
		const out: Record<string, unknown> = { name: this.spec.name };
		for (const [k, v] of Object.entries(this.spec)) if (v !== '' && v !== undefined && v !== null && v !== false) out[k] = v;
		if (this.spec.allow_connections === false) out.allow_connections = false;
		if (this.spec.is_template === false) out.is_template = false;
		if (this.team) out.team = this.teamHost ? { name: this.team, host: this.teamHost } : { name: this.team };
		return out as DatabaseSpec;
	});

	readonly intent = $derived.by(() => ({ kind: 'database.create' as const, server: this.name, database: this.asked }));

	has(option: string): boolean {
		return this.engine?.options.includes(option) ?? false;
	}

	setting(name: string): Brief['settings'][number] | undefined {
		return this.brief?.settings.find((s) => s.name === name);
	}

	/** The findings about one field, by the beginnings of their codes. */
	about(...prefixes: string[]): Finding[] {
		if (!this.spec.name && prefixes.includes('name')) return [];
		return this.brief?.findings.filter((f) => prefixes.some((p) => f.code.startsWith(p + '.'))) ?? [];
	}

	async load(): Promise<void> {
		try {
			const [server, engines, choices] = await Promise.all([api.server(this.name), api.engines(), api.choices(this.name)]);
			this.server = server;
			this.engine = engines.find((e) => e.engine === server.engine) ?? null;
			this.choices = choices;
			this.problem = null;
		} catch (e) {
			this.problem = problemOf(e);
		}
	}

	/** Asks the server what it says to the form as it is, once typing rests. */
	check(): void {
		clearTimeout(this.#timer);
		this.#abort?.abort();
		this.checking = true;
		const intent = $state.snapshot(this.intent);
		this.#timer = setTimeout(async () => {
			const abort = new AbortController();
			this.#abort = abort;
			try {
				this.brief = await api.brief(intent, abort.signal);
				this.problem = null;
				this.checking = false;
			} catch (e) {
				if (e instanceof DOMException && e.name === 'AbortError') return;
				this.problem = problemOf(e);
				this.checking = false;
			}
		}, rest);
	}

	stop(): void {
		clearTimeout(this.#timer);
		this.#abort?.abort();
	}
}

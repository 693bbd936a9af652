import { api, problemOf, type Brief, type Choices, type DatabaseSpec, type Engine, type Finding, type Problem, type Server } from './api';
import { registered } from './registered.svelte';

/** How long typing must rest before the server is asked, in milliseconds. */
const rest = 250;

/** The form for a new database: what is asked, and what the server says to it. */
export class NewDatabaseForm {
	spec = $state<DatabaseSpec>({ name: '' });
	engines = $state.raw<Engine[]>([]);
	choices = $state.raw<Choices | null>(null);
	brief = $state.raw<Brief | null>(null);
	problem = $state<Problem | null>(null);
	checking = $state(false);
	team = $state('');
	teamHost = $state('');
	#abort: AbortController | null = null;
	#timer: ReturnType<typeof setTimeout> | undefined;

	constructor(readonly name: string) {}

	/** What its engine can do. */
	get engine(): Engine | undefined {
		return this.engines.find((e) => e.engine === this.server?.engine);
	}

	/** The server as it is registered. */
	get server(): Server | undefined {
		return registered.get(this.name);
	}

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
			const [engines, choices] = await Promise.all([api.engines(), api.choices(this.name)]);
			this.engines = engines;
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

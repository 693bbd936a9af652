import { api, problemOf, type DatabaseList, type Problem } from './api';

/** How long a row that has come stays marked, in milliseconds. */
const freshFor = 60_000;

/** The list of a server's databases: read, searched, and what is new in it. */
export class DatabaseTable {
	list = $state.raw<DatabaseList | null>(null);
	problem = $state<Problem | null>(null);
	fresh = $state.raw<ReadonlySet<string>>(new Set());
	#abort: AbortController | null = null;

	/** Those that fit what is searched for, by name, owner or comment. */
	readonly rows = $derived.by(() => {
		const words = this.search().trim().toLowerCase().split(/\s+/).filter(Boolean);
		const all = this.list?.databases ?? [];
		if (!words.length) return all;
		return all.filter((d) => {
			const text = `${d.name}\n${d.owner}\n${d.comment}`.toLowerCase();
			return words.every((w) => text.includes(w));
		});
	});

	constructor(
		readonly server: string,
		readonly search: () => string,
		/** The engine's own too. */
		readonly system: () => boolean
	) {}

	/** Reads the list anew; a reading that was overtaken is given up. */
	async load(): Promise<void> {
		this.#abort?.abort();
		const abort = new AbortController();
		this.#abort = abort;
		try {
			const list = await api.databases(this.server, this.system(), abort.signal);
			const before = this.list;
			if (before && before.server === list.server) {
				const known = new Set(before.databases.map((d) => d.name));
				this.mark(list.databases.filter((d) => !known.has(d.name) && !d.system).map((d) => d.name));
			}
			this.list = list;
			this.problem = null;
		} catch (e) {
			if (e instanceof DOMException && e.name === 'AbortError') return;
			this.problem = problemOf(e);
		}
	}

	/** Marks rows as new for a while. */
	mark(names: string[]): void {
		if (!names.length) return;
		this.fresh = new Set([...this.fresh, ...names]);
		setTimeout(() => {
			this.fresh = new Set([...this.fresh].filter((n) => !names.includes(n)));
		}, freshFor);
	}
}

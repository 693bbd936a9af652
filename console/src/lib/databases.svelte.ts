import { api, problemOf, type Database, type DatabaseList, type Problem } from './api';
import { property, valueText } from './engines.svelte';

/** A figure that every engine has, or the name of a field of the engine's. */
export type SortKey = string;

/** How long a row that has come stays marked, in milliseconds. */
const freshFor = 60_000;

/** The list of a server's databases: read, searched, sorted, and what is new in it. */
export class DatabaseTable {
	list = $state.raw<DatabaseList | null>(null);
	problem = $state<Problem | null>(null);
	search = $state('');
	system = $state(false);
	sort = $state<SortKey>('name');
	down = $state(false);
	fresh = $state.raw<ReadonlySet<string>>(new Set());
	#abort: AbortController | null = null;

	readonly rows = $derived.by(() => {
		const wanted = this.search.trim().toLowerCase();
		const all = this.list?.databases ?? [];
		const found = wanted
			? all.filter((d) => [d.name, d.owner, d.comment].some((t) => t.toLowerCase().includes(wanted)))
			: [...all];
		const sign = this.down ? -1 : 1;
		const value = (d: Database) => property(d, this.sort) ?? null;
		return found.sort((x, y) => {
			const [a, b] = [value(x), value(y)];
			// What is unknown stands last, whichever way round.
			if (a === null || b === null) return a === b ? 0 : a === null ? 1 : -1;
			const order =
				typeof a === 'number' && typeof b === 'number' ? a - b : valueText(a).localeCompare(valueText(b), 'en');
			return order * sign || x.name.localeCompare(y.name, 'en');
		});
	});

	constructor(readonly server: string) {}

	sortBy(key: SortKey): void {
		this.down = this.sort === key ? !this.down : ['size', 'tables', 'sessions'].includes(key);
		this.sort = key;
	}

	/** Reads the list anew; a reading that was overtaken is given up. */
	async load(): Promise<void> {
		this.#abort?.abort();
		const abort = new AbortController();
		this.#abort = abort;
		try {
			const list = await api.databases(this.server, this.system, abort.signal);
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

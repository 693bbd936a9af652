import { SvelteSet } from 'svelte/reactivity';
import { api, problemOf, type Problem, type ServerSession, type SessionHistory, type SessionList } from './api';

/** How long lies between two readings while the page is seen, in milliseconds. */
const pause = 2000;

/** What can be chosen as class, the harmless ones first. */
export const classes = [
	'idle',
	'busy',
	'in_transaction',
	'written',
	'ending',
	'hidden',
	'backup',
	'replication',
	'worker'
] as const;

/** A line of the list: the head of a group, or one session of it. */
export type Line = { group: string; count: number; words: string; ids: string[] } | { session: ServerSession };

/** Who is connected to a server or one of its databases: read again and again, filtered, grouped, chosen. */
export class Sessions {
	list = $state.raw<SessionList | null>(null);
	history = $state.raw<SessionHistory | null>(null);
	problem = $state<Problem | null>(null);
	search = $state('');
	only = $state('');
	all = $state(false);
	shown = $state('');
	readonly chosen = new SvelteSet<string>();
	#abort: AbortController | null = null;
	#rounds = 0;

	constructor(
		readonly server: string,
		readonly database: string
	) {}

	readonly rows = $derived.by(() => {
		const wanted = this.search.trim().toLowerCase();
		return (this.list?.sessions ?? []).filter(
			(s) =>
				(!this.only || s.class === this.only) &&
				(!wanted ||
					[s.account.name, s.application, s.client, s.database, s.statement, String(s.number)].some((t) =>
						t?.toLowerCase().includes(wanted)
					))
		);
	});

	/** The sessions of each program under its name; where there are no names, of each account. */
	readonly lines = $derived.by((): Line[] => {
		const groups = new Map<string, ServerSession[]>();
		for (const s of this.rows) {
			const key = s.application || s.account.name || 'the server itself';
			groups.set(key, [...(groups.get(key) ?? []), s]);
		}
		const out: Line[] = [];
		for (const [group, sessions] of [...groups].sort(
			([x, a], [y, b]) => b.length - a.length || x.localeCompare(y, 'en')
		)) {
			const counts = new Map<string, number>();
			for (const s of sessions) counts.set(s.class, (counts.get(s.class) ?? 0) + 1);
			const words = [...counts].map(([c, n]) => `${n} ${c}`).join(', ');
			out.push({ group, count: sessions.length, words, ids: sessions.filter(endable).map((s) => s.id) });
			for (const session of sessions.sort((a, b) => a.number - b.number)) out.push({ session });
		}
		return out;
	});

	readonly detail = $derived(
		this.list?.sessions.find((s) => s.id === this.shown) ??
			this.list?.waits.find((w) => w.session.id === this.shown)?.session
	);

	/** Reads on until the function that it returns is called. */
	watch(): () => void {
		let timer: ReturnType<typeof setTimeout>;
		let over = false;
		const round = async (): Promise<void> => {
			if (document.visibilityState === 'visible') await this.load();
			if (!over) timer = setTimeout(round, pause);
		};
		round();
		return () => {
			over = true;
			clearTimeout(timer);
			this.#abort?.abort();
		};
	}

	async load(): Promise<void> {
		this.#abort?.abort();
		const abort = (this.#abort = new AbortController());
		try {
			this.list = await api.sessions(
				this.server,
				{ database: this.database || undefined, all: this.all },
				abort.signal
			);
			this.problem = null;
			const there = new Set(this.list.sessions.map((s) => s.id));
			for (const id of this.chosen) if (!there.has(id)) this.chosen.delete(id);
			// The samples of the hour come more seldom.
			if (!this.database && this.#rounds++ % 5 === 0)
				this.history = await api.sessionHistory(this.server, abort.signal);
		} catch (e) {
			if (e instanceof DOMException && e.name === 'AbortError') return;
			this.problem = problemOf(e);
		}
	}

	toggle(ids: string[], on: boolean): void {
		for (const id of ids) {
			if (on) this.chosen.add(id);
			else this.chosen.delete(id);
		}
	}
}

/** Whether a session may be ended from here at all. */
export function endable(s: ServerSession): boolean {
	return s.class !== 'own' && s.class !== 'engine';
}

import { api, problemOf, type Brief, type Intent, type Problem, type Server } from './api';
import { registered } from './registered.svelte';
import { go, to } from '../router';

/** How long typing must rest before the server is asked, in milliseconds. */
const rest = 300;

/** A form for any intent: what the server says to it while it is filled in, and asking for it. */
export class Asking {
	brief = $state.raw<Brief | null>(null);
	problem = $state<Problem | null>(null);
	refused = $state<Problem | null>(null);
	busy = $state(false);
	#timer: ReturnType<typeof setTimeout> | undefined;
	#abort: AbortController | null = null;

	constructor(readonly name: string) {}

	/** The server as it is registered. */
	get server(): Server | undefined {
		return registered.get(this.name);
	}

	/** Briefs the intent once typing rests; null while something is missing. */
	check(intent: Intent | null): void {
		clearTimeout(this.#timer);
		this.#abort?.abort();
		if (!intent) {
			this.brief = null;
			return;
		}
		this.#timer = setTimeout(async () => {
			const abort = (this.#abort = new AbortController());
			try {
				this.brief = await api.brief(intent, abort.signal);
				this.problem = null;
			} catch (e) {
				if (e instanceof DOMException && e.name === 'AbortError') return;
				this.brief = null;
				this.problem = problemOf(e);
			}
		}, rest);
	}

	/** Asks for the change and goes to its brief. */
	async ask(intent: Intent | null): Promise<void> {
		if (!intent || this.busy) return;
		this.busy = true;
		this.refused = null;
		try {
			go(to.change((await api.ask(intent)).id));
		} catch (e) {
			this.refused = problemOf(e);
		} finally {
			this.busy = false;
		}
	}

	stop(): void {
		clearTimeout(this.#timer);
		this.#abort?.abort();
	}
}

import { tick } from 'svelte';
import { optionValue } from './actions';
import { api, problemOf, type Action, type Brief, type Intent, type Problem, type Server } from './api';
import { registered } from './registered.svelte';
import { go, to } from '../router';

/** Sets an option of a form. */
type Setter = (name: string, value: unknown) => void;
type Setters = Record<string, Setter | undefined>;

/** How long typing must rest before the server is asked, in milliseconds. */
const rest = 300;

/** A form for any intent: what the server says to it while it is filled in, and asking for it. */
export class ChangeForm {
	brief = $state.raw<Brief | null>(null);
	problem = $state<Problem | null>(null);
	refused = $state<Problem | null>(null);
	busy = $state(false);
	#timer: ReturnType<typeof setTimeout> | undefined;
	#abort: AbortController | null = null;

	/** setters: how the form takes an option, by its place in the intent; "options.*" is any of that part. */
	constructor(
		readonly name: string,
		readonly setters: Setters = {}
	) {}

	/** The setter of an option by its place, and its name there. */
	#setter(place: string): [Setter | undefined, string] {
		const dot = place.lastIndexOf('.');
		return [this.setters[place] ?? this.setters[`${place.slice(0, Math.max(0, dot))}.*`], place.slice(dot + 1)];
	}

	/** Whether the form has the option. */
	can(action: Action): boolean {
		const [set, name] = this.#setter(action.option ?? '');
		return !!set && (action.value ? true : !!document.getElementsByName(name).length);
	}

	/** Sets the option, or leads to its field where a person has to choose. */
	set(action: Action): void {
		const [set, name] = this.#setter(action.option ?? '');
		if (action.value) set?.(name, optionValue(action.value));
		else {
			set?.(name, undefined);
			tick().then(() => document.getElementsByName(name)[0]?.focus());
		}
	}

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

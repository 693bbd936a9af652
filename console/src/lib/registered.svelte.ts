import { api, problemOf, type Problem, type Server } from './api';
import { live } from './live.svelte';

/**
 * The servers as they are registered: name, environment, engine, address. They are
 * read once and kept, so that no page has to wait for a server to say where it is.
 */
class Registered {
	list = $state.raw<Server[] | null>(null);
	problem = $state<Problem | null>(null);
	#stop: (() => void) | null = null;

	/** Reads them, and reads them again when one is altered. */
	open(): void {
		this.load();
		this.#stop ??= live.watch({ server: () => this.load(), resync: () => this.load() });
	}

	close(): void {
		this.#stop?.();
		this.#stop = this.list = null;
	}

	get(name: string): Server | undefined {
		return this.list?.find((s) => s.name === name);
	}

	async load(): Promise<void> {
		try {
			this.list = await api.servers();
			this.problem = null;
		} catch (e) {
			this.problem = problemOf(e);
		}
	}
}

export const registered = new Registered();

import type { ChangeLine } from './api';

/** A change that moved on, as one line; whoever shows more of it reads it. */
export type Moved = ChangeLine & { ended: boolean };

type Handlers = {
	/** A change moved on. */
	change?: (change: Moved) => void;
	/** A database came, went or changed. */
	database?: (server: string, address: string) => void;
	/** A registration changed. */
	server?: (name: string) => void;
	/** The stream was cut and is back: what happened meanwhile is unknown. */
	resync?: () => void;
};

/** The stream of events from the service, shared by all pages. */
class Live {
	connected = $state(false);
	/** The connection was there and is lost. */
	lost = $state(false);
	#source: EventSource | null = null;
	#watchers = new Set<Handlers>();
	#wanted = false;
	/** The stream was away: what happened meanwhile is unknown. */
	#missed = false;

	constructor() {
		// A browser opens six connections to one address at the most. A page that
		// nobody sees gives its stream up, or six tabs would block all others.
		addEventListener('pagehide', () => this.#stop());
		document.addEventListener('visibilitychange', () => {
			if (document.visibilityState === 'hidden') this.#stop();
			else if (this.#wanted) this.open();
		});
		addEventListener('pageshow', () => this.#wanted && this.open());
	}

	open(): void {
		this.#wanted = true;
		if (this.#source || document.visibilityState === 'hidden') return;
		const source = new EventSource('/api/v1/events');
		this.#source = source;
		const on = (name: string, f: (data: never) => void) =>
			source.addEventListener(name, (e) => f(JSON.parse((e as MessageEvent<string>).data) as never));
		on('ping', () => {
			if (this.#missed) this.#each((w) => w.resync?.());
			this.connected = true;
			this.lost = this.#missed = false;
		});
		on('change', (d: { line: ChangeLine; ended: boolean }) =>
			this.#each((w) => w.change?.({ ...d.line, ended: d.ended }))
		);
		on('database', (d: { server: string; address: string }) => this.#each((w) => w.database?.(d.server, d.address)));
		on('server', (d: { server: string }) => this.#each((w) => w.server?.(d.server)));
		source.onerror = () => {
			if (this.connected) this.lost = this.#missed = true;
			this.connected = false;
			if (source.readyState === EventSource.CLOSED) {
				// The browser gives up after some answers; we do not.
				this.#stop();
				setTimeout(() => this.#wanted && this.open(), 3000);
			}
		};
	}

	close(): void {
		this.#wanted = this.#missed = this.lost = false;
		this.#stop();
	}

	#stop(): void {
		if (!this.#source) return;
		this.#source.close();
		this.#source = null;
		this.connected = false;
		this.#missed = this.#wanted;
	}

	#each(f: (w: Handlers) => void): void {
		for (const w of [...this.#watchers]) f(w);
	}

	/** Watches until the function that it returns is called. */
	watch(handlers: Handlers): () => void {
		this.#watchers.add(handlers);
		return () => this.#watchers.delete(handlers);
	}
}

export const live = new Live();

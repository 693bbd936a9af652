import type { Intent } from './api';

type Clearing = NonNullable<Intent['clearing']>;

/** How sessions that are in the way are dealt with, as a person chooses it. */
export class SessionPolicy {
	way = $state<'end' | 'wait'>('end');
	/** In seconds, before whoever is left is ended. */
	grace = $state(10);
	/** In minutes, for the last one to leave. */
	wait = $state(10);

	/** Takes an option that a finding names. */
	set(name: string): void {
		if (name === 'when_empty') this.way = 'wait';
	}

	readonly spec = $derived<Clearing>(
		this.way === 'end' ? { grace: Math.max(0, this.grace || 0) } : { when_empty: Math.max(1, this.wait || 1) * 60 }
	);
}

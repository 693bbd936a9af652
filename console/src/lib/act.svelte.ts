import { problemOf, type Problem } from './api';

/** One thing that is done at once, without a brief: how it stands, what went wrong, and doing it again. */
export class Act {
	busy = $state(false);
	problem = $state<Problem | null>(null);
	done = $state('');
	#last: (() => Promise<void>) | null = null;

	/** Does it; what the promise comes to is said when it is done. */
	async run(act: () => Promise<string>): Promise<void> {
		if (this.busy) return;
		this.#last = () => this.run(act);
		[this.busy, this.problem, this.done] = [true, null, ''];
		try {
			this.done = await act();
		} catch (e) {
			this.problem = problemOf(e);
		} finally {
			this.busy = false;
		}
	}

	/** Does once more what was refused, for example after a password was given. */
	readonly again = (): void => void this.#last?.();
}

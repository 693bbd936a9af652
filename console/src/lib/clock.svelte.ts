/** The time, so that "3 min ago" stays right. */
class Clock {
	now = $state(Date.now());
	/** The same for what counts seconds; it runs only while somebody ticks. */
	fine = $state(Date.now());

	constructor() {
		setInterval(() => (this.now = Date.now()), 5000);
	}

	/** Has the seconds run until the function that it returns is called. */
	tick(): () => void {
		const timer = setInterval(() => (this.fine = Date.now()), 250);
		return () => clearInterval(timer);
	}
}

export const clock = new Clock();

/** The time, so that "3 min ago" stays right. */
class Clock {
	now = $state(Date.now());

	constructor() {
		setInterval(() => (this.now = Date.now()), 5000);
	}
}

export const clock = new Clock();

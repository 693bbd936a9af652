/** How long typing rests before the address follows, in milliseconds: a browser allows only so many. */
const rest = 250;

/**
 * What a page shows of a list (search, order, filters), kept in the page's address: it can be sent to
 * somebody, and going back finds it again. What is as usual is left out of the address.
 */
export class Query<K extends string> {
	#values = $state<Record<string, string>>({});
	#timer: ReturnType<typeof setTimeout> | undefined;

	constructor(readonly usual: Record<K, string>) {
		const given = new URLSearchParams(location.search);
		for (const name of Object.keys(usual) as K[]) this.#values[name] = given.get(name) ?? usual[name];
	}

	get(name: K): string {
		return this.#values[name] ?? '';
	}

	/** Sets some of them; the address follows, and no page is left by it. */
	set(values: Partial<Record<K, string>>): void {
		Object.assign(this.#values, values);
		clearTimeout(this.#timer);
		const page = location.pathname;
		this.#timer = setTimeout(() => {
			if (location.pathname !== page) return; // another page has begun meanwhile
			const query = new URLSearchParams(location.search);
			for (const name of Object.keys(this.usual) as K[]) {
				if (this.get(name) === this.usual[name]) query.delete(name);
				else query.set(name, this.get(name));
			}
			const text = query.toString();
			history.replaceState(history.state, '', page + (text ? `?${text}` : '') + location.hash);
		}, rest);
	}
}

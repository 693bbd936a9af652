type Theme = 'day' | 'night';

/** Light or dark: as chosen, else as the system says. */
class ThemeState {
	current = $state<Theme>('day');

	constructor() {
		const kept = localStorage.getItem('genarch-theme');
		const dark = matchMedia('(prefers-color-scheme: dark)').matches;
		this.#apply(kept === 'day' || kept === 'night' ? kept : dark ? 'night' : 'day');
	}

	#apply(theme: Theme): void {
		this.current = theme;
		document.documentElement.dataset.theme = theme;
	}

	toggle(): void {
		this.#apply(this.current === 'day' ? 'night' : 'day');
		localStorage.setItem('genarch-theme', this.current);
	}
}

export const theme = new ThemeState();

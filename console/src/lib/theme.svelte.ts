type Theme = 'day' | 'night';

/** Light or dark: as chosen, else as the system says, and when it says otherwise. */
class ThemeState {
	current = $state<Theme>('day');

	constructor() {
		const system = matchMedia('(prefers-color-scheme: dark)');
		const follow = () => {
			const kept = localStorage.getItem('genarch-theme');
			this.#apply(kept === 'day' || kept === 'night' ? kept : system.matches ? 'night' : 'day');
		};
		follow();
		system.addEventListener('change', follow);
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

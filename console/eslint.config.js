import js from '@eslint/js';
import svelte from 'eslint-plugin-svelte';
import globals from 'globals';
import ts from 'typescript-eslint';
import svelteConfig from './svelte.config.js';

export default ts.config(
	{ ignores: ['dist/', 'node_modules/', 'src/api.d.ts'] },
	js.configs.recommended,
	...ts.configs.recommended,
	...svelte.configs.recommended,
	{ languageOptions: { globals: globals.browser } },
	{
		rules: {
			'no-undef': 'off', // the type checker knows better
			// A class of characters that join others is what is meant.
			'no-misleading-character-class': 'off',
			// A space that a formatter would lose.
			'svelte/no-useless-mustaches': 'off',
			// Local maps inside a function are not state.
			'svelte/prefer-svelte-reactivity': 'off',
			// Addresses are made by `to`, whose names are only known at run time.
			'svelte/no-navigation-without-resolve': 'off',
			'@typescript-eslint/no-unused-expressions': ['error', { allowShortCircuit: true, allowTernary: true }]
		}
	},
	{
		files: ['**/*.svelte', '**/*.svelte.ts'],
		languageOptions: { parserOptions: { parser: ts.parser, extraFileExtensions: ['.svelte'], svelteConfig } }
	}
);

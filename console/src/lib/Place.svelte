<script lang="ts">
	import { tick, untrack, type Snippet } from 'svelte';
	import { leavePage } from './api';
	import { route } from '../router';

	/**
	 * Every address has a page of its own: nothing of the page before stays in sight
	 * under the next one's title. The focus moves to it, for those who do not see.
	 */
	let { children }: { children?: Snippet } = $props();
	let first = true;
	$effect.pre(() => {
		void route.pathname;
		untrack(leavePage);
	});
	$effect(() => {
		void route.pathname;
		if (!first)
			tick().then(() => document.querySelector('main:not(:focus-within)') && document.getElementById('main')?.focus());
		first = false;
	});
</script>

{#key route.pathname}{@render children?.()}{/key}

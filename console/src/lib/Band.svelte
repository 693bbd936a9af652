<script lang="ts">
	import type { Snippet } from 'svelte';

	/** While the environment is not known yet, the band keeps its place, empty. */
	type Props = { environment: string | undefined; children?: Snippet };
	let { environment, children }: Props = $props();
</script>

<div class="band {environment ? `band-${environment}` : 'bg-base-200'}">
	<span class="band-word">{environment ?? '\u00a0'}</span>
	{#if environment}{@render children?.()}{/if}
</div>

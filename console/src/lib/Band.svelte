<script lang="ts">
	import type { Snippet } from 'svelte';

	type Props = { environment: string; children?: Snippet };
	let { environment, children }: Props = $props();
</script>

<div class="band band-{environment}">
	<span class="band-word">{environment}</span>
	{@render children?.()}
</div>

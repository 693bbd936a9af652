<script lang="ts">
	import { engines } from './engines.svelte';
	import type { Snippet } from 'svelte';
	import { registered } from './registered.svelte';
	import Sections from './Sections.svelte';
	import { to } from '../router';

	/** What is registered shows at once; version and children are what the page has read since. */
	type Props = { server: string; version?: string; children?: Snippet };
	let { server, version = '', children }: Props = $props();
	const known = $derived(registered.get(server));
</script>

<div class="band {known ? `band-${known.environment}` : 'bg-base-200'}">
	<span class="band-word">{known?.environment ?? '\u00a0'}</span>
	<a class="font-semibold underline underline-offset-2" href={to.server(server)}>{server}</a>
	<span>{engines.title(known?.engine ?? '')} {version}</span>
	{@render children?.()}
</div>
<Sections />

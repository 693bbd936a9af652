<script lang="ts">
	import type { Intent } from '../lib/api';
	import AskForm from '../lib/AskForm.svelte';
	import { Asking } from '../lib/asking.svelte';
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import { visible } from '../lib/format';
	import { Manner } from '../lib/manner.svelte';
	import MannerFields from '../lib/MannerFields.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const asking = $derived(new Asking(server));
	const engine = $derived(engines.get(asking.server?.engine));
	const manner = new Manner();
	let options = $state<Options>({});
	let clearing = $state<Options>({});

	const intent = $derived.by((): Intent => ({
		kind: 'database.drop',
		server,
		database: { name: database, options: given(options) },
		clearing: { ...manner.spec, options: given(clearing) }
	}));
</script>

<svelte:head><title>Drop {database} · {server} · Genarch</title></svelte:head>

<AskForm
	title="Drop {visible(database)}"
	{asking}
	{intent}
	button="Show the brief for dropping {visible(database)}"
	hint="Reading who is connected and what would be lost."
>
	<MannerFields {manner} gate={engines.gate(asking.server?.engine)} refused="the drop" />
	{#if engine}
		<EngineFields {server} {engine} kind="database.drop" bind:options brief={asking.brief} />
		<EngineFields {server} {engine} kind="database.drop" part="clearing" bind:options={clearing} brief={asking.brief} />
	{/if}
	<p class="border-error bg-base-200 rounded-box border-l-4 px-4 py-2">
		A drop is final. The next page shows everything once more, and asks for the name.
	</p>
</AskForm>

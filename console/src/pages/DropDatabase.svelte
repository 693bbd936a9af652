<script lang="ts">
	import type { Intent } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import { visible } from '../lib/format';
	import { SessionPolicy } from '../lib/sessionPolicy.svelte';
	import SessionPolicyFields from '../lib/SessionPolicyFields.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const form = $derived(
		new ChangeForm(server, {
			'options.*': (name, value) => (options[name] = value),
			'clearing.*': (name) => policy.set(name),
			'clearing.options.*': (name, value) => (clearing[name] = value)
		})
	);
	const engine = $derived(engines.get(form.server?.engine));
	const policy = new SessionPolicy();
	let options = $state<Options>({});
	let clearing = $state<Options>({});

	const intent = $derived.by((): Intent => ({
		kind: 'database.drop',
		server,
		database: { name: database, options: given(options) },
		clearing: { ...policy.spec, options: given(clearing) }
	}));
</script>

<svelte:head><title>Drop {database} · {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Drop {visible(database)}"
	{form}
	{intent}
	button="Show the brief for dropping {visible(database)}"
	hint="Reading who is connected and what would be lost."
>
	<SessionPolicyFields {policy} gate={engines.gate(form.server?.engine)} refused="the drop" />
	{#if engine}
		<EngineFields {server} {engine} kind="database.drop" bind:options brief={form.brief} />
		<EngineFields {server} {engine} kind="database.drop" part="clearing" bind:options={clearing} brief={form.brief} />
	{/if}
	<p class="border-error bg-base-200 rounded-box border-l-4 px-4 py-2">
		A drop is final. The next page shows everything once more, and asks for the name.
	</p>
</ChangeFormPage>

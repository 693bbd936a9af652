<script lang="ts">
	import type { Intent } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import DropWay, { type Way } from '../lib/DropWay.svelte';
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
	/** Why the engine sets nothing aside; empty: it does. */
	const final = $derived(engines.why(form.server?.engine, 'database.set_aside'));
	let chosen = $state<Way>('aside');
	const way = $derived<Way>(final ? 'for good' : chosen);
	let days = $state<number>();

	const kind = $derived<Intent['kind']>(way === 'aside' ? 'database.set_aside' : 'database.drop');
	const intent = $derived.by((): Intent | null =>
		engine
			? {
					kind,
					server,
					database: { name: database, options: given(options), keep_days: (way === 'aside' && days) || undefined },
					clearing: { ...policy.spec, options: given(clearing) }
				}
			: null
	);
	const act = $derived(
		way === 'aside' ? `setting ${visible(database)} aside` : `dropping ${visible(database)} for good`
	);
</script>

<svelte:head><title>Drop {database} · {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Drop {visible(database)}"
	{form}
	{intent}
	button="Show the brief for {act}"
	hint="Reading who is connected and what would be lost."
>
	<DropWay
		{final}
		environment={form.server?.environment ?? 'production'}
		says="It is out of the way, whole, and can be brought back. The disk is not freed."
		bind:way={chosen}
		bind:days
	/>
	<SessionPolicyFields
		{policy}
		gate={engines.gate(form.server?.engine)}
		refused={way === 'aside' ? 'it' : 'the drop'}
	/>
	{#if engine}
		<EngineFields {server} {engine} {kind} bind:options brief={form.brief} />
		<EngineFields {server} {engine} {kind} part="clearing" bind:options={clearing} brief={form.brief} />
	{/if}
	{#if way === 'for good'}<p class="border-error bg-base-200 rounded-box border-l-4 px-4 py-2">
			That is final. The next page shows everything once more, and asks for the name.
		</p>{/if}
</ChangeFormPage>

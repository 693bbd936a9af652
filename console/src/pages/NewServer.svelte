<script lang="ts">
	import { Act } from '../lib/act.svelte';
	import { api, problemOf, type Problem, type ServerInput } from '../lib/api';
	import { engines } from '../lib/engines.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import KeepingFields from '../lib/KeepingFields.svelte';
	import NameRuleFields from '../lib/NameRuleFields.svelte';
	import ServerFields from '../lib/ServerFields.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import { go, to } from '../router';

	let input = $state<ServerInput>({
		name: '',
		engine: '',
		host: '',
		admin: 'genarch',
		secret: '',
		environment: 'production',
		name_rule: { free: false, suffix: '', max_length: 0 },
		keeping: { days: 0, discard: false }
	});
	let problem = $state<Problem | null>(null);
	const act = new Act();

	const load = () =>
		engines.load().then(
			() => {
				problem = null;
				input.engine ||= engines.all[0]?.id ?? '';
			},
			(e) => (problem = problemOf(e))
		);
	$effect(() => void load());

	const add = () =>
		act.run(async () => {
			await api.addServer($state.snapshot(input));
			go(to.settings(input.name));
			return '';
		});
</script>

<svelte:head><title>Register a server · Genarch</title></svelte:head>

<section class="mx-auto max-w-4xl px-4 py-5 sm:px-6">
	<h1>Register a server</h1>
	<p class="quiet mt-1">
		Genarch connects to it at once, and keeps which instance answers. Nothing there is altered. A login for Genarch is
		prepared with <code class="mono">genarch server prepare {input.engine || 'ENGINE'}</code>.
	</p>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !engines.all.length}<Skeleton rows={6} label="Reading the engines" />
	{:else}
		<form class="mt-4 flex flex-col gap-4" onsubmit={(e) => (e.preventDefault(), add())}>
			<ServerFields bind:input />
			{#if input.name_rule}
				<h2>Names of new databases</h2>
				<div><NameRuleFields bind:rule={input.name_rule} /></div>
			{/if}
			{#if input.keeping}
				<h2>What is set aside</h2>
				<div><KeepingFields bind:keeping={input.keeping} /></div>
			{/if}
			{#if act.problem}<ErrorPanel problem={act.problem} retry={act.again} />{/if}
			<div>
				<button class="btn btn-primary" disabled={act.busy || !input.name || !input.host}
					>{act.busy ? 'Connecting …' : `Register ${input.name}`}</button
				>
			</div>
		</form>
	{/if}
</section>

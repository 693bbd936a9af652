<script lang="ts">
	import { api, problemOf, type Choices, type Intent, type Problem } from '../lib/api';
	import AskForm from '../lib/AskForm.svelte';
	import { Asking } from '../lib/asking.svelte';
	import { visible } from '../lib/format';
	import { Manner } from '../lib/manner.svelte';
	import MannerFields from '../lib/MannerFields.svelte';
	import Trouble from '../lib/Trouble.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const asking = $derived(new Asking(server));
	const manner = new Manner();
	let tablespace = $state('');
	let choices = $state.raw<Choices | null>(null);
	let problem = $state<Problem | null>(null);

	$effect(() => {
		api.choices(server).then(
			(c) => ([choices, problem] = [c, null]),
			(e) => (problem = problemOf(e))
		);
	});
	const intent = $derived.by((): Intent | null => (tablespace ? { kind: 'database.move', server, database: { name: database, tablespace }, clearing: manner.spec } : null));
</script>

<svelte:head><title>Move {database} · {server} · Genarch</title></svelte:head>

<AskForm title="Move {visible(database)} to another tablespace" {asking} {intent} button="Show the brief for moving {visible(database)}" hint="Choose a tablespace; who is connected and what would run is shown here.">
	{#if problem}<Trouble {problem} />{/if}
	<label class="flex flex-col gap-1"><span class="label-text">Tablespace</span>
		<select name="tablespace" class="select mono w-full" bind:value={tablespace}><option value="" disabled>choose one</option>{#each choices?.tablespaces ?? [] as t (t.name)}<option value={t.name}>{t.name}{t.location ? ` · ${t.location}` : ''}</option>{/each}</select></label>
	<MannerFields {manner} refused="the move" />
	<p class="quiet">Every file is copied, and nobody can connect until that is done: a large database takes its time.</p>
</AskForm>

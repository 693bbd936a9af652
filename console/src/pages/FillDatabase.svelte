<script lang="ts">
	import { api, type Intent } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import { visible } from '../lib/format';
	import { Query } from '../lib/query.svelte';
	import ScriptField from '../lib/ScriptField.svelte';
	import type { Script } from '../lib/upload';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const form = $derived(new ChangeForm(server, { 'options.*': (name, value) => (options[name] = value) }));
	const engine = $derived(engines.get(form.server?.engine));
	let options = $state<Options>({});
	let script = $state<Script | null>(null);
	/** The blueprint whose script is to be run, as name:version; empty: a file is given. */
	const query = new Query({ blueprint: '' });
	let ofBlueprint = $state<File | null>(null);
	$effect(() => {
		const [name, version] = query.get('blueprint').split(':');
		const id = form.server?.engine;
		if (!name || !id) return;
		api.blueprint(name, Number(version) || 0).then(
			(b) => (ofBlueprint = b.scripts?.[id] ? new File([b.scripts[id]], `${name}.sql`) : null),
			() => (ofBlueprint = null)
		);
	});

	const intent = $derived.by((): Intent | null =>
		script && engine
			? {
					kind: 'database.fill',
					server,
					database: { name: database, script: script.id, options: given(options) }
				}
			: null
	);
</script>

<svelte:head><title>Fill {database} · {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Fill {visible(database)} from a script"
	{form}
	{intent}
	button="Show the brief for filling {visible(database)}"
	rest={(f) => !f.option}
	hint="Give the script; what it holds, and what would run, is shown here."
>
	<ScriptField {server} bind:script file={ofBlueprint} piece={engine?.script.piece} pieces={engine?.script.pieces} />
	{#if engine}<EngineFields {server} {engine} kind="database.fill" bind:options brief={form.brief} />{/if}
	<p class="quiet">
		{engine?.intents['database.fill']?.says} It stops at the first error, with its line.
	</p>
</ChangeFormPage>

<script lang="ts">
	import type { Intent } from '../lib/api';
	import AskForm from '../lib/AskForm.svelte';
	import { Asking } from '../lib/asking.svelte';
	import { engines } from '../lib/engines.svelte';
	import { visible } from '../lib/format';
	import { Manner } from '../lib/manner.svelte';
	import MannerFields from '../lib/MannerFields.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const asking = $derived(new Asking(server));
	const manner = new Manner();
	let name = $state('');

	const intent = $derived.by((): Intent | null =>
		name && name !== database
			? { kind: 'database.rename', server, database: { name: database, new_name: name }, clearing: manner.spec }
			: null
	);
</script>

<svelte:head><title>Rename {database} · {server} · Genarch</title></svelte:head>

<AskForm
	title="Rename {visible(database)}"
	{asking}
	{intent}
	button="Show the brief for renaming {visible(database)}"
	hint="Type the new name; who is connected and what would run is shown here."
	onsuggest={(f) => (name = f.suggestion ?? name)}
>
	<label class="flex flex-col gap-1"
		><span class="label-text">New name</span><input
			name="new_name"
			class="input mono w-full"
			autocomplete="off"
			autocapitalize="none"
			spellcheck="false"
			bind:value={name}
		/></label
	>
	<MannerFields {manner} gate={engines.gate(asking.server?.engine)} refused="the rename" />
	<p class="quiet">
		Every program that connects by the old name fails from then on. Grants, settings and what is in it stay as they are.
	</p>
</AskForm>

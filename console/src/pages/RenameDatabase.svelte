<script lang="ts">
	import type { Intent } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import { engines } from '../lib/engines.svelte';
	import { visible } from '../lib/format';
	import { SessionPolicy } from '../lib/sessionPolicy.svelte';
	import SessionPolicyFields from '../lib/SessionPolicyFields.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const form = $derived(new ChangeForm(server, { 'clearing.*': (name) => policy.set(name) }));
	const policy = new SessionPolicy();
	let name = $state('');

	const intent = $derived.by((): Intent | null =>
		name && name !== database
			? { kind: 'database.rename', server, database: { name: database, new_name: name }, clearing: policy.spec }
			: null
	);
</script>

<svelte:head><title>Rename {database} · {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Rename {visible(database)}"
	{form}
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
	<SessionPolicyFields {policy} gate={engines.gate(form.server?.engine)} refused="the rename" />
	<p class="quiet">
		Every program that connects by the old name fails from then on. Grants, settings and what is in it stay as they are.
	</p>
</ChangeFormPage>

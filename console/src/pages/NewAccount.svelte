<script lang="ts">
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import { api, type Intent } from '../lib/api';
	import Combobox from '../lib/Combobox.svelte';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import { visible } from '../lib/format';
	import { param } from '../router';

	const server = $derived(param('server'));
	const form = $derived(new ChangeForm(server, { 'options.*': (name, value) => (options[name] = value) }));
	const engine = $derived(engines.get(form.server?.engine));
	const hosts = $derived(engines.hasHosts(form.server?.engine));
	let name = $state('');
	const roles = $derived(engines.hasRoles(form.server?.engine));
	let host = $state('');
	let database = $state(new URLSearchParams(location.search).get('database') ?? '');
	let kind = $state<'account' | 'role'>('account');
	// Accounts lie in databases, on the whole server, or where one says.
	const within = $derived(engines.principal(form.server?.engine, kind === 'role', true));
	const everywhere = $derived(engines.principal(form.server?.engine, kind === 'role', false));
	const who = $derived(within && (database || !everywhere) ? within : everywhere);
	let from = $state<'generated' | 'given' | 'none'>('generated');
	let password = $state('');
	let options = $state<Options>({});

	let databases = $state.raw<{ value: string }[]>([]);
	$effect(() => {
		if (within)
			api.databases(server, false).then(
				(l) => (databases = l.databases.map((d) => ({ value: d.name }))),
				() => {}
			);
	});
	const intent = $derived.by((): Intent | null => {
		if (!name || (within && !everywhere && !database)) return null;
		if (who?.signs_in && from === 'given' && !password) return null;
		const account: NonNullable<Intent['account']> = { name };
		if (kind === 'role') account.role = true;
		else {
			account.password_from = who?.signs_in ? from : 'none';
			if (account.password_from === 'given') account.password = password;
			if (hosts && host) account.host = host;
		}
		if (within && database) account.database = database;
		account.options = given(options);
		return { kind: 'account.create', server, account };
	});
</script>

<svelte:head><title>New account on {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="New account on {server}"
	{form}
	{intent}
	button="Show the brief{name ? ` for ${visible(name)}` : ''}"
	hint="Type a name; the statements that would run are shown here."
	rest={(f) => !f.option}
>
	{#if roles}<fieldset class="flex gap-6">
			<legend class="label-text mb-1">Kind</legend>
			<label class="flex items-center gap-2"
				><input class="radio radio-sm" type="radio" value="account" bind:group={kind} onchange={() => (options = {})} /> account,
				signs in</label
			>
			<label class="flex items-center gap-2"
				><input class="radio radio-sm" type="radio" value="role" bind:group={kind} onchange={() => (options = {})} /> role,
				is granted to accounts</label
			>
		</fieldset>{/if}
	<div class="grid gap-4 {within || (hosts && kind === 'account') ? 'sm:grid-cols-2' : ''}">
		<label class="flex flex-col gap-1"
			><span class="label-text">Name</span><input
				name="name"
				class="input mono w-full"
				autocomplete="off"
				autocapitalize="none"
				spellcheck="false"
				required
				bind:value={name}
			/></label
		>
		{#if within}
			<div class="flex flex-col gap-1">
				<label class="label-text" for="database">The {engine?.nouns.database?.one} that it lies in</label>
				<Combobox id="database" name="database" free options={databases} bind:value={database} />
				{#if everywhere}<span class="quiet text-sm"
						>Empty: the whole server. This is a {who?.title}: {who?.decides}.</span
					>{/if}
			</div>
		{/if}
		{#if hosts && kind === 'account'}
			<label class="flex flex-col gap-1"
				><span class="label-text">Host it comes from</span><input
					name="host"
					class="input mono w-full"
					autocomplete="off"
					placeholder="10.20.4.%"
					bind:value={host}
				/>
				<span class="quiet text-sm">Name and host together are the account. Empty: everywhere.</span></label
			>
		{/if}
	</div>
	{#if who?.signs_in}
		<fieldset class="flex flex-col gap-1">
			<legend class="label-text mb-1">Password</legend>
			<label class="flex items-center gap-2"
				><input class="radio radio-sm" type="radio" value="generated" bind:group={from} /> generate a strong one, shown once</label
			>
			<label class="flex items-center gap-2"
				><input class="radio radio-sm" type="radio" value="given" bind:group={from} /> take this one</label
			>
			<label class="flex items-center gap-2"
				><input class="radio radio-sm" type="radio" value="none" bind:group={from} /> none</label
			>
			{#if from === 'given'}<input
					name="password"
					aria-label="Password"
					class="input mono w-full"
					type="password"
					autocomplete="new-password"
					bind:value={password}
				/>{/if}
			<span class="quiet text-sm">The server never gets the text itself, only what it keeps of it.</span>
		</fieldset>
	{/if}
	{#if engine}{#key who?.kind}<EngineFields
				{server}
				{engine}
				kind="account.create"
				principal={who?.kind}
				bind:options
				brief={form.brief}
			/>{/key}{/if}
</ChangeFormPage>

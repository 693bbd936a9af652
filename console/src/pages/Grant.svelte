<script lang="ts">
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import { api, type Account, type Intent } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import { visible } from '../lib/format';
	import { param, whoText } from '../router';

	const server = $derived(param('server'));
	const form = $derived(new ChangeForm(server, { 'options.*': (name, value) => (options[name] = value) }));
	const start = new URLSearchParams(location.search);
	let database = $state(start.get('database') ?? '');
	let who = $state(start.get('who') ?? '');
	let act = $state<'grant' | 'revoke'>('grant');
	let options = $state<Options>({});
	let bundle = $state<'' | 'read' | 'write' | 'build' | 'own'>('read');
	let single = $state(false);
	let privileges = $state('');
	let table = $state('');
	let grantOption = $state(false);
	let accounts = $state.raw<Account[]>([]);
	let databases = $state.raw<string[]>([]);

	$effect(() => {
		api.accounts(server).then(
			(l) => (accounts = l.accounts),
			() => {}
		);
		api.databases(server, false).then(
			(l) => (databases = l.databases.map((d) => d.name)),
			() => {}
		);
	});
	const engine = $derived(engines.get(form.server?.engine));
	const hosts = $derived(engines.hasHosts(form.server?.engine));
	const apart = $derived(engines.separateRoles(form.server?.engine));
	const schemas = $derived(engines.hasSchemas(form.server?.engine));
	const intent = $derived.by((): Intent | null => {
		if (!database || !who) return null;
		const role = who.startsWith('role:');
		const text = role ? who.slice(5) : who;
		const at = text.lastIndexOf('@');
		const to =
			hosts && !role && at >= 0
				? { name: text.slice(0, at), host: text.slice(at + 1) }
				: { name: text, role: text === 'PUBLIC' || role };
		const grant: NonNullable<Intent['grant']> = { database, to };
		if (single) {
			grant.privileges = privileges
				.split(',')
				.map((p) => p.trim())
				.filter(Boolean);
			if (!grant.privileges.length) return null;
			const dot = table.indexOf('.');
			if (table)
				grant.on =
					dot >= 0 && schemas
						? { scope: 'table', schema: table.slice(0, dot), name: table.slice(dot + 1) }
						: { scope: 'table', name: table };
		} else if (bundle) grant.bundle = bundle;
		else if (act === 'grant') return null;
		if (grantOption && act === 'grant') grant.grant_option = true;
		grant.options = given(options);
		return { kind: act === 'grant' ? 'privilege.grant' : 'privilege.revoke', server, grant };
	});
	// Nothing is revoked down to the whole of a database: own is for granting only.
	const bundles = $derived((engine?.bundles ?? []).filter((b) => act === 'grant' || b.name !== 'own'));
	/** A bundle in a line, and what its holder could do that the name does not say. */
	const means = (b: (typeof bundles)[number]) => b.decides + (b.careful ? ` ${b.careful}` : '');
</script>

<svelte:head><title>Privileges on {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Grant or revoke privileges on {server}"
	{form}
	{intent}
	button="Show the brief{who ? ` for ${visible(who)}` : ''}"
	hint="Name an account and a database; the statements that would run are shown here."
>
	<fieldset class="flex gap-6">
		<legend class="label-text mb-1">What to do</legend>
		<label class="flex items-center gap-2"
			><input
				class="radio radio-sm"
				type="radio"
				value="grant"
				bind:group={act}
				onchange={() => ([bundle, options] = [bundle || 'read', {}])}
			/> grant</label
		>
		<label class="flex items-center gap-2"
			><input
				class="radio radio-sm"
				type="radio"
				value="revoke"
				bind:group={act}
				onchange={() => ([bundle, options] = ['', {}])}
			/> revoke</label
		>
	</fieldset>
	<div class="grid gap-4 sm:grid-cols-2">
		<label class="flex flex-col gap-1"
			><span class="label-text">Account or role</span><input
				name="who"
				class="input mono w-full"
				list="whos"
				autocomplete="off"
				autocapitalize="none"
				required
				bind:value={who}
			/></label
		>
		<datalist id="whos"
			>{#each accounts.filter((a) => !a.database || a.database === database) as a, i (i)}<option
					value={(apart && a.kind === 'role' ? 'role:' : '') + whoText({ ...a, database: '' })}
				></option>{/each}<option value="PUBLIC">everybody</option></datalist
		>
		<label class="flex flex-col gap-1"
			><span class="label-text">Database</span><input
				name="database"
				class="input mono w-full"
				list="dbs"
				autocomplete="off"
				required
				bind:value={database}
			/></label
		>
		<datalist id="dbs"
			>{#each databases as d, i (i)}<option value={d}></option>{/each}</datalist
		>
	</div>
	<label class="flex items-center gap-2"
		><input class="checkbox checkbox-sm" type="checkbox" bind:checked={single} /> single privileges instead of a bundle</label
	>
	{#if single}
		<div class="grid gap-4 sm:grid-cols-2">
			<label class="flex flex-col gap-1"
				><span class="label-text">Privileges</span><input
					name="privileges"
					class="input mono w-full"
					placeholder="SELECT, INSERT"
					autocomplete="off"
					bind:value={privileges}
				/></label
			>
			<label class="flex flex-col gap-1"
				><span class="label-text">Table (empty: the database itself)</span><input
					name="table"
					class="input mono w-full"
					placeholder={schemas ? 'schema.table' : 'table'}
					autocomplete="off"
					bind:value={table}
				/></label
			>
		</div>
	{:else}
		<fieldset class="flex flex-col gap-1">
			<legend class="label-text mb-1">{act === 'grant' ? 'Bundle' : 'What is to remain'}</legend>
			{#if act === 'revoke'}<label class="flex items-center gap-2"
					><input class="radio radio-sm" type="radio" value="" bind:group={bundle} /> nothing</label
				>{/if}
			{#each bundles as b (b.name)}
				<label class="flex items-start gap-2"
					><input class="radio radio-sm mt-0.5" type="radio" value={b.name} bind:group={bundle} />
					<span class="w-14 shrink-0 font-semibold">{b.name}</span> <span class="quiet">{means(b)}</span></label
				>
			{/each}
		</fieldset>
	{/if}
	{#if act === 'grant' && engine?.granting.option}<label class="flex items-center gap-2"
			><input class="checkbox checkbox-sm" type="checkbox" bind:checked={grantOption} /> with grant option: it may grant them
			to others</label
		>{/if}
	{#if engine}{#key act}<EngineFields
				{server}
				{engine}
				kind={act === 'grant' ? 'privilege.grant' : 'privilege.revoke'}
				bind:options
				brief={form.brief}
			/>{/key}{/if}
</ChangeFormPage>

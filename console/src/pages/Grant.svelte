<script lang="ts">
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import { api, type Account, type Intent } from '../lib/api';
	import Combobox from '../lib/Combobox.svelte';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import { capital, visible } from '../lib/format';
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
	let scope = $state<NonNullable<NonNullable<Intent['grant']>['on']>['scope']>('database');
	/** What names the object: each part by itself, for a name may hold any character. */
	let named = $state<Record<string, string>>({});
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
	/** What single privileges can be on, by the engine's own list. */
	const scopes = $derived(engine?.scopes.filter((s) => s.name !== 'server') ?? []);
	const parts = $derived(scopes.find((s) => s.name === scope)?.parts?.filter((part) => part !== 'database') ?? []);
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
			if (scope !== 'database') {
				if (parts.some((part) => !named[part])) return null;
				grant.on = { scope, ...Object.fromEntries(parts.map((part) => [part, named[part]])) };
			}
		} else if (bundle) grant.bundle = bundle;
		else if (act === 'grant') return null;
		if (grantOption && act === 'grant') grant.grant_option = true;
		grant.options = given(options);
		return { kind: act === 'grant' ? 'privilege.grant' : 'privilege.revoke', server, grant };
	});
	/** Who can hold something there: a login and its user of one name are one, and roles are the database's own. */
	const rolesInside = $derived(!!engines.principal(form.server?.engine, true, true));
	const holders = $derived.by(() => {
		const found: Record<string, { value: string; title?: string }> = {};
		for (const a of accounts) {
			const fits = a.kind === 'role' && rolesInside ? a.database === database : !a.database || a.database === database;
			const value = (apart && a.kind === 'role' ? 'role:' : '') + whoText({ ...a, database: '' });
			if (fits) found[value] ??= { value, title: a.comment };
		}
		return [...Object.values(found), { value: 'PUBLIC', title: 'everybody' }];
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
		<div class="flex flex-col gap-1">
			<label class="label-text" for="who">Account or role</label>
			<Combobox id="who" name="who" free options={holders} bind:value={who} />
		</div>
		<div class="flex flex-col gap-1">
			<label class="label-text" for="database">Database</label>
			<Combobox
				id="database"
				name="database"
				free
				options={databases.map((value) => ({ value }))}
				bind:value={database}
			/>
		</div>
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
				><span class="label-text">On</span><select name="scope" class="select w-full" bind:value={scope}
					>{#each scopes as s (s.name)}<option value={s.name}
							>{s.name === 'database' ? 'the whole database' : `a ${s.title}`}</option
						>{/each}</select
				></label
			>
			{#each parts as part (part)}<label class="flex flex-col gap-1"
					><span class="label-text"
						>{part === 'name' ? capital(scope ?? '') : capital(part)}{part === 'name' && scope === 'routine'
							? ', with the types of its arguments'
							: ''}</span
					><input name="object_{part}" class="input mono w-full" autocomplete="off" bind:value={named[part]} /></label
				>{/each}
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

<script lang="ts">
	import { api, problemOf, type AccountDetail, type Intent, type Problem } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { visible } from '../lib/format';
	import Skeleton from '../lib/Skeleton.svelte';
	import { param, route, whoText } from '../router';

	const server = $derived(param('server'));
	const who = $derived(param('account'));
	const within = $derived(param('database'));
	const isRole = $derived(route.pathname.includes('/roles/'));
	const form = $derived(
		new ChangeForm(server, {
			'options.*': (name, value) => (options[name] = value),
			clearing: (_, value) => (ends = !!value)
		})
	);
	const engine = $derived(engines.get(form.server?.engine));
	let account = $state.raw<AccountDetail | null>(null);
	let problem = $state<Problem | null>(null);
	let options = $state<Options>({});
	/** Its open sessions are ended with a lock. */
	let ends = $state(false);

	function load(): void {
		Promise.all([engines.load(), api.account(server, who, isRole, within)]).then(
			([, a]) => ([account, problem] = [a, null]),
			(e) => (problem = problemOf(e))
		);
	}
	$effect(() => {
		void [server, who, within];
		load();
	});

	const intent = $derived.by((): Intent | null => {
		const asked = given(options);
		return account && asked
			? {
					kind: 'account.alter',
					server,
					account: {
						name: account.name,
						host: account.host,
						database: account.database,
						role: account.kind === 'role' && engines.separateRoles(account.engine),
						options: asked
					},
					clearing: ends && options.locked === true ? {} : undefined
				}
			: null;
	});
</script>

<svelte:head><title>Alter {who} · {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Alter {account ? visible(whoText(account)) : visible(who)}"
	{form}
	{intent}
	button="Show the brief for altering {visible(who)}"
	hint="Set what is to be another; what stays as it is is left empty."
	rest={(f) => !f.option}
>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !account || !engine}<Skeleton rows={6} label="Reading the account" />
	{:else}
		<EngineFields
			{server}
			{engine}
			kind="account.alter"
			principal={engines.principal(engine.id, account.kind === 'role', !!account.database)?.kind}
			unset="as it is"
			bind:options
			brief={intent ? form.brief : null}
		/>
		{#if options.locked === true && account.sessions}<label class="flex items-center gap-2"
				><input class="checkbox checkbox-sm" type="checkbox" name="clearing" bind:checked={ends} /> its open sessions are
				ended too</label
			>{/if}
	{/if}
</ChangeFormPage>

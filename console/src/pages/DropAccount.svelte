<script lang="ts">
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, optionsOf, type Options } from '../lib/engines.svelte';
	import { api, problemOf, type AccountDetail, type Intent, type Problem } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import { count, visible } from '../lib/format';
	import { SessionPolicy } from '../lib/sessionPolicy.svelte';
	import SessionPolicyFields from '../lib/SessionPolicyFields.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { param, route } from '../router';

	const server = $derived(param('server'));
	const who = $derived(param('account'));
	const within = $derived(param('database'));
	const isRole = $derived(route.pathname.includes('/roles/'));
	const form = $derived(
		new ChangeForm(server, {
			'options.*': (name, value) => (options[name] = value),
			'clearing.*': (name) => policy.set(name)
		})
	);
	const apart = $derived(engines.separateRoles(form.server?.engine));
	const engine = $derived(engines.get(form.server?.engine));
	const owners = $derived(optionsOf(engine, 'account.drop').some((f) => f.name === 'reassign_to'));
	const policy = new SessionPolicy();
	let account = $state.raw<AccountDetail | null>(null);
	let problem = $state<Problem | null>(null);
	let options = $state<Options>({});

	$effect(() => {
		api.account(server, who, isRole, within).then(
			(a) => ([account, problem] = [a, null]),
			(e) => (problem = problemOf(e))
		);
	});
	const signsIn = $derived(account?.kind === 'account');
	const intent = $derived.by(
		(): Intent | null =>
			account && {
				kind: 'account.drop',
				server,
				account: {
					name: account.name,
					host: account.host,
					database: account.database,
					role: (isRole && apart) || undefined,
					options: given(options)
				},
				clearing: signsIn ? policy.spec : undefined
			}
	);
</script>

<svelte:head><title>Drop {who} · {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Drop {visible(who)}"
	{form}
	{intent}
	button="Show the brief for dropping {visible(who)}"
	hint="Reading what it owns, where it is used and who is connected as it."
>
	{#if problem}<ErrorPanel {problem} />{/if}
	{#if signsIn}<SessionPolicyFields
			{policy}
			who="Whoever is signed in as it{account?.sessions ? ` (sessions now: ${count(account.sessions)})` : ''}"
			gate="It cannot sign in any more from the beginning."
			refused="the drop"
		/>{/if}
	{#if engine}<EngineFields {server} {engine} kind="account.drop" bind:options brief={form.brief} />{/if}
	{#if owners}
		<p class="quiet text-sm">
			{account?.owns.length ? `It owns ${account.owns.map(visible).join(', ')}. ` : ''}As long as it owns something, in
			any database, and nobody is named here, it cannot be dropped.
		</p>
	{/if}
</ChangeFormPage>

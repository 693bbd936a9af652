<script lang="ts">
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, optionsOf, type Options } from '../lib/engines.svelte';
	import { api, problemOf, type AccountDetail, type Intent, type Problem } from '../lib/api';
	import AskForm from '../lib/AskForm.svelte';
	import { Asking } from '../lib/asking.svelte';
	import { count, visible } from '../lib/format';
	import { Manner } from '../lib/manner.svelte';
	import MannerFields from '../lib/MannerFields.svelte';
	import Trouble from '../lib/Trouble.svelte';
	import { param, route } from '../router';

	const server = $derived(param('server'));
	const who = $derived(param('account'));
	const within = $derived(param('database'));
	const isRole = $derived(route.pathname.includes('/roles/'));
	const asking = $derived(new Asking(server));
	const apart = $derived(engines.separateRoles(asking.server?.engine));
	const engine = $derived(engines.get(asking.server?.engine));
	const owners = $derived(optionsOf(engine, 'account.drop').some((f) => f.name === 'reassign_to'));
	const manner = new Manner();
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
				clearing: signsIn ? manner.spec : undefined
			}
	);
</script>

<svelte:head><title>Drop {who} · {server} · Genarch</title></svelte:head>

<AskForm
	title="Drop {visible(who)}"
	{asking}
	{intent}
	button="Show the brief for dropping {visible(who)}"
	hint="Reading what it owns, where it is used and who is connected as it."
>
	{#if problem}<Trouble {problem} />{/if}
	{#if signsIn}<MannerFields
			{manner}
			who="Whoever is signed in as it{account?.sessions ? ` (sessions now: ${count(account.sessions)})` : ''}"
			gate="It cannot sign in any more from the beginning."
			refused="the drop"
		/>{/if}
	{#if engine}<EngineFields {server} {engine} kind="account.drop" bind:options brief={asking.brief} />{/if}
	{#if owners}
		<p class="quiet text-sm">
			{account?.owns.length ? `It owns ${account.owns.map(visible).join(', ')}. ` : ''}As long as it owns something, in
			any database, and nobody is named here, it cannot be dropped.
		</p>
	{/if}
</AskForm>

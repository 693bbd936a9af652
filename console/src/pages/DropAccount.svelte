<script lang="ts">
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, optionsOf, type Options } from '../lib/engines.svelte';
	import { api, problemOf, type AccountDetail, type Intent, type Problem } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import DropWay, { type Way } from '../lib/DropWay.svelte';
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
	let account = $state.raw<AccountDetail | null>(null);
	const signsIn = $derived(account?.kind === 'account');
	/** Why the engine sets no account aside; empty: it does. Roles go for good. */
	const why = $derived(engines.why(form.server?.engine, 'account.set_aside'));
	let chosen = $state<Way>('aside');
	const way = $derived<Way>(signsIn && !why ? chosen : 'for good');
	let days = $state<number>();
	const kind = $derived<Intent['kind']>(way === 'aside' ? 'account.set_aside' : 'account.drop');
	const owners = $derived(optionsOf(engine, 'account.drop').some((f) => f.name === 'reassign_to'));
	const policy = new SessionPolicy();
	let problem = $state<Problem | null>(null);
	let options = $state<Options>({});

	$effect(() => {
		api.account(server, who, isRole, within).then(
			(a) => ([account, problem] = [a, null]),
			(e) => (problem = problemOf(e))
		);
	});
	const intent = $derived.by(
		(): Intent | null =>
			account && {
				kind,
				server,
				account: {
					name: account.name,
					host: account.host,
					database: account.database,
					role: (isRole && apart) || undefined,
					keep_days: (way === 'aside' && days) || undefined,
					options: way === 'aside' ? undefined : given(options)
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
	button="Show the brief for {way === 'aside' ? `setting ${visible(who)} aside` : `dropping ${visible(who)} for good`}"
	hint="Reading what it owns, where it is used and who is connected as it."
>
	{#if problem}<ErrorPanel {problem} />{/if}
	{#if signsIn}
		<DropWay
			final={why}
			environment={form.server?.environment ?? 'production'}
			says="It cannot sign in, and keeps its memberships, its grants and what it owns; it can be brought back."
			bind:way={chosen}
			bind:days
		/>
		<SessionPolicyFields
			{policy}
			who="Whoever is signed in as it{account?.sessions ? ` (sessions now: ${count(account.sessions)})` : ''}"
			gate="It cannot sign in any more from the beginning."
			refused={way === 'aside' ? 'it' : 'the drop'}
		/>
	{/if}
	{#if engine}<EngineFields {server} {engine} {kind} bind:options brief={form.brief} />{/if}
	{#if owners && way === 'for good'}
		<p class="quiet text-sm">
			{account?.owns.length ? `It owns ${account.owns.map(visible).join(', ')}. ` : ''}As long as it owns something, in
			any database, and nobody is named here, it cannot be dropped.
		</p>
	{/if}
</ChangeFormPage>

<script lang="ts">
	import { engines, optionsOf, valueText } from '../lib/engines.svelte';
	import { api, problemOf, type AccountDetail, type Problem, type Why } from '../lib/api';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import { count, lastUse, visible } from '../lib/format';
	import { tone } from '../lib/levels';
	import { live } from '../lib/live.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import WhyChain from '../lib/WhyChain.svelte';
	import { param, route, to, whoText } from '../router';

	const server = $derived(param('server'));
	const who = $derived(param('account'));
	const within = $derived(param('database'));
	const isRole = $derived(route.pathname.includes('/roles/'));
	let account = $state.raw<AccountDetail | null>(null);
	let problem = $state<Problem | null>(null);
	const form = $derived(new ChangeForm(server));
	// What can be asked for with a new password is either so or not.
	const kept = $derived(optionsOf(engines.get(account?.engine), 'account.password').filter((f) => f.type === 'bool'));

	// The question: which privilege, on what.
	let privilege = $state('SELECT');
	let object = $state('');
	let why = $state.raw<Why | null>(null);
	let unanswered = $state<Problem | null>(null);

	async function load(): Promise<void> {
		const [s, w, d] = [server, who, within];
		try {
			const read = await api.account(s, w, isRole, d);
			if (s === server && w === who && d === within) [account, problem] = [read, null];
		} catch (e) {
			if (s === server && w === who && d === within) problem = problemOf(e);
		}
	}
	$effect(() => {
		const s = server;
		void [who, within];
		[account, why, unanswered] = [null, null, null];
		load();
		return live.watch({ change: (c) => c.server === s && c.ended && load(), resync: load });
	});

	async function askWhy(e: SubmitEvent): Promise<void> {
		e.preventDefault();
		const [database, rest] = object.split(/\/(.*)/s);
		const query: Parameters<typeof api.why>[1] = {
			account: who,
			within: within || undefined,
			role: isRole && engines.separateRoles(account?.engine),
			privilege,
			database,
			scope: 'database'
		};
		if (rest) {
			query.scope = 'table';
			const dot = rest.indexOf('.');
			if (dot >= 0) [query.schema, query.name] = [rest.slice(0, dot), rest.slice(dot + 1)];
			else query.name = rest;
		}
		try {
			[why, unanswered] = [await api.why(server, query), null];
		} catch (err) {
			[why, unanswered] = [null, problemOf(err)];
		}
	}

	const spec = $derived({
		name: account?.name ?? '',
		host: account?.host,
		database: account?.database,
		role: account?.kind === 'role' && engines.separateRoles(account.engine)
	});
	const alter = (more: object) => form.ask({ kind: 'account.alter', server, account: { ...spec, ...more } });
	const facts = $derived.by((): [string, string, string?][] => {
		const a = account;
		if (!a) return [];
		const out: [string, string, string?][] = [['kind', a.title]];
		if (a.kind === 'account' && (a.login || !a.database)) {
			out.push([
				'may sign in',
				a.login && !a.locked && !a.expired ? 'yes' : 'no',
				a.locked ? 'it is locked' : a.expired ? 'its password has expired' : undefined
			]);
			out.push(['password', a.has_password == null ? 'not known' : a.has_password ? 'yes' : 'none', a.method]);
			if (a.expires) out.push(['password expires', a.expires.slice(0, 10)]);
			out.push(
				['connection limit', a.connection_limit < 0 ? 'none' : String(a.connection_limit)],
				['sessions now', count(a.sessions)],
				['last use', ...lastUse(a.last_use, a.sessions)]
			);
			if (a.tls) out.push(['TLS demanded', a.tls.toLowerCase()]);
		}
		const links = (list: typeof a.member_of) =>
			list
				.map((l) => l.name + (l.at_once ? '' : ' (after SET ROLE)') + (l.admin ? ' (with grant option)' : ''))
				.join(', ');
		if (a.server_rights.length) out.push(['on the whole server', a.server_rights.join(', ')]);
		if (a.member_of.length) out.push(['member of', links(a.member_of)]);
		if (a.default_role) out.push(['default role', a.default_role]);
		if (a.members.length) out.push(['members', links(a.members)]);
		if (a.owns.length) out.push(['owns databases', a.owns.join(', ')]);
		if (a.comment) out.push(['comment', a.comment]);
		for (const f of engines.get(a.engine)?.fields.account ?? []) {
			if (a.properties?.[f.name] !== undefined) out.push([f.title.toLowerCase(), valueText(a.properties[f.name])]);
		}
		return out;
	});
</script>

<svelte:head><title>{who} · {server} · Genarch</title></svelte:head>

<EnvironmentBanner {server} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<h1 class="mono text-[1.375rem]! break-all">{visible(who)}</h1>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !account}<Skeleton rows={8} label="Reading the account" />
	{:else}
		<p class="quiet text-sm">{account.title} · read <When at={account.read} /></p>
		{#each account.marks as m (m.text)}<p
				class="border-warning bg-base-200 mt-2 max-w-3xl rounded-box border-l-4 px-4 py-2"
				data-mark={m.code}
			>
				{visible(m.text)}
			</p>{/each}
		{#each account.unknown as u (u)}<p class="quiet mt-2 text-sm">Not known: {u}</p>{/each}
		{#if session.may('request') && !account.system}
			<div class="mt-4 flex flex-wrap gap-2">
				<a
					class="btn btn-sm btn-primary"
					href={to.newGrant(
						server,
						account.database,
						(spec.role ? 'role:' : '') + whoText({ ...account, database: '' })
					)}>Grant or revoke privileges</a
				>
				{#if account.kind === 'account' && (account.login || account.locked || !account.database)}
					<button
						class="btn btn-sm"
						onclick={() =>
							form.ask({ kind: 'account.password', server, account: { ...spec, password_from: 'generated' } })}
						>New password</button
					>
					{#each kept as f (f.name)}<button
							class="btn btn-sm"
							title={f.decides}
							onclick={() =>
								form.ask({
									kind: 'account.password',
									server,
									account: { ...spec, password_from: 'generated', options: { [f.name]: true } }
								})}>New password, {f.title.charAt(0).toLowerCase() + f.title.slice(1)}</button
						>{/each}
					<button class="btn btn-sm" onclick={() => alter({ options: { locked: !account?.locked } })}
						>{account.locked ? 'Unlock' : 'Lock'} {visible(account.name)}</button
					>
					{#if account.sessions && !account.locked}<button
							class="btn btn-sm"
							onclick={() =>
								form.ask({
									kind: 'account.alter',
									server,
									account: { ...spec, options: { locked: true } },
									clearing: { grace: 10 }
								})}
							>Lock it and end its {account.sessions === 1 ? 'session' : `${count(account.sessions)} sessions`}</button
						>{/if}
				{/if}
				<a class="btn btn-sm" href="{to.account(server, { ...account, role: isRole })}/alter">Alter …</a>
				<a class="btn btn-sm" href={to.compare(account.address)}>Compare …</a>
				<a class="btn btn-sm" href="{to.account(server, { ...account, role: isRole })}/drop"
					>Drop {visible(account.name)} …</a
				>
				<span class="quiet self-center text-sm">Each shows its brief first.</span>
			</div>
			{#if form.refused}<ErrorPanel problem={form.refused} />{/if}
		{/if}
		<div class="mt-5 grid gap-x-12 gap-y-6 lg:grid-cols-2">
			<div class="min-w-0">
				<dl>
					{#each facts as [title, value, remark] (title)}
						<div class="border-base-300/60 grid grid-cols-[9.5rem_1fr] gap-x-4 border-b py-1.5">
							<dt class="quiet">{title}</dt>
							<dd class="min-w-0">
								<span class="mono break-words">{visible(value)}</span>{#if remark}<div class="quiet text-sm">
										{remark}
									</div>{/if}
							</dd>
						</div>
					{/each}
				</dl>
				<h2 class="mt-6 mb-1">On databases</h2>
				{#each account.databases as d (d.database)}
					<p class="border-base-300/60 flex items-baseline gap-3 border-b py-1.5">
						<span class="w-20 {tone[d.level]}"
							>{d.level}{#if d.more || d.gap}<span class="font-bold">*</span>{/if}</span
						><a class="link-plain mono break-all" href={to.database(server, d.database)}>{visible(d.database)}</a>
						{#if d.more}<span class="quiet text-sm">more than the bundle</span>{/if}{#if d.gap}<span
								class="text-sm font-semibold">not what will be made there later</span
							>{/if}
					</p>
				{:else}<p class="quiet py-1.5">Nothing on any database.</p>{/each}
			</div>
			<div class="min-w-0">
				<h2 class="mb-1">May it, and why?</h2>
				<form class="flex flex-wrap items-end gap-2" onsubmit={askWhy}>
					<label class="flex flex-col gap-1"
						><span class="label-text">Privilege</span><input
							name="privilege"
							class="input input-sm mono w-32"
							bind:value={privilege}
							list="privileges"
							autocomplete="off"
						/></label
					>
					<datalist id="privileges"
						>{#each engines.get(account.engine)?.privileges ?? [] as p (p.name)}<option value={p.name}
							></option>{/each}</datalist
					>
					<label class="flex min-w-0 flex-1 flex-col gap-1"
						><span class="label-text">On</span><input
							name="object"
							class="input input-sm mono w-full min-w-40"
							placeholder={engines.hasSchemas(account.engine) ? 'database/schema.table' : 'database/table'}
							bind:value={object}
							autocomplete="off"
							required
						/></label
					>
					<button class="btn btn-sm">Ask</button>
				</form>
				{#if unanswered}<ErrorPanel problem={unanswered} />{:else if why}<div class="mt-3"><WhyChain {why} /></div>{/if}
				<h2 class="mt-6 mb-1">Granted to it directly</h2>
				{#each account.grants as g, i (i)}
					<div class="border-base-300/60 border-b py-1.5">
						<p class="break-words">
							{visible(g.text)}{#if g.pattern && g.opens?.length}<span class="ml-2 text-sm font-semibold"
									>opens {g.opens.map(visible).join(', ')}</span
								>{/if}{#if g.leftover}<span class="ml-2 text-sm font-semibold">does not exist</span>{/if}
						</p>
						<p class="quiet mono text-sm break-words">
							{g.owner ? 'owner' : ''}{g.owner && g.privileges.length ? ', ' : ''}{g.privileges.join(', ')}{g.denied
								?.length
								? `${g.privileges.length ? '; ' : ''}denied: ${g.denied.join(', ')}`
								: ''}{g.grant_option.length ? ' · with grant option' : ''}{g.grantor && !g.builtin
								? ` · by ${visible(g.grantor)}`
								: ''}
						</p>
					</div>
				{:else}<p class="quiet py-1.5">Nothing.</p>{/each}
			</div>
		</div>
	{/if}
</section>

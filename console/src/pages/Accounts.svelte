<script lang="ts">
	import { api, problemOf, type Account, type AccountList, type Problem } from '../lib/api';
	import AccountViews from '../lib/AccountViews.svelte';
	import DataTable, { type Column } from '../lib/DataTable.svelte';
	import { engines } from '../lib/engines.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { codeWords, count, exact, visible } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import { Query } from '../lib/query.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import When from '../lib/When.svelte';
	import { param, to, whoText } from '../router';

	const server = $derived(param('server'));
	const query = new Query({ find: '', show: 'all', system: '', by: 'name', down: '' });
	let list = $state.raw<AccountList | null>(null);
	let problem = $state<Problem | null>(null);

	async function load(): Promise<void> {
		const wanted = server;
		try {
			const read = await api.accounts(wanted, query.get('system') === 'yes');
			if (wanted === server) [list, problem] = [read, null];
		} catch (e) {
			if (wanted === server) problem = problemOf(e);
		}
	}
	$effect(() => {
		const wanted = server;
		load();
		return live.watch({ change: (c) => c.server === wanted && c.ended && load(), resync: load });
	});

	const isRole = (a: Account) => a.kind === 'role' && engines.separateRoles(list?.engine ?? '');
	/** What deserves a look, each once. */
	const looks = (a: Account) => [...new Set(a.marks.map((m) => codeWords(m.code)))].join(', ');
	/** A role has none, and a user in a database only those of its login. */
	const hasSessions = (a: Account) => a.kind !== 'role' && (a.login || !a.database);
	const mayNot = (a: Account) =>
		[a.locked && 'locked', a.expired && 'expired', a.kind === 'account' && !a.login && !a.database && 'no login']
			.filter(Boolean)
			.join(', ');
	const shows: Record<string, { title: string; fits: (a: Account) => boolean }> = {
		all: { title: 'accounts and roles', fits: () => true },
		account: { title: 'accounts', fits: (a) => a.kind === 'account' },
		role: { title: 'roles', fits: (a) => a.kind === 'role' },
		marked: { title: 'what deserves a look', fits: (a) => a.marks.length > 0 },
		shut: { title: 'locked or expired', fits: (a) => mayNot(a) !== '' },
		unused: { title: 'without a session', fits: (a) => a.sessions === 0 }
	};
	const words = $derived(query.get('find').toLowerCase().split(/\s+/).filter(Boolean));
	const rows = $derived(
		(list?.accounts ?? []).filter((a) => {
			const text = `${whoText(a)} ${a.comment ?? ''} ${a.member_of.map((r) => r.name).join(' ')}`.toLowerCase();
			return (shows[query.get('show')] ?? shows.all)!.fits(a) && words.every((w) => text.includes(w));
		})
	);
	const columns: Column<Account>[] = [
		{ id: 'name', title: 'Name', value: whoText, cell: name },
		{ id: 'kind', title: 'Kind', from: 'hidden md:table-cell', value: (a) => a.title },
		{ id: 'look', title: 'Deserves a look', value: (a) => looks(a) || undefined, cell: look },
		{ id: 'state', title: 'State', value: (a) => mayNot(a) || undefined },
		{
			id: 'expires',
			title: 'Expires',
			from: 'hidden lg:table-cell',
			value: (a) => (a.expires ? +new Date(a.expires) : undefined),
			cell: expires
		},
		{
			id: 'sessions',
			title: 'Sessions',
			number: true,
			from: 'hidden sm:table-cell',
			value: (a) => (!hasSessions(a) ? undefined : (a.sessions ?? undefined)),
			cell: sessions
		},
		{
			id: 'databases',
			title: 'Connects to',
			number: true,
			from: 'hidden lg:table-cell',
			value: (a) => a.connects ?? undefined,
			cell: connects
		},
		{
			id: 'member',
			title: 'Member of',
			mono: true,
			from: 'hidden md:table-cell',
			value: (a) => a.member_of.map((r) => r.name).join(', ')
		},
		{
			id: 'rights',
			title: 'On the whole server',
			mono: true,
			from: 'hidden xl:table-cell',
			value: (a) => a.server_rights.join(', ')
		}
	];
</script>

{#snippet name(a: Account)}<a
		class="link-plain mono block w-fit max-w-52 truncate sm:max-w-72"
		title={visible(whoText(a))}
		href={to.account(server, { ...a, role: isRole(a) })}>{visible(whoText(a)) || '(no name)'}</a
	>{/snippet}
{#snippet look(a: Account)}{#if a.marks.length}<span
			class="text-sm {a.marks.some((m) => m.trap) ? 'font-semibold' : ''}"
			title={a.marks.map((m) => m.text).join('\n')}>{looks(a)}</span
		>{/if}{/snippet}
{#snippet expires(a: Account)}{#if a.expires}<span class="quiet text-sm" title={exact(a.expires)}
			>{exact(a.expires).slice(0, 10)}</span
		>{/if}{/snippet}
{#snippet sessions(a: Account)}{#if hasSessions(a)}{count(a.sessions)}{#if a.connection_limit >= 0}<span
				class="quiet"
				title="its connection limit"
			>
				of {count(a.connection_limit)}</span
			>{/if}{/if}{/snippet}
{#snippet connects(a: Account)}{a.connects === undefined ? '' : count(a.connects)}{/snippet}

<svelte:head><title>Accounts on {server} · Genarch</title></svelte:head>

<EnvironmentBanner {server} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<AccountViews {server} title="Accounts" />
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !list}<Skeleton rows={10} label="Reading the accounts" />
	{:else}
		<p class="quiet text-sm">
			{count(list.total)} accounts and roles{#if list.set_aside}, <a class="link-plain" href={to.holdings(server)}
					>{count(list.set_aside)} set aside</a
				>{/if} · read <When at={list.read} />
		</p>
		{#each list.unknown as u (u)}<p class="border-warning bg-base-200 my-2 border-l-4 px-3 py-1 text-sm">
				Not known: {u}
			</p>{/each}
		<div class="mt-3 mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
			<label class="flex items-center gap-2"
				><span class="label-text">Find</span><input
					class="input input-sm w-48 sm:w-64"
					type="search"
					placeholder="name, host, role or comment"
					bind:value={() => query.get('find'), (find) => query.set({ find })}
				/></label
			>
			<label class="flex items-center gap-2"
				><span class="label-text">Show</span>
				<select name="show" class="select select-sm" bind:value={() => query.get('show'), (show) => query.set({ show })}
					>{#each Object.entries(shows) as [value, s] (value)}<option {value}>{s.title}</option>{/each}</select
				></label
			>
			<label class="flex items-center gap-2 text-sm"
				><input
					class="checkbox checkbox-sm"
					type="checkbox"
					bind:checked={
						() => query.get('system') === 'yes',
						(on) => {
							query.set({ system: on ? 'yes' : '' });
							load();
						}
					}
				/> the engine's own too</label
			>
			<span class="quiet text-sm" role="status"
				>{count(rows.length)}{rows.length < list.total ? ` of ${count(list.total)}` : ''} shown</span
			>
		</div>
		{#if rows.length === 0}<p class="py-6">
				No account fits. <button class="link" onclick={() => query.set({ find: '', show: 'all' })}>Show all</button>
			</p>
		{:else}<DataTable
				label="Accounts"
				{rows}
				{columns}
				key={(a) => a.address + a.kind}
				order={{ by: query.get('by'), down: query.get('down') === 'yes' }}
				onorder={(o) => query.set({ by: o.by, down: o.down ? 'yes' : '' })}
				look={(a) => ({ 'data-account': whoText(a) })}
			/>{/if}
	{/if}
</section>

<script lang="ts">
	import { api, problemOf, type Holding, type HoldingList, type Problem } from '../lib/api';
	import DataTable, { type Column } from '../lib/DataTable.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import ExportList from '../lib/ExportList.svelte';
	import { count, size, visible } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import { Query } from '../lib/query.svelte';
	import { registered } from '../lib/registered.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import TimeLeft from '../lib/TimeLeft.svelte';
	import When from '../lib/When.svelte';
	import { to } from '../router';

	const query = new Query({ server: '', find: '', by: 'until', down: '' });
	let list = $state.raw<HoldingList | null>(null);
	let problem = $state<Problem | null>(null);

	async function load(): Promise<void> {
		try {
			[list, problem] = [await api.holdings(), null];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => {
		load();
		return live.watch({ change: (c) => c.ended && load(), resync: load });
	});
	const rows = $derived(
		(list?.holdings ?? []).filter(
			(h) =>
				(!query.get('server') || h.server === query.get('server')) &&
				`${h.server}/${h.name} ${h.comment ?? ''} ${h.set_aside_by?.operator ?? ''}`
					.toLowerCase()
					.includes(query.get('find').toLowerCase())
		)
	);
	const columns: Column<Holding>[] = [
		{ id: 'name', title: 'Was', value: (h) => h.name, cell: name },
		{ id: 'server', title: 'Server', value: (h) => h.server, cell: where },
		{ id: 'since', title: 'Set aside', from: 'hidden md:table-cell', value: (h) => h.since },
		{ id: 'operator', title: 'By', from: 'hidden lg:table-cell', value: (h) => h.set_aside_by?.operator, cell: who },
		{ id: 'until', title: 'Kept until', value: (h) => h.until, cell: until },
		{
			id: 'size',
			title: 'Size',
			number: true,
			from: 'hidden sm:table-cell',
			value: (h) => h.size ?? undefined,
			cell: big
		},
		{ id: 'hold', title: 'Must not be discarded', from: 'hidden lg:table-cell', value: (h) => h.hold || undefined }
	];
</script>

{#snippet name(h: Holding)}<a
		class="link-plain mono inline-block max-w-48 truncate align-bottom sm:max-w-64"
		title={visible(h.name)}
		href={to.holding(h.server, h.id)}>{visible(h.name)}</a
	>{#if h.kind === 'account'}
		<span class="quiet text-sm">account</span>{/if}{/snippet}
{#snippet where(h: Holding)}{h.server} <span class="quiet text-sm">{h.environment}</span>{/snippet}
{#snippet who(h: Holding)}{#if h.set_aside_by}{h.set_aside_by.operator},
		<a class="link-plain" href={to.change(h.set_aside_by.change)}>change {h.set_aside_by.change}</a>{:else}<span
			class="quiet">not on record</span
		>{/if}{/snippet}
{#snippet until(h: Holding)}<TimeLeft holding={h} />{/snippet}
{#snippet big(h: Holding)}{h.kind === 'account' ? '' : size(h.size)}{/snippet}

<svelte:head><title>Holding · Genarch</title></svelte:head>

<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<h1>Holding</h1>
	<p class="quiet text-sm">
		Databases and accounts that were set aside: out of the way, whole, and brought back as they were.
		{#if list}Read <When at={list.read} />{/if}
	</p>
	{#if problem}<ErrorPanel {problem} retry={load} />{/if}
	{#if !list && !problem}<Skeleton label="Reading what was set aside" />{/if}
	{#if list?.unread.length}<p class="border-warning bg-base-200 my-2 border-l-4 px-3 py-1 text-sm">
			Did not answer: {list.unread.join(', ')}
		</p>{/if}
	{#if list?.holdings.length === 0}<p class="py-6">
			Nothing is set aside. Dropping a database or an account sets it aside first, where its engine can.
		</p>{/if}
	{#if list?.holdings.length}
		<div class="mt-3 mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
			<label class="flex items-center gap-2"
				><span class="label-text">Find</span><input
					class="input input-sm w-48 sm:w-64"
					type="search"
					placeholder="name, comment or who did it"
					bind:value={() => query.get('find'), (find) => query.set({ find })}
				/></label
			>
			<label class="flex items-center gap-2"
				><span class="label-text">Server</span>
				<select
					name="server"
					class="select select-sm"
					bind:value={() => query.get('server'), (server) => query.set({ server })}
					><option value="">all</option>{#each registered.list ?? [] as s (s.name)}<option>{s.name}</option
						>{/each}</select
				></label
			>
			<span class="quiet text-sm" role="status"
				>{count(rows.length)}{rows.length < list.holdings.length ? ` of ${count(list.holdings.length)}` : ''} shown</span
			>
		</div>
		{#if rows.length === 0}<p class="py-6">
				Nothing fits. <button class="link" onclick={() => query.set({ find: '', server: '' })}>Show all</button>
			</p>
		{:else}<DataTable
				label="What was set aside"
				{rows}
				{columns}
				key={(h) => h.address}
				order={{ by: query.get('by'), down: query.get('down') === 'yes' }}
				onorder={(o) => query.set({ by: o.by, down: o.down ? 'yes' : '' })}
				look={(h) => ({ 'data-holding': `${h.server}/${h.name}` })}
			/>{/if}
	{/if}
	<ExportList />
</section>

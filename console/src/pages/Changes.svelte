<script lang="ts">
	import { api, problemOf, type Change, type ChangeLine, type Intent, type Operator, type Problem } from '../lib/api';
	import DataTable, { type Column } from '../lib/DataTable.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { took, visible } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import { Query } from '../lib/query.svelte';
	import { registered } from '../lib/registered.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import State from '../lib/State.svelte';
	import When from '../lib/When.svelte';
	import { databaseAddress, param, to } from '../router';

	/** Of one server or one database, where the page is theirs. */
	const here = $derived(param('server'));
	const target = $derived(param('database') ? databaseAddress(here, param('database')) : '');
	const query = new Query({
		state: '',
		server: '',
		operator: '',
		kind: '',
		since: '',
		until: '',
		by: 'id',
		down: 'yes'
	});
	const server = $derived(here || query.get('server'));
	let lines = $state.raw<ChangeLine[] | null>(null);
	let next = $state(0);
	let problem = $state<Problem | null>(null);
	let operators = $state.raw<Operator[]>([]);
	const states: Change['state'][] = [
		'draft',
		'waiting',
		'ready',
		'running',
		'done',
		'reverted',
		'stuck',
		'declined',
		'withdrawn',
		'expired'
	];
	const kinds: Intent['kind'][] = [
		'database.create',
		'database.alter',
		'database.fill',
		'database.set_aside',
		'database.drop',
		'database.rename',
		'holding.bring_back',
		'holding.discard',
		'holding.keep',
		'session.end',
		'server.mark',
		'account.create',
		'account.alter',
		'account.rename',
		'account.password',
		'account.set_aside',
		'account.drop',
		'role.grant',
		'role.revoke',
		'privilege.grant',
		'privilege.revoke'
	];
	const filtered = $derived(
		(['state', 'server', 'operator', 'kind', 'since', 'until'] as const).some((k) => query.get(k))
	);
	/** A day as people pick it, of the clock here; until means with that day. */
	const day = (text: string, after = 0) => {
		const at = new Date(`${text}T00:00:00`);
		at.setDate(at.getDate() + after);
		return Number.isNaN(+at) ? undefined : at.toISOString();
	};

	async function load(before?: number): Promise<void> {
		try {
			const page = await api.changes({
				server: server || undefined,
				target: target || undefined,
				state: (query.get('state') as Change['state']) || undefined,
				operator: query.get('operator') || undefined,
				kind: query.get('kind') || undefined,
				since: day(query.get('since')),
				until: day(query.get('until'), 1),
				before,
				limit: 100
			});
			lines = before ? [...(lines ?? []), ...page.changes] : page.changes;
			next = page.next ?? 0;
			problem = null;
		} catch (e) {
			problem = problemOf(e);
		}
	}

	/** Puts a change that moved on into the list as it is shown; nothing is read again. */
	function move(line: ChangeLine): void {
		const at = lines?.findIndex((l) => l.id === line.id) ?? -1;
		const is = (name: 'state' | 'kind', value: string) => !query.get(name) || query.get(name) === value;
		const who = query.get('operator');
		const fits =
			is('state', line.state) &&
			is('kind', line.kind) &&
			(!who || line.operator === who || line.run_by === who) &&
			(!server || line.server === server) &&
			(!target || line.target === target) &&
			!query.get('until');
		if (!lines || (at < 0 && !fits)) return;
		if (at >= 0) lines = fits ? lines.with(at, line) : lines.toSpliced(at, 1);
		else if (!lines[0] || line.id > lines[0].id) lines = [line, ...lines];
		else load(); // an older one fits the filter now
	}

	$effect(() => {
		void target;
		load();
		return live.watch({ change: move, resync: () => load() });
	});
	$effect(() => {
		if (session.may('admin'))
			api.operators().then(
				(l) => (operators = l),
				() => {}
			);
	});

	const time = (at?: string) => (at ? +new Date(at) : undefined);
	const columns: Column<ChangeLine>[] = $derived([
		{ id: 'id', title: 'No.', number: true, value: (c) => c.id, cell: number },
		{ id: 'state', title: 'State', value: (c) => c.state, cell: stateCell },
		{ id: 'target', title: 'Target', value: (c) => c.target, cell: targetCell },
		{ id: 'environment', title: 'Environment', from: 'hidden md:table-cell', value: (c) => c.environment },
		{ id: 'kind', title: 'What', mono: true, from: 'hidden sm:table-cell', value: (c) => c.kind },
		{ id: 'operator', title: 'By', from: 'hidden md:table-cell', value: (c) => c.operator, cell: by },
		{ id: 'created', title: 'Asked', from: 'hidden sm:table-cell', value: (c) => time(c.created), cell: asked },
		{
			id: 'took',
			title: 'Took',
			number: true,
			from: 'hidden lg:table-cell',
			value: (c) => (c.finished && c.started ? time(c.finished)! - time(c.started)! : undefined),
			cell: lasted
		}
	]);
</script>

{#snippet number(c: ChangeLine)}<a class="link-plain" href={to.change(c.id)} aria-label="Change {c.id}">{c.id}</a
	>{/snippet}
{#snippet stateCell(c: ChangeLine)}<State state={c.state} />{/snippet}
{#snippet targetCell(c: ChangeLine)}<a
		class="mono block max-w-64 truncate hover:underline"
		title={c.target}
		href={to.change(c.id)}>{visible(c.target)}</a
	>{/snippet}
{#snippet by(c: ChangeLine)}{c.operator}{c.run_by && c.run_by !== c.operator ? `, run by ${c.run_by}` : ''}{/snippet}
{#snippet asked(c: ChangeLine)}<span class="quiet text-sm"><When at={c.created} /></span>{/snippet}
{#snippet lasted(c: ChangeLine)}{took(c.started, c.finished)}{/snippet}
{#snippet choice(name: 'state' | 'server' | 'operator' | 'kind', title: string, options: string[])}
	<label class="flex flex-col gap-1"
		><span class="label-text">{title}</span>
		<select
			{name}
			class="select select-sm w-36"
			bind:value={() => query.get(name), (value) => query.set({ [name]: value })}
			><option value="">all</option>{#each options as o (o)}<option value={o}>{o}</option>{/each}</select
		></label
	>
{/snippet}

<svelte:head
	><title>{target || here ? `Changes of ${visible(target || here)}` : 'Changes'} · Genarch</title></svelte:head
>

{#if here}<EnvironmentBanner server={here} />{/if}
<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<h1 class="break-words">
		Changes {#if target}of <span class="mono">{visible(target)}</span>{:else if here}of {here}{/if}
	</h1>
	<div class="mt-2 mb-1 flex flex-wrap items-end gap-x-4 gap-y-2">
		{@render choice('state', 'State', states)}
		{#if !here}{@render choice('server', 'Server', registered.list?.map((s) => s.name) ?? [])}{/if}
		{@render choice('kind', 'What', kinds)}
		{#if operators.length}{@render choice(
				'operator',
				'By',
				operators.map((o) => o.name)
			)}{/if}
		{#each ['since', 'until'] as const as side (side)}<label class="flex flex-col gap-1"
				><span class="label-text">{side === 'since' ? 'From' : 'To'}</span><input
					name={side}
					type="date"
					class="input input-sm w-36"
					bind:value={() => query.get(side), (value) => query.set({ [side]: value })}
				/></label
			>{/each}
		{#if filtered}<button
				class="btn btn-sm btn-ghost"
				onclick={() => query.set({ state: '', server: '', operator: '', kind: '', since: '', until: '' })}
				>Show all</button
			>{/if}
	</div>
	{#if problem}<ErrorPanel {problem} retry={() => load()} />{/if}
	{#if !lines && !problem}<Skeleton label="Reading the changes" />{/if}
	{#if lines?.length === 0}<p class="py-6">
			{filtered
				? 'No change fits.'
				: here
					? 'Nothing has been asked for here yet.'
					: 'Nothing has been asked for yet. Open a server and create a database.'}
		</p>{/if}
	{#if lines?.length}
		<DataTable
			label="Changes"
			rows={lines}
			{columns}
			key={(c) => String(c.id)}
			order={{ by: query.get('by'), down: query.get('down') === 'yes' }}
			onorder={(o) => query.set({ by: o.by, down: o.down ? 'yes' : '' })}
			look={(c) => ({ 'data-change': String(c.id) })}
		/>
		{#if next}<button class="btn btn-sm mt-3" onclick={() => load(next)}>Show older changes</button>{/if}
	{/if}
</section>

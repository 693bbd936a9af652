<script lang="ts">
	import {
		api,
		problemOf,
		type ChangeLine,
		type History,
		type Matrix,
		type Problem,
		type SessionList
	} from '../lib/api';
	import { engines } from '../lib/engines.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import Facts from '../lib/Facts.svelte';
	import { codeWords, count, size, visible } from '../lib/format';
	import HolderRows from '../lib/HolderRows.svelte';
	import { OneDatabase } from '../lib/oneDatabase.svelte';
	import { historyChart } from '../lib/plots';
	import { Query } from '../lib/query.svelte';
	import { registered } from '../lib/registered.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import State from '../lib/State.svelte';
	import When from '../lib/When.svelte';
	import { param, to } from '../router';

	const server = $derived(param('server'));
	const name = $derived(param('database'));
	const engine = $derived(engines.get(registered.get(server)?.engine));
	const query = new Query({ days: '7' });
	let changes = $state.raw<ChangeLine[]>([]);
	let matrix = $state.raw<Matrix | null>(null);
	let untold = $state<Problem | null>(null);
	let connected = $state.raw<SessionList | null>(null);
	let history = $state.raw<History | null>(null);
	const Chart = $derived(history ? historyChart() : null);
	const one = $derived(new OneDatabase(server, name, readMore));
	$effect(() => one.follow());
	const database = $derived(one.database);

	/** Who is connected, by program or account, with how many of which class. */
	const present = $derived.by(() => {
		const groups: Record<string, Record<string, number>> = {};
		for (const s of connected?.sessions ?? []) {
			const who = s.application ? `${s.application} as ${s.account.name}` : s.account.name;
			const counts = (groups[who] ??= {});
			counts[s.class] = (counts[s.class] ?? 0) + 1;
		}
		return Object.entries(groups)
			.map(([who, counts]) => ({
				who,
				words: Object.entries(counts)
					.map(([c, n]) => `${n} ${codeWords(c)}`)
					.join(', ')
			}))
			.slice(0, 8);
	});

	function readMore(): void {
		api.access(server, { database: name }).then(
			(m) => ([matrix, untold] = [m, null]),
			(e) => (untold = problemOf(e))
		);
		api.sessions(server, { database: name }).then(
			(l) => (connected = l),
			() => (connected = null)
		);
		api.changes({ target: one.database?.address ?? '', limit: 8 }).then(
			(l) => (changes = l.changes),
			() => (changes = [])
		);
	}
	$effect(() => {
		api.databaseHistory(server, name, Number(query.get('days')) || 7).then(
			(h) => (history = h),
			() => (history = null)
		);
	});
</script>

<svelte:head><title>{name} · {server} · Genarch</title></svelte:head>

<EnvironmentBanner {server} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<h1 class="mono text-[1.375rem]! break-all">{visible(name)}</h1>
	{#if one.problem}<ErrorPanel problem={one.problem} retry={() => one.load()} />
	{:else if !database}<Skeleton label="Reading the database" />
	{:else}
		<div class="flex flex-wrap items-end justify-between gap-3">
			<p class="quiet text-sm">read <When at={one.read} /></p>
			{#if session.may('request') && !database.system}<span class="flex flex-wrap gap-2">
					{#if !database.broken}<a class="btn btn-sm" href={to.alter(server, name)}>Alter …</a
						>{#if engine && !engine.intents['database.fill']?.why}<a class="btn btn-sm" href={to.fill(server, name)}
								>Fill …</a
							>{/if}{#if engine && !engine.intents['database.rename']?.why}<a
								class="btn btn-sm"
								href={to.rename(server, name)}>Rename …</a
							>{/if}{/if}
					<a class="btn btn-sm" href={to.drop(server, name)}>Drop {visible(name)} …</a></span
				>{/if}
		</div>
		{#if database.trouble}<p class="border-warning bg-base-200 mt-3 max-w-3xl rounded-box border-l-4 px-4 py-2">
				{database.trouble}
			</p>{/if}
		<div class="mt-4 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,40rem)_1fr]">
			<div class="min-w-0">
				<div class="flex flex-wrap items-baseline justify-between gap-2">
					<h2>Over time</h2>
					<label class="flex items-center gap-2"
						><span class="label-text">Days</span><select
							name="days"
							class="select select-sm w-20"
							bind:value={() => query.get('days'), (days) => query.set({ days })}
							>{#each ['1', '7', '14', '30', '90'] as n (n)}<option value={n}>{n}</option>{/each}</select
						></label
					>
				</div>
				{#if history && Chart}
					{#await Chart then { default: HistoryChart }}
						<HistoryChart title="Sessions" {history} value="sessions" text={count} />
						<HistoryChart title="Size" {history} value="size" text={size} />
					{/await}
				{/if}
				<div class="mt-4"><Facts facts={one.figures(engine)} /></div>
			</div>
			<div class="min-w-0">
				<div class="flex flex-wrap items-baseline justify-between gap-2">
					<h2>Who may do what</h2>
					<a class="link-plain text-sm" href={to.databaseAccess(server, name)}>All access</a>
				</div>
				{#if untold}<ErrorPanel problem={untold} />
				{:else if !matrix}<Skeleton rows={4} label="Reading who has what" />
				{:else}<HolderRows {server} {matrix} database={name} most={10} />{/if}
				<div class="mt-6 flex flex-wrap items-baseline justify-between gap-2">
					<h2>Who is connected</h2>
					<a class="link-plain text-sm" href={to.sessions(server, name)}>All sessions, live</a>
				</div>
				{#each present as p (p.who)}<p class="border-base-300/60 flex flex-wrap gap-x-3 border-b py-1">
						<span class="mono break-all">{visible(p.who)}</span><span class="quiet">{p.words}</span>
					</p>
				{:else}<p class="quiet py-1.5">Nobody just now.</p>{/each}
				<div class="mt-6 flex flex-wrap items-baseline justify-between gap-2">
					<h2>Its changes</h2>
					<a class="link-plain text-sm" href={to.changes(server, name)}>All changes</a>
				</div>
				{#each changes as c (c.id)}
					<p class="border-base-300/60 flex flex-wrap gap-x-3 border-b py-1.5">
						<a class="link-plain" href={to.change(c.id)}>change {c.id}</a>
						<State state={c.state} />
						<span class="quiet">{c.kind} by {c.run_by || c.operator}, <When at={c.finished ?? c.created} /></span>
					</p>
				{:else}<p class="quiet py-1.5">None through Genarch.</p>{/each}
			</div>
		</div>
	{/if}
</section>

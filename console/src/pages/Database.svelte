<script lang="ts">
	import {
		api,
		problemOf,
		type ChangeLine,
		type Database,
		type Matrix,
		type Problem,
		type SessionList
	} from '../lib/api';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import { cell, tone } from '../lib/levels';
	import { engines, propertiesOf, property, valueText } from '../lib/engines.svelte';
	import { session } from '../lib/session.svelte';
	import { count, exact, lastUse, size, visible } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import { registered } from '../lib/registered.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import State from '../lib/State.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import { param, to, whoText } from '../router';

	const serverName = $derived(param('server'));
	const name = $derived(param('database'));
	const server = $derived(registered.get(serverName));
	const engine = $derived(engines.get(server?.engine));
	let database = $state<Database | null>(null);
	let changes = $state<ChangeLine[]>([]);
	let problem = $state<Problem | null>(null);
	let read = $state('');
	let matrix = $state.raw<Matrix | null>(null);
	let untold = $state<Problem | null>(null);
	let connected = $state.raw<SessionList | null>(null);

	/** Who is connected, by program or account, with how many of which class. */
	const present = $derived.by(() => {
		const groups = new Map<string, Map<string, number>>();
		for (const s of connected?.sessions ?? []) {
			const who = s.application ? `${s.application} as ${s.account.name}` : s.account.name;
			const counts = groups.get(who) ?? new Map<string, number>();
			counts.set(s.class, (counts.get(s.class) ?? 0) + 1);
			groups.set(who, counts);
		}
		return [...groups]
			.map(([who, counts]) => ({ who, words: [...counts].map(([c, n]) => `${n} ${c}`).join(', ') }))
			.slice(0, 12);
	});

	/** Who has anything on this database; everybody who may only connect is left out. */
	const holders = $derived.by(() => {
		const column = matrix?.databases.indexOf(name) ?? -1;
		return column < 0
			? []
			: (matrix?.rows
					.map((r) => ({ ...r, ...cell(r.cells[column]) }))
					.filter((r) => r.word !== 'none' && r.word !== 'enter') ?? []);
	});
	const entering = $derived.by(() => {
		const column = matrix?.databases.indexOf(name) ?? -1;
		return column < 0 ? 0 : (matrix?.rows.filter((r) => r.cells[column] === 'e').length ?? 0);
	});

	async function load(): Promise<void> {
		try {
			const d = await api.database(serverName, name);
			[database, problem, read] = [d, null, new Date().toISOString()];
			api.access(serverName, { database: name }).then(
				(m) => ([matrix, untold] = [m, null]),
				(e) => (untold = problemOf(e))
			);
			api.sessions(serverName, { database: name }).then(
				(l) => (connected = l),
				() => (connected = null)
			);
			changes = (await api.changes({ target: d.address, limit: 20 })).changes;
		} catch (e) {
			[problem, database] = [problemOf(e), null];
		}
	}

	$effect(() => {
		void [serverName, name];
		load();
		return live.watch({
			database: (_, address) => address === database?.address && load(),
			change: (c) => c.server === serverName && c.ended && c.kind !== 'database.create' && load(),
			resync: load
		});
	});

	const facts = $derived.by((): [string, string, string?][] => {
		const d = database;
		if (!d) return [];
		const out: [string, string, string?][] = [];
		for (const f of propertiesOf(engine)) {
			if (f.name === 'comment') continue;
			const text = valueText(property(d, f.name));
			if (text) out.push([f.title.toLowerCase(), text]);
			else if (!f.group && f.in) out.push([f.title.toLowerCase(), 'none', f.default]);
		}
		out.push(['size', size(d.size), d.size == null ? 'not known' : `${count(d.size)} bytes`]);
		out.push([
			'tables',
			count(d.tables),
			d.tables === 0
				? 'empty: nothing has been installed in it'
				: d.tables == null
					? 'cannot be counted: nobody can connect'
					: undefined
		]);
		out.push(
			['sessions', count(d.sessions)],
			['last use', ...lastUse(d.last_use, d.sessions)],
			['comment', d.comment || 'none']
		);
		out.push([
			'created',
			d.created_by ? `${exact(d.created_by.at)} by ${d.created_by.operator}` : 'not known',
			d.created_by ? undefined : 'it was not made by Genarch, and the engine does not tell'
		]);
		return out;
	});
</script>

<svelte:head><title>{name} · {serverName} · Genarch</title></svelte:head>

<EnvironmentBanner server={serverName} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<h1 class="mono text-[1.375rem]! break-all">{visible(name)}</h1>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !database}<Skeleton label="Reading the database" />
	{:else}
		<div class="flex flex-wrap items-end justify-between gap-3">
			<p class="quiet text-sm">read <When at={read} /></p>
			{#if session.may('request') && !database.system}<span class="flex flex-wrap gap-2">
					{#if !database.broken}<a class="btn btn-sm" href={to.alter(serverName, name)}>Alter …</a
						>{#if engine && !engine.intents['database.rename']?.why}<a
								class="btn btn-sm"
								href={to.rename(serverName, name)}>Rename …</a
							>{/if}{/if}
					<a class="btn btn-sm" href={to.drop(serverName, name)}>Drop {visible(name)} …</a></span
				>{/if}
		</div>
		{#if database.trouble}<p class="border-warning bg-base-200 mt-3 max-w-3xl rounded-box border-l-4 px-4 py-2">
				{database.trouble}
			</p>{/if}
		<div class="mt-4 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,38rem)_1fr]">
			<dl>
				{#each facts as [title, value, remark] (title)}
					<div class="border-base-300/60 grid grid-cols-[10.5rem_1fr] gap-x-4 border-b py-1.5">
						<dt class="quiet">{title}</dt>
						<dd>
							<span class="mono break-all">{visible(value)}</span>{#if remark}<div class="quiet text-sm">
									{remark}
								</div>{/if}
						</dd>
					</div>
				{/each}
			</dl>
			<div class="min-w-0">
				<div class="flex flex-wrap items-baseline justify-between gap-2">
					<h2>Who may do what</h2>
					<span class="flex gap-3 text-sm"
						><a class="link-plain" href={to.handover(serverName, name)}>Handover sheet</a>{#if session.may('request')}<a
								class="link-plain"
								href={to.newGrant(serverName, name)}>Grant or revoke</a
							>{/if}</span
					>
				</div>
				{#if untold}<ErrorPanel problem={untold} />
				{:else if !matrix}<Skeleton rows={4} label="Reading who has what" />
				{:else}
					<div class="max-h-80 overflow-auto">
						{#each holders as h (whoText(h) + h.role)}
							<p class="border-base-300/60 flex items-baseline gap-3 border-b py-1">
								<span class="w-20 {tone[h.word]}"
									>{h.word}{#if h.differs}<span class="font-bold">*</span>{/if}</span
								><a
									class="link-plain mono break-all"
									href={to.account(serverName, { ...h, role: h.role && engines.separateRoles(matrix.engine) })}
									>{visible(whoText(h)) || '(no name)'}</a
								>{#if h.role}<span class="quiet text-sm">role</span>{/if}{#if h.super}<span class="quiet text-sm"
										>superuser</span
									>{/if}
							</p>
						{:else}<p class="quiet py-1.5">Nobody was given anything.</p>{/each}
					</div>
					{#if entering}<p class="quiet mt-1 text-sm">{count(entering)} more may connect, and nothing else.</p>{/if}
				{/if}
				<div class="mt-6 flex flex-wrap items-baseline justify-between gap-2">
					<h2>Who is connected</h2>
					<a class="link-plain text-sm" href={to.sessions(serverName, name)}>All sessions, live</a>
				</div>
				{#each present as p (p.who)}<p class="border-base-300/60 flex flex-wrap gap-x-3 border-b py-1">
						<span class="mono break-all">{visible(p.who)}</span><span class="quiet">{p.words}</span>
					</p>
				{:else}<p class="quiet py-1.5">Nobody just now.</p>{/each}
				<h2 class="mt-6">Its changes</h2>
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

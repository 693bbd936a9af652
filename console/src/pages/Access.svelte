<script lang="ts">
	import AccountViews from '../lib/AccountViews.svelte';
	import { engines } from '../lib/engines.svelte';
	import { api, problemOf, type Matrix, type Problem, type Why } from '../lib/api';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import { count, visible } from '../lib/format';
	import { cell, levels } from '../lib/levels';
	import { live } from '../lib/live.svelte';
	import MatrixGrid from '../lib/MatrixGrid.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import WhyChain from '../lib/WhyChain.svelte';
	import { param, to, whoText } from '../router';

	const server = $derived(param('server'));
	let matrix = $state.raw<Matrix | null>(null);
	let problem = $state<Problem | null>(null);
	let search = $state('');
	let turned = $state(false);
	let only = $state<'all' | 'something' | 'differs' | 'marked'>('all');
	let picked = $state.raw<{ account: number; database: number } | null>(null);
	let why = $state.raw<Why | null>(null);

	async function load(): Promise<void> {
		const wanted = server;
		try {
			const read = await api.access(wanted);
			if (wanted === server) [matrix, problem, picked, why] = [read, null, null, null];
		} catch (e) {
			if (wanted === server) problem = problemOf(e);
		}
	}
	$effect(() => {
		const wanted = server;
		matrix = null;
		load();
		return live.watch({ change: (c) => c.server === wanted && c.ended && load(), resync: load });
	});

	// A word fits an account or a database; a word that fits databases narrows the columns.
	const words = $derived(search.toLowerCase().split(/\s+/).filter(Boolean));
	const columns = $derived.by(() => {
		const all = matrix?.databases.map((_, i) => i) ?? [];
		const kept = all.filter(
			(i) => words.length === 0 || words.some((w) => matrix?.databases[i]?.toLowerCase().includes(w))
		);
		return kept.length ? kept : all;
	});
	const rows = $derived.by(() => {
		const m = matrix;
		if (!m) return [];
		const all = m.rows.map((_, i) => i);
		const named = all.filter(
			(i) => words.length === 0 || words.some((w) => whoText(m.rows[i]!).toLowerCase().includes(w))
		);
		const list = named.length ? named : all;
		if (only === 'marked') return list.filter((i) => m.rows[i]!.marks);
		if (only === 'all') return list;
		const fits = only === 'differs' ? (x: string) => cell(x).differs || x === 'c' : (x: string) => !'-n'.includes(x);
		return list.filter((i) => columns.some((c) => fits(m.rows[i]!.cells[c] ?? '?')));
	});
	const nothing = $derived(
		words.length > 0 &&
			matrix &&
			!matrix.databases.some((d) => words.some((w) => d.toLowerCase().includes(w))) &&
			!matrix.rows.some((r) => words.some((w) => whoText(r).toLowerCase().includes(w)))
	);

	async function pick(account: number, database: number): Promise<void> {
		const m = matrix;
		if (!m) return;
		picked = { account, database };
		why = null;
		const r = m.rows[account]!;
		try {
			const answer = await api.why(server, {
				account: whoText(r),
				role: !!r.role && engines.separateRoles(m.engine),
				privilege: engines.get(m.engine)?.bundles[0]?.on?.database?.[0] ?? 'SELECT',
				database: m.databases[database],
				scope: 'database'
			});
			if (picked?.account === account && picked.database === database) why = answer;
		} catch {
			why = null;
		}
	}
	const line = $derived(matrix && picked ? matrix.rows[picked.account] : null);
	const where = $derived((matrix && picked && matrix.databases[picked.database]) ?? '');
</script>

<svelte:head><title>Access on {server} · Genarch</title></svelte:head>

<EnvironmentBanner {server} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<AccountViews {server} title="Access" />
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !matrix}<Skeleton rows={10} label="Reading who has what" />
	{:else}
		<p class="quiet text-sm">
			{count(matrix.rows.length)} accounts and roles, {count(matrix.databases.length)} databases · what each comes to, all
			ways taken together · read <When at={matrix.read} />
		</p>
		{#each matrix.unknown as u (u)}<p class="border-warning bg-base-200 my-2 border-l-4 px-3 py-1 text-sm">
				Not known: {u}
			</p>{/each}
		<div class="mt-3 mb-2 flex flex-wrap items-center gap-x-4 gap-y-2">
			<label class="flex items-center gap-2"
				><span class="label-text">Find</span><input
					class="input input-sm w-48 sm:w-64"
					type="search"
					placeholder="account or database"
					bind:value={search}
				/></label
			>
			<label class="flex items-center gap-2"
				><span class="label-text">Show</span>
				<select class="select select-sm" bind:value={only}
					><option value="all">all accounts</option><option value="something">who has something</option><option
						value="differs">what fits no bundle</option
					><option value="marked">what deserves a look</option></select
				></label
			>
			<label class="flex items-center gap-2 text-sm"
				><input class="checkbox checkbox-sm" type="checkbox" bind:checked={turned} /> transpose</label
			>
			<span class="quiet text-sm" role="status">{count(rows.length)} × {count(columns.length)} shown</span>
		</div>
		{#if nothing}<p class="py-6">
				Nothing fits “{search}”. <button class="link" onclick={() => (search = '')}>Show all</button>
			</p>
		{:else if rows.length === 0}<p class="py-6">
				No account fits. <button class="link" onclick={() => (only = 'all')}>Show all accounts</button>
			</p>
		{:else}<MatrixGrid {matrix} {rows} {columns} {turned} onpick={pick} />{/if}
		<p class="quiet mt-2 flex flex-wrap gap-x-4 gap-y-1 text-sm">
			{#each Object.values(levels).slice(2) as l (l.word)}<span
					><span class="font-semibold">{l.word}</span> {l.means}</span
				>{/each}
			<span><span class="font-bold">*</span> more than the bundle, or not what will be made later</span>
		</p>
		{#if picked && line}
			<section class="border-base-300 rounded-box mt-4 border px-4 py-3" aria-label="Why" aria-live="polite">
				<h2 class="break-words">
					<a
						class="link-plain mono"
						href={to.account(server, { ...line, role: line.role && engines.separateRoles(matrix.engine) })}
						>{visible(whoText(line))}</a
					>
					on <a class="link-plain mono" href={to.database(server, where)}>{visible(where)}</a>: {cell(
						line.cells[picked.database]
					).word}
				</h2>
				{#if why}<div class="mt-2"><WhyChain {why} /></div>{/if}
				{#if session.may('request')}<p class="mt-3">
						<a
							class="btn btn-sm"
							href={to.newGrant(
								server,
								where,
								(line.role && engines.separateRoles(matrix.engine) ? 'role:' : '') + whoText(line)
							)}>Grant or revoke on {visible(where)}</a
						>
					</p>{/if}
			</section>
		{/if}
		{#if matrix.wide.length || matrix.leftovers.length}
			<h2 class="mt-6 mb-1">Deserves a look</h2>
			<ul class="flex flex-col gap-2">
				{#each matrix.wide as g, i (i)}<li class="border-warning bg-base-200 rounded-box border-l-4 px-3 py-2">
						<strong>A grant that opens more than it says:</strong>
						<span class="mono">{visible(whoText(g.holder))}</span>
						has {g.privileges.join(', ')} on <span class="mono">{visible(g.object.database ?? '')}</span>, where _ and %
						stand for other characters{#if g.opens?.length}: it opens also <span class="mono"
								>{g.opens.map(visible).join(', ')}</span
							>{/if}.
					</li>{/each}
				{#each matrix.leftovers as g, i (i)}<li class="border-warning bg-base-200 rounded-box border-l-4 px-3 py-2">
						<strong>Left over:</strong> <span class="mono">{visible(whoText(g.holder))}</span> has {g.privileges.join(
							', '
						)} on {visible(g.text)}, which does not exist; it takes effect again with it.
					</li>{/each}
			</ul>
		{/if}
	{/if}
</section>

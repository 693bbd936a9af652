<script lang="ts">
	import { api, problemOf, type Matrix, type Problem } from '../lib/api';
	import { engines } from '../lib/engines.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { count, visible } from '../lib/format';
	import HolderRows from '../lib/HolderRows.svelte';
	import { live } from '../lib/live.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import When from '../lib/When.svelte';
	import { param, to } from '../router';

	const server = $derived(param('server'));
	const name = $derived(param('database'));
	let matrix = $state.raw<Matrix | null>(null);
	let problem = $state<Problem | null>(null);

	async function load(): Promise<void> {
		try {
			[matrix, problem] = [await api.access(server, { database: name }), null];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => {
		const wanted = server;
		load();
		return live.watch({ change: (c) => c.server === wanted && c.ended && load(), resync: load });
	});
</script>

<svelte:head><title>Access to {name} · {server} · Genarch</title></svelte:head>

<EnvironmentBanner {server} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<div class="flex flex-wrap items-end justify-between gap-3">
		<h1 class="break-all">Access to <span class="mono">{visible(name)}</span></h1>
		<span class="flex flex-wrap gap-2">
			<a class="btn btn-sm" href={to.handover(server, name)}>Handover sheet</a>
			{#if session.may('request')}
				{#if engines.inDatabases(matrix?.engine)}<a
						class="btn btn-sm"
						href="{to.newAccount(server)}?database={encodeURIComponent(name)}">New account</a
					>{/if}
				<a class="btn btn-sm btn-primary" href={to.newGrant(server, name)}>Grant or revoke</a>
			{/if}
		</span>
	</div>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !matrix}<Skeleton rows={8} label="Reading who has what" />
	{:else}
		<p class="quiet mb-2 text-sm">
			what each comes to on it, all ways taken together · {count(matrix.rows.length)} accounts and roles · read
			<When at={matrix.read} />
		</p>
		{#each matrix.unknown as u (u)}<p class="border-warning bg-base-200 my-2 border-l-4 px-3 py-1 text-sm">
				Not known: {u}
			</p>{/each}
		<div class="max-w-3xl"><HolderRows {server} {matrix} database={name} /></div>
	{/if}
</section>

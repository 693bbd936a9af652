<script lang="ts">
	import { api, problemOf, type Change, type ChangeLine, type Problem } from '../lib/api';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import { took, visible } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import State from '../lib/State.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import { databaseAddress, param, to } from '../router';

	/** Of one server or one database, where the page is theirs. */
	const server = $derived(param('server'));
	const target = $derived(param('database') ? databaseAddress(server, param('database')) : '');
	let lines = $state.raw<ChangeLine[] | null>(null);
	let next = $state(0);
	let only = $state<Change['state'] | ''>('');
	let problem = $state<Problem | null>(null);
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

	async function load(before?: number): Promise<void> {
		try {
			const page = await api.changes({
				server: server || undefined,
				target: target || undefined,
				state: only || undefined,
				before,
				limit: 50
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
		const fits =
			(!only || line.state === only) && (!server || line.server === server) && (!target || line.target === target);
		if (!lines || (at < 0 && !fits)) return;
		if (at >= 0) lines = fits ? lines.with(at, line) : lines.toSpliced(at, 1);
		else if (!lines[0] || line.id > lines[0].id) lines = [line, ...lines];
		else load(); // an older one fits the filter now
	}

	$effect(() => {
		void [only, server, target];
		load();
		return live.watch({ change: move, resync: () => load() });
	});
</script>

<svelte:head
	><title>{target || server ? `Changes of ${visible(target || server)}` : 'Changes'} · Genarch</title></svelte:head
>

{#if server}<EnvironmentBanner {server} />{/if}
<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<div class="flex flex-wrap items-baseline justify-between gap-3">
		<h1 class="break-words">
			Changes {#if target}of <span class="mono">{visible(target)}</span>{:else if server}of {server}{/if}
		</h1>
		<label class="flex items-center gap-2"
			><span class="label-text">State</span>
			<select class="select select-sm w-36" bind:value={only}
				><option value="">all</option>{#each states as s (s)}<option value={s}>{s}</option>{/each}</select
			></label
		>
	</div>
	{#if problem}<ErrorPanel {problem} retry={() => load()} />{/if}
	{#if !lines && !problem}<Skeleton label="Reading the changes" />{/if}
	{#if lines?.length === 0}<p class="py-6">
			{only
				? `No change is ${only}.`
				: server
					? 'Nothing has been asked for here yet.'
					: 'Nothing has been asked for yet. Open a server and create a database.'}
		</p>{/if}
	{#if lines?.length}
		<div class="overflow-x-auto">
			<table class="ledger mt-2">
				<thead
					><tr
						><th scope="col" class="num">No.</th><th scope="col">State</th><th scope="col">Target</th><th
							scope="col"
							class="hidden md:table-cell">Environment</th
						><th scope="col" class="hidden sm:table-cell">What</th><th scope="col" class="hidden md:table-cell">By</th
						><th scope="col" class="hidden sm:table-cell">Asked</th><th scope="col" class="num hidden lg:table-cell"
							>Took</th
						></tr
					></thead
				>
				<tbody>
					{#each lines as c (c.id)}
						<tr>
							<td class="num"><a class="link-plain" href={to.change(c.id)} aria-label="Change {c.id}">{c.id}</a></td>
							<td><State state={c.state} /></td>
							<td class="mono max-w-64 truncate" title={c.target}
								><a class="hover:underline" href={to.change(c.id)}>{visible(c.target)}</a></td
							>
							<td class="hidden md:table-cell">{c.environment}</td>
							<td class="mono hidden sm:table-cell">{c.kind}</td>
							<td class="hidden md:table-cell"
								>{c.operator}{c.run_by && c.run_by !== c.operator ? `, run by ${c.run_by}` : ''}</td
							>
							<td class="quiet hidden text-sm sm:table-cell"><When at={c.created} /></td>
							<td class="num hidden lg:table-cell">{took(c.started, c.finished)}</td>
						</tr>
					{/each}
				</tbody>
			</table>
		</div>
		{#if next}<button class="btn btn-sm mt-3" onclick={() => load(next)}>Show older changes</button>{/if}
	{/if}
</section>

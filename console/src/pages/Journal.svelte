<script lang="ts">
	import { api, problemOf, type JournalEntry, type Problem } from '../lib/api';
	import { count, exact, visible } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { to } from '../router';

	let entries = $state<JournalEntry[] | null>(null);
	let next = $state(0);
	let problem = $state<Problem | null>(null);
	let checked = $state('');

	async function load(before?: number): Promise<void> {
		try {
			const page = await api.journal({ before, limit: 100 });
			entries = before ? [...(entries ?? []), ...page.entries] : page.entries;
			next = page.next ?? 0;
			problem = null;
		} catch (e) {
			problem = problemOf(e);
		}
	}

	/** The detail of an entry in a few words. */
	function brief(e: JournalEntry): string {
		const d = (e.detail ?? {}) as Record<string, unknown>;
		const failure = d.failure as { text?: string } | undefined;
		return [
			d.title,
			d.result,
			failure?.text,
			Array.isArray(d.accepted) && d.accepted.length ? `accepted ${d.accepted.join(', ')}` : undefined,
			d.instead_of ? `instead of change ${d.instead_of}` : undefined
		]
			.filter((t) => typeof t === 'string' && t !== '')
			.join(': ');
	}

	async function check(): Promise<void> {
		try {
			const c = await api.checkJournal();
			checked = c.whole ? `Whole: all ${count(c.entries)} entries are there and unaltered.` : `Broken: ${c.broken}`;
		} catch (e) {
			problem = problemOf(e);
		}
	}

	$effect(() => {
		load();
		return live.watch({ change: (c) => c.ended && load(), resync: () => load() });
	});
</script>

<svelte:head><title>Journal · Genarch</title></svelte:head>

<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<div class="flex flex-wrap items-center justify-between gap-3">
		<h1>Journal</h1>
		<div class="flex flex-wrap items-center gap-3">
			<span role="status" class={checked.startsWith('Broken') ? 'text-error font-semibold' : 'quiet'}>{checked}</span>
			<button class="btn btn-sm" onclick={check}>Check the whole chain</button>
		</div>
	</div>
	{#if problem}<ErrorPanel {problem} retry={() => load()} />{/if}
	{#if !entries && !problem}<Skeleton label="Reading the journal" />{/if}
	{#if entries?.length}
		<div class="overflow-x-auto">
			<table class="ledger mt-2">
				<thead
					><tr
						><th scope="col" class="num">No.</th><th scope="col" class="hidden sm:table-cell">At</th><th scope="col"
							>Who</th
						><th scope="col">What</th><th scope="col">Subject</th><th scope="col" class="hidden lg:table-cell"
							>Detail</th
						><th scope="col" class="hidden sm:table-cell">Change</th></tr
					></thead
				>
				<tbody>
					{#each entries as e (e.seq)}
						<tr title={e.detail ? JSON.stringify(e.detail) : undefined}>
							<td class="num">{e.seq}</td><td class="mono hidden whitespace-nowrap sm:table-cell">{exact(e.at)}</td><td
								>{e.operator}</td
							>
							<td class="mono whitespace-nowrap">{e.action}</td><td class="mono max-w-64 truncate" title={e.subject}
								>{visible(e.subject)}</td
							><td class="quiet hidden max-w-96 truncate text-sm lg:table-cell">{visible(brief(e))}</td>
							<td class="hidden sm:table-cell"
								>{#if e.change}<a class="link-plain" href={to.change(e.change)}>change {e.change}</a>{/if}</td
							>
						</tr>
					{/each}
				</tbody>
			</table>
		</div>
		{#if next}<button class="btn btn-sm mt-3" onclick={() => load(next)}>Show older entries</button>{/if}
	{/if}
</section>

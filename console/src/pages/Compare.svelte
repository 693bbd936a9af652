<script lang="ts">
	import { api, problemOf, type Comparison, type Problem } from '../lib/api';
	import Combobox from '../lib/Combobox.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { visible } from '../lib/format';
	import { Query } from '../lib/query.svelte';
	import { registered } from '../lib/registered.svelte';
	import Skeleton from '../lib/Skeleton.svelte';

	const query = new Query({ left: '', right: '' });
	let answer = $state.raw<Comparison | null>(null);
	let problem = $state<Problem | null>(null);
	let addresses = $state.raw<{ value: string; title?: string }[]>([]);
	let reading = $state(false);

	/** The accounts of all servers, as they come; one that does not answer is left out. */
	$effect(() => {
		for (const s of registered.list ?? [])
			api.accounts(s.name).then(
				(l) => (addresses = [...addresses, ...l.accounts.map((a) => ({ value: a.address, title: a.comment }))]),
				() => {}
			);
	});

	async function compare(): Promise<void> {
		const [left, right] = [query.get('left'), query.get('right')];
		if (!left || !right) return;
		reading = true;
		try {
			[answer, problem] = [await api.compare({ left, right }), null];
		} catch (e) {
			[answer, problem] = [null, problemOf(e)];
		} finally {
			reading = false;
		}
	}
	compare();
</script>

<svelte:head><title>Compare two accounts · Genarch</title></svelte:head>

<section class="mx-auto max-w-6xl px-4 py-5 sm:px-6">
	<h1>Compare two accounts</h1>
	<form class="mt-3 flex flex-wrap items-end gap-3" onsubmit={(e) => (e.preventDefault(), compare())}>
		{#each ['left', 'right'] as const as side (side)}
			<div class="flex min-w-64 flex-1 flex-col gap-1">
				<label class="label-text" for={side}>{side === 'left' ? 'One account or role' : 'and another'}</label>
				<Combobox
					id={side}
					name={side}
					options={addresses}
					free
					placeholder="harbour/account:tickets_app"
					bind:value={() => query.get(side), (v) => query.set({ [side]: v })}
				/>
			</div>
		{/each}
		<button class="btn btn-primary" disabled={reading}>Compare</button>
	</form>
	{#if problem}<ErrorPanel {problem} />
	{:else if reading}<Skeleton rows={5} label="Reading both" />
	{:else if answer}
		{#each answer.unknown as u (u)}<p class="border-warning bg-base-200 my-2 border-l-4 px-3 py-1 text-sm">
				Not known: {u}
			</p>{/each}
		{#if answer.differences.length === 0}<p class="py-6 font-semibold">They do not differ in anything.</p>
		{:else}
			<div class="overflow-x-auto">
				<table class="ledger mt-4">
					<thead
						><tr
							><th scope="col">What</th><th scope="col" class="mono">{visible(answer.left)}</th><th
								scope="col"
								class="mono">{visible(answer.right)}</th
							></tr
						></thead
					>
					<tbody>
						{#each answer.differences as d (d.what)}<tr
								><td class="break-words">{visible(d.what)}</td><td class="mono break-words">{visible(d.left) || '–'}</td
								><td class="mono break-words">{visible(d.right) || '–'}</td></tr
							>{/each}
					</tbody>
				</table>
			</div>
		{/if}
	{/if}
</section>

<script lang="ts">
	import { api, problemOf, type JournalEntry, type Problem } from '../lib/api';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { count, exact, visible } from '../lib/format';
	import JournalRow from '../lib/JournalRow.svelte';
	import { live } from '../lib/live.svelte';
	import { Query } from '../lib/query.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import { to } from '../router';

	const query = new Query({ operator: '', action: '', subject: '', since: '', until: '' });
	let entries = $state.raw<JournalEntry[] | null>(null);
	let next = $state(0);
	let problem = $state<Problem | null>(null);
	let checked = $state('');
	const fields = { operator: 'Who', action: 'What', subject: 'About' } as const;
	const filtered = $derived((['operator', 'action', 'subject', 'since', 'until'] as const).some((k) => query.get(k)));
	const actions = ['change', 'step', 'clearing', 'server', 'operator', 'token', 'session', 'key'];

	const day = (text: string, after = 0) => {
		const at = new Date(`${text}T00:00:00`);
		at.setDate(at.getDate() + after);
		return Number.isNaN(+at) ? undefined : at.toISOString();
	};
	let asked = 0;
	async function load(before?: number): Promise<void> {
		const mine = ++asked;
		try {
			const page = await api.journal({
				before,
				limit: 200,
				operator: query.get('operator') || undefined,
				action: query.get('action') || undefined,
				subject: query.get('subject') || undefined,
				since: day(query.get('since')),
				until: day(query.get('until'), 1)
			});
			if (mine !== asked) return; // what is looked for is something else by now
			entries = before ? [...(entries ?? []), ...page.entries] : page.entries;
			next = page.next ?? 0;
			problem = null;
		} catch (e) {
			if (mine === asked) problem = problemOf(e);
		}
	}

	/** What belongs to one change stands together, where its newest entry is; the others stand for themselves. */
	type Group = { key: string; change?: number; entries: JournalEntry[] };
	const groups = $derived.by(() => {
		const out: Group[] = [];
		const of: Record<number, Group> = {};
		for (const e of entries ?? []) {
			const there = e.change ? of[e.change] : undefined;
			if (there) there.entries.push(e);
			else {
				const group: Group = { key: e.change ? `change ${e.change}` : String(e.seq), change: e.change, entries: [e] };
				out.push(group);
				if (e.change) of[e.change] = group;
			}
		}
		return out;
	});
	/** Steps and clearings are the low level of a change: folded. */
	const low = (e: JournalEntry) => /^(step|clearing)\./.test(e.action);

	async function check(): Promise<void> {
		try {
			const c = await api.checkJournal();
			checked = c.whole ? `Valid: all ${count(c.entries)} entries are there and unaltered.` : `Broken: ${c.broken}`;
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
	<div class="mt-2 flex flex-wrap items-end gap-x-4 gap-y-2">
		{#each Object.entries(fields) as [name, title] (name)}
			<label class="flex flex-col gap-1"
				><span class="label-text">{title}</span><input
					{name}
					class="input input-sm mono w-44"
					autocomplete="off"
					spellcheck="false"
					list={name === 'action' ? 'journal-actions' : undefined}
					placeholder={name === 'action' ? 'change, server.add, …' : name === 'subject' ? 'harbour/tickets_prod' : ''}
					bind:value={() => query.get(name as keyof typeof fields), (value) => query.set({ [name]: value.trim() })}
				/></label
			>
		{/each}
		<datalist id="journal-actions"
			>{#each actions as a (a)}<option value={a}></option>{/each}</datalist
		>
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
				onclick={() => query.set({ operator: '', action: '', subject: '', since: '', until: '' })}>Show all</button
			>{/if}
	</div>
	{#if problem}<ErrorPanel {problem} retry={() => load()} />{/if}
	{#if !entries && !problem}<Skeleton label="Reading the journal" />{/if}
	{#if entries?.length === 0}<p class="py-6">{filtered ? 'No entry fits.' : 'Nothing has been done yet.'}</p>{/if}
	{#if entries?.length}
		<ol class="mt-3">
			{#each groups as g (g.key)}
				<li class="border-base-300/60 border-b py-2" data-group={g.key}>
					{#if g.change}
						{@const steps = g.entries.filter(low)}
						<p class="flex flex-wrap items-baseline gap-x-3">
							<a class="link-plain font-semibold" href={to.change(g.change)}>change {g.change}</a>
							<span class="mono break-all">{visible(g.entries[0]?.subject ?? '')}</span>
							<span class="quiet text-sm"
								>{exact(g.entries.at(-1)?.at ?? '')}{g.entries.length > 1
									? ` to ${exact(g.entries[0]?.at ?? '')}`
									: ''}</span
							>
						</p>
						{#each g.entries.filter((e) => !low(e)) as e (e.seq)}<JournalRow entry={e} within />{/each}
						{#if steps.length}<details class="pl-4">
								<summary class="quiet cursor-pointer text-sm"
									>{steps.length === 1 ? '1 entry' : `${count(steps.length)} entries`} of its steps</summary
								>
								{#each steps as e (e.seq)}<JournalRow entry={e} within />{/each}
							</details>{/if}
					{:else}{#each g.entries as e (e.seq)}<JournalRow entry={e} />{/each}{/if}
				</li>
			{/each}
		</ol>
		{#if next}<button class="btn btn-sm mt-3" onclick={() => load(next)}>Show older entries</button>{/if}
	{/if}
</section>

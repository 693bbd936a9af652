<script lang="ts">
	import { createVirtualizer } from '@tanstack/svelte-virtual';
	import { untrack } from 'svelte';
	import ClassWord from './ClassWord.svelte';
	import { count, since, size, visible } from './format';
	import { endable, type Sessions } from './sessions.svelte';
	import { whoText } from '../router';

	type Props = { sessions: Sessions; selectable: boolean };
	let { sessions, selectable }: Props = $props();

	const rowHeight = 34;
	let box = $state<HTMLDivElement | null>(null);
	const virtual = createVirtualizer<HTMLDivElement, HTMLTableRowElement>({
		count: 0,
		getScrollElement: () => box,
		estimateSize: () => rowHeight,
		overscan: 12
	});
	$effect(() => {
		const options = { count: sessions.lines.length, getScrollElement: () => box };
		untrack(() => $virtual.setOptions(options));
	});
	const items = $derived($virtual.getVirtualItems());
	const above = $derived(items[0]?.start ?? 0);
	const below = $derived($virtual.getTotalSize() - (items.at(-1)?.end ?? 0));
	const read = $derived(sessions.list?.read ?? '');
	const width = $derived(selectable ? 9 : 8);
</script>

<div
	bind:this={box}
	class="relative max-h-[60vh] min-h-40 overflow-auto"
	role="region"
	aria-label="Sessions"
	tabindex="-1"
>
	<table class="ledger" aria-rowcount={sessions.lines.length + 1}>
		<thead class="sticky top-0 z-10"
			><tr aria-rowindex={1}>
				{#if selectable}<th scope="col" class="w-8"><span class="sr-only">Chosen</span></th>{/if}
				<th scope="col">Session</th><th scope="col">Class</th><th scope="col" class="hidden sm:table-cell">Account</th>
				<th scope="col" class="hidden md:table-cell">{sessions.database ? 'Client' : 'Database'}</th>
				<th scope="col" class="num">For</th><th scope="col" class="num hidden md:table-cell">Transaction</th><th
					scope="col"
					class="num hidden lg:table-cell">Locks</th
				>
				<th scope="col" class="hidden lg:table-cell">Statement, or what it waits for</th>
			</tr></thead
		>
		<tbody>
			{#if above > 0}<tr aria-hidden="true"
					><td colspan={width} style:height="{above}px" class="border-0! p-0!"></td></tr
				>{/if}
			{#each items as item (item.index)}
				{@const line = sessions.lines[item.index]}
				{#if line && 'group' in line}
					<tr aria-rowindex={item.index + 2} class="bg-base-200" data-group={line.group}>
						{#if selectable}<td
								>{#if line.ids.length}<input
										class="checkbox checkbox-xs ml-1"
										type="checkbox"
										aria-label="All of {line.group}"
										checked={line.ids.every((id) => sessions.chosen.has(id))}
										onchange={(e) => sessions.toggle(line.ids, e.currentTarget.checked)}
									/>{/if}</td
							>{/if}
						<td colspan={width - 1}
							><span class="font-semibold break-all">{visible(line.group)}</span>
							<span class="quiet text-sm">{count(line.count)}: {line.words}</span></td
						>
					</tr>
				{:else if line}
					{@const s = line.session}
					<tr aria-rowindex={item.index + 2} data-session={s.id} class={sessions.shown === s.id ? 'bg-base-200' : ''}>
						{#if selectable}<td
								>{#if endable(s)}<input
										class="checkbox checkbox-xs ml-1"
										type="checkbox"
										aria-label="Session {s.number}"
										checked={sessions.chosen.has(s.id)}
										onchange={(e) => sessions.toggle([s.id], e.currentTarget.checked)}
									/>{/if}</td
							>{/if}
						<td
							><button
								class="link-plain mono text-primary underline underline-offset-2"
								title={s.id}
								onclick={() => (sessions.shown = sessions.shown === s.id ? '' : s.id)}>{s.number}</button
							></td
						>
						<td><ClassWord value={s.class} /></td>
						<td class="hidden max-w-52 sm:table-cell"
							><div class="mono truncate" title={whoText(s.account)}>{visible(whoText(s.account))}</div></td
						>
						<td class="hidden max-w-44 md:table-cell"
							><div class="mono truncate">
								{visible(
									(sessions.database ? s.client : [s.database, ...(s.uses ?? [])].filter(Boolean).join(', ')) ?? ''
								)}
							</div></td
						>
						<td class="num">{since(s.state_since, read)}</td>
						<td class="num hidden md:table-cell"
							>{since(s.transaction, read)}{#if s.rows}<span class="quiet">&nbsp;· {count(s.rows)} rows</span
								>{:else if s.log_bytes}<span class="quiet">&nbsp;· {size(s.log_bytes)}</span>{/if}</td
						>
						<td class="num hidden lg:table-cell">{s.locks || ''}</td>
						<td class="hidden max-w-96 lg:table-cell"
							><div class="mono truncate" title={s.statement?.slice(0, 400)}>
								{#if s.progress}<span class="font-semibold">{s.progress}</span>{:else if s.blocked_by.length}<span
										class="font-semibold">waits for {s.blocked_by.join(', ')}</span
									> <span class="quiet">{visible(s.statement ?? '')}</span>{:else}{visible(s.statement ?? '')}{/if}
							</div></td
						>
					</tr>
				{/if}
			{/each}
			{#if below > 0}<tr aria-hidden="true"
					><td colspan={width} style:height="{below}px" class="border-0! p-0!"></td></tr
				>{/if}
		</tbody>
	</table>
</div>

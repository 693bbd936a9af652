<script lang="ts">
	import { createVirtualizer } from '@tanstack/svelte-virtual';
	import { untrack } from 'svelte';
	import type { DatabaseTable, SortKey } from './databases.svelte';
	import type { Engine } from './api';
	import { property, propertiesOf, valueText } from './engines.svelte';
	import { capital, count, size, visible } from './format';
	import { to } from '../router';

	type Props = { table: DatabaseTable; engine: Engine | undefined };
	let { table, engine }: Props = $props();

	const rowHeight = 34;
	let box = $state<HTMLDivElement | null>(null);
	const virtual = createVirtualizer<HTMLDivElement, HTMLTableRowElement>({
		count: 0,
		getScrollElement: () => box,
		estimateSize: () => rowHeight,
		overscan: 12
	});
	$effect(() => {
		const options = { count: table.rows.length, getScrollElement: () => box };
		untrack(() => $virtual.setOptions(options));
	});
	const items = $derived($virtual.getVirtualItems());
	const above = $derived(items[0]?.start ?? 0);
	const below = $derived($virtual.getTotalSize() - (items.at(-1)?.end ?? 0));
	/** The properties that the engine has in lists; a column in which nothing stands is left out, and the comment is among the remarks. */
	const listed = $derived(
		propertiesOf(engine)
			.filter(
				(f) =>
					f.show === 'list' &&
					!f.group &&
					f.name !== 'comment' &&
					table.list?.databases.some((d) => valueText(property(d, f.name)))
			)
			.map((f, i) => ({ ...f, from: ['hidden sm:table-cell', 'hidden md:table-cell'][i] ?? 'hidden lg:table-cell' }))
	);

	const arrow = (key: SortKey) => (table.sort !== key ? '' : table.down ? '↓' : '↑');

	type Column = { key: SortKey; title: string; number?: boolean; from?: string };
	const columns: Column[] = $derived([
		{ key: 'name', title: capital(engine?.nouns.database?.one ?? 'database') },
		...listed.map((f): Column => ({ key: f.name, title: f.title, from: f.from })),
		{ key: 'size', title: 'Size', number: true },
		{
			key: 'tables',
			title: capital(engine?.nouns.table?.many ?? 'tables'),
			number: true,
			from: 'hidden sm:table-cell'
		},
		{ key: 'sessions', title: capital(engine?.nouns.session?.many ?? 'sessions'), number: true }
	]);
</script>

<div
	bind:this={box}
	class="relative max-h-[70vh] min-h-40 overflow-auto"
	role="region"
	aria-label="Databases"
	tabindex="-1"
>
	<table class="ledger" aria-rowcount={table.rows.length + 1}>
		<thead class="sticky top-0 z-10"
			><tr aria-rowindex={1}>
				{#each columns as c (c.key)}
					<th
						scope="col"
						class="{c.number ? 'num' : ''} {c.from ?? ''}"
						aria-sort={table.sort === c.key ? (table.down ? 'descending' : 'ascending') : undefined}
					>
						<button class="font-sans text-[0.8125rem] font-semibold hover:underline" onclick={() => table.sortBy(c.key)}
							>{#if c.number}<span aria-hidden="true" class="inline-block w-3">{arrow(c.key)}</span
								>{/if}{c.title}{#if !c.number}<span aria-hidden="true" class="inline-block w-3">{arrow(c.key)}</span
								>{/if}</button
						>
					</th>
				{/each}
				<th scope="col" class="hidden xl:table-cell">Remarks</th>
			</tr></thead
		>
		<tbody>
			{#if above > 0}<tr aria-hidden="true"
					><td colspan={columns.length + 1} style:height="{above}px" class="border-0! p-0!"></td></tr
				>{/if}
			{#each items as item (table.rows[item.index]?.name ?? item.index)}
				{@const d = table.rows[item.index]}
				{#if d}
					<tr aria-rowindex={item.index + 2} class={table.fresh.has(d.name) ? 'fresh' : ''} data-database={d.name}>
						<td class="max-w-52 sm:max-w-80">
							<div class="flex items-center gap-2">
								<a class="link-plain mono truncate" href={to.database(table.server, d.name)} title={d.name}
									>{visible(d.name)}</a
								>
								{#if table.fresh.has(d.name)}<span class="badge badge-success badge-sm">new</span>{/if}
								{#if d.system}<span class="badge badge-ghost badge-sm">system</span>{/if}
								{#if d.properties.is_template}<span class="badge badge-outline badge-sm">template</span>{/if}
								{#if d.closed}<span class="badge badge-outline badge-sm">closed</span>{/if}
								{#if d.trouble}<span class="badge badge-warning badge-sm" title={d.trouble}>trouble</span>{/if}
							</div>
						</td>
						{#each listed as f (f.name)}<td class="mono max-w-48 truncate {f.from}"
								>{visible(valueText(property(d, f.name)))}</td
							>{/each}
						<td class="num">{size(d.size)}</td>
						<td
							class="num hidden sm:table-cell"
							title={d.tables === 0 ? 'empty: nothing has been installed in it' : undefined}>{count(d.tables)}</td
						>
						<td class="num"
							>{count(d.sessions)}{#if typeof d.properties.connection_limit === 'number'}<span class="quiet"
									>&nbsp;of {d.properties.connection_limit}</span
								>{/if}</td
						>
						<td class="quiet hidden max-w-72 truncate text-sm xl:table-cell" title={d.comment}
							>{d.trouble || d.comment}</td
						>
					</tr>
				{/if}
			{/each}
			{#if below > 0}<tr aria-hidden="true"
					><td colspan={columns.length + 1} style:height="{below}px" class="border-0! p-0!"></td></tr
				>{/if}
		</tbody>
	</table>
</div>

<script module lang="ts">
	import type { Snippet } from 'svelte';

	/** One column of a table: what it is sorted by, and what stands in it. */
	export type Column<R> = {
		id: string;
		title: string;
		/** What it is sorted by; undefined is unknown and stands last, whichever way round. */
		value: (row: R) => string | number | undefined;
		/** What stands in a cell, where it is not the value. */
		cell?: Snippet<[R]>;
		number?: boolean;
		/** Set in the typewriter face, and cut with a sign where it is too long. */
		mono?: boolean;
		/** The classes from which width on the column is shown. */
		from?: string;
		/** Nothing sorts by it. */
		unsorted?: boolean;
	};
	/** The order that a list has by itself. */
	export type Order = { by: string; down: boolean };
</script>

<script lang="ts" generics="R">
	import { createSortedRowModel, createTable, rowSortingFeature, tableFeatures } from '@tanstack/svelte-table';
	import { createVirtualizer } from '@tanstack/svelte-virtual';
	import { tick, untrack } from 'svelte';
	import { visible } from './format';

	type Props = {
		label: string;
		rows: R[];
		columns: Column<R>[];
		key: (row: R) => string;
		order: Order;
		onorder: (order: Order) => void;
		/** Classes of a row, and attributes by which tests and styles find it. */
		look?: (row: R) => { class?: string; [attribute: `data-${string}`]: string | undefined };
	};
	let { label, rows, columns, key, order, onorder, look = () => ({}) }: Props = $props();

	const rowHeight = 34;
	const compare = new Intl.Collator('en', { numeric: true }).compare;
	const features = tableFeatures({ rowSortingFeature, sortedRowModel: createSortedRowModel() });
	const defs = $derived(
		columns.map((c) => ({
			id: c.id,
			accessorFn: c.value,
			sortUndefined: 'last' as const,
			enableSorting: !c.unsorted,
			sortFn: (a: { getValue: (id: string) => unknown }, b: { getValue: (id: string) => unknown }, id: string) => {
				const [x, y] = [a.getValue(id), b.getValue(id)];
				return typeof x === 'number' && typeof y === 'number' ? x - y : compare(String(x), String(y));
			}
		}))
	);
	const table = createTable({
		features,
		get columns() {
			return defs as never;
		},
		get data() {
			return rows as never;
		},
		state: {
			get sorting() {
				return [{ id: order.by, desc: order.down }];
			}
		}
	});
	const lines = $derived(table.getRowModel().rows as unknown as { original: R }[]);

	let box = $state<HTMLDivElement | null>(null);
	/** The row that the keyboard is on. */
	let here = $state(0);
	const virtual = createVirtualizer<HTMLDivElement, HTMLTableRowElement>({
		count: 0,
		getScrollElement: () => box,
		estimateSize: () => rowHeight,
		overscan: 12
	});
	$effect(() => {
		const options = { count: lines.length, getScrollElement: () => box };
		untrack(() => $virtual.setOptions(options));
	});
	const items = $derived($virtual.getVirtualItems());
	const above = $derived(items[0]?.start ?? 0);
	const below = $derived($virtual.getTotalSize() - (items.at(-1)?.end ?? 0));

	const arrow = (id: string) => (order.by !== id ? '' : order.down ? '↓' : '↑');
	const sortBy = (c: Column<R>) => onorder({ by: c.id, down: order.by === c.id ? !order.down : !!c.number });

	/** Arrows go from row to row, Enter opens what the row's first link leads to. */
	async function keys(e: KeyboardEvent): Promise<void> {
		if (e.target !== e.currentTarget) return;
		if (e.key === 'Enter') {
			(e.currentTarget as HTMLElement).querySelector('a')?.click();
			return;
		}
		const page = Math.max(1, Math.floor((box?.clientHeight ?? 0) / rowHeight) - 1);
		const to = {
			ArrowDown: here + 1,
			ArrowUp: here - 1,
			PageDown: here + page,
			PageUp: here - page,
			Home: 0,
			End: lines.length - 1
		}[e.key];
		if (to === undefined) return;
		e.preventDefault();
		here = Math.max(0, Math.min(lines.length - 1, to));
		$virtual.scrollToIndex(here, { align: 'auto' });
		await tick();
		requestAnimationFrame(() => box?.querySelector<HTMLElement>(`[data-line="${here}"]`)?.focus());
	}
</script>

<div
	bind:this={box}
	class="relative max-h-[70vh] min-h-40 overflow-auto"
	role="region"
	aria-label={label}
	tabindex="-1"
>
	<table class="ledger" aria-rowcount={lines.length + 1}>
		<thead class="sticky top-0 z-10"
			><tr aria-rowindex={1}>
				{#each columns as c (c.id)}
					<th
						scope="col"
						class="{c.number ? 'num' : ''} {c.from ?? ''}"
						aria-sort={order.by === c.id ? (order.down ? 'descending' : 'ascending') : undefined}
					>
						{#if c.unsorted}{c.title}{:else}<button
								class="font-sans text-[0.8125rem] font-semibold hover:underline"
								onclick={() => sortBy(c)}
								>{#if c.number}<span aria-hidden="true" class="inline-block w-3">{arrow(c.id)}</span
									>{/if}{c.title}{#if !c.number}<span aria-hidden="true" class="inline-block w-3">{arrow(c.id)}</span
									>{/if}</button
							>{/if}
					</th>
				{/each}
			</tr></thead
		>
		<tbody>
			{#if above > 0}<tr aria-hidden="true"
					><td colspan={columns.length} style:height="{above}px" class="border-0! p-0!"></td></tr
				>{/if}
			{#each items as item (lines[item.index] ? key(lines[item.index]!.original) : item.index)}
				{@const row = lines[item.index]?.original}
				{#if row}
					<tr
						{...look(row)}
						aria-rowindex={item.index + 2}
						data-line={item.index}
						tabindex={item.index === here ? 0 : -1}
						onfocus={() => (here = item.index)}
						onkeydown={keys}
					>
						{#each columns as c (c.id)}{@const text = c.cell ? '' : visible(String(c.value(row) ?? ''))}<td
								class="{c.number ? 'num' : ''} {c.mono ? 'mono max-w-48 truncate' : ''} {c.from ?? ''}"
								title={c.mono ? text : undefined}
								>{#if c.cell}{@render c.cell(row)}{:else}{text}{/if}</td
							>{/each}
					</tr>
				{/if}
			{/each}
			{#if below > 0}<tr aria-hidden="true"
					><td colspan={columns.length} style:height="{below}px" class="border-0! p-0!"></td></tr
				>{/if}
		</tbody>
	</table>
</div>

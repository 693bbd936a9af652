<script lang="ts">
	import { engines } from './engines.svelte';
	import { createVirtualizer } from '@tanstack/svelte-virtual';
	import { untrack } from 'svelte';
	import type { Matrix } from './api';
	import { visible } from './format';
	import { cell, tone } from './levels';
	import { to, whoText } from '../router';

	/** rows and columns are positions in the matrix; turned: databases are the rows. */
	type Props = {
		matrix: Matrix;
		rows: number[];
		columns: number[];
		turned: boolean;
		onpick: (account: number, database: number) => void;
	};
	let { matrix, rows, columns, turned, onpick }: Props = $props();

	const rowHeight = 34;
	const headWidth = 232;
	let box = $state<HTMLDivElement | null>(null);
	const down = $derived(turned ? columns : rows);
	const across = $derived(turned ? rows : columns);
	const vertical = createVirtualizer<HTMLDivElement, HTMLDivElement>({
		count: 0,
		getScrollElement: () => box,
		estimateSize: () => rowHeight,
		overscan: 10,
		paddingStart: rowHeight
	});
	const sideways = createVirtualizer<HTMLDivElement, HTMLDivElement>({
		count: 0,
		getScrollElement: () => box,
		estimateSize: () => 116,
		horizontal: true,
		overscan: 3,
		paddingStart: headWidth
	});
	$effect(() => {
		const v = { count: down.length, getScrollElement: () => box };
		// Wide enough for the longest name, so that two that differ at the end can be told apart.
		const longest = Math.max(
			0,
			...across.map((i) => (turned ? whoText(matrix.rows[i]!) : matrix.databases[i]!).length)
		);
		const width = Math.min(232, Math.max(92, longest * 7.3 + 20));
		const h = { count: across.length, getScrollElement: () => box, estimateSize: () => width };
		untrack(() => {
			$vertical.setOptions(v);
			$sideways.setOptions(h);
			$sideways.measure();
		});
	});
	const top = $derived($vertical.getVirtualItems());
	const left = $derived($sideways.getVirtualItems());

	const account = (i: number) => {
		const r = matrix.rows[i]!;
		return {
			text: r.name === '' ? `(no name)@${r.host}` : visible(whoText(r)),
			href: to.account(matrix.server, { ...r, role: r.role && engines.separateRoles(matrix.engine) }),
			role: !!r.role,
			marks: r.marks ?? 0,
			superuser: !!r.super
		};
	};
	/** The cell that the keys work on, by its place in sight. */
	let active = $state({ d: 0, a: 0 });
	const grid = $props.id();
	const cellId = (d: number, a: number) => `${grid}-${d}-${a}`;

	function onkeydown(e: KeyboardEvent): void {
		if (e.target !== box || !down.length || !across.length) return;
		const page = Math.max(1, Math.floor((box?.clientHeight ?? 0) / rowHeight) - 2);
		const ends = { d: down.length - 1, a: across.length - 1 };
		let { d, a } = active;
		if (e.key === 'ArrowDown') d++;
		else if (e.key === 'ArrowUp') d--;
		else if (e.key === 'ArrowRight') a++;
		else if (e.key === 'ArrowLeft') a--;
		else if (e.key === 'PageDown') d += page;
		else if (e.key === 'PageUp') d -= page;
		else if (e.key === 'Home') [a, d] = e.ctrlKey ? [0, 0] : [0, d];
		else if (e.key === 'End') [a, d] = e.ctrlKey ? [ends.a, ends.d] : [ends.a, d];
		else if (e.key === 'Enter' || e.key === ' ') {
			const where = at(Math.min(d, ends.d), Math.min(a, ends.a));
			onpick(where.a, where.d);
		} else return;
		e.preventDefault();
		active = { d: Math.max(0, Math.min(d, ends.d)), a: Math.max(0, Math.min(a, ends.a)) };
		$vertical.scrollToIndex(active.d);
		$sideways.scrollToIndex(active.a);
	}

	const at = (d: number, a: number) => (turned ? { a: across[a]!, d: down[d]! } : { a: down[d]!, d: across[a]! });
</script>

{#snippet head(position: number, isAccount: boolean)}
	{#if isAccount}
		{@const who = account(position)}
		<a class="link-plain mono truncate" href={who.href} title={who.text}>{who.text}</a>
		{#if who.role}<span class="badge badge-ghost badge-xs shrink-0">role</span>{/if}
		{#if who.marks}<span class="badge badge-warning badge-xs shrink-0" title="{who.marks} things deserve a look"
				>!<span class="sr-only"> deserves a look</span></span
			>{/if}
	{:else}
		<a
			class="link-plain mono truncate"
			href={to.database(matrix.server, matrix.databases[position]!)}
			title={matrix.databases[position]}>{visible(matrix.databases[position]!)}</a
		>
	{/if}
{/snippet}

<!-- A grid laid out by position, so that thousands of rows and columns cost no more than those in sight. -->
<div
	bind:this={box}
	class="matrix border-base-300 relative max-h-[62vh] overflow-auto border"
	role="grid"
	aria-label="Who has what"
	aria-rowcount={down.length + 1}
	aria-colcount={across.length + 1}
	tabindex="0"
	aria-activedescendant={down.length && across.length ? cellId(active.d, active.a) : undefined}
	{onkeydown}
>
	<div class="relative" style:height="{$vertical.getTotalSize()}px" style:width="{$sideways.getTotalSize()}px">
		<div
			role="row"
			aria-rowindex={1}
			class="bg-base-200 border-base-300 sticky top-0 z-20 border-b"
			style:height="{rowHeight}px"
		>
			<div
				role="columnheader"
				aria-colindex={1}
				class="bg-base-200 sticky left-0 z-30 flex items-center px-3 text-[0.8125rem] font-semibold"
				style:height="{rowHeight}px"
				style:width="{headWidth}px"
			>
				{turned ? 'Database' : 'Account'}
			</div>
			{#each left as c (c.index)}
				<div
					role="columnheader"
					aria-colindex={c.index + 2}
					class="absolute top-0 flex items-center gap-1 overflow-hidden px-2 text-[0.8125rem]"
					style:left="{c.start}px"
					style:width="{c.size}px"
					style:height="{rowHeight}px"
				>
					{#if c.index < across.length}{@render head(across[c.index]!, turned)}{/if}
				</div>
			{/each}
		</div>
		{#each top as r (r.index)}
			<div
				role="row"
				aria-rowindex={r.index + 2}
				class="border-base-300/60 hover:bg-base-200 absolute left-0 w-full border-b"
				style:top="{r.start}px"
				style:height="{r.size}px"
			>
				<div
					role="rowheader"
					aria-colindex={1}
					class="bg-base-100 sticky left-0 z-10 flex h-full items-center gap-2 px-3 text-sm"
					style:width="{headWidth}px"
				>
					{#if r.index < down.length}{@render head(down[r.index]!, !turned)}{/if}
				</div>
				{#each left as c (c.index)}
					{@const where = at(r.index, c.index)}
					{@const level = cell(matrix.rows[where.a]?.cells[where.d] ?? '?')}
					<div
						role="gridcell"
						id={cellId(r.index, c.index)}
						aria-colindex={c.index + 2}
						class="absolute top-0 h-full {r.index === active.d && c.index === active.a ? 'active-cell' : ''}"
						style:left="{c.start}px"
						style:width="{c.size}px"
					>
						<button
							tabindex="-1"
							class="hover:bg-base-300 h-full w-full px-2 text-left text-sm {tone[level.word]}"
							data-level={level.word}
							onclick={() => onpick(where.a, where.d)}
							>{level.word === 'none' ? '–' : level.word}{#if level.differs}<span class="font-bold">*</span
								>{/if}</button
						>
					</div>
				{/each}
			</div>
		{/each}
	</div>
</div>

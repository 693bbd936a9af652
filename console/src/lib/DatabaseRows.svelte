<script lang="ts">
	import type { Database, Engine } from './api';
	import DataTable, { type Column, type Order } from './DataTable.svelte';
	import type { DatabaseTable } from './databases.svelte';
	import { property, propertiesOf, fieldText } from './engines.svelte';
	import { capital, count, size, visible } from './format';
	import { to } from '../router';

	type Props = { table: DatabaseTable; engine: Engine | undefined; order: Order; onorder: (order: Order) => void };
	let { table, engine, order, onorder }: Props = $props();

	/** The properties that the engine has in lists; a column in which nothing stands is left out, and the comment is among the remarks. */
	const listed = $derived(
		propertiesOf(engine).filter(
			(f) =>
				f.show === 'list' &&
				!f.group &&
				f.name !== 'comment' &&
				table.list?.databases.some((d) => fieldText(f, property(d, f.name)))
		)
	);
	const known = (n: number | null | undefined) => n ?? undefined;
	const columns: Column<Database>[] = $derived([
		{ id: 'name', title: capital(engine?.nouns.database?.one ?? 'database'), value: (d) => d.name, cell: nameCell },
		...listed.map((f, i): Column<Database> => ({
			id: f.name,
			title: f.title,
			value: (d) => fieldText(f, property(d, f.name)) || undefined,
			mono: true,
			from: ['hidden sm:table-cell', 'hidden md:table-cell'][i] ?? 'hidden lg:table-cell'
		})),
		{ id: 'size', title: 'Size', number: true, value: (d) => known(d.size), cell: sizeCell },
		{
			id: 'tables',
			title: capital(engine?.nouns.table?.many ?? 'tables'),
			number: true,
			from: 'hidden sm:table-cell',
			value: (d) => known(d.tables),
			cell: tablesCell
		},
		{
			id: 'sessions',
			title: capital(engine?.nouns.session?.many ?? 'sessions'),
			number: true,
			value: (d) => known(d.sessions),
			cell: sessionsCell
		},
		{
			id: 'remarks',
			title: 'Remarks',
			unsorted: true,
			from: 'hidden xl:table-cell',
			value: () => undefined,
			cell: remarks
		}
	]);
</script>

{#snippet nameCell(d: Database)}
	<div class="flex max-w-52 items-center gap-2 sm:max-w-80">
		<a class="link-plain mono truncate" href={to.database(table.server, d.name)} title={d.name}>{visible(d.name)}</a>
		{#if table.fresh.has(d.name)}<span class="badge badge-success badge-sm">new</span>{/if}
		{#if d.system}<span class="badge badge-ghost badge-sm">system</span>{/if}
		{#if d.properties.is_template}<span class="badge badge-outline badge-sm">template</span>{/if}
		{#if d.closed}<span class="badge badge-outline badge-sm">closed</span>{/if}
		{#if d.trouble}<span class="badge badge-warning badge-sm" title={d.trouble}>trouble</span>{/if}
	</div>
{/snippet}
{#snippet sizeCell(d: Database)}{size(d.size)}{/snippet}
{#snippet tablesCell(d: Database)}<span title={d.tables === 0 ? 'empty: nothing has been installed in it' : undefined}
		>{count(d.tables)}</span
	>{/snippet}
{#snippet sessionsCell(d: Database)}{count(d.sessions)}{#if typeof d.properties.connection_limit === 'number'}<span
			class="quiet">&nbsp;of {d.properties.connection_limit}</span
		>{/if}{/snippet}
{#snippet remarks(d: Database)}<span class="quiet block max-w-72 truncate text-sm" title={d.comment}
		>{d.trouble || d.comment}</span
	>{/snippet}

<DataTable
	label="Databases"
	rows={table.rows}
	{columns}
	key={(d) => d.name}
	{order}
	{onorder}
	look={(d) => ({ class: table.fresh.has(d.name) ? 'fresh' : '', 'data-database': d.name })}
/>

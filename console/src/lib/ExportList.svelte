<script lang="ts">
	import { api, problemOf, type Export, type Problem } from './api';
	import DataTable, { type Column } from './DataTable.svelte';
	import ErrorPanel from './ErrorPanel.svelte';
	import { size, visible } from './format';
	import { live } from './live.svelte';
	import { session } from './session.svelte';
	import When from './When.svelte';
	import { to } from '../router';

	/** Databases that were exported before they were dropped, if there are any. */
	let list = $state.raw<Export[]>([]);
	let problem = $state<Problem | null>(null);
	let going = $state('');

	async function load(): Promise<void> {
		try {
			[list, problem] = [(await api.exports()).exports, null];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	async function remove(x: Export): Promise<void> {
		try {
			await api.removeExport(x.id);
			going = '';
			await load();
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => {
		load();
		return live.watch({ change: (c) => c.ended && load(), resync: load });
	});
	const columns: Column<Export>[] = [
		{ id: 'database', title: 'Database', value: (x) => x.database, cell: name },
		{ id: 'server', title: 'Server', value: (x) => x.server },
		{ id: 'created', title: 'Made', from: 'hidden md:table-cell', value: (x) => x.created, cell: made },
		{ id: 'program', title: 'Written by', from: 'hidden lg:table-cell', value: (x) => x.program },
		{ id: 'until', title: 'Kept until', from: 'hidden sm:table-cell', value: (x) => x.until.slice(0, 10) },
		{ id: 'size', title: 'Size', number: true, value: (x) => x.size, cell: big },
		{ id: 'act', title: 'Take it', value: () => undefined, cell: act }
	];
</script>

{#snippet name(x: Export)}<span class="mono block max-w-48 truncate sm:max-w-64" title={visible(x.database)}
		>{visible(x.database)}</span
	>{/snippet}
{#snippet made(x: Export)}<When at={x.created} />,
	<a class="link-plain" href={to.change(x.change)}>change {x.change}</a>{/snippet}
{#snippet big(x: Export)}{size(x.size)}{/snippet}
{#snippet act(x: Export)}{#if session.may('admin')}<span class="flex flex-wrap gap-x-3">
			<a
				class="link"
				href={`/api/v1/exports/${encodeURIComponent(x.id)}/file`}
				download={x.file}
				title={x.checked.join('; ')}>fetch</a
			>{#if going === x.id}<button class="link text-error" onclick={() => remove(x)}>remove for good</button>
				<button class="link" onclick={() => (going = '')}>keep</button>{:else}<button
					class="link"
					onclick={() => (going = x.id)}>remove …</button
				>{/if}</span
		>{:else}<span class="quiet">admin</span>{/if}{/snippet}

{#if list.length || problem}
	<h2 class="mt-8">Exports</h2>
	<p class="quiet text-sm">What was written to a file before it was dropped for good.</p>
	{#if problem}<ErrorPanel {problem} retry={load} />{/if}
	{#if list.length}<DataTable
			label="Exports"
			rows={list}
			{columns}
			key={(x) => x.id}
			order={{ by: 'created', down: true }}
			onorder={() => {}}
			look={(x) => ({ 'data-export': x.database })}
		/>{/if}
{/if}

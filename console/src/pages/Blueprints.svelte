<script lang="ts">
	import { api, problemOf, type Blueprint, type Problem } from '../lib/api';
	import DataTable, { type Column } from '../lib/DataTable.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { Query } from '../lib/query.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import { to } from '../router';

	const query = new Query({ find: '', by: 'name', down: '' });
	let list = $state.raw<Blueprint[] | null>(null);
	let problem = $state<Problem | null>(null);

	async function load(): Promise<void> {
		try {
			[list, problem] = [(await api.blueprints()).blueprints, null];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => void load());
	const rows = $derived(
		(list ?? []).filter((b) =>
			`${b.name} ${b.title ?? ''} ${b.description ?? ''}`.toLowerCase().includes(query.get('find').toLowerCase())
		)
	);
	const asks = (b: Blueprint) =>
		b.parameters.map((p) => p.name + (p.default === null ? '' : `=${p.default}`)).join(', ');
	const columns: Column<Blueprint>[] = [
		{ id: 'name', title: 'Blueprint', value: (b) => b.name, cell: name },
		{ id: 'title', title: 'What it makes', value: (b) => b.title ?? '' },
		{ id: 'version', title: 'Version', number: true, value: (b) => b.version },
		{ id: 'for', title: 'For', from: 'hidden sm:table-cell', value: (b) => b.environments.join(', ') || 'everywhere' },
		{ id: 'rule', title: 'Database', from: 'hidden md:table-cell', value: (b) => b.name_rule ?? '' },
		{ id: 'asks', title: 'Asks for', from: 'hidden lg:table-cell', value: asks },
		{ id: 'operator', title: 'By', from: 'hidden lg:table-cell', value: (b) => b.operator }
	];
</script>

{#snippet name(b: Blueprint)}<a class="link-plain mono" href={to.blueprint(b.name)}>{b.name}</a>{/snippet}

<svelte:head><title>Blueprints · Genarch</title></svelte:head>

<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<div class="flex flex-wrap items-end justify-between gap-3">
		<h1>Blueprints</h1>
		{#if session.may('admin')}<a class="btn btn-sm" href={to.newBlueprint}>New blueprint</a>{/if}
	</div>
	<p class="quiet text-sm">Recipes for databases: a name rule, options by engine, a team's accounts.</p>
	{#if problem}<ErrorPanel {problem} retry={load} />{/if}
	{#if !list && !problem}<Skeleton label="Reading the blueprints" />{/if}
	{#if list && !list.length}<p class="mt-4">There are no blueprints yet.</p>{/if}
	{#if list?.length}<label class="mt-3 mb-2 flex items-center gap-2"
			><span class="label-text">Find</span><input
				class="input input-sm w-48 sm:w-64"
				type="search"
				placeholder="name or what it makes"
				bind:value={() => query.get('find'), (find) => query.set({ find })}
			/></label
		>
		<DataTable
			label="Blueprints"
			{rows}
			{columns}
			key={(b) => b.name}
			order={{ by: query.get('by'), down: query.get('down') === 'yes' }}
			onorder={(o) => query.set({ by: o.by, down: o.down ? 'yes' : '' })}
			look={(b) => ({ 'data-blueprint': b.name })}
		/>{/if}
</section>

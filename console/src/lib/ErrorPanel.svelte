<script lang="ts">
	import Actions from './Actions.svelte';
	import type { Problem } from './api';

	type Props = { problem: Problem; retry?: () => void };
	let { problem, retry }: Props = $props();
</script>

<div role="alert" class="border-error bg-base-200 my-3 max-w-3xl rounded-box border-l-4 px-4 py-3">
	<p class="font-semibold">{problem.detail}</p>
	{#if problem.known && problem.found}
		<dl class="mono mt-2 grid grid-cols-[auto_1fr] gap-x-3 break-all">
			<dt class="quiet">known</dt>
			<dd>
				{problem.known.key}
				{Object.entries(problem.known.marks ?? {})
					.map(([k, v]) => `${k}=${v}`)
					.join(' ')}
			</dd>
			<dt class="quiet">found</dt>
			<dd>
				{problem.found.key}
				{Object.entries(problem.found.marks ?? {})
					.map(([k, v]) => `${k}=${v}`)
					.join(' ')}
			</dd>
		</dl>
	{/if}
	{#if problem.differences?.length}
		<ul class="mt-1 list-disc pl-5">
			{#each problem.differences as d (d)}<li>{d}</li>{/each}
		</ul>
	{/if}
	{#if problem.next}<p class="quiet mt-1">Next: {problem.next}</p>{/if}
	<Actions actions={problem.actions} />
	{#if problem.engine_code}<p class="quiet mono mt-1">engine code {problem.engine_code}</p>{/if}
	{#if retry}<button class="btn btn-sm mt-2" onclick={retry}>Read again</button>{/if}
</div>

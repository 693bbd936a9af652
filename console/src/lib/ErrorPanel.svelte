<script lang="ts">
	import Actions from './Actions.svelte';
	import { problemOf, type Problem } from './api';
	import { session } from './session.svelte';

	type Props = { problem: Problem; retry?: () => void };
	let { problem, retry }: Props = $props();

	/** Some acts ask for a password that was given a short while ago: it is given here, and the act repeated. */
	let password = $state('');
	let wrong = $state('');
	async function again(e: SubmitEvent): Promise<void> {
		e.preventDefault();
		try {
			await session.signIn(session.name, password);
			wrong = '';
			retry?.();
		} catch (err) {
			wrong = problemOf(err).detail;
		} finally {
			password = '';
		}
	}
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
	{#if problem.code === 'sign_in.stale' && retry}
		<form class="mt-2 flex flex-wrap items-end gap-2" onsubmit={again}>
			<label class="flex flex-col gap-1"
				><span class="label-text">Your password, {session.name}</span><input
					class="input input-sm"
					type="password"
					name="stale_password"
					autocomplete="current-password"
					required
					bind:value={password}
				/></label
			>
			<button class="btn btn-sm btn-primary">Go on</button>
			<span class="text-error text-sm" role="status">{wrong}</span>
		</form>
	{:else if retry}<button class="btn btn-sm mt-2" onclick={retry}>Read again</button>{/if}
</div>

<script lang="ts">
	import { api, problemOf, type Handover, type Problem } from '../lib/api';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import { visible } from '../lib/format';
	import HandoverSheet from '../lib/HandoverSheet.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import { param, to } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	let sheet = $state.raw<Handover | null>(null);
	let problem = $state<Problem | null>(null);

	async function load(): Promise<void> {
		try {
			[sheet, problem] = [await api.handover(server, database), null];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => {
		void [server, database];
		sheet = null;
		load();
	});
</script>

<svelte:head><title>Handover of {database} · {server} · Genarch</title></svelte:head>

<EnvironmentBanner {server} />
<section class="mx-auto max-w-6xl px-4 py-4 sm:px-6">
	<h1 class="break-words">
		Handover of <a class="link-plain mono" href={to.database(server, database)}>{visible(database)}</a>
	</h1>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !sheet}<Skeleton rows={6} label="Reading who uses it" />
	{:else}
		<p class="quiet text-sm">
			For the team that uses it, without passwords; those are shown once, when they are made. Read <When
				at={sheet.read}
			/>{#if sheet.change}, made by <a class="link-plain" href={to.change(sheet.change)}>change {sheet.change}</a>{/if}.
		</p>
		<HandoverSheet {sheet} />
	{/if}
</section>

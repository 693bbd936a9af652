<script lang="ts">
	import { engines } from '../lib/engines.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import Facts from '../lib/Facts.svelte';
	import { OneDatabase } from '../lib/oneDatabase.svelte';
	import { registered } from '../lib/registered.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import { visible } from '../lib/format';
	import When from '../lib/When.svelte';
	import { param, to } from '../router';

	const server = $derived(param('server'));
	const name = $derived(param('database'));
	const engine = $derived(engines.get(registered.get(server)?.engine));
	const one = $derived(new OneDatabase(server, name));
	$effect(() => one.follow());
	const d = $derived(one.database);
</script>

<svelte:head><title>Properties of {name} · {server} · Genarch</title></svelte:head>

<EnvironmentBanner {server} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<div class="flex flex-wrap items-end justify-between gap-3">
		<h1 class="break-all">Properties of <span class="mono">{visible(name)}</span></h1>
		{#if session.may('request') && d && !d.system && !d.broken}<a class="btn btn-sm" href={to.alter(server, name)}
				>Alter …</a
			>{/if}
	</div>
	{#if one.problem}<ErrorPanel problem={one.problem} retry={() => one.load()} />
	{:else if !d}<Skeleton label="Reading the database" />
	{:else}
		<p class="quiet mb-2 text-sm">read <When at={one.read} /></p>
		<div class="max-w-3xl"><Facts facts={one.properties(engine)} /></div>
	{/if}
</section>

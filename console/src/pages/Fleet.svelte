<script lang="ts">
	import { engines } from '../lib/engines.svelte';
	import { SvelteMap } from 'svelte/reactivity';
	import { api, problemOf, type Problem, type Server, type Status } from '../lib/api';
	import { live } from '../lib/live.svelte';
	import { count, identityText, size } from '../lib/format';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import { to } from '../router';

	let servers = $state<Server[] | null>(null);
	let problem = $state<Problem | null>(null);
	const status = new SvelteMap<string, Status>();

	const environments = ['production', 'staging', 'development'] as const;
	const answered = $derived(
		servers?.filter((s) => status.get(s.name)?.reachable && !status.get(s.name)?.trouble).length ?? 0
	);
	const asked = $derived(servers?.filter((s) => status.has(s.name)).length ?? 0);

	/** Each server is read by itself, so that one that hangs holds nothing up. */
	async function load(): Promise<void> {
		try {
			servers = await api.servers();
			problem = null;
			await Promise.all(servers.map((s) => read(s.name)));
		} catch (e) {
			problem = problemOf(e);
		}
	}

	async function read(name: string): Promise<void> {
		try {
			const s = await api.server(name);
			if (s.status) status.set(name, s.status);
		} catch (e) {
			status.set(name, {
				reachable: false,
				trouble: problemOf(e),
				sessions: 0,
				sessions_allowed: 0,
				databases: 0,
				size: 0,
				encrypted: false,
				read: new Date().toISOString()
			});
		}
	}

	$effect(() => {
		load();
		const timer = setInterval(() => document.visibilityState === 'visible' && load(), 20000);
		const stop = live.watch({ server: () => load(), database: (name) => read(name), resync: () => load() });
		return () => {
			clearInterval(timer);
			stop();
		};
	});
</script>

<svelte:head><title>Fleet · Genarch</title></svelte:head>

<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<div class="flex flex-wrap items-baseline gap-x-4">
		<h1>Fleet</h1>
		{#if servers}
			<p class="quiet" role="status">
				{asked < servers.length
					? `asking ${servers.length} servers …`
					: `${answered} of ${servers.length} servers answered`}
			</p>
		{/if}
	</div>
	{#if problem}<ErrorPanel {problem} retry={load} />{/if}
	{#if !servers && !problem}<Skeleton label="Reading the fleet" />{/if}
	{#if servers?.length === 0}
		<div class="max-w-2xl py-6">
			<p>No servers are registered yet. In a terminal:</p>
			<pre class="sql mt-2">genarch server add harbour --engine {engines.all[0]?.id ??
					'ENGINE'} --host db1.example.net --admin genarch --environment production</pre>
		</div>
	{/if}
	{#each environments as environment (environment)}
		{@const group = servers?.filter((s) => s.environment === environment) ?? []}
		{#if group.length}
			<div class="border-base-300 mt-5 overflow-hidden rounded-box border">
				<h2 class="band band-{environment}"><span class="band-word">{environment}</span></h2>
				<div class="overflow-x-auto px-3 sm:px-4">
					<table class="ledger table-auto md:table-fixed">
						<thead
							><tr>
								<th scope="col" class="md:w-36">Server</th><th scope="col" class="hidden md:table-cell md:w-44"
									>Engine</th
								>
								<th scope="col" class="num md:w-24">Databases</th><th scope="col" class="num md:w-32">Sessions</th><th
									scope="col"
									class="num hidden sm:table-cell md:w-28">Size</th
								>
								<th scope="col" class="hidden pl-6! lg:table-cell">Instance</th><th
									scope="col"
									class="hidden sm:table-cell md:w-28">Read</th
								>
							</tr></thead
						>
						<tbody>
							{#each group as s (s.name)}
								{@const st = status.get(s.name)}
								<tr data-server={s.name}>
									<td
										><a class="link-plain font-semibold" href={to.server(s.name)}>{s.name}</a>
										<div class="quiet text-sm md:hidden">{engines.title(s.engine)} {st?.version ?? ''}</div></td
									>
									<td class="hidden md:table-cell"
										>{engines.title(s.engine)} <span class="mono">{st?.version ?? ''}</span></td
									>
									{#if !st}
										<td colspan="5" class="quiet"><span class="appear-late">asking …</span></td>
									{:else if st.trouble}
										<td colspan="5" class="py-1!">
											<strong class="text-error">Does not answer as it should:</strong>
											{st.trouble.detail}
											{#if st.trouble.next}<div class="quiet text-sm">Next: {st.trouble.next}</div>{/if}
										</td>
									{:else}
										<td class="num">{count(st.databases)}</td>
										<td class="num">{count(st.sessions)} <span class="quiet">of {count(st.sessions_allowed)}</span></td>
										<td class="num hidden sm:table-cell">{size(st.size)}</td>
										<td class="mono quiet hidden truncate pl-6! lg:table-cell" title={identityText(st.identity)}
											>{identityText(st.identity)}</td
										>
										<td class="quiet hidden text-sm sm:table-cell"
											><When at={st.read} />{#if st.read_only}<div>{st.read_only}</div>{/if}</td
										>
									{/if}
								</tr>
							{/each}
						</tbody>
					</table>
				</div>
			</div>
		{/if}
	{/each}
</section>

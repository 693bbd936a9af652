<script lang="ts">
	import { SvelteMap } from 'svelte/reactivity';
	import { api, problemOf, type Attention, type Problem, type Server, type Status } from '../lib/api';
	import AttentionList from '../lib/AttentionList.svelte';
	import { engines } from '../lib/engines.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { count, size } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import { trend } from '../lib/plots';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import When from '../lib/When.svelte';
	import { to } from '../router';

	let servers = $state<Server[] | null>(null);
	let problem = $state<Problem | null>(null);
	let attention = $state.raw<Attention | null>(null);
	let unseen = $state<Problem | null>(null);
	const status = new SvelteMap<string, Status>();
	const Trend = $derived(attention ? trend() : null);

	const environments = ['production', 'staging', 'development'] as const;
	const answered = $derived(
		servers?.filter((s) => status.get(s.name)?.reachable && !status.get(s.name)?.trouble).length ?? 0
	);
	const asked = $derived(servers?.filter((s) => status.has(s.name)).length ?? 0);
	const dayOf = (name: string) => attention?.trends.find((t) => t.address === name);

	/** Each server is read by itself, so that one that hangs holds nothing up. */
	async function load(): Promise<void> {
		try {
			servers = await api.servers();
			problem = null;
			await Promise.all([look(), ...servers.map((s) => read(s.name))]);
		} catch (e) {
			problem = problemOf(e);
		}
	}

	/** What needs a look takes longer to find than what each server says of itself. */
	async function look(): Promise<void> {
		try {
			[attention, unseen] = [await api.attention(), null];
		} catch (e) {
			unseen = problemOf(e);
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
		const stop = live.watch({
			server: () => load(),
			database: (name) => read(name),
			change: (c) => ['waiting', 'stuck', 'running', 'declined', 'withdrawn'].includes(c.state) && look(),
			resync: () => load()
		});
		return () => {
			clearInterval(timer);
			stop();
		};
	});
</script>

<svelte:head><title>Fleet · Genarch</title></svelte:head>

<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<div class="flex flex-wrap items-baseline justify-between gap-x-4 gap-y-2">
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
		{#if session.may('admin')}<a class="btn btn-sm" href="/new-server">Register a server</a>{/if}
	</div>
	{#if problem}<ErrorPanel {problem} retry={load} />{/if}
	{#if !servers && !problem}<Skeleton label="Reading the fleet" />{/if}
	{#if servers?.length === 0}
		<p class="py-6">
			No servers are registered yet. {#if session.may('admin')}<a class="link-plain" href="/new-server"
					>Register the first one.</a
				>{:else}An operator with the permission admin can register one.{/if}
		</p>
	{/if}
	{#if unseen}<ErrorPanel problem={unseen} retry={look} />
	{:else if servers?.length}<AttentionList {attention} />{/if}
	{#each environments as environment (environment)}
		{@const group = servers?.filter((s) => s.environment === environment) ?? []}
		{#if group.length}
			<div class="border-base-300 mt-5 overflow-hidden rounded-box border">
				<h2 class="band band-{environment}"><span class="band-word">{environment}</span></h2>
				<div class="overflow-x-auto px-3 sm:px-4">
					<table class="ledger table-auto md:table-fixed">
						<thead
							><tr>
								<th scope="col" class="md:w-36">Server</th><th scope="col" class="hidden md:table-cell md:w-40"
									>Engine</th
								>
								<th scope="col" class="num md:w-24">Databases</th><th scope="col" class="num md:w-28">Sessions</th><th
									scope="col"
									class="hidden lg:table-cell lg:w-28">Last day</th
								><th scope="col" class="num hidden sm:table-cell md:w-24">Size</th><th
									scope="col"
									class="hidden lg:table-cell lg:w-28">Last day</th
								>
								<th scope="col" class="hidden sm:table-cell">Read</th>
							</tr></thead
						>
						<tbody>
							{#each group as s (s.name)}
								{@const st = status.get(s.name)}
								{@const day = dayOf(s.name)}
								<tr data-server={s.name}>
									<td
										><a class="link-plain font-semibold" href={to.server(s.name)}>{s.name}</a>
										<div class="quiet text-sm md:hidden">{engines.title(s.engine)} {st?.version ?? ''}</div></td
									>
									<td class="hidden md:table-cell"
										>{engines.title(s.engine)} <span class="mono">{st?.version ?? ''}</span></td
									>
									{#if !st}
										<td colspan="6" class="quiet"><span class="appear-late">asking …</span></td>
									{:else if st.trouble}
										<td colspan="6" class="py-1!">
											<strong>Does not answer as it should:</strong>
											{st.trouble.detail}
											<a class="link-plain" href={to.settings(s.name)}>Settings of {s.name}</a>
										</td>
									{:else}
										<td class="num">{count(st.databases)}</td>
										<td class="num">{count(st.sessions)} <span class="quiet">of {count(st.sessions_allowed)}</span></td>
										<td class="hidden lg:table-cell"
											>{#if day && Trend}{#await Trend then { default: Line }}<Line
														history={day}
														value="sessions"
														title="Sessions"
														text={count}
													/>{/await}{/if}</td
										>
										<td class="num hidden sm:table-cell">{size(st.size)}</td>
										<td class="hidden lg:table-cell"
											>{#if day && Trend}{#await Trend then { default: Line }}<Line
														history={day}
														value="size"
														title="Size"
														text={size}
													/>{/await}{/if}</td
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

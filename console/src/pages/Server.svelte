<script lang="ts">
	import { api, problemOf, type Problem, type Server } from '../lib/api';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import DatabaseRows from '../lib/DatabaseRows.svelte';
	import { DatabaseTable } from '../lib/databases.svelte';
	import { engines } from '../lib/engines.svelte';
	import { count, identityText, size } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import { Query } from '../lib/query.svelte';
	import { registered } from '../lib/registered.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import { param, to } from '../router';

	const name = $derived(param('server'));
	let server = $state<Server | null>(null);
	let problem = $state<Problem | null>(null);
	const known = $derived(registered.get(name));
	const query = new Query({ find: '', by: 'name', down: '', system: '' });
	const table = $derived(
		new DatabaseTable(
			name,
			() => query.get('find'),
			() => query.get('system') === 'yes'
		)
	);
	const order = $derived({ by: query.get('by'), down: query.get('down') === 'yes' });

	async function readServer(): Promise<void> {
		const wanted = name;
		try {
			const read = await api.server(wanted);
			if (wanted === name) [server, problem] = [read, null];
		} catch (e) {
			if (wanted === name) problem = problemOf(e);
		}
	}

	function load(): void {
		readServer();
		if (!problem) table.load();
	}

	$effect(() => {
		const t = table;
		server = null;
		t.system(); // reading both kinds anew when the box is ticked
		t.load();
		readServer();
		// Databases come and go without Genarch too; large lists less often.
		const pause = () => ((t.list?.total ?? 0) > 2000 ? 60000 : 10000);
		let timer = setTimeout(tick, pause());
		function tick(): void {
			if (document.visibilityState === 'visible') load();
			timer = setTimeout(tick, pause());
		}
		const stop = live.watch({
			database: (on) => on === t.server && t.load(),
			server: (on) => on === t.server && readServer(),
			resync: load
		});
		return () => {
			clearTimeout(timer);
			stop();
		};
	});
	const status = $derived(server?.status);
</script>

<svelte:head><title>{name} · Genarch</title></svelte:head>

<EnvironmentBanner server={name} version={status?.version}
	>{#if known}<span class="mono">{known.host}{known.port ? `:${known.port}` : ''}</span>{/if}</EnvironmentBanner
>
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	{#each known?.cautions ?? [] as text (text)}<p
			class="border-warning bg-base-200 rounded-box mb-3 max-w-3xl border-l-4 px-4 py-2"
		>
			{text}
		</p>{/each}
	{#if problem}
		<h1>{name}</h1>
		<ErrorPanel {problem} retry={load} />
	{:else}
		<div class="flex flex-wrap items-end justify-between gap-3">
			<div class="min-w-0">
				<h1 class="break-words">{name}</h1>
				{#if !status}
					<p class="text-sm" role="status"><span class="quiet appear-late">asking …</span>&nbsp;</p>
					<p class="mono" aria-hidden="true">&nbsp;</p>
				{:else if status.reachable}
					<p class="quiet text-sm">
						{count(status.databases)} databases, {size(status.size)} · {count(status.sessions)} of {count(
							status.sessions_allowed
						)} sessions · TLS {server?.tls} · read <When at={table.list?.read ?? status.read} />
					</p>
					<p class="quiet mono break-all">{identityText(status.identity)}</p>
				{/if}
			</div>
			<div class="flex flex-wrap gap-2">
				{#if session.may('request')}<a class="btn btn-primary btn-sm" href={to.newDatabase(name)}
						>New database on {name}</a
					>{/if}
			</div>
		</div>
		{#if status?.read_only}<p class="border-warning bg-base-200 mt-3 max-w-3xl rounded-box border-l-4 px-4 py-2">
				Nothing can be altered here: {status.read_only}
			</p>{/if}
		{#if status?.trouble}<ErrorPanel problem={status.trouble} retry={load} />{/if}
		{#if !status?.trouble}
			<div class="mt-4 mb-1 flex flex-wrap items-center gap-x-4 gap-y-2">
				<label class="flex items-center gap-2"
					><span class="label-text">Find</span>
					<input
						class="input input-sm w-48 sm:w-64"
						type="search"
						placeholder="name, owner or comment"
						bind:value={() => query.get('find'), (find) => query.set({ find })}
					/></label
				>
				<label class="flex items-center gap-2 text-sm"
					><input
						class="checkbox checkbox-sm"
						type="checkbox"
						bind:checked={() => query.get('system') === 'yes', (on) => query.set({ system: on ? 'yes' : '' })}
					/> the engine's own too</label
				>
				{#if table.list?.set_aside}<a class="link-plain text-sm" href={to.holdings(name)}
						>{count(table.list.set_aside)} set aside</a
					>{/if}
				{#if table.list}<span class="quiet text-sm" role="status"
						>{query.get('find') ? `${count(table.rows.length)} of ${count(table.list.total)}` : count(table.list.total)} shown</span
					>{/if}
			</div>
			{#each table.list?.partial ?? [] as p (p)}<p class="border-warning bg-base-200 my-2 border-l-4 px-3 py-1 text-sm">
					Partial: {p}
				</p>{/each}
			{#if table.problem}<ErrorPanel problem={table.problem} retry={load} />
			{:else if !table.list}<Skeleton rows={8} label="Reading the databases" />
			{:else if table.list.total === 0}
				<p class="py-6">
					{name} has no databases yet besides the engine's own. {#if session.may('request')}<a
							class="link-plain"
							href={to.newDatabase(name)}>Create the first one.</a
						>{/if}
				</p>
			{:else if table.rows.length === 0}
				<p class="py-6">
					Nothing fits “{query.get('find')}”.
					<button class="link" onclick={() => query.set({ find: '' })}>Show all</button>
				</p>
			{:else}<DatabaseRows
					{table}
					engine={engines.get(known?.engine)}
					{order}
					onorder={(o) => query.set({ by: o.by, down: o.down ? 'yes' : '' })}
				/>{/if}
		{/if}
	{/if}
</section>

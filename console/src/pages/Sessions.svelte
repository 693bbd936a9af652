<script lang="ts">
	import { ChangeForm } from '../lib/changeForm.svelte';
	import { engines } from '../lib/engines.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import { codeWords, count, visible } from '../lib/format';
	import { session } from '../lib/session.svelte';
	import SessionChart from '../lib/SessionChart.svelte';
	import SessionDetail from '../lib/SessionDetail.svelte';
	import SessionRows from '../lib/SessionRows.svelte';
	import { classes, Sessions } from '../lib/sessions.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import WaitTree from '../lib/WaitTree.svelte';
	import When from '../lib/When.svelte';
	import { param, to } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const sessions = $derived(new Sessions(server, database));
	const form = $derived(new ChangeForm(server));
	$effect(() => {
		void sessions.all; // reading anew when the box is ticked
		return sessions.watch();
	});

	const list = $derived(sessions.list);
	const there = $derived(classes.filter((c) => list?.sessions.some((s) => s.class === c)));
	const end = (statement_only: boolean) =>
		form.ask({ kind: 'session.end', server, sessions: { ids: [...sessions.chosen], statement_only } });
</script>

<svelte:head><title>Sessions of {database || server} · Genarch</title></svelte:head>

<EnvironmentBanner {server}
	>{#if database}<a class="mono underline underline-offset-2 break-all" href={to.database(server, database)}
			>{visible(database)}</a
		>{/if}</EnvironmentBanner
>
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<h1 class="break-words">
		Sessions of {#if database}<span class="mono">{visible(database)}</span>{:else}{server}{/if}
	</h1>
	{#if list}<p class="quiet text-sm">
			{count(list.total)} of {count(list.all)} on the server, which takes {count(list.allowed)} · read <When
				at={list.read}
			/>, again every 2 s{#if database}{' '}· <a class="link-plain" href={to.sessions(server)}>all of {server}</a>{/if}
		</p>{/if}
	{#if sessions.history && !database}<div class="mt-3"><SessionChart history={sessions.history} /></div>{/if}
	{#if sessions.problem}<ErrorPanel problem={sessions.problem} retry={() => sessions.load()} />{/if}
	{#if list}
		{#each list.prepared as p (p.name)}<p
				class="border-warning bg-base-200 mt-3 max-w-3xl rounded-box border-l-4 px-4 py-2"
			>
				A prepared transaction belongs to no session and waits for its second phase: <span class="mono break-all"
					>{visible(p.name)}</span
				>
				{visible(p.database ?? '')}
			</p>{/each}
		{#if list.waits.length}<h2 class="mt-5 mb-1">Who blocks whom</h2>
			<WaitTree {list} onpick={(id) => (sessions.shown = id)} />{/if}
		<div class="mt-5 mb-1 flex flex-wrap items-center gap-x-4 gap-y-2">
			<label class="flex items-center gap-2"
				><span class="label-text">Find</span>
				<input
					class="input input-sm w-44 sm:w-60"
					type="search"
					placeholder="account, program, client, statement"
					bind:value={sessions.search}
				/></label
			>
			<label class="flex items-center gap-2"
				><span class="label-text">Class</span>
				<select class="select select-sm w-40" name="class" bind:value={sessions.only}
					><option value="">all of them</option>{#each there as c (c)}<option value={c}>{codeWords(c)}</option
						>{/each}</select
				></label
			>
			<label class="flex items-center gap-2 text-sm"
				><input class="checkbox checkbox-sm" type="checkbox" bind:checked={sessions.all} /> the engine's own and Genarch's
				too</label
			>
			<span class="quiet text-sm" role="status">{count(sessions.rows.length)} shown</span>
		</div>
		{#if session.may('request')}
			<div class="my-2 flex min-h-8 flex-wrap items-center gap-3">
				{#if !engines.get(form.server?.engine)?.endings.statement?.why}<button
						class="btn btn-sm"
						disabled={!sessions.chosen.size || form.busy}
						onclick={() => end(true)}>Stop the statements of {sessions.chosen.size || 'those chosen'} …</button
					>{/if}
				<button class="btn btn-sm" disabled={!sessions.chosen.size || form.busy} onclick={() => end(false)}
					>End {sessions.chosen.size
						? sessions.chosen.size === 1
							? '1 session'
							: `${sessions.chosen.size} sessions`
						: 'those chosen'} …</button
				>
				<span class="quiet text-sm">Each shows its brief first: who they are and what they would lose.</span>
			</div>
			{#if form.refused}<ErrorPanel problem={form.refused} />{/if}
		{/if}
		{#if list.total === 0}<p class="py-6">Nobody is connected{database ? ` to ${visible(database)}` : ''} just now.</p>
		{:else if sessions.rows.length === 0}<p class="py-6">
				No session fits. <button class="link" onclick={() => ([sessions.search, sessions.only] = ['', ''])}
					>Show all</button
				>
			</p>
		{:else}<SessionRows {sessions} selectable={session.may('request')} />{/if}
		{#if sessions.detail}<SessionDetail
				session={sessions.detail}
				read={list.read}
				onclose={() => (sessions.shown = '')}
			/>
		{:else if sessions.shown}<p class="quiet mt-3" role="status">That session is gone.</p>{/if}
		<details class="quiet mt-4 text-sm">
			<summary class="cursor-pointer">What is not shown here</summary>
			<ul class="list-disc pl-5">
				{#each list.unseen as u (u)}<li>{u}</li>{/each}
			</ul>
		</details>
	{:else if !sessions.problem}<Skeleton rows={8} label="Reading the sessions" />{/if}
</section>

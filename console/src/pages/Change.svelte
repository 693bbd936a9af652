<script lang="ts">
	import { provideActing } from '../lib/acting';
	import Actions from '../lib/Actions.svelte';
	import { withOption } from '../lib/actions';
	import { api, problemOf, type Action, type Change, type Handover, type Problem } from '../lib/api';
	import AffectedList from '../lib/AffectedList.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ClearingPanel from '../lib/ClearingPanel.svelte';
	import Figures from '../lib/Figures.svelte';
	import Findings from '../lib/Findings.svelte';
	import { count, exact, took, visible } from '../lib/format';
	import { live } from '../lib/live.svelte';
	import NextFill from '../lib/NextFill.svelte';
	import HandoverSheet from '../lib/HandoverSheet.svelte';
	import { session } from '../lib/session.svelte';
	import SettingsTable from '../lib/SettingsTable.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import State from '../lib/State.svelte';
	import Timeline from '../lib/Timeline.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';
	import { go, param, to } from '../router';

	const id = $derived(Number(param('id')));
	let change = $state.raw<Change | null>(null);
	let problem = $state<Problem | null>(null);
	let acted = $state<Problem | null>(null);
	let accepted = $state<string[]>([]);
	let busy = $state(false);
	let copied = $state('');
	let typed = $state('');
	let reason = $state('');
	let sheet = $state.raw<Handover | null>(null);

	const brief = $derived(change?.brief);
	const cautions = $derived([...new Set(brief?.findings.filter((f) => f.level === 'caution').map((f) => f.code))]);
	const open = $derived(change?.state === 'draft' || change?.state === 'waiting' || change?.state === 'ready');
	const ready = $derived(
		open &&
			!brief?.stopped &&
			cautions.every((c) => accepted.includes(c)) &&
			(!brief?.confirm || typed === brief.confirm)
	);
	/** Nothing brings back what it takes away. */
	const final = $derived(!brief?.impact?.kept_until);
	/** The database that there is to be looked at afterwards, under the name that it then has. */
	const database = $derived.by(() => {
		if (change?.kind === 'database.rename')
			return change.brief.settings.find((s) => s.name === 'new_name')?.value ?? '';
		if (change?.kind === 'holding.bring_back' && !change.asked.holding?.account)
			return change.brief.settings.find((s) => s.name === 'name')?.value ?? '';
		return change?.kind === 'database.create' || change?.kind === 'database.alter'
			? change.target.slice(change.server.length + 1).replace(/^database:/, '')
			: '';
	});
	const clearing = $derived(brief?.steps.find((s) => s.clearing));
	/** The gate that the change closes: what its step and the one that opens it say. */
	const gate = $derived.by((): 'open' | 'closed' | 'none' => {
		const close = brief?.steps.find((s) => s.kind === 'close_gate');
		if (!close) return 'none';
		const opened = brief?.steps.some((s) => s.kind === 'open_gate' && s.status === 'done');
		return close.status === 'done' && !opened && !(change?.state === 'done') ? 'closed' : 'open';
	});
	const act = $derived(brief ? brief.summary.charAt(0).toUpperCase() + brief.summary.slice(1) : '');

	let reading = false;
	let again = false;
	/** Reads the change; what moves meanwhile has it read once more, however often it moved. */
	async function load(): Promise<void> {
		if (reading) {
			again = true;
			return;
		}
		reading = true;
		do {
			again = false;
			try {
				[change, problem] = [await api.change(id), null];
			} catch (e) {
				problem = problemOf(e);
			}
		} while (again);
		reading = false;
	}

	$effect(() => {
		const wanted = id;
		[change, acted, accepted, typed, reason, sheet] = [null, null, [], '', '', null];
		load();
		const stop = live.watch({ change: (c) => c.id === wanted && load(), resync: load });
		// Should the stream be away while the change runs.
		const timer = setInterval(() => change?.state === 'running' && !live.connected && load(), 2000);
		return () => {
			stop();
			clearInterval(timer);
		};
	});

	async function run(): Promise<void> {
		if (!change || !ready || busy) return;
		[busy, acted] = [true, null];
		try {
			const now = await api.run(change.id, change.brief.fingerprint, accepted, typed || undefined);
			if (change?.state !== 'done') change = now.ended || !change?.ended ? now : change;
			await load();
			scrollTo({ top: 0 }); // how it goes is shown at the top
		} catch (e) {
			acted = problemOf(e);
			await load();
		} finally {
			busy = false;
		}
	}

	/** Does one thing to the change as it is, and shows what became of it. */
	async function move(act: (id: number) => Promise<Change>): Promise<void> {
		if (!change) return;
		try {
			[change, acted] = [await act(change.id), null];
		} catch (e) {
			acted = problemOf(e);
		}
	}
	const withdraw = () => move(api.withdraw);

	/** Options that findings name are set by asking once more; a password that was given is not known any more. */
	provideActing({
		here: () => change?.target ?? '',
		can: (a) => !!a.value && change?.asked.account?.password_from !== 'given' && session.may('request'),
		set: askWith
	});
	async function askWith(a: Action): Promise<void> {
		if (!change || busy) return;
		busy = true;
		try {
			const next = await api.ask(withOption(change.asked, a.option ?? '', a.value ?? ''));
			if (open) await api.withdraw(change.id);
			go(to.change(next.id));
		} catch (e) {
			acted = problemOf(e);
		} finally {
			busy = false;
		}
	}

	async function reveal(): Promise<void> {
		if (!change) return;
		try {
			[sheet, acted] = [await api.passwords(change.id), null];
			await load();
		} catch (e) {
			acted = problemOf(e);
		}
	}

	async function copyScript(): Promise<void> {
		try {
			await navigator.clipboard.writeText(await api.script(id));
			copied = 'Copied.';
		} catch {
			copied = 'The browser did not allow copying.';
		}
	}
</script>

<svelte:head><title>Change {id} · Genarch</title></svelte:head>

<EnvironmentBanner server={change?.server ?? ''}
	>{#if change?.target !== change?.server}<span class="mono break-all">{visible(change?.target ?? '')}</span
		>{/if}</EnvironmentBanner
>
<section class="mx-auto max-w-6xl px-4 py-4 sm:px-6">
	{#if problem}<h1>Change {id}</h1>
		<ErrorPanel {problem} retry={load} />
	{:else if !change || !brief}<Skeleton rows={8} label="Reading the change" />
	{:else}
		<div class="flex flex-wrap items-baseline gap-x-4 gap-y-1">
			<h1 class="break-words">{visible(act)}</h1>
			<span id="change-state" data-state={change.state}><State state={change.state} /></span>
		</div>
		<p class="quiet text-sm">
			change {change.id} · asked by {change.operator}
			<When at={change.created} />
			{#if change.run_by}
				· run by {change.run_by}{/if}
			{#if change.started && change.finished}
				· took <span class="mono">{took(change.started, change.finished)}</span>{/if}
		</p>

		{#if change.result && change.ended}
			<div
				class="bg-base-200 rounded-box my-4 border-l-4 px-4 py-3 {change.state === 'done'
					? 'border-success'
					: change.state === 'withdrawn'
						? 'border-base-300'
						: 'border-error'}"
				role="status"
			>
				<p class="font-semibold break-words">{change.result.charAt(0).toUpperCase() + change.result.slice(1)}</p>
				{#if change.failure}
					<p class="mt-1 break-words">
						{change.failure.text}
						{#if change.failure.code}<span class="mono">[{change.failure.code}]</span>{/if}
					</p>
					{#if change.failure.next}<p class="quiet">Next: {change.failure.next}</p>{/if}
					<Actions actions={change.failure.actions} />
				{/if}
				{#if change.pending_passwords.length && change.operator === session.name}
					<p class="mt-2 flex flex-wrap items-center gap-3">
						<button class="btn btn-sm btn-primary" onclick={reveal}>Show the passwords once</button>
						<span class="quiet text-sm">of {change.pending_passwords.join(' and ')}; then they are kept nowhere.</span>
					</p>
				{:else if change.pending_passwords.length}<p class="quiet mt-2 text-sm">
						Its passwords are for {change.operator}, who asked for it.
					</p>{/if}
				{#if database && change.state === 'done'}
					<p class="mt-2 flex flex-wrap gap-4">
						<a class="link-plain" href={to.database(change.server, database)}>Look at {visible(database)}</a>
						<a class="link-plain" href={to.server(change.server)}>All databases of {change.server}</a>
					</p>
				{/if}
			</div>
		{/if}

		{#if clearing && (change.state === 'running' || change.ended)}<ClearingPanel
				{change}
				step={clearing}
				gate={['database.drop', 'database.set_aside', 'account.set_aside', 'account.drop'].includes(change.kind) &&
				change.state === 'done'
					? 'none'
					: gate}
			/>{/if}
		{#if change.state === 'running' && session.may('run')}
			<p class="my-3 flex flex-wrap items-center gap-3">
				{#if change.stop_by}<span class="font-semibold" role="status">Stopping, as {change.stop_by} asked …</span
					>{:else}<button class="btn btn-sm" disabled={!change.stoppable} onclick={() => move(api.stop)}
						>Stop change {change.id}</button
					>
					<span class="quiet text-sm"
						>{change.stoppable && change.kind === 'database.fill'
							? 'It is cut off; what ran in one transaction takes no effect, what ran statement by statement stays.'
							: change.stoppable
								? 'What it did is rolled back, and the gate opens again; sessions that were ended stay ended.'
								: 'What runs now cannot be rolled back; it goes on to its end.'}</span
					>{/if}
			</p>
		{/if}
		{#if change.state === 'waiting'}<p
				class="border-primary bg-base-200 rounded-box my-4 max-w-3xl border-l-4 px-4 py-3"
				role="status"
			>
				It waits for somebody with the permission run. {change.operator} asked for it.
			</p>{/if}
		<NextFill {change} />
		{#if open}<Figures {brief} />{/if}
		{#if sheet}<section class="border-base-300 rounded-box my-4 border px-4 py-3" aria-label="Handover">
				<h2>Handover: keep the passwords now</h2>
				<HandoverSheet {sheet} />
			</section>{/if}
		<div class="mt-4 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,40rem)_minmax(0,1fr)]">
			<div class="min-w-0">
				{#if brief.findings.length && (open || !brief.steps.length)}
					<h2 class="mb-2">What to know</h2>
					<Findings findings={brief.findings} folded={!!brief.impact?.lost} />
				{/if}
				{#if brief.steps.length}
					<h2 class="mb-2 {brief.findings.length && open ? 'mt-5' : ''}">
						{open ? 'What will happen' : change.state === 'running' ? 'What is happening' : 'What happened'}
					</h2>
					<Timeline steps={brief.steps} running={change.state === 'running'} />
				{/if}
				{#if brief.findings.length && !open && brief.steps.length}
					<details class="mt-2">
						<summary class="cursor-pointer font-semibold">What was known before ({brief.findings.length})</summary>
						<div class="mt-2"><Findings findings={brief.findings} /></div>
					</details>
				{/if}
				{#if brief.differences.length}
					<h2 class="mt-5 mb-2">What differs</h2>
					<table class="ledger">
						<thead><tr><th scope="col">Property</th><th scope="col">Asked</th><th scope="col">Is</th></tr></thead>
						<tbody
							>{#each brief.differences as d (d.name)}<tr
									><td>{d.name}</td><td class="mono">{d.asked}</td><td class="mono">{d.actual}</td></tr
								>{/each}</tbody
						>
					</table>
				{/if}

				{#if acted}<ErrorPanel problem={acted} />
					{#if acted.change}<button
							class="btn btn-primary btn-sm"
							onclick={() => acted?.change && go(to.change(acted.change.id))}>Read the new brief</button
						>{/if}
				{/if}
				{#if open && !brief.stopped && session.may('run')}
					<form class="border-base-300 mt-4 border-t pt-4" onsubmit={(e) => (e.preventDefault(), run())}>
						{#each cautions as code (code)}
							<label class="mb-2 flex items-start gap-2"
								><input class="checkbox checkbox-sm mt-0.5" type="checkbox" value={code} bind:group={accepted} />
								<span>I have read and accept the caution <span class="mono">{code}</span></span></label
							>
						{/each}
						{#if brief.findings.some((f) => f.code === 'work.lost')}<p class="mb-2 font-semibold">
								Work that is not committed will be lost.
							</p>{/if}
						{#if brief.confirm}<label class="mb-3 flex flex-col gap-1"
								><span
									>{final ? 'This is final. ' : ''}Type <strong class="mono break-all">{visible(brief.confirm)}</strong> to
									confirm.</span
								><input
									name="confirm"
									class="input mono w-full max-w-md"
									autocomplete="off"
									autocapitalize="none"
									spellcheck="false"
									bind:value={typed}
								/></label
							>{/if}
						<div class="flex flex-wrap gap-2">
							<button
								class="btn {brief.confirm && final ? 'btn-error' : 'btn-primary'} h-auto min-h-10 py-1 break-all"
								disabled={!ready || busy}>{visible(act)}</button
							>
							<button type="button" class="btn btn-ghost" onclick={withdraw}>Withdraw</button>
						</div>
						{#if change.state === 'waiting'}<div class="mt-4 flex flex-wrap items-end gap-2">
								<label class="flex flex-col gap-1"
									><span class="label-text">Or decline it, because</span><input
										name="reason"
										class="input input-sm w-72"
										bind:value={reason}
									/></label
								><button
									type="button"
									class="btn btn-sm"
									disabled={!reason}
									onclick={() => move((n) => api.decline(n, reason))}>Decline</button
								>
							</div>{/if}
						{#if cautions.length && !ready}<p class="quiet mt-1 text-sm">Accept each caution first.</p>{/if}
					</form>
				{:else if open && brief.stopped}
					<p class="mt-4 flex flex-wrap gap-3">
						{#if change.kind === 'database.create'}<a
								class="btn btn-sm btn-primary"
								href={to.newDatabase(change.server)}>Ask anew</a
							>{/if} <button class="btn btn-sm btn-ghost" onclick={withdraw}>Withdraw</button>
					</p>
				{:else if change.state === 'draft' && change.operator === session.name}
					<div class="border-base-300 mt-4 border-t pt-4">
						<p class="quiet mb-2">You may ask for this; somebody with the permission run lets it run.</p>
						<div class="flex flex-wrap gap-2">
							<button class="btn btn-primary" onclick={() => move(api.submit)}>Ask for it</button><button
								class="btn btn-ghost"
								onclick={withdraw}>Withdraw</button
							>
						</div>
					</div>
				{:else if open}<p class="quiet mt-4">
						You may ask, not run: somebody with the permission run has to let it run.
					</p>{/if}
			</div>
			<aside class="min-w-0">
				{#if brief.affected.length}<h2 class="mb-1">
						{open ? 'Connected at present' : 'Connected at the time of the brief'}: {count(brief.affected_all)}
					</h2>
					<div class="mb-5"><AffectedList {brief} /></div>{/if}
				{#if brief.settings.length}<h2 class="mb-1">
						{open ? (change.kind.endsWith('.create') ? 'What it will be' : 'As asked') : 'What was settled'}
					</h2>
					<SettingsTable settings={brief.settings} />{/if}
				<h2 class="mt-5 mb-1">Made from</h2>
				<p class="text-sm">
					A reading of <span class="mono break-all">{brief.identity}</span>
					<span class="quiet"
						>at {exact(brief.read)}. It is read again before anything runs; if something that matters differs, nothing
						runs.</span
					>
				</p>
				<p class="mt-3 flex flex-wrap items-center gap-3">
					<button class="btn btn-sm" onclick={copyScript}>Copy as script</button>
					<span class="quiet text-sm" role="status">{copied}</span>
				</p>
			</aside>
		</div>
	{/if}
</section>

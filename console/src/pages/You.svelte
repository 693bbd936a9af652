<script lang="ts">
	import { api, problemOf, type ConsoleSession, type Problem } from '../lib/api';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import When from '../lib/When.svelte';

	let sessions = $state.raw<ConsoleSession[] | null>(null);
	let problem = $state<Problem | null>(null);
	let old = $state('');
	let fresh = $state('');
	let again = $state('');
	let refused = $state<Problem | null>(null);
	let busy = $state(false);
	let done = $state('');
	const differs = $derived(again !== '' && again !== fresh);

	async function load(): Promise<void> {
		try {
			sessions = await api.ownSessions();
			problem = null;
		} catch (e) {
			problem = problemOf(e);
		}
	}

	async function setPassword(e: SubmitEvent): Promise<void> {
		e.preventDefault();
		if (busy || differs) return;
		[busy, refused, done] = [true, null, ''];
		try {
			await api.setPassword(old, fresh);
			done = 'Your password is another one. Everything else that was signed in with the old one has ended.';
			old = fresh = again = '';
			await load();
		} catch (err) {
			refused = problemOf(err);
		} finally {
			busy = false;
		}
	}

	async function endOthers(): Promise<void> {
		try {
			await api.endOtherSessions();
			await load();
		} catch (e) {
			problem = problemOf(e);
		}
	}

	load();
</script>

<svelte:head><title>{session.name} · Genarch</title></svelte:head>

<section class="mx-auto max-w-6xl px-4 py-5 sm:px-6">
	<div class="flex flex-wrap items-baseline justify-between gap-3">
		<h1>{session.name}</h1>
		<button class="btn btn-sm" onclick={() => session.signOut()}>Sign out</button>
	</div>
	<p class="quiet">may {session.current?.operator.permissions.join(', ')}</p>
	<div class="mt-5 grid gap-x-12 gap-y-8 lg:grid-cols-[minmax(0,24rem)_minmax(0,1fr)]">
		<form class="flex flex-col gap-3" onsubmit={setPassword}>
			<h2>Your password</h2>
			<input type="text" name="username" autocomplete="username" value={session.name} hidden readonly />
			<label class="flex flex-col gap-1"
				><span class="label-text">The present one</span>
				<input
					class="input w-full"
					type="password"
					name="old"
					autocomplete="current-password"
					required
					bind:value={old}
				/></label
			>
			<label class="flex flex-col gap-1"
				><span class="label-text">The new one</span>
				<input
					class="input w-full"
					type="password"
					name="new"
					autocomplete="new-password"
					minlength="12"
					required
					bind:value={fresh}
				/></label
			>
			<label class="flex flex-col gap-1"
				><span class="label-text">The new one once more</span>
				<input
					class="input w-full"
					type="password"
					name="again"
					autocomplete="new-password"
					required
					bind:value={again}
					aria-invalid={differs}
					aria-describedby="differs"
				/></label
			>
			<p id="differs" class="text-error text-sm" role="status">{differs ? 'It differs from the one above.' : ''}</p>
			<div><button class="btn btn-primary" disabled={busy || differs}>Set the password</button></div>
			{#if refused}<ErrorPanel problem={refused} />{/if}
			<p role="status">{done}</p>
		</form>
		<div class="min-w-0">
			<div class="flex flex-wrap items-baseline justify-between gap-2">
				<h2>Where you are signed in</h2>
				{#if sessions && sessions.length > 1}<button class="btn btn-sm" onclick={endOthers}
						>Sign out everywhere else</button
					>{/if}
			</div>
			{#if problem}<ErrorPanel {problem} retry={load} />
			{:else if !sessions}<Skeleton rows={3} label="Reading your sessions" />
			{:else}
				<table class="ledger mt-2">
					<thead><tr><th scope="col">From</th><th scope="col">Signed in</th><th scope="col">Last used</th></tr></thead>
					<tbody>
						{#each sessions as s (s.id)}
							<tr
								><td class="mono"
									>{s.address}{#if s.current}{' '}<span class="quiet">this one</span>{/if}</td
								><td><When at={s.created} /></td><td><When at={s.used} /></td></tr
							>
						{/each}
					</tbody>
				</table>
			{/if}
		</div>
	</div>
</section>

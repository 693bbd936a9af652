<script lang="ts">
	import { problemOf, type Problem } from '../lib/api';
	import { session } from '../lib/session.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';

	let name = $state('');
	let password = $state('');
	let busy = $state(false);
	let problem = $state<Problem | null>(null);

	async function submit(e: SubmitEvent): Promise<void> {
		e.preventDefault();
		if (busy) return;
		busy = true;
		problem = null;
		try {
			await session.signIn(name, password);
		} catch (err) {
			problem = problemOf(err);
			password = '';
		} finally {
			busy = false;
		}
	}
</script>

<svelte:head><title>Sign in · Genarch</title></svelte:head>

<main class="mx-auto flex min-h-dvh max-w-sm flex-col justify-center px-6 pb-24">
	<h1 class="mb-1 text-3xl font-bold tracking-tight">Genarch</h1>
	<p class="quiet mb-6">looks after databases on shared servers</p>
	<form onsubmit={submit} class="flex flex-col gap-3">
		<label class="flex flex-col gap-1"
			><span class="label-text">Name</span>
			<input
				class="input w-full"
				name="name"
				autocomplete="username"
				autocapitalize="none"
				spellcheck="false"
				required
				bind:value={name}
			/></label
		>
		<label class="flex flex-col gap-1"
			><span class="label-text">Password</span>
			<input
				class="input w-full"
				name="password"
				type="password"
				autocomplete="current-password"
				required
				bind:value={password}
			/></label
		>
		<button class="btn btn-primary mt-2" disabled={busy}>Sign in</button>
	</form>
	{#if problem}<ErrorPanel {problem} />{/if}
</main>

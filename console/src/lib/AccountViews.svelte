<script lang="ts">
	import { session } from './session.svelte';
	import { route, to } from '../router';

	/** The head of a server's accounts: the two ways to look at them, and what can be made. */
	type Props = { server: string; title: string };
	let { server, title }: Props = $props();
	const views = $derived([
		{ title: 'List', address: to.accounts(server) },
		{ title: 'Who has what', address: to.access(server) }
	]);
</script>

<div class="flex flex-wrap items-end justify-between gap-3">
	<div class="flex flex-wrap items-baseline gap-x-4">
		<h1>{title} on {server}</h1>
		<nav class="flex gap-x-1 text-sm" aria-label="Views of the accounts">
			{#each views as v (v.address)}{@const current = route.pathname === v.address}<a
					href={v.address}
					aria-current={current ? 'page' : undefined}
					class="hover:bg-base-200 rounded-field px-2 py-1 {current
						? 'font-semibold underline decoration-2 underline-offset-8'
						: 'quiet'}">{v.title}</a
				>{/each}
		</nav>
	</div>
	{#if session.may('request')}<div class="flex gap-2">
			<a class="btn btn-sm" href={to.newGrant(server)}>Grant or revoke privileges</a><a
				class="btn btn-primary btn-sm"
				href={to.newAccount(server)}>New account on {server}</a
			>
		</div>{/if}
</div>

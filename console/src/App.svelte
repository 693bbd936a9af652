<script lang="ts">
	import LogOut from '@lucide/svelte/icons/log-out';
	import Moon from '@lucide/svelte/icons/moon';
	import Search from '@lucide/svelte/icons/search';
	import Sun from '@lucide/svelte/icons/sun';
	import UserRound from '@lucide/svelte/icons/user-round';
	import { live } from './lib/live.svelte';
	import Palette from './lib/Palette.svelte';
	import { engines } from './lib/engines.svelte';
	import { registered } from './lib/registered.svelte';
	import { session } from './lib/session.svelte';
	import { theme } from './lib/theme.svelte';
	import ErrorPanel from './lib/ErrorPanel.svelte';
	import When from './lib/When.svelte';
	import SignIn from './pages/SignIn.svelte';
	import { route, Router } from './router';

	let palette = $state<Palette>();
	const places = $derived([
		{ address: '/', title: 'Fleet' },
		{ address: '/changes', title: 'Changes' },
		{ address: '/holdings', title: 'Holding' },
		{ address: '/blueprints', title: 'Blueprints' },
		{ address: '/journal', title: 'Journal' },
		...(session.may('admin') ? [{ address: '/operators', title: 'Operators' }] : [])
	]);
	const here = (address: string) =>
		address === '/'
			? route.pathname === '/' || route.pathname.startsWith('/servers')
			: route.pathname.startsWith(address);

	session.load();
	$effect(() => {
		if (session.current) {
			live.open();
			registered.open();
			// A page that cannot do without asks again, and says what went wrong.
			engines.load().catch(() => {});
		} else {
			live.close();
			registered.close();
		}
	});

	function onkeydown(e: KeyboardEvent): void {
		const typing = e.target instanceof HTMLElement && e.target.closest('input, textarea, select');
		if (session.current && ((e.key === '/' && !typing) || (e.key === 'k' && (e.metaKey || e.ctrlKey)))) {
			e.preventDefault();
			palette?.open();
		}
	}
</script>

<svelte:window {onkeydown} />

{#if session.problem && !session.known}
	<main class="mx-auto max-w-3xl p-6"><ErrorPanel problem={session.problem} retry={() => session.load()} /></main>
{:else if !session.known}
	<main class="p-6" aria-busy="true"></main>
{:else if !session.current}
	<SignIn />
{:else}
	<a href="#main" class="sr-only focus:not-sr-only">Skip to the page</a>
	<header class="border-base-300 flex flex-wrap items-center gap-x-1 gap-y-1 border-b px-3 py-2 sm:gap-x-5 sm:px-6">
		<a href="/" class="text-lg font-bold tracking-tight">Genarch</a>
		<nav class="flex flex-wrap max-sm:text-sm sm:gap-1" aria-label="Places">
			{#each places as place (place.address)}
				<a
					href={place.address}
					aria-current={here(place.address) ? 'page' : undefined}
					class="hover:bg-base-200 rounded-field px-1 py-1 sm:px-2 {here(place.address)
						? 'font-semibold underline decoration-2 underline-offset-8'
						: ''}">{place.title}</a
				>
			{/each}
		</nav>
		<div class="ml-auto flex items-center sm:gap-1">
			{#if live.lost}<span role="status" class="badge badge-warning">connection lost, trying again</span>{/if}
			<button
				class="btn btn-ghost btn-sm max-sm:btn-square"
				onclick={() => palette?.open()}
				aria-label="Go to a server, database or page"
				><Search size={16} aria-hidden="true" /> <kbd class="kbd kbd-xs hidden sm:inline-flex">/</kbd></button
			>
			<button
				class="btn btn-ghost btn-sm btn-square"
				onclick={() => theme.toggle()}
				aria-label={theme.current === 'day' ? 'Dark colours' : 'Light colours'}
			>
				{#if theme.current === 'day'}<Moon size={16} aria-hidden="true" />{:else}<Sun
						size={16}
						aria-hidden="true"
					/>{/if}
			</button>
			<a
				class="btn btn-ghost btn-sm max-sm:btn-square font-normal"
				href="/you"
				aria-label="{session.name}: your password and sessions"
				><UserRound size={16} aria-hidden="true" /><span class="quiet hidden text-sm sm:inline">{session.name}</span></a
			>
			<button
				class="btn btn-ghost btn-sm btn-square max-sm:hidden"
				onclick={() => session.signOut()}
				aria-label="Sign out {session.name}"><LogOut size={16} aria-hidden="true" /></button
			>
		</div>
	</header>
	{#each session.current.notices ?? [] as notice (notice.at + notice.text)}
		<p class="border-warning bg-base-200 flex flex-wrap items-baseline gap-3 border-l-4 px-4 py-2" role="alert">
			<span>{notice.text} (<When at={notice.at} />)</span>
			<button class="btn btn-xs" onclick={() => session.heard(notice)}>I have read it</button>
		</p>
	{/each}
	<main id="main" tabindex="-1" class="focus:outline-none"><Router /></main>
	<Palette bind:this={palette} />
{/if}

<script lang="ts">
	import { route } from '../router';
</script>

<svelte:head><title>Nothing here · Genarch</title></svelte:head>

<section class="mx-auto max-w-3xl px-6 py-8">
	<h1>There is nothing at this address</h1>
	<p class="mt-2">
		<span class="mono break-all">{route.pathname}</span> may have been mistyped.
		<a class="link-plain" href="/">Go to the fleet</a>, or press <kbd class="kbd kbd-sm">/</kbd> to search.
	</p>
</section>

<script lang="ts">
	import { clock } from './clock.svelte';
	import { ago, exact } from './format';

	type Props = { at: string };
	let { at }: Props = $props();
</script>

<time datetime={at} title={exact(at)} class="whitespace-nowrap">{ago(at, clock.now)}</time>

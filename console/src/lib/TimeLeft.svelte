<script lang="ts">
	import type { Holding } from './api';

	/** The day until which something is kept, with a bar of the time that is left of it. */
	type Props = { holding: Holding };
	let { holding: h }: Props = $props();
	const day = 24 * 60 * 60 * 1000;
	const whole = $derived(Math.max(1, (Date.parse(h.until) - Date.parse(h.since)) / day));
	const left = $derived(Math.max(0, Math.ceil((Date.parse(h.until) - Date.now()) / day)));
	const share = $derived(Math.min(100, (100 * left) / whole));
</script>

<span class="inline-flex items-center gap-3 whitespace-nowrap">
	<span class="num">{h.until}</span>
	<span class="bg-base-300 hidden h-1.5 w-20 sm:inline-block" aria-hidden="true"
		><span class="bg-primary block h-full" style:width="{share}%"></span></span
	>
	<span class="text-sm {h.due ? 'font-semibold' : 'quiet'}"
		>{h.due ? 'over' : left === 0 ? 'today' : left === 1 ? '1 day' : `${left} days`}</span
	>
</span>

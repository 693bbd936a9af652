<script lang="ts">
	import { scaleLinear } from 'd3-scale';
	import { line } from 'd3-shape';
	import type { History } from './api';

	/** A small line of the last day; what it tells is said in words beside it for those who do not see it. */
	type Props = { history: History; value: 'sessions' | 'size'; title: string; text: (n: number) => string };
	let { history, value, title, text }: Props = $props();

	const [width, height] = [88, 18];
	const points = $derived(history.points.map((p) => (p.missing ? null : (p[value] ?? null))));
	const known = $derived(points.filter((n) => n !== null));
	const [least, most] = $derived([value === 'sessions' ? 0 : Math.min(...known), Math.max(...known)]);
	const x = $derived(scaleLinear([0, Math.max(1, points.length - 1)], [1, width - 1]));
	const y = $derived(scaleLinear([least, most > least ? most : least + 1], [height - 2, 2]));
	const path = $derived(
		line<number | null>()
			.defined((n) => n !== null)
			.x((_, i) => x(i))
			.y((n) => y(n ?? 0))(points) ?? ''
	);
</script>

{#if known.length > 1}
	<svg
		viewBox="0 0 {width} {height}"
		class="inline-block h-[18px] w-[88px] align-middle"
		role="img"
		aria-label="{title} of the last day: lowest {text(Math.min(...known))}, highest {text(most)}, last {text(
			known.at(-1) ?? 0
		)}"><path d={path} class="stroke-primary fill-none" stroke-width="1.5" /></svg
	>
{/if}

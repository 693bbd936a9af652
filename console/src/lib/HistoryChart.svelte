<script lang="ts">
	import { scaleLinear, scaleTime } from 'd3-scale';
	import { area, curveStepAfter, line } from 'd3-shape';
	import type { History } from './api';
	import { exact } from './format';

	/** One figure over time: gaps where nothing is known, read by pointer and keyboard, and as a table. */
	type Props = { title: string; history: History; value: 'sessions' | 'size'; text: (n: number) => string };
	let { title, history, value, text }: Props = $props();

	const [width, height, left, foot] = [720, 170, 64, 20];
	let at = $state<number | null>(null);
	let shown = $state(false);

	type Spot = { at: Date; n: number | null };
	const spots = $derived(
		history.points.map((p): Spot => ({ at: new Date(p.at), n: p.missing ? null : (p[value] ?? null) }))
	);
	const known = $derived(spots.flatMap((s) => (s.n === null ? [] : [s.n])));
	const last = $derived(known.at(-1));
	const [least, most] = $derived([Math.min(...known), Math.max(...known)]);
	const x = $derived(scaleTime([new Date(history.from), new Date(history.until)], [left, width]));
	/** Sessions begin at nought; of a size its growth is what matters. */
	const y = $derived(
		scaleLinear(
			value === 'sessions' ? [0, Math.max(4, most)] : most > least ? [least, most] : [least * 0.9, most * 1.1 + 1],
			[height - foot, 8]
		).nice(4)
	);
	const marks = $derived(y.ticks(4).filter((m) => value !== 'sessions' || Number.isInteger(m)));
	const times = $derived(x.ticks(7));
	const clock = $derived(x.tickFormat(7));
	const path = $derived(
		line<Spot>()
			.defined((s) => s.n !== null)
			.x((s) => x(s.at))
			.y((s) => y(s.n ?? 0))
			.curve(curveStepAfter)(spots) ?? ''
	);
	const under = $derived(
		area<Spot>()
			.defined((s) => s.n !== null)
			.x((s) => x(s.at))
			.y0(height - foot)
			.y1((s) => y(s.n ?? 0))
			.curve(curveStepAfter)(spots) ?? ''
	);
	const read = $derived(at === null ? undefined : spots[at]);
	const said = (s: Spot) => `${exact(s.at.toISOString())}: ${s.n === null ? 'not known' : text(s.n)}`;

	function move(e: PointerEvent & { currentTarget: SVGSVGElement }): void {
		const box = e.currentTarget.getBoundingClientRect();
		const when = +x.invert(((e.clientX - box.left) / box.width) * width);
		const i = Math.floor((when - +new Date(history.from)) / (history.seconds * 1000));
		at = Math.max(0, Math.min(spots.length - 1, i));
	}
	function keys(e: KeyboardEvent): void {
		const big = Math.max(1, Math.round(spots.length / 24));
		const from = at ?? spots.length - 1;
		const to = {
			ArrowLeft: from - 1,
			ArrowRight: from + 1,
			PageUp: from - big,
			PageDown: from + big,
			Home: 0,
			End: spots.length - 1
		}[e.key];
		if (to === undefined) return;
		e.preventDefault();
		at = Math.max(0, Math.min(spots.length - 1, to));
	}
</script>

<figure class="my-2" data-chart={value}>
	<figcaption class="flex flex-wrap justify-between gap-x-4">
		<h3 class="font-semibold">{title}</h3>
		<span class="quiet text-sm" role="status"
			>{#if read}{said(read)}{:else if last !== undefined}lowest {text(least)}, highest {text(most)}, last {text(
					last
				)}{/if}</span
		>
	</figcaption>
	{#if last === undefined}<p class="quiet py-4">Nothing is known of that time.</p>
	{:else}
		<svg
			viewBox="0 0 {width} {height}"
			class="w-full"
			tabindex="0"
			role="slider"
			aria-label={title}
			aria-valuemin={0}
			aria-valuemax={spots.length - 1}
			aria-valuenow={at ?? spots.length - 1}
			aria-valuetext={read ? said(read) : `highest ${text(most)}, last ${text(last)}`}
			onpointermove={move}
			onpointerleave={() => (at = null)}
			onkeydown={keys}
		>
			{#each marks as m (m)}
				<path d="M{left},{y(m)}H{width}" class="stroke-base-300" />
				<text x={left - 6} y={y(m) + 4} text-anchor="end" class="fill-base-content text-[11px]">{text(m)}</text>
			{/each}
			{#each times as t (+t)}<text x={x(t)} y={height - 4} text-anchor="middle" class="fill-base-content text-[11px]"
					>{clock(t)}</text
				>{/each}
			<path d={under} class="fill-primary/20" />
			<path d={path} class="stroke-primary fill-none" stroke-width="1.5" vector-effect="non-scaling-stroke" />
			{#if read && read.n !== null}
				<path d="M{x(read.at)},0V{height - foot}" class="stroke-base-content/50" />
				<circle cx={x(read.at)} cy={y(read.n)} r="3" class="fill-primary" />
			{/if}
		</svg>
		<button class="link text-sm" aria-expanded={shown} onclick={() => (shown = !shown)}>As a table</button>
		{#if shown}<div class="max-h-60 overflow-auto">
				<table class="ledger">
					<thead><tr><th scope="col">From</th><th scope="col" class="num">{title}</th></tr></thead>
					<tbody>
						{#each spots.filter((_, i) => i % Math.ceil(spots.length / 48) === 0) as s (+s.at)}<tr
								><td class="mono">{exact(s.at.toISOString())}</td><td class="num">{s.n === null ? '' : text(s.n)}</td
								></tr
							>{/each}
					</tbody>
				</table>
			</div>{/if}
	{/if}
</figure>

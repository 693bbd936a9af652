<script lang="ts">
	import type { Change, Step } from './api';
	import ClassWord from './ClassWord.svelte';
	import { clock } from './clock.svelte';
	import { count, visible } from './format';

	/** A clearing as it goes: how many are left over time, the gate, the countdown, who remains. */
	type Props = { change: Change; step: Step; gate: 'open' | 'closed' | 'none' };
	let { change, step, gate }: Props = $props();

	const c = $derived(step.clearing!);
	const going = $derived(step.status === 'begun');
	const [width, height] = [600, 84];
	const points = $derived(c.series);
	const most = $derived(Math.max(1, ...points.map((p) => p.left)));
	const length = $derived(
		Math.max(
			1000,
			points.at(-1)?.at ?? 0,
			c.grace_ends ? new Date(c.grace_ends).getTime() - new Date(c.began).getTime() : 0
		)
	);
	const x = (at: number) => (at / length) * width;
	const y = (n: number) => height - 2 - (n / most) * (height - 10);
	/** A staircase: between two looks nothing is known to have changed. */
	const line = $derived(
		points
			.map((p, i) =>
				i ? `H${x(p.at).toFixed(1)}V${y(p.left).toFixed(1)}` : `M${x(p.at).toFixed(1)},${y(p.left).toFixed(1)}`
			)
			.join('')
	);
	const left = $derived(
		c.grace_ends ? Math.max(0, Math.ceil((new Date(c.grace_ends).getTime() - clock.fine) / 1000)) : 0
	);
	const words: Record<string, string> = {
		waiting: 'Work may finish',
		ending: 'Sessions are being ended',
		cleared: 'Nobody is left',
		given_up: 'Given up'
	};
	$effect(() => (going ? clock.tick() : undefined));
</script>

<section class="border-base-300 rounded-box my-4 border px-4 py-3" aria-label="Clearing" data-phase={c.phase}>
	<div class="flex flex-wrap items-baseline gap-x-6 gap-y-1">
		<h2>{words[c.phase] ?? c.phase}</h2>
		<p>
			<span class="mono text-lg font-semibold" data-left={c.left}>{c.left < 0 ? '?' : count(c.left)}</span>
			<span class="quiet">left of {count(c.found)}</span>
		</p>
		{#if c.phase === 'waiting' && going}<p role="timer">
				<span class="mono text-lg font-semibold">{left}</span>
				<span class="quiet"
					>s until {change.brief.steps.some((s) => s.statement && s === step) ? 'they are ended' : 'it gives up'}</span
				>
			</p>{/if}
		<p class="quiet">
			{count(c.ended)} ended · {count(c.gone)} left by themselves{#if c.came}
				· {count(c.came)} came meanwhile{/if}
		</p>
		{#if gate !== 'none'}<p class="font-semibold" data-gate={gate}>
				{gate === 'closed' ? 'Gate closed: nobody new gets in' : 'Gate open'}
			</p>{/if}
	</div>
	<svg
		viewBox="0 0 {width} {height}"
		class="border-base-300 mt-2 h-20 w-full border-b"
		preserveAspectRatio="none"
		role="img"
		aria-label="Sessions over {(length / 1000).toFixed(0)} seconds, from {count(c.found)} to {count(c.left)}"
	>
		{#if c.grace_ends}<rect
				x="0"
				y="0"
				width={x(Math.min(length, new Date(c.grace_ends).getTime() - new Date(c.began).getTime()))}
				{height}
				class="fill-base-200"
			/>{/if}
		<path d={line} fill="none" class="stroke-primary" stroke-width="2" vector-effect="non-scaling-stroke" />
	</svg>
	<p class="quiet flex justify-between text-sm">
		<span>0 s</span><span>{(length / 1000).toFixed(length < 10000 ? 1 : 0)} s</span>
	</p>
	{#if c.who.length && c.phase !== 'cleared'}
		<ul class="mt-2" aria-label="Who remains">
			{#each c.who as w (w.id)}<li class="border-base-300/60 flex flex-wrap gap-x-4 border-b py-1">
					<span class="mono w-28 truncate" title={w.id}>{w.id.split('-')[0]}</span><span class="w-36"
						><ClassWord value={w.class} /></span
					><span class="mono break-all"
						>{visible([w.account, w.application, w.client].filter(Boolean).join(' · '))}</span
					>{#if w.progress}<span class="font-semibold">{w.progress}</span>{/if}
				</li>{/each}
		</ul>
		{#if c.left > c.who.length}<p class="quiet text-sm">and {count(c.left - c.who.length)} more</p>{/if}
	{/if}
	{#if c.returned.length}<details class="mt-2 text-sm" open={!going}>
			<summary class="cursor-pointer font-semibold"
				>{count(c.returned.length)} came back although the gate was closed</summary
			>
			<ul class="list-disc pl-5">
				{#each c.returned as r, i (i)}<li class="break-all">{visible(r)}</li>{/each}
			</ul>
		</details>{/if}
	{#if c.ended_who.length && !going}<details class="mt-2 text-sm">
			<summary class="cursor-pointer">{count(c.ended)} were ended</summary>
			<ul class="list-disc pl-5">
				{#each c.ended_who as r, i (i)}<li class="break-all">{visible(r)}</li>{/each}
			</ul>
		</details>{/if}
</section>

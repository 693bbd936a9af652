<script lang="ts">
	import type { SessionHistory } from './api';
	import { count } from './format';

	/** The sessions of the last hour, stacked: idle at the bottom, open transactions, busy on top. */
	type Props = { history: SessionHistory };
	let { history }: Props = $props();

	const [width, height] = [720, 96];
	const samples = $derived(history.samples);
	const last = $derived(samples.at(-1));
	const until = $derived(last ? new Date(last.at).getTime() : 0);
	/** From the first sample on, ten minutes at least and an hour at most. */
	const reach = $derived(Math.min(3_600_000, Math.max(600_000, until - new Date(samples[0]?.at ?? 0).getTime())));
	const most = $derived(Math.max(4, ...samples.map((s) => s.idle + s.open + s.busy)));
	const x = (at: string) => width - ((until - new Date(at).getTime()) / reach) * width;
	const y = (n: number) => height - (n / most) * (height - 6);
	/** The area between two sums; a server that did not answer leaves a gap. */
	function area(low: (s: (typeof samples)[number]) => number, high: (s: (typeof samples)[number]) => number): string {
		let path = '';
		let run: typeof samples = [];
		const close = () => {
			if (run.length > 1)
				path += `M${run.map((s) => `${x(s.at).toFixed(1)},${y(high(s)).toFixed(1)}`).join('L')}L${[...run]
					.reverse()
					.map((s) => `${x(s.at).toFixed(1)},${y(low(s)).toFixed(1)}`)
					.join('L')}Z`;
			run = [];
		};
		for (const s of samples) {
			if (s.missing) close();
			else run.push(s);
		}
		close();
		return path;
	}
	const layers = $derived([
		{
			word: 'idle',
			path: area(
				() => 0,
				(s) => s.idle
			),
			fill: 'fill-base-300',
			n: last?.idle
		},
		{
			word: 'in a transaction',
			path: area(
				(s) => s.idle,
				(s) => s.idle + s.open
			),
			fill: 'fill-warning',
			n: last?.open
		},
		{
			word: 'busy',
			path: area(
				(s) => s.idle + s.open,
				(s) => s.idle + s.open + s.busy
			),
			fill: 'fill-primary',
			n: last?.busy
		}
	]);
</script>

<figure class="max-w-3xl">
	{#if samples.length > 1}
		<svg
			viewBox="0 0 {width} {height}"
			class="border-base-300 h-24 w-full border-b"
			preserveAspectRatio="none"
			role="img"
			aria-label="Sessions of the last hour: at most {most}, now {(last?.idle ?? 0) +
				(last?.open ?? 0) +
				(last?.busy ?? 0)}"
		>
			{#each layers as l (l.word)}<path d={l.path} class={l.fill} />{/each}
		</svg>
		<figcaption class="quiet flex flex-wrap justify-between gap-x-4 text-sm">
			<span>{reach === 3_600_000 ? 'an hour' : `${Math.round(reach / 60_000)} min`} ago</span>
			<span class="flex flex-wrap gap-x-4"
				>{#each layers as l (l.word)}<span class="whitespace-nowrap"
						><svg viewBox="0 0 10 10" class="inline-block h-2.5 w-2.5" aria-hidden="true"
							><rect width="10" height="10" class={l.fill} /></svg
						>
						{count(l.n)}
						{l.word}</span
					>{/each}{#if last?.waiting}<span class="font-semibold">{count(last.waiting)} wait for a lock</span>{/if}</span
			>
			<span>now; at most {count(most)}</span>
		</figcaption>
	{:else}<p class="quiet text-sm">
			A picture of the last hour is drawn here once there are some samples, one every {history.seconds} s.
		</p>{/if}
</figure>

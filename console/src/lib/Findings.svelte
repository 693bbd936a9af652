<script lang="ts">
	import type { Finding } from './api';

	type Props = { findings: Finding[]; onsuggest?: (finding: Finding) => void };
	let { findings, onsuggest }: Props = $props();

	const words: Record<string, string> = { stop: 'Stop', caution: 'Caution', note: 'Note' };
	/** What must be dealt with stands in a box of its own; the rest is read in a row. */
	const look: Record<string, string> = {
		stop: 'bg-base-200 rounded-box border-l-4 border-error mb-2 px-3 py-2',
		caution: 'bg-base-200 rounded-box border-l-4 border-warning mb-2 px-3 py-2',
		note: 'border-base-300/60 border-b py-1.5'
	};
	const told = $derived(findings.filter((f) => !f.unseen));
	const unseen = $derived(findings.filter((f) => f.unseen));
</script>

<ul>
	{#each told as f, i (i)}
		{@const again = told[i + 1]?.next === f.next}
		<li class={look[f.level]} data-code={f.code}>
			<p>
				<strong class={f.level === 'stop' ? 'text-error' : f.level === 'note' ? 'sr-only' : ''}>{words[f.level]}:</strong>
				<span class="break-words">{f.text}</span>
			</p>
			{#if f.next && !again}<p class="quiet text-sm break-words">Next: {f.next}</p>{/if}
			{#if f.suggestion && onsuggest && !again}
				<button type="button" class="btn btn-xs btn-outline mt-1" onclick={() => onsuggest(f)}>Use <span class="mono">{f.suggestion}</span></button>
			{/if}
		</li>
	{/each}
</ul>
{#if unseen.length}
	<div class="quiet mt-2 text-sm"><p class="font-semibold">Not visible from here</p>
		<ul class="list-disc pl-4">{#each unseen as f, i (i)}<li class="break-words" data-code={f.code}>{f.text}</li>{/each}</ul></div>
{/if}

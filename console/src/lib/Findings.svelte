<script lang="ts">
	import type { Finding } from './api';

	type Props = { findings: Finding[]; onsuggest?: (finding: Finding) => void };
	let { findings, onsuggest }: Props = $props();

	const words: Record<string, string> = { stop: 'Stop', caution: 'Caution', note: 'Note' };
	const tones: Record<string, string> = {
		stop: 'border-error', caution: 'border-warning', note: 'border-base-300'
	};
</script>

<ul class="flex flex-col gap-2">
	{#each findings as f, i (i)}
		{@const again = findings[i + 1]?.next === f.next}
		<li class="bg-base-200 rounded-box border-l-4 px-3 py-2 {tones[f.level]}" data-code={f.code}>
			<p>
				<strong class={f.level === 'stop' ? 'text-error' : ''}>{words[f.level]}:</strong>
				<span class="break-words">{f.text}</span>
			</p>
			{#if f.next && !again}<p class="quiet text-sm break-words">Next: {f.next}</p>{/if}
			{#if f.suggestion && onsuggest && !again}
				<button type="button" class="btn btn-xs btn-outline mt-1" onclick={() => onsuggest(f)}>Use <span class="mono">{f.suggestion}</span></button>
			{/if}
		</li>
	{/each}
</ul>

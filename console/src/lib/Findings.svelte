<script lang="ts">
	import Actions from './Actions.svelte';
	import type { Finding } from './api';

	/** folded: what it comes to stands above in figures, so notes are folded even where nothing else is said. */
	type Props = { findings: Finding[]; folded?: boolean; onsuggest?: (finding: Finding) => void };
	let { findings, folded = false, onsuggest }: Props = $props();

	const words: Record<string, string> = { stop: 'Stop', caution: 'Caution', note: 'Note' };
	/** What must be dealt with stands in a box of its own; the rest is read in a row. Red is kept for what cannot be undone. */
	const look: Record<string, string> = {
		stop: 'bg-base-200 rounded-box border-l-8 border-base-content mb-2 px-3 py-2',
		caution: 'bg-base-200 rounded-box border-l-4 border-warning mb-2 px-3 py-2',
		note: 'border-base-300/60 border-b py-1.5'
	};
	const marks: Record<string, string> = { stop: '■', caution: '▲', note: '' };
	const urgent = $derived(findings.filter((f) => !f.unseen && f.level !== 'note'));
	const notes = $derived(findings.filter((f) => !f.unseen && f.level === 'note'));
	const unseen = $derived(findings.filter((f) => f.unseen));
</script>

{#snippet list(told: Finding[])}
	<ul>
		{#each told as f, i (i)}
			{@const again = told[i + 1]?.next === f.next}
			<li class={look[f.level]} data-code={f.code}>
				<p>
					{#if marks[f.level]}<span aria-hidden="true">{marks[f.level]}</span>{/if}
					<strong class={f.level === 'note' ? 'sr-only' : ''}>{words[f.level]}:</strong>
					<span class="break-words">{f.text}</span>
				</p>
				{#if f.next && !again}<p class="quiet text-sm break-words">Next: {f.next}</p>{/if}
				{#if f.suggestion && onsuggest && !again}
					<button type="button" class="btn btn-xs btn-outline mt-1" onclick={() => onsuggest(f)}
						>Use <span class="mono">{f.suggestion}</span></button
					>
				{/if}
				{#if !again}<Actions actions={f.actions} />{/if}
			</li>
		{/each}
	</ul>
{/snippet}

{@render list(urgent)}
{#if (urgent.length || folded) && notes.length}
	<details class="mt-1">
		<summary class="cursor-pointer font-semibold">{notes.length === 1 ? '1 note' : `${notes.length} notes`}</summary>
		<div class="mt-1">{@render list(notes)}</div>
	</details>
{:else}{@render list(notes)}{/if}
{#if unseen.length}
	<div class="quiet mt-2 text-sm">
		<p class="font-semibold">Not visible from here</p>
		<ul class="list-disc pl-4">
			{#each unseen as f, i (i)}<li class="break-words" data-code={f.code}>{f.text}</li>{/each}
		</ul>
	</div>
{/if}

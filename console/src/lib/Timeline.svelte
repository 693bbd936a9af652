<script lang="ts">
	import type { Step } from './api';
	import { took, visibleText } from './format';
	import Working from './Working.svelte';

	type Props = { steps: Step[]; running: boolean };
	let { steps, running }: Props = $props();

	const marks: Record<string, string> = {
		planned: '',
		begun: '●',
		unknown: '?',
		done: '✓',
		failed: '✕',
		undone: '↺',
		undoing: '↺',
		undo_failed: '!',
		harmed: '!'
	};
	const words: Record<string, string> = {
		begun: 'running',
		unknown: 'no answer came: looking whether it happened',
		done: 'done',
		failed: 'failed',
		undone: 'rolled back',
		undoing: 'being rolled back',
		undo_failed: 'could not be rolled back',
		harmed: 'failed, and left something altered'
	};
	const latest = $derived(steps.findLast((s) => s.status !== 'planned'));
	const tone = (status: string) =>
		({
			done: 'border-success text-success',
			failed: 'border-error text-error',
			undo_failed: 'border-error text-error',
			harmed: 'border-error text-error',
			begun: 'border-primary text-primary',
			unknown: 'border-warning'
		})[status] ?? 'border-base-300';
</script>

<!-- One line is said aloud, not the whole list at each step. -->
<p class="sr-only" role="status">{running && latest ? `${latest.title}: ${words[latest.status] ?? ''}` : ''}</p>
<ol class="flex flex-col" aria-label="Steps">
	{#each steps as s, i (i)}
		<li class="relative grid grid-cols-[2rem_1fr] gap-x-3 pb-4" data-status={s.status}>
			{#if i < steps.length - 1}<span
					aria-hidden="true"
					class="bg-base-300 absolute top-8 bottom-0 left-[0.9375rem] w-0.5"
				></span>{/if}
			<span
				aria-hidden="true"
				class="bg-base-100 mono flex h-8 w-8 items-center justify-center rounded-full border-2 {tone(s.status)}"
				>{marks[s.status] || i + 1}</span
			>
			<div class="min-w-0 pt-1">
				<p class="flex flex-wrap gap-x-3">
					<span class="font-semibold break-words">{s.title}</span>
					{#if words[s.status]}<span class="quiet">{words[s.status]}{s.probed ? ', found by looking' : ''}</span>{/if}
					{#if s.begun && s.ended && ['done', 'failed', 'harmed'].includes(s.status)}<span class="quiet mono"
							>{took(s.begun, s.ended)}</span
						>{/if}
					{#if s.read_only && s.status === 'planned'}<span class="quiet">only reads</span>{/if}
				</p>
				{#if s.statement}{#if s.kind === 'clear_sessions'}<p class="quiet mt-1 text-sm">
							For each session, by its identity; it cannot be rolled back:
						</p>{/if}
					<pre class="sql mt-1">{visibleText(s.statement)}</pre>{/if}
				{#if s.work && s.status === 'begun'}<Working work={s.work} since={s.begun} />{/if}
				{#if s.clearing && s.status !== 'begun'}<p class="mt-1">
						{s.clearing.ended} ended, {s.clearing.gone} left by themselves, {Math.max(0, s.clearing.left)} left.
					</p>{/if}
				{#if s.undo && (s.status === 'planned' || s.status === 'undone' || s.status === 'undo_failed')}
					{#if s.restores}<details class="quiet mt-1 text-sm">
							<summary class="cursor-pointer"
								>{s.status === 'planned'
									? 'If a later step fails, what was there before is put back'
									: 'What was there before was put back'}</summary
							>
							<pre class="sql mt-1">{visibleText(s.undo)}</pre>
						</details>
					{:else}<p class="quiet mt-1 text-sm break-words">
							{s.status === 'planned' ? 'If a later step fails, rolled back by' : 'Rolled back by'}
							<code class="mono">{visibleText(s.undo)}</code>
						</p>{/if}
				{/if}
				{#each s.messages as m, j (j)}
					{#if m.severity === 'PROOF'}<p class="mt-1 break-words">
							<span class="text-success" aria-hidden="true">✓</span>
							{m.text}
						</p>
					{:else}<p class="mono mt-1 break-words"><span class="quiet">{m.severity} {m.code}</span> {m.text}</p>{/if}
				{/each}
				{#if s.failure}
					<p class="text-error mt-1 break-words">
						{s.failure.text}
						{#if s.failure.code}<span class="mono">[{s.failure.code}]</span>{/if}
					</p>
					{#if s.failure.next}<p class="quiet text-sm">Next: {s.failure.next}</p>{/if}
				{/if}
			</div>
		</li>
	{/each}
</ol>

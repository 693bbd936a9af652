<script lang="ts">
	import type { JournalEntry } from './api';
	import { exact, visible } from './format';

	/** within: it stands under its change, whose subject is said there. */
	type Props = { entry: JournalEntry; within?: boolean };
	let { entry, within = false }: Props = $props();

	/** The detail of an entry in a few words. */
	const brief = $derived.by(() => {
		const d = (entry.detail ?? {}) as Record<string, unknown>;
		const failure = d.failure as { text?: string } | undefined;
		return [
			d.title,
			d.result,
			failure?.text,
			Array.isArray(d.accepted) && d.accepted.length ? `accepted ${d.accepted.join(', ')}` : undefined,
			d.instead_of ? `instead of change ${d.instead_of}` : undefined
		]
			.filter((t) => typeof t === 'string' && t !== '')
			.join(': ');
	});
</script>

<p
	class="flex flex-wrap items-baseline gap-x-3 py-0.5 {within ? 'pl-4 text-sm' : ''}"
	data-entry={entry.seq}
	title={entry.detail ? JSON.stringify(entry.detail) : undefined}
>
	<span class="quiet num w-12 shrink-0 text-right text-sm">{entry.seq}</span>
	<span class="mono quiet whitespace-nowrap">{exact(entry.at)}</span>
	<span>{entry.operator}</span>
	<span class="mono whitespace-nowrap">{entry.action}</span>
	{#if !within}<span class="mono break-all">{visible(entry.subject)}</span>{/if}
	{#if brief}<span class="quiet min-w-0 text-sm break-words">{visible(brief)}</span>{/if}
</p>

<script lang="ts">
	import { codeWords } from './format';

	/** What ending a session would mean, in a word with a sign of its own. */
	type Props = { value: string };
	let { value }: Props = $props();

	const marks: Record<string, string> = {
		idle: '○',
		busy: '●',
		in_transaction: '◐',
		written: '✎',
		ending: '↺',
		hidden: '?',
		backup: '▣',
		replication: '⇄',
		worker: '⚙',
		engine: '⚙',
		own: '◆'
	};
	const tones: Record<string, string> = {
		written: 'font-semibold',
		busy: 'text-primary',
		backup: 'font-semibold',
		replication: 'font-semibold'
	};
</script>

<span class="whitespace-nowrap {tones[value] ?? ''}" data-class={value}
	><span aria-hidden="true" class="inline-block w-4 text-center">{marks[value] ?? ''}</span> {codeWords(value)}</span
>

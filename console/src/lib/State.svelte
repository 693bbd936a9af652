<script lang="ts">
	type Props = { state: string };
	let { state }: Props = $props();

	const marks: Record<string, string> = {
		done: '✓',
		running: '●',
		draft: '○',
		waiting: '◔',
		ready: '◑',
		reverted: '↺',
		stuck: '!',
		declined: '–',
		withdrawn: '–',
		expired: '–'
	};
	const tones: Record<string, string> = {
		done: 'text-success',
		running: 'text-primary',
		reverted: 'text-error',
		stuck: 'text-error'
	};
</script>

<span class="font-semibold whitespace-nowrap {tones[state] ?? ''}"
	><span aria-hidden="true" class="inline-block w-4 text-center">{marks[state] ?? ''}</span> {state}</span
>

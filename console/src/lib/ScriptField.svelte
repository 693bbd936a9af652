<script lang="ts">
	import { problemOf, type Problem } from './api';
	import ErrorPanel from './ErrorPanel.svelte';
	import { count, size, visibleText } from './format';
	import { sendScript, type Script } from './upload';

	/** Takes a script in: a file that is chosen, or dropped here. */
	type Props = {
		server: string;
		script: Script | null;
		file?: File | null;
		/** What is sent at once, and several of them. */
		piece?: string;
		pieces?: string;
	};
	let { server, script = $bindable(), file = null, piece = 'statement', pieces = 'statements' }: Props = $props();

	let sending = $state<File | null>(null);
	let sent = $state(0);
	let over = $state(false);
	let problem = $state<Problem | null>(null);
	let abort: AbortController | null = null;

	async function take(file: File | undefined): Promise<void> {
		if (!file) return;
		abort?.abort();
		const mine = (abort = new AbortController());
		[sending, sent, problem, script] = [file, 0, null, null];
		try {
			script = await sendScript(server, file, (n) => (sent = n), mine.signal);
		} catch (e) {
			if (e instanceof DOMException && e.name === 'AbortError') return;
			problem = problemOf(e);
		} finally {
			if (abort === mine) sending = null;
		}
	}
	$effect(() => {
		if (file) take(file);
	});
	$effect(() => () => abort?.abort());
</script>

<div>
	<span class="label-text" id="script-label">Script</span>
	<label
		class={[
			'rounded-box mt-1 flex min-h-28 cursor-pointer flex-col items-center justify-center gap-1 border-2 border-dashed px-4 py-4 text-center',
			'focus-within:outline-primary focus-within:outline-2',
			over ? 'border-primary bg-base-200' : 'border-base-300'
		]}
		ondragover={(e) => (e.preventDefault(), (over = true))}
		ondragleave={() => (over = false)}
		ondrop={(e) => (e.preventDefault(), (over = false), take(e.dataTransfer?.files[0]))}
	>
		<input
			class="sr-only"
			name="script"
			type="file"
			aria-labelledby="script-label"
			onchange={(e) => take(e.currentTarget.files?.[0])}
		/>
		{#if sending}
			<span class="break-all">Sending {visibleText(sending.name)}</span>
			<progress
				class="progress progress-primary w-full max-w-xs"
				value={sent}
				max={sending.size || 1}
				aria-label="How much was sent"
			></progress>
			<span class="quiet text-sm"
				>{sent < sending.size ? `${size(sent)} of ${size(sending.size)}` : 'Taking it apart …'}</span
			>
		{:else if script}
			<span class="mono font-semibold break-all">{visibleText(script.file)}</span>
			<span class="quiet text-sm"
				>{size(script.size)}, {count(script.lines)}
				{script.lines === 1 ? 'line' : 'lines'}, {count(script.statements)}
				{script.statements === 1 ? piece : pieces}</span
			>
			<span class="quiet text-sm">Drop another file here, or choose one, to run that instead.</span>
		{:else}
			<span>Drop a file of statements here, or <span class="text-primary underline">choose one</span>.</span>
			<span class="quiet text-sm"
				>It is kept encrypted until the change has ended, and for a day at most if none is asked for.</span
			>
		{/if}
	</label>
	{#if problem}<div class="mt-2"><ErrorPanel {problem} /></div>{/if}
</div>

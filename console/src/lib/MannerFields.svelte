<script lang="ts">
	import type { Manner } from './manner.svelte';

	/** refused: what does not run if written work is lost without being accepted. */
	type Props = { manner: Manner; who?: string; gate: string; refused: string };
	let { manner, who = 'Whoever is connected', gate, refused }: Props = $props();
</script>

<fieldset class="flex flex-col gap-2">
	<legend class="label-text mb-1">{who}</legend>
	<label class="flex flex-wrap items-center gap-2"
		><input class="radio radio-sm" type="radio" name="manner" value="end" bind:group={manner.way} /> may finish work for
		<input
			class="input input-sm mono w-20"
			name="grace"
			type="number"
			min="0"
			max="3600"
			aria-label="Seconds of grace"
			bind:value={manner.grace}
			disabled={manner.way !== 'end'}
		/> seconds, then is ended</label
	>
	<label class="flex flex-wrap items-center gap-2"
		><input class="radio radio-sm" type="radio" name="manner" value="wait" bind:group={manner.way} /> is waited for, up
		to
		<input
			class="input input-sm mono w-20"
			name="wait"
			type="number"
			min="1"
			max="720"
			aria-label="Minutes to wait"
			bind:value={manner.wait}
			disabled={manner.way !== 'wait'}
		/> minutes; nobody is ended</label
	>
	<p class="quiet text-sm">
		{gate} Written work that is not committed is a caution that you accept, or {refused} does not run.
	</p>
</fieldset>

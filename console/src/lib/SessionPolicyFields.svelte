<script lang="ts">
	import type { SessionPolicy } from './sessionPolicy.svelte';

	/** refused: what does not run if written work is lost without being accepted. */
	type Props = { policy: SessionPolicy; who?: string; gate: string; refused: string };
	let { policy, who = 'Whoever is connected', gate, refused }: Props = $props();
</script>

<fieldset class="flex flex-col gap-2">
	<legend class="label-text mb-1">{who}</legend>
	<label class="flex flex-wrap items-center gap-2"
		><input class="radio radio-sm" type="radio" name="policy" value="end" bind:group={policy.way} /> may finish work for
		<input
			class="input input-sm mono w-20"
			name="grace"
			type="number"
			min="0"
			max="3600"
			aria-label="Seconds of grace"
			bind:value={policy.grace}
			disabled={policy.way !== 'end'}
		/> seconds, then is ended</label
	>
	<label class="flex flex-wrap items-center gap-2"
		><input class="radio radio-sm" type="radio" name="policy" value="wait" bind:group={policy.way} /> is waited for, up
		to
		<input
			class="input input-sm mono w-20"
			name="when_empty"
			type="number"
			min="1"
			max="720"
			aria-label="Minutes to wait"
			bind:value={policy.wait}
			disabled={policy.way !== 'wait'}
		/> minutes; nobody is ended</label
	>
	<p class="quiet text-sm">
		{gate} Written work that is not committed is a caution that you accept, or {refused} does not run.
	</p>
</fieldset>

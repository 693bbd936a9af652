<script lang="ts" module>
	export type Way = 'aside' | 'for good';
</script>

<script lang="ts">
	/** Whether something is set aside, and for how long it is kept, or dropped for good. */
	type Props = {
		/** Why the engine sets nothing of it aside; empty: it does. */
		final: string;
		environment: string;
		/** What setting it aside does, after "Set it aside." */
		says: string;
		way: Way;
		days: number | undefined;
	};
	let { final, environment, says, way = $bindable(), days = $bindable() }: Props = $props();

	/** For how many days it is kept when nobody says otherwise. */
	const usualDays: Record<string, number> = { production: 30, staging: 7, development: 1 };
</script>

<fieldset class="flex flex-col gap-2">
	<legend class="label-text mb-1">What becomes of it</legend>
	{#if final}<p>{final} It would be dropped for good.</p>{:else}
		<label class="flex items-baseline gap-2"
			><input class="radio radio-sm" type="radio" name="way" value="aside" bind:group={way} />
			<span><span class="font-semibold">Set it aside.</span> {says}</span></label
		>
		<label class="ml-7 flex flex-wrap items-center gap-2"
			>kept for certain for <input
				class="input input-sm mono w-20"
				name="keep_days"
				type="number"
				min="1"
				max="3650"
				placeholder={String(usualDays[environment] ?? '')}
				bind:value={days}
				disabled={way !== 'aside'}
			/> days</label
		>
		<label class="flex items-baseline gap-2"
			><input class="radio radio-sm radio-error" type="radio" name="way" value="for good" bind:group={way} />
			<span><span class="text-error font-semibold">Drop it for good.</span> Nothing can bring it back.</span></label
		>
	{/if}
</fieldset>

<script lang="ts">
	import type { Server } from './api';

	/** What is done with what is set aside on a server. */
	type Props = { keeping: Server['keeping'] };
	let { keeping = $bindable() }: Props = $props();
</script>

<div class="flex flex-wrap items-end gap-4">
	<label class="flex flex-col gap-1"
		><span class="label-text">Days kept for certain</span><input
			name="days"
			type="number"
			min="0"
			max="3650"
			class="input mono w-56"
			placeholder="as its environment"
			bind:value={() => keeping.days || undefined, (n) => (keeping.days = n ?? 0)}
		/></label
	>
	<label class="flex items-center gap-2 py-2"
		><input class="checkbox checkbox-sm" type="checkbox" name="discard" bind:checked={keeping.discard} /> then Genarch discards
		it</label
	>
</div>
<p class="quiet text-sm">
	It holds for what is set aside from now on. What somebody put a hold on, or opened, is never discarded by itself.
</p>

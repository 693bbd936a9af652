<script lang="ts">
	import type { Server } from './api';

	/** What names new databases of a server may have. */
	type Props = { rule: Server['name_rule'] };
	let { rule = $bindable() }: Props = $props();
</script>

<div class="flex flex-wrap items-end gap-4">
	<label class="flex flex-col gap-1"
		><span class="label-text">They end in</span><input
			name="suffix"
			class="input mono w-32"
			maxlength="20"
			autocomplete="off"
			spellcheck="false"
			placeholder="nothing asked"
			bind:value={rule.suffix}
		/></label
	>
	<label class="flex flex-col gap-1"
		><span class="label-text">Characters at most</span><input
			name="max_length"
			type="number"
			min="0"
			max="64"
			class="input mono w-44"
			placeholder="as many as fit"
			bind:value={() => rule.max_length || undefined, (n) => (rule.max_length = n ?? 0)}
		/></label
	>
	<label class="flex items-center gap-2 py-2"
		><input class="checkbox checkbox-sm" type="checkbox" name="free" bind:checked={rule.free} /> any name that the engine
		takes</label
	>
</div>
<p class="quiet text-sm">
	Otherwise names have lower-case letters, digits and _, and begin with a letter: such names need no quotes anywhere.
</p>

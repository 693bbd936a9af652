<script lang="ts">
	import type { Fact } from './oneDatabase.svelte';
	import { visible } from './format';

	/** Properties with their values, and what there is to say of one. */
	type Props = { facts: Fact[] };
	let { facts }: Props = $props();
</script>

<dl>
	{#each facts as f, i (i)}
		<div class="border-base-300/60 grid grid-cols-[10.5rem_1fr] gap-x-4 border-b py-1.5">
			<dt class="quiet">{f.title}</dt>
			<dd class="min-w-0">
				<span class="mono break-words">{visible(f.value)}</span>{#if f.remark}<div class="quiet text-sm">
						{f.remark}
					</div>{/if}
			</dd>
		</div>
	{/each}
</dl>

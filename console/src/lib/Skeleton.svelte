<script lang="ts">
	type Props = { rows?: number; label: string };
	let { rows = 5, label }: Props = $props();
</script>

<div class="appear-late py-3" role="status" aria-label={label}>
	{#each { length: rows }, i (i)}
		<div class="bg-base-300/60 my-2 h-5 rounded-sm"></div>
	{/each}
</div>

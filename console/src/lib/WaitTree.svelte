<script lang="ts">
	import type { SessionList } from './api';
	import ClassWord from './ClassWord.svelte';
	import { visible } from './format';

	type Props = { list: SessionList; onpick: (id: string) => void };
	let { list, onpick }: Props = $props();
</script>

<ul class="flex flex-col" aria-label="Who blocks whom">
	{#each list.waits as w, i (i)}
		{@const s = w.session}
		<li
			class="border-base-300/60 flex flex-wrap items-baseline gap-x-3 border-b py-1"
			style:padding-left="{w.depth * 1.5}rem"
			data-depth={w.depth}
		>
			{#if w.depth}<span aria-hidden="true" class="quiet">└</span>{/if}
			<button class="link-plain mono text-primary underline underline-offset-2" onclick={() => onpick(s.id)}
				>{s.number}</button
			>
			<ClassWord value={s.class} /><span class="mono"
				>{visible([s.account.name, s.application].filter(Boolean).join(' '))}</span
			>
			<span class={w.depth ? 'quiet' : 'font-semibold'}
				>{w.again ? 'see above' : w.depth ? `waits${s.wait ? ` for ${s.wait}` : ''}` : `blocks ${w.blocks}`}</span
			>
			{#if s.statement && !w.again}<span class="mono quiet min-w-0 truncate">{visible(s.statement.slice(0, 120))}</span
				>{/if}
		</li>
	{/each}
</ul>

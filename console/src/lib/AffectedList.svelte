<script lang="ts">
	import type { Brief, ServerSession } from './api';
	import ClassWord from './ClassWord.svelte';
	import { codeWords, address, count, since, visible } from './format';
	import { whoText } from '../router';

	/** The sessions that a change would end or wait for, those that lose most first. */
	type Props = { brief: Brief };
	let { brief }: Props = $props();

	const who = (s: ServerSession) => [whoText(s.account), s.application, address(s.client)].filter(Boolean).join(' · ');
	const busy = $derived(brief.affected.filter((s) => s.class !== 'idle'));
	/** Sessions that do nothing, those of one program together. */
	const idle = $derived.by(() => {
		const groups = new Map<string, ServerSession[]>();
		for (const s of brief.affected.filter((s) => s.class === 'idle'))
			groups.set(who(s), [...(groups.get(who(s)) ?? []), s]);
		return [...groups];
	});
</script>

<div class="max-h-[27rem] overflow-auto" role="region" aria-label="Sessions that it is about" tabindex="-1">
	{#each busy as s (s.id)}
		<div class="border-base-300/60 border-b py-1.5" data-session={s.id}>
			<p class="flex flex-wrap gap-x-3">
				<span class="mono" title={s.id}>{s.number}</span><ClassWord value={s.class} /><span class="mono break-all"
					>{visible(who(s))}</span
				>
			</p>
			<p class="quiet text-sm">{codeWords(s.state)} for {since(s.state_since, brief.read)}; would lose {s.loses}</p>
			{#if s.statement}<p class="mono quiet truncate text-sm" title={s.statement}>{visible(s.statement)}</p>{/if}
		</div>
	{/each}
	{#each idle as [name, list] (name)}
		<div class="border-base-300/60 border-b py-1.5" data-idle={list.length}>
			<p class="flex flex-wrap gap-x-3">
				<span class="mono">{list.length === 1 ? list[0]?.number : `${count(list.length)} sessions`}</span><ClassWord
					value="idle"
				/><span class="mono break-all">{visible(name)}</span>
			</p>
			<p class="quiet text-sm">would lose nothing but {list.length === 1 ? 'its connection' : 'their connections'}</p>
			<details class="quiet text-sm">
				<summary class="cursor-pointer">Which ones</summary>
				{#each list as s (s.id)}<p class="mono truncate" data-session={s.id} title={s.statement}>
						{s.id} <span class="font-sans">for {since(s.state_since, brief.read)}</span>
					</p>{/each}
			</details>
		</div>
	{/each}
</div>
{#if brief.affected_all > brief.affected.length}<p class="quiet mt-1 text-sm">
		and {count(brief.affected_all - brief.affected.length)} more
	</p>{/if}

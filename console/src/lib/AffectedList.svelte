<script lang="ts">
	import type { Brief } from './api';
	import ClassWord from './ClassWord.svelte';
	import { count, visible } from './format';
	import { span } from './sessions.svelte';
	import { whoText } from '../router';

	/** The sessions that a change would end or wait for. */
	type Props = { brief: Brief };
	let { brief }: Props = $props();
</script>

<div class="max-h-[27rem] overflow-auto" role="region" aria-label="Sessions that it is about" tabindex="-1">
	{#each brief.affected as s (s.id)}
		<div class="border-base-300/60 border-b py-1.5" data-session={s.id}>
			<p class="flex flex-wrap gap-x-3"><span class="mono" title={s.id}>{s.number}</span><ClassWord value={s.class} /><span class="mono break-all">{visible([whoText(s.account), s.application, s.client].filter(Boolean).join(' · '))}</span></p>
			<p class="quiet text-sm">{s.state} for {span(s.state_since, brief.read)}; would lose {s.loses}</p>
			{#if s.statement}<p class="mono quiet truncate text-sm" title={s.statement}>{visible(s.statement)}</p>{/if}
		</div>
	{/each}
</div>
{#if brief.affected_all > brief.affected.length}<p class="quiet mt-1 text-sm">and {count(brief.affected_all - brief.affected.length)} more</p>{/if}

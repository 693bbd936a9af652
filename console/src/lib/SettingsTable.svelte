<script lang="ts">
	import type { Brief } from './api';
	import { settingTitle, visible } from './format';

	type Props = { settings: Brief['settings'] };
	let { settings }: Props = $props();
</script>

<dl class="text-[0.9375rem]">
	{#each settings as s (s.name)}
		<div class="border-base-300/60 grid grid-cols-1 gap-x-4 border-b py-1.5 sm:grid-cols-[9.5rem_1fr]">
			<dt class="quiet">{s.title ?? settingTitle(s.name)}</dt>
			<dd>
				{#if s.was !== undefined}<span class="mono quiet wrap-anywhere">{visible(s.was) || 'none'}</span>
					<span aria-hidden="true">→</span><span class="sr-only">becomes</span>
				{/if}<span class="mono wrap-anywhere {s.asked ? 'font-semibold' : ''}">{visible(s.value) || 'none'}</span>
				{#if !s.asked && s.source && s.source !== 'none'}<span class="quiet ml-2 text-sm">default, from {s.source}</span
					>{/if}
				<div class="quiet text-sm">
					{s.decides}{#if s.fixed}{s.decides ? '; ' : ''}<strong class="font-semibold">fixed once made</strong>{/if}
				</div>
			</dd>
		</div>
	{/each}
</dl>

<script lang="ts">
	import type { Snippet } from 'svelte';
	import type { Brief, Finding } from './api';
	import Findings from './Findings.svelte';

	type Props = {
		title: string;
		/** The setting of the brief that says the default and what it decides. */
		setting?: Brief['settings'][number];
		findings?: Finding[];
		onsuggest?: (f: Finding) => void;
		children: Snippet<[string]>;
	};
	let { title, setting, findings = [], onsuggest, children }: Props = $props();
	const id = $props.id();
</script>

<div class="flex flex-col gap-1">
	<label class="label-text" for={id}>{title}</label>
	{@render children(id)}
	{#if setting}
		<p class="quiet text-sm">
			{#if !setting.asked && setting.value}Default <span class="mono">{setting.value}</span>{setting.source &&
				setting.source !== 'none'
					? `, from ${setting.source}`
					: ''}.{/if}
			{#if setting.decides}Decides {setting.decides}.{/if}
			{#if setting.fixed}<strong class="font-semibold">Fixed once made.</strong>{/if}
		</p>
	{/if}
	{#if findings.length}<Findings {findings} {onsuggest} />{/if}
</div>

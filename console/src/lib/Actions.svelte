<script lang="ts">
	import type { Action } from './api';
	import { acting } from './acting';
	import { optionName, pageOf } from './actions';
	import { visible } from './format';
	import { param } from '../router';

	/** What can be done next: links to pages and options to set; what has no place here is left out. */
	type Props = { actions?: Action[] };
	let { actions = [] }: Props = $props();

	const act = acting();
	const here = $derived(act?.here() || param('server'));
	const title = (a: Action): string => {
		if (a.value === 'no' || a.value === 'false') return `Without: ${optionName(a.option ?? '')}`;
		const name = optionName(a.option ?? '');
		return `Set ${name}${a.value && a.value !== 'yes' ? ` to ${a.value}` : ''}`;
	};
	const links = $derived(actions.flatMap((a) => (a.do ? [pageOf(a, here)] : [])).filter((p) => p !== null));
	const options = $derived(actions.filter((a) => !a.do && a.option && act?.can?.(a)));
</script>

{#if links.length || options.length}
	<p class="mt-1 flex flex-wrap items-center gap-x-3 gap-y-1 text-sm">
		{#each options as a, i (i)}<button type="button" class="btn btn-xs btn-outline" onclick={() => act?.set?.(a)}
				>{title(a)}</button
			>{/each}
		{#each links as l, i (i)}<a class="link-plain break-all" href={l.href}>{visible(l.title)}</a>{/each}
	</p>
{/if}

<script lang="ts">
	import type { Brief } from './api';
	import { count, size } from './format';

	/** What a change would take away and disconnect, before anything is read. */
	type Props = { brief: Brief };
	let { brief }: Props = $props();

	const impact = $derived(brief.impact);
	/** Words are kept in the plural: "3 tables", "1 table". */
	const many = (n: number, words: string) =>
		`${count(n)} ${n === 1 && !words.includes(' ') ? words.replace(/s$/, '') : words}`;
	const objects = $derived(impact?.objects.filter((o) => o.n > 0).map((o) => many(o.n, o.what)) ?? []);
	const weight = $derived(
		[impact?.rows ? `about ${many(impact.rows, 'rows')}` : '', impact?.size != null ? size(impact.size) : '']
			.filter(Boolean)
			.join(', ')
	);
	/** What becomes of whoever is connected. */
	const become = { ended: 'Disconnected', waited: 'Waited for, and not ended', stopped: 'Their statement is stopped' };
	const disconnected = $derived.by(() => {
		if (!impact?.sessions) return '';
		const hidden = impact.hidden ? `, ${count(impact.hidden)} cannot be seen` : '';
		return impact.writing
			? `${count(impact.writing)} with uncommitted work${hidden}`
			: `none with uncommitted work${hidden}`;
	});
</script>

{#snippet tile(title: string, figure: string, more: string, weigh: 'plain' | 'careful' | 'final' = 'plain')}
	<div
		class="border-base-300 min-w-0 border-l-2 pl-3 {weigh === 'careful'
			? 'border-warning'
			: weigh === 'final'
				? 'border-error'
				: ''}"
	>
		<dt class="quiet text-sm">{title}</dt>
		<dd class="text-xl leading-tight font-semibold break-words {weigh === 'final' ? 'text-error' : ''}">{figure}</dd>
		{#if more}<dd class="text-sm {weigh === 'careful' ? 'font-semibold' : 'quiet'}">{more}</dd>{/if}
	</div>
{/snippet}

{#if impact}
	<dl class="my-4 grid grid-cols-2 gap-x-4 gap-y-4 sm:gap-x-6 lg:grid-cols-4" data-figures>
		{#if impact.lost}{@render tile(
				impact.final ? 'Would be lost' : 'Set aside',
				objects[0] ?? 'nothing',
				[...objects.slice(1), weight].filter(Boolean).join(', ')
			)}{/if}
		{@render tile(
			become[impact.how],
			impact.sessions ? many(impact.sessions, 'sessions') : 'nobody',
			impact.sessions ? disconnected : 'nobody is connected at present',
			impact.writing || impact.hidden ? 'careful' : 'plain'
		)}
		{#if impact.lost}
			{@render tile(
				'Depends on it',
				impact.dependents ? many(impact.dependents, 'objects') : 'nothing',
				impact.dependents ? 'elsewhere, and would fail' : 'that is known',
				impact.dependents ? 'careful' : 'plain'
			)}
			{@render tile(
				'Comes back',
				impact.final ? 'no' : 'yes',
				impact.final ? 'this is final' : `kept for certain until ${impact.kept_until}`,
				impact.final ? 'final' : 'plain'
			)}
		{/if}
	</dl>
{/if}

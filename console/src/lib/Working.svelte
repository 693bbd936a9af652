<script lang="ts">
	import type { Step } from './api';
	import { count, size, span, visibleText } from './format';

	/** How far a step is that takes long. */
	type Props = { work: NonNullable<Step['work']>; since?: string | null };
	let { work, since = null }: Props = $props();

	const of = (n: number) => (work.unit === 'bytes' ? size(n) : `${count(n)} ${work.unit}`);
	const share = $derived(work.total ? Math.min(100, (100 * work.done) / work.total) : null);
	const seconds = $derived(since ? Math.max(1, (Date.now() - Date.parse(since)) / 1000) : 0);
	const rate = $derived(work && seconds ? Math.round(work.done / seconds) : 0);
	const left = $derived(rate && work.total > work.done ? Math.round((work.total - work.done) / rate) : 0);
</script>

<div class="mt-1 max-w-xl">
	<progress class="progress progress-primary w-full" value={share} max="100" aria-label="How far it is"></progress>
	<p class="quiet text-sm break-words">
		{visibleText(work.what)}: {of(work.done)}{work.total ? ` of about ${of(work.total)}` : ''}{rate
			? `, ${of(rate)} a second`
			: ''}{left > 1 ? `, about ${span(left)} left` : ''}
	</p>
</div>

<script lang="ts">
	import { said, visibleText } from './format';
	import type { Snippet } from 'svelte';
	import type { Finding, Intent } from './api';
	import type { Asking } from './asking.svelte';
	import Band from './Band.svelte';
	import Figures from './Figures.svelte';
	import Findings from './Findings.svelte';
	import Trouble from './Trouble.svelte';
	import { to } from '../router';

	type Props = {
		title: string;
		asking: Asking;
		intent: Intent | null;
		button: string;
		hint: string;
		onsuggest?: (finding: Finding) => void;
		/** Which findings stand beside the form; the others stand at their fields. */
		rest?: (finding: Finding) => boolean;
		children: Snippet;
	};
	let { title, asking, intent, button, hint, onsuggest, rest = () => true, children }: Props = $props();

	$effect(() => asking.check(intent ? $state.snapshot(intent) : null));
	$effect(() => () => asking.stop());
	const brief = $derived(intent ? asking.brief : null);
	const findings = $derived(brief?.findings.filter(rest) ?? []);
</script>

<Band server={asking.name} />
<section class="mx-auto max-w-6xl px-4 py-4 sm:px-6">
	<h1 class="break-words">{title}</h1>
	<form
		class="mt-4 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,34rem)_minmax(0,1fr)]"
		onsubmit={(e) => (e.preventDefault(), asking.ask(intent ? $state.snapshot(intent) : null))}
	>
		<div class="flex flex-col gap-4">
			{@render children()}
			{#if asking.refused}<Trouble problem={asking.refused} />{/if}
			<div class="flex flex-wrap items-center gap-3">
				<button
					class="btn btn-primary h-auto min-h-10 py-1 break-all"
					disabled={asking.busy || !intent || !!brief?.stopped}>{button}</button
				>
				<span class="quiet text-sm">{brief?.stopped ? 'A stop stands in the way.' : 'Nothing runs yet.'}</span>
			</div>
		</div>
		<aside class="min-w-0">
			<p class="sr-only" role="status">{said(brief)}</p>
			{#if asking.problem}<Trouble problem={asking.problem} />{/if}
			{#if brief}
				<div class="[&_dl]:mt-0 [&_dl]:lg:grid-cols-2"><Figures {brief} /></div>
				{#if findings.length}<h2 class="mb-2">What to know</h2>
					<Findings {findings} {onsuggest} />{/if}
				{#if brief.steps.length}
					<h2 class="mt-4 mb-2">The statements so far</h2>
					{#each brief.steps as s, i (i)}{#if s.statement}<pre class="sql mb-2">{visibleText(
									s.statement
								)}</pre>{/if}{/each}
				{:else if brief.stopped}<p class="quiet mt-3">
						The statements are shown here when nothing stands in the way.
					</p>{/if}
			{:else}<p class="quiet">{hint}</p>{/if}
		</aside>
	</form>
</section>

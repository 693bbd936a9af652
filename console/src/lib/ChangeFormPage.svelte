<script lang="ts">
	import { provideActing } from './acting';
	import { said, visibleText } from './format';
	import type { Snippet } from 'svelte';
	import type { Finding, Intent } from './api';
	import type { ChangeForm } from './changeForm.svelte';
	import EnvironmentBanner from './EnvironmentBanner.svelte';
	import Figures from './Figures.svelte';
	import Findings from './Findings.svelte';
	import ErrorPanel from './ErrorPanel.svelte';

	type Props = {
		title: string;
		form: ChangeForm;
		intent: Intent | null;
		button: string;
		hint: string;
		onsuggest?: (finding: Finding) => void;
		/** Which findings stand beside the form; the others stand at their fields. */
		rest?: (finding: Finding) => boolean;
		children: Snippet;
	};
	let { title, form, intent, button, hint, onsuggest, rest = () => true, children }: Props = $props();

	provideActing({
		here: () => form.name,
		can: (a) => form.can(a),
		set: (a) => form.set(a)
	});
	$effect(() => form.check(intent ? $state.snapshot(intent) : null));
	$effect(() => () => form.stop());
	const brief = $derived(intent ? form.brief : null);
	const findings = $derived(brief?.findings.filter(rest) ?? []);
</script>

<EnvironmentBanner server={form.name} />
<section class="mx-auto max-w-6xl px-4 py-4 sm:px-6">
	<h1 class="break-words">{title}</h1>
	<form
		class="mt-4 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,34rem)_minmax(0,1fr)]"
		onsubmit={(e) => (e.preventDefault(), form.ask(intent ? $state.snapshot(intent) : null))}
	>
		<div class="flex flex-col gap-4">
			{@render children()}
			{#if form.refused}<ErrorPanel problem={form.refused} />{/if}
			<div class="flex flex-wrap items-center gap-3">
				<button
					class="btn btn-primary h-auto min-h-10 py-1 break-all"
					disabled={form.busy || !intent || !!brief?.stopped}>{button}</button
				>
				<span class="quiet text-sm">{brief?.stopped ? 'A stop stands in the way.' : 'Nothing runs yet.'}</span>
			</div>
		</div>
		<aside class="min-w-0">
			<p class="sr-only" role="status">{said(brief)}</p>
			{#if form.problem}<ErrorPanel problem={form.problem} />{/if}
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

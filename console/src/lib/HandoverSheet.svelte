<script lang="ts">
	import { engines } from './engines.svelte';
	import type { Handover } from './api';
	import { visible, visibleText } from './format';
	import { whoText } from '../router';

	type Props = { sheet: Handover };
	let { sheet }: Props = $props();
	let copied = $state('');
	const facts = $derived<[string, string][]>([
		['address', `${sheet.host} port ${sheet.port}`],
		...(sheet.also.length ? ([['also at', sheet.also.join(', ')]] as [string, string][]) : []),
		['engine', engines.title(sheet.engine)],
		...(sheet.database ? ([['database', sheet.database]] as [string, string][]) : []),
		['TLS', sheet.tls]
	]);

	async function copy(what: string, text: string): Promise<void> {
		try {
			await navigator.clipboard.writeText(text);
			copied = what;
		} catch {
			copied = '';
		}
	}
</script>

<dl class="mt-2 max-w-2xl">
	{#each facts as [title, value] (title)}
		<div class="border-base-300/60 grid grid-cols-[7rem_1fr] border-b py-1">
			<dt class="quiet">{title}</dt>
			<dd class="mono break-all">{visible(value)}</dd>
		</div>
	{/each}
</dl>
{#each sheet.accounts as a (a.name + (a.host ?? ''))}
	<section class="mt-6" aria-label="Account {a.name}">
		<h2 class="mono break-all">
			{visible(whoText(a))} <span class="quiet font-sans text-sm font-normal">{a.level}</span>
		</h2>
		{#if a.password}
			<div class="border-warning bg-base-200 rounded-box my-2 flex flex-wrap items-center gap-3 border-l-4 px-3 py-2">
				<span>Password <strong class="mono break-all" data-password={a.name}>{a.password}</strong></span>
				<button class="btn btn-xs" onclick={() => copy(a.name, a.password ?? '')}
					>{copied === a.name ? 'Copied' : 'Copy'}<span class="sr-only"> the password of {a.name}</span></button
				>
				<span class="text-sm">Shown once: it is kept nowhere.</span>
			</div>
		{/if}
		<div class="grid gap-x-8 gap-y-3 lg:grid-cols-2">
			{#each a.forms as f (f.name)}
				<div class="min-w-0">
					<div class="flex items-baseline justify-between gap-2">
						<h3 class="quiet text-sm">
							{f.title}{#if f.file}
								<span class="mono">{f.file}</span>{/if}
						</h3>
						<button class="btn btn-xs btn-ghost" onclick={() => copy(a.name + f.name, f.text)}
							>{copied === a.name + f.name ? 'Copied' : 'Copy'}<span class="sr-only">
								the {f.title} of {a.name}</span
							></button
						>
					</div>
					<pre class="sql">{visibleText(f.text.trimEnd())}</pre>
				</div>
			{/each}
		</div>
		{#if a.proof.length}
			<ul class="mt-3" aria-label="What was tried">
				{#each a.proof as p, i (i)}<li class="text-sm">
						<span class="text-success" aria-hidden="true">✓</span>
						{p}
					</li>{/each}
			</ul>
		{/if}
	</section>
{:else}<p class="py-4">Nothing on it was granted to an account yet.</p>{/each}

<script lang="ts">
	import { api, problemOf, type Intent, type Problem, type Why } from './api';
	import ErrorPanel from './ErrorPanel.svelte';
	import { session } from './session.svelte';
	import { go, to } from '../router';
	import { visible } from './format';

	type Props = { why: Why };
	let { why }: Props = $props();
	let problem = $state<Problem | null>(null);

	async function ask(intent: Intent): Promise<void> {
		try {
			go(to.change((await api.ask(intent)).id));
		} catch (e) {
			problem = problemOf(e);
		}
	}
</script>

<div data-allowed={why.allowed}>
	<p class="font-semibold break-words">
		<span class={why.allowed ? 'text-success' : 'text-error'}>{why.allowed ? '✓ Yes.' : '✕ No.'}</span>
		{visible(why.summary)}
	</p>
	{#each why.barred as b (b)}<p class="text-error">Kept out: {b}.</p>{/each}
	<ol class="mt-2 flex flex-col gap-2">
		{#each why.needs as n, i (i)}
			<li class="border-l-4 pl-3 {n.met ? 'border-success' : 'border-error'}">
				<p class="break-words">
					<span class="quiet">{n.met ? 'has' : 'lacks'}</span> <span class="mono">{visible(n.text)}</span>
				</p>
				{#each n.chains as c, j (j)}<p class="quiet text-sm break-words">
						{visible(c.text)}{c.grant_option ? ', with grant option' : ''}
					</p>{/each}
				{#if n.more}<p class="quiet text-sm">and {n.more} more ways</p>{/if}
				{#each n.denied ?? [] as c, j (j)}<p class="text-error text-sm break-words">
						<span class="font-bold">denied:</span>
						{visible(c.text)}
					</p>{/each}
				{#each n.dormant as c, j (j)}<p class="text-sm break-words">
						<span class="font-bold">only after SET ROLE:</span>
						{visible(c.text)}
					</p>{/each}
				{#if !n.met && !n.known}<p class="text-sm">There is no such object, or it cannot be seen.</p>{/if}
				{#if n.missing && session.may('request')}{@const missing = n.missing}<button
						type="button"
						class="btn btn-xs btn-outline mt-1"
						onclick={() => ask(missing)}
						>Show the brief for granting {visible(missing.grant?.privileges?.join(', ') ?? '')}</button
					>{/if}
			</li>
		{/each}
	</ol>
	{#if problem}<ErrorPanel {problem} />{/if}
</div>

<script lang="ts">
	import Actions from './Actions.svelte';
	import type { Attention, AttentionItem } from './api';
	import { visible } from './format';

	/** What needs a look, before anything else: each with its sign, and where it is dealt with. */
	type Props = { attention: Attention | null };
	let { attention }: Props = $props();
	const marks: Record<AttentionItem['code'], string> = {
		'change.stuck': '■',
		'server.identity': '≠',
		'server.silent': '▲',
		'server.connections': '◕',
		'change.waiting': '◷',
		'holding.due': '○',
		'accounts.traps': '●'
	};
</script>

{#if !attention}<p class="quiet mt-3 text-sm" role="status">
		<span class="appear-late">looking through changes and accounts …</span>&nbsp;
	</p>
{:else}
	<section class="border-base-300 rounded-box mt-3 border px-4 py-2" aria-label="What needs a look">
		{#if attention.items.length === 0}<p class="quiet">Nothing needs a look.</p>{/if}
		<ul class="grid gap-x-10 lg:grid-cols-2">
			{#each attention.items as item (item.code + item.server + item.change)}
				<li class="flex gap-3 py-1.5" data-look={item.code}>
					<span aria-hidden="true" class="w-5 text-center {item.urgent ? 'text-error font-bold' : 'look-mark'}"
						>{marks[item.code] ?? '●'}</span
					>
					<div class="min-w-0">
						<p class="break-words {item.urgent ? 'font-semibold' : ''}">{visible(item.text)}</p>
						<div class="flex flex-wrap items-baseline gap-x-4">
							{#if item.more.length}<details>
									<summary class="quiet cursor-pointer text-sm">Which</summary>
									<ul class="list-disc pl-4 text-sm">
										{#each item.more as more, i (i)}<li class="break-words">{visible(more)}</li>{/each}
										{#if item.count > item.more.length}<li class="quiet">
												and {item.count - item.more.length} more
											</li>{/if}
									</ul>
								</details>{/if}
							<Actions actions={item.actions} />
						</div>
					</div>
				</li>
			{/each}
		</ul>
		{#if attention.unread.length}<p class="quiet text-sm">
				The accounts of {attention.unread.join(', ')} could not be looked through in time.
			</p>{/if}
	</section>
{/if}

<script lang="ts">
	import type { Matrix } from './api';
	import { engines } from './engines.svelte';
	import { count, visible } from './format';
	import { cell, tone } from './levels';
	import { to, whoText } from '../router';

	/** Who has anything on a database, the most first; who may only connect is counted. */
	type Props = { server: string; matrix: Matrix; database: string; most?: number };
	let { server, matrix, database, most = 500 }: Props = $props();

	const ranks = ['own', 'build', 'write', 'read', 'custom', 'unknown'];
	const column = $derived(matrix.databases.indexOf(database));
	const all = $derived(column < 0 ? [] : matrix.rows.map((r) => ({ ...r, ...cell(r.cells[column]) })));
	const holders = $derived(
		all
			.filter((r) => ranks.includes(r.word))
			.sort((a, b) => ranks.indexOf(a.word) - ranks.indexOf(b.word) || whoText(a).localeCompare(whoText(b), 'en'))
	);
	const connecting = $derived(all.filter((r) => r.word === 'connect').length);
</script>

{#each holders.slice(0, most) as h (whoText(h) + h.role)}
	<p class="border-base-300/60 flex items-baseline gap-3 border-b py-1">
		<span class="w-20 shrink-0 {tone[h.word]}"
			>{h.word}{#if h.differs}<span class="font-bold">*</span>{/if}</span
		><a
			class="link-plain mono break-all"
			href={to.account(server, { ...h, role: h.role && engines.separateRoles(matrix.engine) })}
			>{visible(whoText(h)) || '(no name)'}</a
		>{#if h.role}<span class="quiet text-sm">role</span>{/if}{#if h.super}<span class="quiet text-sm">superuser</span
			>{/if}
	</p>
{:else}<p class="quiet py-1.5">Nothing was granted to anybody.</p>{/each}
{#if holders.length > most}<p class="quiet mt-1 text-sm">
		<a class="link-plain" href={to.databaseAccess(server, database)}>and {count(holders.length - most)} more</a>
	</p>{/if}
{#if connecting}<p class="quiet mt-1 text-sm">{count(connecting)} more may connect, and nothing else.</p>{/if}

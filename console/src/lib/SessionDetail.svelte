<script lang="ts">
	import type { ServerSession } from './api';
	import { codeWords, count, exact, since, size, visible, visibleText } from './format';
	import { whoText } from '../router';

	type Props = { session: ServerSession; read: string; onclose: () => void };
	let { session: s, read, onclose }: Props = $props();

	const facts = $derived(
		[
			['identity', s.id],
			['account', whoText(s.account) + (s.superuser ? ' (superuser)' : '')],
			['application', s.application],
			['client', s.client],
			['database', [s.database, ...(s.uses ?? [])].filter(Boolean).join(', ')],
			['since', s.started ? exact(s.started) : ''],
			['state', `${codeWords(s.state)} for ${since(s.state_since, read)}`],
			[
				'transaction',
				s.transaction
					? `open since ${exact(s.transaction)}${s.written ? ', has written' : ', has written nothing'}${s.rows ? ` ${count(s.rows)} rows` : s.log_bytes ? ` ${size(s.log_bytes)} of log` : ''}`
					: ''
			],
			['locks held', String(s.locks)],
			['waits for', [s.blocked_by.join(', '), s.wait].filter(Boolean).join(': ')],
			['ended, it loses', s.loses]
		].filter(([, v]) => v) as [string, string][]
	);
</script>

<section class="border-base-300 rounded-box mt-4 border px-4 py-3" aria-label="Session {s.number}">
	<div class="flex items-baseline justify-between gap-4">
		<h2>Session <span class="mono">{s.number}</span></h2>
		<button class="btn btn-xs btn-ghost" onclick={onclose}>Close</button>
	</div>
	<div class="grid gap-x-10 lg:grid-cols-2">
		<dl>
			{#each facts as [title, value] (title)}
				<div class="border-base-300/60 grid grid-cols-[8.5rem_1fr] gap-x-4 border-b py-1">
					<dt class="quiet">{title}</dt>
					<dd class="mono break-all">{visible(value)}</dd>
				</div>
			{/each}
		</dl>
		<div class="min-w-0">
			{#if s.statement}<h3 class="label-text mt-2 lg:mt-0">{s.state === 'active' ? 'It runs' : 'It ran last'}</h3>
				<pre class="sql mt-1 max-h-80 overflow-auto">{visibleText(s.statement)}</pre>{:else}<p class="quiet">
					No statement is shown.
				</p>{/if}
		</div>
	</div>
</section>

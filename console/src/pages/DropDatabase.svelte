<script lang="ts">
	import type { Intent } from '../lib/api';
	import AskForm from '../lib/AskForm.svelte';
	import { Asking } from '../lib/asking.svelte';
	import { visible } from '../lib/format';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const asking = $derived(new Asking(server));
	const mariadb = $derived(asking.server?.engine === 'mariadb');
	let manner = $state<'end' | 'wait'>('end');
	let grace = $state(10);
	let wait = $state(10);
	let leftovers = $state(false);
	let hold = $state(false);

	const intent = $derived.by((): Intent => {
		const clearing: NonNullable<Intent['clearing']> = manner === 'end' ? { grace: Math.max(0, grace || 0) } : { when_empty: Math.max(1, wait || 1) * 60 };
		if (hold && mariadb) clearing.hold_accounts = true;
		return { kind: 'database.drop', server, database: { name: database, clear_leftovers: (leftovers && mariadb) || undefined }, clearing };
	});
</script>

<svelte:head><title>Drop {database} · {server} · Genarch</title></svelte:head>

<AskForm title="Drop {visible(database)}" {asking} {intent} button="Show the brief for dropping {visible(database)}" hint="Reading who is connected and what would be lost.">
	<fieldset class="flex flex-col gap-2"><legend class="label-text mb-1">Whoever is connected</legend>
		<label class="flex flex-wrap items-center gap-2"><input class="radio radio-sm" type="radio" name="manner" value="end" bind:group={manner} /> may finish work for <input class="input input-sm mono w-20" name="grace" type="number" min="0" max="3600" aria-label="Seconds of grace" bind:value={grace} disabled={manner !== 'end'} /> seconds, then is ended</label>
		<label class="flex flex-wrap items-center gap-2"><input class="radio radio-sm" type="radio" name="manner" value="wait" bind:group={manner} /> is waited for, up to <input class="input input-sm mono w-20" name="wait" type="number" min="1" max="720" aria-label="Minutes to wait" bind:value={wait} disabled={manner !== 'wait'} /> minutes; nobody is ended</label>
		<p class="quiet text-sm">New logins are kept out from the beginning. Written work that is not committed is a caution that you accept, or the drop does not run.</p>
	</fieldset>
	{#if mariadb}
		<fieldset class="flex flex-col gap-2"><legend class="label-text mb-1">On MariaDB</legend>
			<label class="flex items-start gap-2"><input class="checkbox checkbox-sm mt-0.5" type="checkbox" name="leftovers" bind:checked={leftovers} /> <span>take the grants on its name too; else they open a database of the name at once, should one be made again</span></label>
			<label class="flex items-start gap-2"><input class="checkbox checkbox-sm mt-0.5" type="checkbox" name="hold" bind:checked={hold} /> <span>lock, while it runs, the accounts that could come back otherwise; they cannot sign in to anything meanwhile</span></label>
		</fieldset>
	{/if}
	<p class="border-error bg-base-200 rounded-box border-l-4 px-4 py-2">A drop is for good. The next page shows everything once more, and asks for the name.</p>
</AskForm>

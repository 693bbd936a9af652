<script lang="ts">
	import type { Intent } from '../lib/api';
	import AskForm from '../lib/AskForm.svelte';
	import { Asking } from '../lib/asking.svelte';
	import { engines, optionsOf } from '../lib/engines.svelte';
	import { visible } from '../lib/format';
	import { Manner } from '../lib/manner.svelte';
	import MannerFields from '../lib/MannerFields.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const database = $derived(param('database'));
	const asking = $derived(new Asking(server));
	const engine = $derived(engines.get(asking.server?.engine));
	/** Whether grants outlive a database there, and whether the gate leaves some a way in. */
	const outlive = $derived(optionsOf(engine, 'database.drop').some((f) => f.name === 'clear_leftovers'));
	const leaks = $derived(optionsOf(engine, 'database.drop', 'clearing').some((f) => f.name === 'hold_accounts'));
	const manner = new Manner();
	let leftovers = $state(false);
	let hold = $state(false);

	const intent = $derived.by((): Intent => ({
		kind: 'database.drop',
		server,
		database: { name: database, options: leftovers && outlive ? { clear_leftovers: true } : undefined },
		clearing: { ...manner.spec, options: hold && leaks ? { hold_accounts: true } : undefined }
	}));
</script>

<svelte:head><title>Drop {database} · {server} · Genarch</title></svelte:head>

<AskForm title="Drop {visible(database)}" {asking} {intent} button="Show the brief for dropping {visible(database)}" hint="Reading who is connected and what would be lost.">
	<MannerFields {manner} gate={engines.gate(asking.server?.engine)} refused="the drop" />
	{#if outlive || leaks}
		<fieldset class="flex flex-col gap-2"><legend class="label-text mb-1">On {engine?.title}</legend>
			{#if outlive}<label class="flex items-start gap-2"><input class="checkbox checkbox-sm mt-0.5" type="checkbox" name="leftovers" bind:checked={leftovers} /> <span>take the grants on its name too; else they open a database of the name at once, should one be made again</span></label>{/if}
			{#if leaks}<label class="flex items-start gap-2"><input class="checkbox checkbox-sm mt-0.5" type="checkbox" name="hold" bind:checked={hold} /> <span>lock, while it runs, the accounts that could come back otherwise; they cannot sign in to anything meanwhile</span></label>{/if}
		</fieldset>
	{/if}
	<p class="border-error bg-base-200 rounded-box border-l-4 px-4 py-2">A drop is for good. The next page shows everything once more, and asks for the name.</p>
</AskForm>

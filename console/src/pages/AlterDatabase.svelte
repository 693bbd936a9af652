<script lang="ts">
	import { api, problemOf, type Database, type Intent, type Problem } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import EngineFields from '../lib/EngineFields.svelte';
	import { altered, engines, optionsOf, propertiesOf, property, type Options, fieldText } from '../lib/engines.svelte';
	import { visible } from '../lib/format';
	import { SessionPolicy } from '../lib/sessionPolicy.svelte';
	import SessionPolicyFields from '../lib/SessionPolicyFields.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const name = $derived(param('database'));
	const form = $derived(
		new ChangeForm(server, {
			'options.*': (name, value) => (options[name] = value),
			'clearing.*': (name) => policy.set(name)
		})
	);
	const engine = $derived(engines.get(form.server?.engine));
	const fields = $derived(optionsOf(engine, 'database.alter'));
	const fixed = $derived(propertiesOf(engine).filter((f) => f.fixed));
	const policy = new SessionPolicy();
	let database = $state.raw<Database | null>(null);
	let options = $state<Options>({});
	let problem = $state<Problem | null>(null);

	async function load(): Promise<void> {
		try {
			await engines.load();
			const d = await api.database(server, name);
			const of = engines.get(form.server?.engine);
			// A form begins with what is there, so that only what differs is asked for.
			options = Object.fromEntries(
				optionsOf(of, 'database.alter')
					.filter((f) => f.show)
					.map((f) => [f.name, $state.snapshot(property(d, f.name))])
			);
			[database, problem] = [d, null];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => {
		void [server, name, form.server];
		if (form.server) load();
	});

	const changed = $derived(
		database ? altered(fields, options, (field) => (database ? property(database, field) : undefined)) : undefined
	);
	const clears = $derived(fields.some((f) => f.alone && changed && f.name in changed));
	const intent = $derived.by((): Intent | null =>
		changed
			? {
					kind: 'database.alter',
					server,
					database: { name, options: changed },
					clearing: clears ? policy.spec : undefined
				}
			: null
	);
	const brief = $derived(intent ? form.brief : null);
</script>

<svelte:head><title>Alter {name} · {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="Alter {visible(name)}"
	{form}
	{intent}
	button="Show the brief for altering {visible(name)}"
	hint="Change something; what would run is shown here."
	rest={(f) => !f.option}
>
	{#if problem}<ErrorPanel {problem} retry={load} />{/if}
	{#if !engine || !database}{#if !problem}<Skeleton rows={6} label="Reading the database" />{/if}
	{:else}
		<EngineFields {server} {engine} kind="database.alter" bind:options {brief} now={database} />
		{#if clears}<SessionPolicyFields {policy} gate={engines.gate(form.server?.engine)} refused="the alteration" />{/if}
		{#if fixed.length}
			<section>
				<h2 class="mb-1">What cannot be altered</h2>
				<dl>
					{#each fixed as f (f.name)}
						{#if fieldText(f, property(database, f.name))}
							<div class="border-base-300/60 grid grid-cols-1 gap-x-4 border-b py-1.5 sm:grid-cols-[10.5rem_1fr]">
								<dt class="quiet">{f.title}</dt>
								<dd><span class="mono break-all">{visible(fieldText(f, property(database, f.name)))}</span></dd>
							</div>
						{/if}
					{/each}
				</dl>
				<p class="quiet mt-1 text-sm">{[...new Set(fixed.map((f) => f.fixed))].join(' ')}</p>
			</section>
		{/if}
	{/if}
</ChangeFormPage>

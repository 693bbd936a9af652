<script lang="ts">
	import { problemOf, type Finding, type Intent, type Problem } from '../lib/api';
	import BlueprintFields from '../lib/BlueprintFields.svelte';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import EngineFields from '../lib/EngineFields.svelte';
	import { engines, given, type Options } from '../lib/engines.svelte';
	import Field from '../lib/Field.svelte';
	import { visible } from '../lib/format';
	import Skeleton from '../lib/Skeleton.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { param } from '../router';

	const server = $derived(param('server'));
	const form = $derived(
		new ChangeForm(server, {
			'options.*': (name, value) => (options[name] = value),
			clearing: (_, value) => (clears = !!value)
		})
	);
	const engine = $derived(engines.get(form.server?.engine));
	const hosts = $derived(engines.hasHosts(form.server?.engine));
	let name = $state('');
	let blueprint = $state('');
	let values = $state<Record<string, string>>({});
	let team = $state('');
	let teamHost = $state('');
	let options = $state<Options>({});
	/** Sessions in the template are ended. */
	let clears = $state(false);
	let problem = $state<Problem | null>(null);

	const load = () =>
		engines.load().then(
			() => (problem = null),
			(e) => (problem = problemOf(e))
		);
	$effect(() => void load());

	const intent = $derived.by((): Intent | null =>
		name
			? {
					kind: 'database.create',
					server,
					database: {
						name,
						blueprint: blueprint ? { name: blueprint, with: filled(values) } : undefined,
						team: team ? { name: team, host: teamHost || undefined } : undefined,
						options: given(options)
					},
					clearing: clears ? {} : undefined
				}
			: null
	);
	/** What is left empty is left to the blueprint. */
	const filled = (all: Record<string, string>) => Object.fromEntries(Object.entries(all).filter(([, v]) => v));
	const brief = $derived(intent ? form.brief : null);
	const aboutName = $derived(brief?.findings.filter((f) => f.code.startsWith('name.')) ?? []);
	const suggest = (f: Finding) => (name = f.suggestion ?? name);
</script>

<svelte:head><title>New database on {server} · Genarch</title></svelte:head>

<ChangeFormPage
	title="New database on {server}"
	{form}
	{intent}
	button="Show the brief{name ? ` for ${visible(name)}` : ''}"
	hint="Type a name; the statements that would run are shown here."
	rest={(f) => !f.option && !f.code.startsWith('name.')}
>
	{#if problem && !engine}<ErrorPanel {problem} retry={load} />
	{:else if !engine}<Skeleton rows={6} label="Reading what can be asked for" />
	{:else}
		<BlueprintFields environment={form.server?.environment} bind:chosen={blueprint} bind:values bind:name />
		<Field title="Name" findings={aboutName} onsuggest={suggest}>
			{#snippet children(id)}
				<input
					{id}
					name="name"
					class="input mono w-full"
					autocomplete="off"
					autocapitalize="none"
					spellcheck="false"
					required
					placeholder={form.server?.name_rule.suffix ? `…${form.server.name_rule.suffix}` : ''}
					bind:value={name}
					aria-invalid={aboutName.some((f) => f.level === 'stop')}
				/>
				{#if brief && aboutName.length === 0}<p class="text-success text-sm" role="status">
						{visible(name)} is free on {server}.
					</p>{/if}
			{/snippet}
		</Field>
		{#if !engine.team.why}<fieldset class="border-base-300 rounded-box flex flex-col gap-2 border px-4 py-3">
				<legend class="label-text px-1">Who will use it</legend>
				<div class="grid gap-4 {hosts ? 'sm:grid-cols-2' : ''}">
					<label class="flex flex-col gap-1"
						><span class="label-text">Team</span><input
							name="team"
							class="input mono w-full"
							autocomplete="off"
							autocapitalize="none"
							spellcheck="false"
							placeholder="tickets"
							bind:value={team}
						/></label
					>
					{#if hosts}<label class="flex flex-col gap-1"
							><span class="label-text">Host its accounts come from</span><input
								name="team_host"
								class="input mono w-full"
								autocomplete="off"
								placeholder="%"
								bind:value={teamHost}
							/></label
						>{/if}
				</div>
				<p class="quiet text-sm">{engine.team.says?.replaceAll('NAME', team ? visible(team) : 'NAME')}</p>
			</fieldset>{/if}
		<EngineFields
			{server}
			{engine}
			kind="database.create"
			bind:options
			{brief}
			without={team ? ['owner', 'private', 'allow'] : []}
		/>
		{#if clears}<label class="flex items-center gap-2"
				><input class="checkbox checkbox-sm" type="checkbox" name="clearing" bind:checked={clears} /> sessions in the template
				are ended</label
			>{/if}
	{/if}
</ChangeFormPage>

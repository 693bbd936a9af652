<script lang="ts">
	import { Act } from '../lib/act.svelte';
	import { api, problemOf, type Blueprint, type BlueprintCheck, type Problem } from '../lib/api';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import When from '../lib/When.svelte';
	import { go, param, route, to } from '../router';

	const begin = `format: 1
title: Database of a team
parameters:
  team:
    title: Team
    pattern: "[a-z][a-z0-9_]{1,20}"
name: "{team}_staging"
options:
  comment: "database of {team}"
team:
  name: "{team}"
`;
	const fresh = $derived(route.pathname === to.newBlueprint);
	const known = $derived(fresh ? '' : param('blueprint'));
	let name = $state('');
	let text = $state('');
	let kept = $state.raw<Blueprint | null>(null);
	let found = $state.raw<BlueprintCheck | null>(null);
	let problem = $state<Problem | null>(null);
	let schema = $state.raw<{ properties: Record<string, { description?: string }> } | null>(null);
	let typed = $state('');
	const [put, remove] = [new Act(), new Act()];

	async function load(): Promise<void> {
		try {
			schema = (await api.blueprintSchema()) as unknown as typeof schema;
			if (known) {
				kept = await api.blueprint(known);
				[name, text] = [kept.name, kept.text ?? ''];
			} else [name, text] = ['', begin];
			problem = null;
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => {
		void known;
		load();
	});
	// What is typed is checked a moment later.
	$effect(() => {
		const asked = text;
		if (!asked) return;
		const wait = setTimeout(
			() =>
				api.checkBlueprint(asked).then(
					(c) => asked === text && (found = c),
					() => (found = null)
				),
			250
		);
		return () => clearTimeout(wait);
	});
	const keep = () =>
		put.run(async () => {
			const b = await api.putBlueprint(name, text);
			if (fresh) go(to.blueprint(b.name));
			else kept = { ...b, text };
			return `Kept as version ${b.version}.`;
		});
	const removeIt = () =>
		remove.run(async () => {
			await api.removeBlueprint(known);
			go('/blueprints');
			return '';
		});
</script>

<svelte:head><title>{fresh ? 'New blueprint' : known} · Genarch</title></svelte:head>

<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<p><a class="link-plain" href="/blueprints">Blueprints</a></p>
	<h1>{fresh ? 'New blueprint' : known}</h1>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !schema}<Skeleton rows={8} label="Reading the blueprint" />
	{:else}
		{#if kept}<p class="quiet text-sm">
				Version {kept.version}, put there by {kept.operator}
				<When at={kept.created} />. Earlier versions stay on record.
			</p>{/if}
		<div class="mt-4 grid gap-x-10 gap-y-6 lg:grid-cols-[1fr_22rem]">
			<form class="flex min-w-0 flex-col gap-3" onsubmit={(e) => (e.preventDefault(), keep())}>
				{#if fresh}<label class="flex flex-col gap-1"
						><span class="label-text">Name</span><input
							name="name"
							class="input mono max-w-sm"
							autocomplete="off"
							autocapitalize="none"
							spellcheck="false"
							placeholder="team_staging"
							bind:value={name}
						/></label
					>{/if}
				<label class="flex flex-col gap-1"
					><span class="label-text">The recipe</span><textarea
						name="text"
						class="textarea mono h-[26rem] w-full leading-5"
						spellcheck="false"
						readonly={!session.may('admin')}
						aria-describedby="found"
						bind:value={text}></textarea></label
				>
				<div id="found" role="status">
					{#each found?.problems ?? [] as p (`${p.line}:${p.column}:${p.text}`)}<p class="text-error break-words">
							✕ {#if p.line}Line {p.line}, column {p.column}:{/if}
							{p.text}
						</p>{/each}
					{#if found && !found.problems.length}<p class="text-success">✓ It can be used.</p>{/if}
				</div>
				{#if session.may('admin')}
					<p class="flex flex-wrap items-center gap-3">
						<button
							class="btn btn-primary"
							disabled={put.busy || !name || !found || found.problems.length > 0 || text === kept?.text}
							>{fresh ? 'Keep it' : 'Keep as a new version'}</button
						>
						<span role="status">{put.done}</span>
					</p>
					{#if put.problem}<ErrorPanel problem={put.problem} retry={put.again} />{/if}
				{/if}
			</form>
			<div class="min-w-0">
				<h2 class="mb-1">What can stand there</h2>
				<dl>
					{#each Object.entries(schema.properties) as [key, about] (key)}<dt class="mono mt-2">{key}</dt>
						<dd class="quiet text-sm">{about.description ?? "A team's accounts are made with the database."}</dd>{/each}
				</dl>
				{#if found?.blueprint?.parameters.length}
					<h2 class="mt-6 mb-1">It asks for</h2>
					<ul>
						{#each found.blueprint.parameters as p (p.name)}<li class="py-0.5">
								<span class="mono">{p.name}</span>
								<span class="quiet text-sm"
									>{p.title ?? ''}{p.default === null ? '' : `, else ${p.default}`}{p.pattern
										? `, like ${p.pattern}`
										: ''}{p.values.length ? `, one of ${p.values.join(', ')}` : ''}</span
								>
							</li>{/each}
					</ul>
				{/if}
				{#if kept && session.may('admin')}
					<form class="border-base-300 mt-8 border-t pt-4" onsubmit={(e) => (e.preventDefault(), removeIt())}>
						<h2>Remove {known}</h2>
						<p class="quiet text-sm">What was made by it stays.</p>
						<p class="mt-2 flex flex-wrap items-end gap-3">
							<label class="flex flex-col gap-1"
								><span class="label-text">Type {known} to confirm</span><input
									name="remove"
									class="input input-sm mono"
									autocomplete="off"
									spellcheck="false"
									bind:value={typed}
								/></label
							>
							<button class="btn btn-sm btn-error" disabled={typed !== known || remove.busy}>Remove</button>
						</p>
						{#if remove.problem}<ErrorPanel problem={remove.problem} retry={remove.again} />{/if}
					</form>
				{/if}
			</div>
		</div>
	{/if}
</section>

<script lang="ts">
	import { api, problemOf, type Finding, type Problem } from '../lib/api';
	import Band from '../lib/Band.svelte';
	import Field from '../lib/Field.svelte';
	import Findings from '../lib/Findings.svelte';
	import { NewDatabaseForm } from '../lib/newDatabase.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import Trouble from '../lib/Trouble.svelte';
	import { visible, visibleText, said } from '../lib/format';
	import { go, param, to } from '../router';

	const name = $derived(param('server'));
	const form = $derived(new NewDatabaseForm(name));
	let busy = $state(false);
	let refused = $state<Problem | null>(null);

	$effect(() => {
		const f = form;
		f.load();
		return () => f.stop();
	});
	$effect(() => {
		void JSON.stringify(form.intent);
		form.check();
	});

	const shown = ['name', 'owner', 'encoding', 'collation', 'provider', 'locale', 'template', 'tablespace', 'option'];
	const rest = $derived(form.brief?.findings.filter((f) => !shown.some((p) => f.code.startsWith(p + '.'))) ?? []);
	const collations = $derived.by(() => {
		const encoding = form.spec.encoding || form.setting('encoding')?.value;
		return form.choices?.collations.filter((c) => (!c.encoding || c.encoding === encoding) && c.provider !== 'icu' && c.provider !== 'builtin') ?? [];
	});
	const locales = $derived(form.choices?.collations.filter((c) => c.provider === (form.spec.provider || form.setting('provider')?.value)) ?? []);

	function suggest(f: Finding): void {
		if (!f.suggestion) return;
		if (f.code.startsWith('name.')) form.spec.name = f.suggestion;
		else if (f.code.startsWith('owner.')) form.spec.owner = f.suggestion;
		else if (f.code.startsWith('encoding.')) form.spec.encoding = f.suggestion;
		else if (f.code.startsWith('template.')) form.spec.template = f.suggestion;
		else if (f.code.startsWith('collation.')) {
			if (f.suggestion === 'UTF8') form.spec.encoding = f.suggestion;
			else form.spec.collation = f.suggestion;
		}
	}

	async function submit(e: SubmitEvent): Promise<void> {
		e.preventDefault();
		if (busy || !form.spec.name) return;
		[busy, refused] = [true, null];
		try {
			const change = await api.ask($state.snapshot(form.intent));
			go(to.change(change.id));
		} catch (err) {
			refused = problemOf(err);
		} finally {
			busy = false;
		}
	}
</script>

<svelte:head><title>New database on {name} · Genarch</title></svelte:head>

<Band server={name} />
<section class="mx-auto max-w-6xl px-4 py-4 sm:px-6">
	<h1>New database on {name}</h1>
	{#if form.problem && !form.choices}<Trouble problem={form.problem} retry={() => form.load()} />
	{:else if !form.choices || !form.engine}<Skeleton rows={6} label="Reading what can be chosen" />
	{:else}
		{@const c = form.choices}
		<form class="mt-4 grid gap-x-12 gap-y-6 lg:grid-cols-[minmax(0,34rem)_minmax(0,1fr)]" onsubmit={submit}>
			<div class="flex flex-col gap-4">
				<Field title="Name" setting={form.spec.name ? undefined : form.setting('name')} findings={form.about('name')} onsuggest={suggest}>
					{#snippet children(id)}
						<input {id} name="name" class="input mono w-full" autocomplete="off" autocapitalize="none" spellcheck="false" required
							placeholder={form.server?.name_rule.suffix ? `…${form.server.name_rule.suffix}` : ''} bind:value={form.spec.name} aria-invalid={form.about('name').some((f) => f.level === 'stop')} />
						{#if form.spec.name && !form.checking && form.about('name').length === 0}<p class="text-success text-sm" role="status">{visible(form.spec.name)} is free on {name}.</p>{/if}
					{/snippet}
				</Field>
				<Field title={form.engine.has_owners ? 'Owner' : 'Owner (an account that gets all privileges on it)'} setting={form.setting('owner')} findings={form.about('owner')} onsuggest={suggest}>
					{#snippet children(id)}
						<input {id} name="owner" class="input mono w-full" list="owners" autocomplete="off" bind:value={form.spec.owner} />
						<datalist id="owners">{#each c.owners as o, i (i)}<option value={o}></option>{/each}</datalist>
					{/snippet}
				</Field>
				{#if form.has('template')}
					<Field title="Template" setting={form.setting('template')} findings={form.about('template')} onsuggest={suggest}>
						{#snippet children(id)}
							<select {id} name="template" class="select mono w-full" bind:value={form.spec.template}>
								<option value={undefined}>default</option>
								{#each c.templates as t (t.name)}<option value={t.name} disabled={!t.usable}>{t.name} ({t.encoding}, {t.collation}{t.sessions ? `, ${t.sessions} sessions in it` : ''})</option>{/each}
							</select>
						{/snippet}
					</Field>
				{/if}
				<div class="grid gap-4 sm:grid-cols-2">
					<Field title={form.engine.has_owners ? 'Encoding' : 'Character set'} setting={form.setting('encoding')} findings={form.about('encoding')} onsuggest={suggest}>
						{#snippet children(id)}
							<select {id} name="encoding" class="select mono w-full" bind:value={form.spec.encoding}>
								<option value={undefined}>default</option>
								{#each c.encodings as e (e.name)}<option value={e.name}>{e.name}</option>{/each}
							</select>
						{/snippet}
					</Field>
					<Field title="Collation" setting={form.setting('collation')} findings={form.about('collation')} onsuggest={suggest}>
						{#snippet children(id)}
							<input {id} name="collation" class="input mono w-full" list="collations" autocomplete="off" bind:value={form.spec.collation} />
							<datalist id="collations">{#each collations as l, i (i)}<option value={l.name}></option>{/each}</datalist>
						{/snippet}
					</Field>
				</div>
				<fieldset class="border-base-300 rounded-box flex flex-col gap-2 border px-4 py-3">
					<legend class="label-text px-1">Who will use it</legend>
					<div class="grid gap-4 {form.engine.has_hosts ? 'sm:grid-cols-2' : ''}">
						<label class="flex flex-col gap-1"><span class="label-text">Team</span><input name="team" class="input mono w-full" autocomplete="off" autocapitalize="none" spellcheck="false" placeholder="tickets" bind:value={form.team} /></label>
						{#if form.engine.has_hosts}<label class="flex flex-col gap-1"><span class="label-text">Host its accounts come from</span><input name="team_host" class="input mono w-full" autocomplete="off" placeholder="%" bind:value={form.teamHost} /></label>{/if}
					</div>
					<p class="quiet text-sm">{#if form.team}With it are made, and tried: the role <span class="mono">{visible(form.team)}_owner</span>, the accounts <span class="mono">{visible(form.team)}_app</span> (write) and <span class="mono">{visible(form.team)}_read</span> (read). Nobody else gets in.{:else}Makes with the database an owner role, an account for the application and one that reads, with passwords, and tries them.{/if}</p>
					{#if form.has('private') && !form.team}<label class="flex items-center gap-2"><input class="checkbox checkbox-sm" type="checkbox" bind:checked={form.spec.private} /> private: only its owner may connect</label>{/if}
				</fieldset>
				<Field title="Comment" setting={form.setting('comment')}>
					{#snippet children(id)}<input {id} name="comment" class="input w-full" autocomplete="off" bind:value={form.spec.comment} />{/snippet}
				</Field>
				{#if form.has('tablespace')}
					<details class="border-base-300 rounded-box border px-4 py-2">
						<summary class="cursor-pointer font-semibold">More settings</summary>
						<div class="mt-3 grid gap-4 pb-2 sm:grid-cols-2">
							<Field title="Character type" setting={form.setting('ctype')}>{#snippet children(id)}<input {id} name="ctype" class="input mono w-full" list="collations" bind:value={form.spec.ctype} />{/snippet}</Field>
							<Field title="Tablespace" setting={form.setting('tablespace')} findings={form.about('tablespace')}>
								{#snippet children(id)}<select {id} name="tablespace" class="select mono w-full" bind:value={form.spec.tablespace}><option value={undefined}>default</option>{#each c.tablespaces as t (t.name)}<option value={t.name}>{t.name}</option>{/each}</select>{/snippet}
							</Field>
							<Field title="Locale provider" setting={form.setting('provider')} findings={form.about('provider')}>
								{#snippet children(id)}<select {id} name="provider" class="select mono w-full" bind:value={form.spec.provider}><option value={undefined}>default</option>{#each c.providers as p (p)}<option value={p}>{p}</option>{/each}</select>{/snippet}
							</Field>
							<Field title="Locale" setting={form.setting('locale')} findings={form.about('locale')}>
								{#snippet children(id)}<input {id} name="locale" class="input mono w-full" list="locales" bind:value={form.spec.locale} /><datalist id="locales">{#each locales as l, i (i)}<option value={l.name}></option>{/each}</datalist>{/snippet}
							</Field>
							<Field title="Copy strategy" setting={form.setting('strategy')}>
								{#snippet children(id)}<select {id} name="strategy" class="select mono w-full" bind:value={form.spec.strategy}><option value={undefined}>default</option>{#each c.strategies as s (s)}<option value={s}>{s}</option>{/each}</select>{/snippet}
							</Field>
							<Field title="Connection limit" setting={form.setting('connection_limit')} findings={form.about('option')}>
								{#snippet children(id)}<input {id} name="connection_limit" class="input mono w-full" type="number" min="-1" bind:value={form.spec.connection_limit} />{/snippet}
							</Field>
							<Field title="Connections allowed" setting={form.setting('allow_connections')}>
								{#snippet children(id)}<select {id} name="allow_connections" class="select w-full" bind:value={form.spec.allow_connections}><option value={undefined}>default</option><option value={true}>yes</option><option value={false}>no</option></select>{/snippet}
							</Field>
							<Field title="May serve as template" setting={form.setting('is_template')}>
								{#snippet children(id)}<select {id} name="is_template" class="select w-full" bind:value={form.spec.is_template}><option value={undefined}>default</option><option value={true}>yes</option><option value={false}>no</option></select>{/snippet}
							</Field>
						</div>
					</details>
				{/if}
				{#if refused}<Trouble problem={refused} />{/if}
				<div class="flex flex-wrap items-center gap-3">
					<button class="btn btn-primary" disabled={busy || !form.spec.name}>Show the brief{form.spec.name ? ` for ${visible(form.spec.name)}` : ''}</button>
					<span class="quiet text-sm">Nothing runs yet.</span>
				</div>
			</div>
			<aside class="min-w-0">
				<p class="sr-only" role="status">{said(form.brief)}</p>
				{#if form.problem}<Trouble problem={form.problem} />{/if}
				{#if form.brief && form.spec.name}
					{#if rest.length}<h2 class="mb-2">What to know</h2><Findings findings={rest} />{/if}
					{#if form.brief.steps.length}
						<h2 class="mt-4 mb-2">The statements so far</h2>
						{#each form.brief.steps as s, i (i)}{#if s.statement}<pre class="sql mb-2">{visibleText(s.statement)}</pre>{/if}{/each}
					{:else if form.brief.stopped}<p class="quiet">The statements are shown here when nothing stands in the way.</p>{/if}
				{:else}<p class="quiet">Type a name; the statements that would run are shown here.</p>{/if}
			</aside>
		</form>
	{/if}
</section>

<script lang="ts">
	import { Act } from '../lib/act.svelte';
	import {
		api,
		problemOf,
		type Problem,
		type Server,
		type ServerInput,
		type ServerPatch,
		type Status
	} from '../lib/api';
	import { engines } from '../lib/engines.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import Facts from '../lib/Facts.svelte';
	import KeepingFields from '../lib/KeepingFields.svelte';
	import NameRuleFields from '../lib/NameRuleFields.svelte';
	import { registered } from '../lib/registered.svelte';
	import ServerFields from '../lib/ServerFields.svelte';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import When from '../lib/When.svelte';
	import { go, param, to } from '../router';

	const name = $derived(param('server'));
	let server = $state.raw<Server | null>(null);
	let status = $state.raw<Status | null>(null);
	let problem = $state<Problem | null>(null);
	let input = $state<ServerInput | null>(null);
	let rule = $state<Server['name_rule']>({ free: false, suffix: '', max_length: 0 });
	let keeping = $state<Server['keeping']>({ days: 0, discard: false });
	let typed = $state('');
	const [edit, rules, accept, mark, forget] = [new Act(), new Act(), new Act(), new Act(), new Act()];
	const engine = $derived(engines.get(server?.engine));

	/** Looks at the server afresh; what is being filled in stays. */
	async function load(): Promise<void> {
		try {
			const check = await api.checkServer(name);
			[server, status, problem] = [check.server, check.status, null];
			fill(check.server);
		} catch (e) {
			problem = problemOf(e);
		}
	}
	function fill(s: Server): void {
		input ??= {
			name: s.name,
			engine: s.engine,
			host: s.host,
			port: s.port,
			admin: s.admin,
			secret: '',
			options: { ...s.options },
			client_addresses: [...s.client_addresses],
			environment: s.environment,
			labels: { ...s.labels },
			tls: s.tls
		};
		[rule, keeping] = [{ ...s.name_rule }, { ...s.keeping }];
	}
	$effect(() => {
		void name;
		load();
	});

	/** Sends what differs; the password goes with it when the way to the server is another one. */
	const save = () =>
		edit.run(async () => {
			if (!server || !input) return '';
			const patch: ServerPatch = { version: server.version };
			const now = server as unknown as Record<string, unknown>;
			for (const [key, value] of Object.entries($state.snapshot(input))) {
				if (['name', 'engine', 'secret', 'name_rule'].includes(key)) continue;
				if (value !== undefined && JSON.stringify(value) !== JSON.stringify(now[key] ?? ''))
					(patch as unknown as Record<string, unknown>)[key] = value;
			}
			if (input.secret) patch.secret = input.secret;
			if (Object.keys(patch).length === 1) return 'Nothing was altered.';
			await keep(await api.editServer(name, patch));
			return 'The registration is altered.';
		});
	const saveRules = () =>
		rules.run(async () => {
			if (!server) return '';
			const patch = { name_rule: $state.snapshot(rule), keeping: $state.snapshot(keeping) };
			await keep(await api.editServer(name, { version: server.version, ...patch }));
			return 'They hold from now on.';
		});
	async function keep(s: Server): Promise<void> {
		[server, input] = [s, null];
		await Promise.all([registered.load(), load()]);
	}
	const acceptFound = (key: string) =>
		accept.run(async () => {
			await keep(await api.acceptServer(name, key));
			return `${name} is known by that instance from now on.`;
		});
	const writeMark = () =>
		mark.run(async () => {
			go(to.change((await api.ask({ kind: 'server.mark', server: name })).id));
			return '';
		});
	const forgetIt = () =>
		forget.run(async () => {
			await api.forgetServer(name);
			await registered.load();
			go('/');
			return '';
		});

	const marks = (identity: { key: string; marks?: Record<string, string> } | undefined) =>
		identity ? [identity.key, ...Object.entries(identity.marks ?? {}).map(([k, v]) => `${k} ${v}`)].join(', ') : 'none';
	const markable = $derived(engine && !engine.intents['server.mark']?.why);
	const found = $derived(status?.trouble?.found);
	const facts = $derived(
		server
			? [
					{ title: 'known by', value: marks(server.identity) },
					{
						title: 'answers as',
						value: found ? marks(found) : status?.reachable ? marks(status.identity) : 'does not answer',
						remark: found ? 'another instance than the one that is known: nothing runs there' : undefined
					},
					{ title: 'version', value: status?.version || 'not known' },
					{ title: 'connection', value: status?.encrypted ? 'protected by TLS' : 'without TLS' },
					{ title: 'login', value: status?.login || server.admin },
					...(status?.read_only ? [{ title: 'read only', value: status.read_only }] : [])
				]
			: []
	);
</script>

<svelte:head><title>Settings of {name} · Genarch</title></svelte:head>

<EnvironmentBanner server={name} version={status?.version} />
<section class="mx-auto max-w-7xl px-4 py-4 sm:px-6">
	<div class="flex flex-wrap items-end justify-between gap-3">
		<h1>Settings of {name}</h1>
		<button class="btn btn-sm" onclick={load}>Check it now</button>
	</div>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !server || !status}<Skeleton rows={8} label="Looking at the server" />
	{:else}
		<p class="quiet text-sm">checked <When at={status.read} /></p>
		{#each server.cautions ?? [] as text (text)}<p
				class="border-warning bg-base-200 rounded-box mt-3 max-w-3xl border-l-4 px-4 py-2"
			>
				{text}
			</p>{/each}
		{#if status.trouble}<ErrorPanel problem={status.trouble} />{/if}
		<div class="mt-4 grid gap-x-12 gap-y-8 lg:grid-cols-2">
			<div class="min-w-0">
				<h2 class="mb-1">Which instance it is</h2>
				<Facts {facts} />
				{#if session.may('admin')}
					{#if found}<button
							class="btn btn-sm btn-error mt-3"
							disabled={accept.busy}
							onclick={() => acceptFound(found.key)}>Accept the instance that answers now</button
						>{/if}
					{#if markable && status.reachable && !server.identity.marks?.marker}<button
							class="btn btn-sm mt-3"
							disabled={mark.busy}
							onclick={writeMark}>Mark it for certain …</button
						>{/if}
				{/if}
				{#each [accept, mark] as a, i (i)}{#if a.problem}<ErrorPanel problem={a.problem} retry={a.again} />{/if}{/each}
				<h2 class="mt-6 mb-1">What Genarch's login may do</h2>
				<ul>
					{#each status.abilities ?? [] as ability (ability.code)}
						{@const good = ability.allowed !== !!ability.unneeded}
						<li class="border-base-300/60 border-b py-1.5" data-ability={ability.code} data-allowed={ability.allowed}>
							<span aria-hidden="true" class="inline-block w-5">{good ? '✓' : '✕'}</span>
							<span class={good ? '' : 'font-semibold'}
								>{ability.allowed ? 'may' : 'may not'}
								{ability.title}{ability.unneeded
									? good
										? ', as it should be'
										: ', which its work does without'
									: ''}</span
							>
							{#if !good && ability.remedy}<p class="quiet pl-5 text-sm">
									To {ability.unneeded ? 'take it' : 'allow it'}, as an administrator:
								</p>
								<pre class="sql ml-5">{ability.remedy}</pre>{/if}
						</li>
					{:else}<li class="quiet py-1.5">Not known while the server does not answer.</li>{/each}
				</ul>
			</div>
			<div class="min-w-0">
				{#if session.may('admin') && input}
					<form onsubmit={(e) => (e.preventDefault(), saveRules())}>
						<h2 class="mb-1">Names of new databases</h2>
						<NameRuleFields bind:rule />
						<h2 class="mt-6 mb-1">What is set aside</h2>
						<KeepingFields bind:keeping />
						<p class="mt-2 flex flex-wrap items-center gap-3">
							<button class="btn btn-sm" disabled={rules.busy}>Keep these rules</button>
							<span role="status">{rules.done}</span>
						</p>
						{#if rules.problem}<ErrorPanel problem={rules.problem} retry={rules.again} />{/if}
					</form>
					<form class="mt-6" onsubmit={(e) => (e.preventDefault(), save())}>
						<h2 class="mb-2">Registration</h2>
						<ServerFields bind:input known={server} />
						<p class="mt-3 flex flex-wrap items-center gap-3">
							<button class="btn btn-sm btn-primary" disabled={edit.busy}>Alter the registration</button>
							<span class="quiet text-sm" role="status"
								>{edit.done || 'Another address, login or TLS is tried first, and needs the password.'}</span
							>
						</p>
						{#if edit.problem}<ErrorPanel problem={edit.problem} retry={edit.again} />{/if}
					</form>
					<form class="border-base-300 mt-8 border-t pt-4" onsubmit={(e) => (e.preventDefault(), forgetIt())}>
						<h2>Forget {name}</h2>
						<p class="quiet text-sm">
							The registration and its history go; nothing on the server is touched, and the journal stays.
						</p>
						<p class="mt-2 flex flex-wrap items-end gap-3">
							<label class="flex flex-col gap-1"
								><span class="label-text">Type {name} to confirm</span><input
									name="forget"
									class="input input-sm mono"
									autocomplete="off"
									autocapitalize="none"
									spellcheck="false"
									bind:value={typed}
								/></label
							>
							<button class="btn btn-sm btn-error" disabled={typed !== name || forget.busy}>Forget {name}</button>
						</p>
						{#if forget.problem}<ErrorPanel problem={forget.problem} retry={forget.again} />{/if}
					</form>
				{:else}
					<h2 class="mb-1">Registration</h2>
					<Facts
						facts={[
							{ title: 'address', value: `${server.host}:${server.port}` },
							{ title: 'TLS', value: server.tls },
							{ title: 'environment', value: server.environment },
							{
								title: 'names of databases',
								value: server.name_rule.free
									? 'any that the engine takes'
									: `end in ${server.name_rule.suffix || 'anything'}`
							},
							{
								title: 'what is set aside',
								value:
									(server.keeping.days
										? `kept for certain for ${server.keeping.days} days`
										: 'kept as long as its environment has it') + (server.keeping.discard ? ', then discarded' : '')
							}
						]}
					/>
				{/if}
			</div>
		</div>
	{/if}
</section>

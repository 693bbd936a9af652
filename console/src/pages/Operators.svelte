<script lang="ts">
	import { Act } from '../lib/act.svelte';
	import { api, problemOf, type Operator, type Problem, type Token } from '../lib/api';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import { exact } from '../lib/format';
	import { session } from '../lib/session.svelte';
	import Skeleton from '../lib/Skeleton.svelte';
	import When from '../lib/When.svelte';

	const permissions = ['view', 'request', 'run', 'admin'] as const;
	const means: Record<string, string> = {
		view: 'sees everything but data in statements',
		request: 'asks for changes',
		run: 'lets changes run',
		admin: 'registers servers, and says who may do what'
	};
	let operators = $state.raw<Operator[] | null>(null);
	let tokens = $state.raw<Token[]>([]);
	let problem = $state<Problem | null>(null);
	let fresh = $state({ name: '', program: false, password: '', permissions: ['view'] as string[] });
	let token = $state({ operator: '', title: '', days: 90, permissions: [] as string[] });
	let secret = $state('');
	let old = $state(false);
	const [adding, editing, making, revoking] = [new Act(), new Act(), new Act(), new Act()];
	const programs = $derived(operators?.filter((o) => o.program && !o.disabled) ?? []);
	const shown = $derived(
		tokens.filter((t) => old || (!t.revoked && !(t.expires && t.expires < new Date().toISOString())))
	);

	async function load(): Promise<void> {
		try {
			[operators, tokens, problem] = [await api.operators(), await api.tokens(), null];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => void load());

	const add = () =>
		adding.run(async () => {
			const { name, program, password } = fresh;
			await api.addOperator({
				name,
				program,
				permissions: [...fresh.permissions],
				password: program ? undefined : password
			});
			fresh = { name: '', program: false, password: '', permissions: ['view'] };
			await load();
			return `${name} is added.`;
		});
	const toggle = (o: Operator, permission: string) =>
		editing.run(async () => {
			const now = o.permissions.includes(permission)
				? o.permissions.filter((p) => p !== permission)
				: [...o.permissions, permission];
			await api.editOperator(o.name, { permissions: now });
			await load();
			return `${o.name} may ${now.join(', ') || 'do nothing'} from now on.`;
		});
	const disable = (o: Operator) =>
		editing.run(async () => {
			await api.editOperator(o.name, { disabled: !o.disabled });
			await load();
			return o.disabled ? `${o.name} may sign in again.` : `${o.name} may not sign in any more; all access has ended.`;
		});
	const make = () =>
		making.run(async () => {
			secret = '';
			const made = await api.addToken({ ...$state.snapshot(token) });
			secret = made.secret ?? '';
			token.title = '';
			await load();
			return `The token is made. It is shown once:`;
		});
	const revoke = (t: Token) =>
		revoking.run(async () => {
			await api.revokeToken(t.id);
			await load();
			return `Token ${t.id} is revoked.`;
		});
</script>

<svelte:head><title>Operators · Genarch</title></svelte:head>

<section class="mx-auto max-w-7xl px-4 py-5 sm:px-6">
	<h1>Operators</h1>
	{#if problem}<ErrorPanel {problem} retry={load} />
	{:else if !operators}<Skeleton label="Reading the operators" />
	{:else}
		<div class="overflow-x-auto">
			<table class="ledger mt-2">
				<thead
					><tr
						><th scope="col">Name</th><th scope="col">Kind</th>{#each permissions as p (p)}<th
								scope="col"
								title={means[p]}>{p}</th
							>{/each}<th scope="col" class="hidden sm:table-cell">Added</th><th scope="col"
							><span class="sr-only">Sign-in</span></th
						></tr
					></thead
				>
				<tbody>
					{#each operators as o (o.name)}
						<tr data-operator={o.name} class={o.disabled ? 'quiet' : ''}>
							<td class="mono"
								>{o.name}{#if o.name === session.name}{' '}<span class="quiet font-sans">you</span>{/if}</td
							>
							<td>{o.program ? 'program' : 'person'}{o.disabled ? ', disabled' : ''}</td>
							{#each permissions as p (p)}<td
									><input
										class="checkbox checkbox-sm"
										type="checkbox"
										aria-label="{o.name} may {p}"
										checked={o.permissions.includes(p)}
										disabled={editing.busy}
										onclick={(e) => (e.preventDefault(), toggle(o, p))}
									/></td
								>{/each}
							<td class="quiet hidden text-sm sm:table-cell"><When at={o.created ?? ''} /></td>
							<td
								>{#if o.name !== session.name}<button
										class="btn btn-xs"
										disabled={editing.busy}
										onclick={() => disable(o)}
										>{o.disabled ? 'Enable' : 'Disable'}<span class="sr-only"> {o.name}</span></button
									>{/if}</td
							>
						</tr>
					{/each}
				</tbody>
			</table>
		</div>
		<p class="mt-1" role="status">{editing.done}</p>
		{#if editing.problem}<ErrorPanel problem={editing.problem} retry={editing.again} />{/if}

		<div class="mt-6 grid gap-x-12 gap-y-8 lg:grid-cols-2">
			<form class="flex flex-col gap-3" onsubmit={(e) => (e.preventDefault(), add())}>
				<h2>Add an operator</h2>
				<label class="flex flex-col gap-1"
					><span class="label-text">Name</span><input
						name="operator"
						class="input mono w-full max-w-sm"
						maxlength="64"
						autocomplete="off"
						autocapitalize="none"
						spellcheck="false"
						required
						bind:value={fresh.name}
					/></label
				>
				<label class="flex items-center gap-2"
					><input class="checkbox checkbox-sm" type="checkbox" name="program" bind:checked={fresh.program} /> a program: it
					signs in with tokens only</label
				>
				{#if !fresh.program}<label class="flex flex-col gap-1"
						><span class="label-text">First password; they set another one</span><input
							name="operator_password"
							type="password"
							class="input w-full max-w-sm"
							minlength="12"
							autocomplete="new-password"
							required
							bind:value={fresh.password}
						/></label
					>{/if}
				<fieldset class="flex flex-col gap-1">
					<legend class="label-text mb-1">Permissions</legend>
					{#each permissions as p (p)}<label class="flex items-baseline gap-2"
							><input class="checkbox checkbox-sm" type="checkbox" value={p} bind:group={fresh.permissions} />
							<span><span class="font-semibold">{p}</span> <span class="quiet">{means[p]}</span></span></label
						>{/each}
				</fieldset>
				<p class="flex flex-wrap items-center gap-3">
					<button class="btn btn-primary" disabled={adding.busy || !fresh.name}
						>Add {fresh.name || 'an operator'}</button
					>
					<span role="status">{adding.done}</span>
				</p>
				{#if adding.problem}<ErrorPanel problem={adding.problem} retry={adding.again} />{/if}
			</form>
			<div class="min-w-0">
				<div class="flex flex-wrap items-baseline justify-between gap-2">
					<h2>Tokens</h2>
					<label class="flex items-center gap-2 text-sm"
						><input class="checkbox checkbox-sm" type="checkbox" bind:checked={old} /> revoked and expired too</label
					>
				</div>
				{#each shown as t (t.id)}
					<p class="border-base-300/60 flex flex-wrap items-baseline gap-x-3 border-b py-1.5" data-token={t.id}>
						<span class="mono">{t.operator}</span>
						<span class="break-words">{t.title}</span>
						<span class="quiet text-sm"
							>{t.permissions?.length ? `only ${t.permissions.join(', ')}; ` : ''}{t.revoked
								? 'revoked'
								: t.expires
									? `until ${exact(t.expires)}`
									: 'without end'}{t.last_used ? '' : '; not used yet'}</span
						>
						{#if !t.revoked}<button class="btn btn-xs" disabled={revoking.busy} onclick={() => revoke(t)}
								>Revoke<span class="sr-only"> token {t.id}</span></button
							>{/if}
					</p>
				{:else}<p class="quiet py-1.5">None.</p>{/each}
				<p role="status">{revoking.done}</p>
				{#if revoking.problem}<ErrorPanel problem={revoking.problem} retry={revoking.again} />{/if}
				<form class="mt-4 flex flex-wrap items-end gap-3" onsubmit={(e) => (e.preventDefault(), make())}>
					<label class="flex flex-col gap-1"
						><span class="label-text">For</span><select
							name="token_operator"
							class="select"
							required
							bind:value={token.operator}
							><option value="" disabled>a program, or you</option><option value={session.name}
								>{session.name}, yourself</option
							>{#each programs as o (o.name)}<option value={o.name}>{o.name}</option>{/each}</select
						></label
					>
					<label class="flex flex-col gap-1"
						><span class="label-text">What it is for</span><input
							name="token_title"
							class="input w-56"
							maxlength="100"
							required
							bind:value={token.title}
						/></label
					>
					<label class="flex flex-col gap-1"
						><span class="label-text">Days</span><input
							name="token_days"
							type="number"
							min="1"
							max="3650"
							class="input mono w-24"
							required
							bind:value={token.days}
						/></label
					>
					<button class="btn" disabled={making.busy || !token.operator}>Make a token</button>
				</form>
				<p role="status" class="mt-2">{making.done}</p>
				{#if secret}<pre class="sql" data-secret>{secret}</pre>{/if}
				{#if making.problem}<ErrorPanel problem={making.problem} retry={making.again} />{/if}
			</div>
		</div>
	{/if}
</section>

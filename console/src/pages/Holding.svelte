<script lang="ts">
	import { api, problemOf, type Holding, type Intent, type Problem } from '../lib/api';
	import ChangeFormPage from '../lib/ChangeFormPage.svelte';
	import { ChangeForm } from '../lib/changeForm.svelte';
	import EnvironmentBanner from '../lib/EnvironmentBanner.svelte';
	import ErrorPanel from '../lib/ErrorPanel.svelte';
	import Facts from '../lib/Facts.svelte';
	import { size, visible } from '../lib/format';
	import Skeleton from '../lib/Skeleton.svelte';
	import { param, to } from '../router';

	type Act = 'back' | 'keep' | 'discard';
	const server = $derived(param('server'));
	const id = $derived(param('holding'));
	let holding = $state.raw<Holding | null>(null);
	let problem = $state<Problem | null>(null);
	let act = $state<Act>('back');
	let name = $state('');
	let until = $state('');
	let hold = $state('');
	const form = $derived(
		new ChangeForm(server, {
			new_name: (_, value) => (name = String(value)),
			until: (_, value) => (until = String(value))
		})
	);

	async function load(): Promise<void> {
		try {
			const list = await api.holdings(server);
			holding = list.holdings.find((h) => h.id === id) ?? null;
			problem = holding
				? null
				: {
						title: 'Not found',
						status: 404,
						code: 'holding.absent',
						detail: `Nothing that was set aside waits as ${visible(id)} on ${server}.`,
						next: 'It was brought back or discarded meanwhile.'
					};
			[until, hold] = [holding?.until ?? '', holding?.hold ?? ''];
		} catch (e) {
			problem = problemOf(e);
		}
	}
	$effect(() => {
		load();
	});

	const intent = $derived.by((): Intent | null => {
		const h = holding;
		if (!h) return null;
		const which = { id, account: h.kind === 'account' || undefined };
		if (act === 'back')
			return { kind: 'holding.bring_back', server, holding: { ...which, new_name: name || undefined } };
		if (act === 'discard') return { kind: 'holding.discard', server, holding: which };
		const release = !!h.hold && !hold;
		const spec = {
			...which,
			until: until && until !== h.until ? until : undefined,
			hold: hold && hold !== h.hold ? hold : undefined,
			release: release || undefined
		};
		return spec.until || spec.hold || release ? { kind: 'holding.keep', server, holding: spec } : null;
	});
	const shown = $derived(visible(holding?.name ?? ''));
	const buttons: Record<Act, string> = $derived({
		back: `Show the brief for bringing ${shown} back`,
		keep: `Show the brief for keeping ${shown}`,
		discard: `Show the brief for discarding ${shown}`
	});
	const facts = $derived(
		holding
			? [
					{ title: 'was set aside', value: holding.since },
					{ title: 'kept for certain until', value: holding.until },
					...(holding.discard ? [{ title: 'then', value: 'discarded by Genarch, as is the rule on ' + server }] : []),
					...(holding.hold ? [{ title: 'must not be discarded', value: holding.hold }] : []),
					...(holding.kind === 'account' ? [] : [{ title: 'size', value: size(holding.size) }]),
					...(holding.tables === null ? [] : [{ title: 'tables', value: String(holding.tables) }]),
					...(holding.owner ? [{ title: 'owner', value: holding.owner }] : []),
					...(holding.comment ? [{ title: 'comment', value: holding.comment }] : []),
					{ title: 'waits as', value: holding.id }
				]
			: []
	);
</script>

<svelte:head><title>{shown || 'Holding'} · set aside on {server} · Genarch</title></svelte:head>

{#if !holding}
	<EnvironmentBanner {server} />
	<section class="mx-auto max-w-6xl px-4 py-4 sm:px-6">
		{#if problem}<ErrorPanel {problem} retry={load} />{:else}<Skeleton label="Reading what was set aside" />{/if}
	</section>
{:else}
	<ChangeFormPage
		title="{holding.kind === 'account' ? 'Account ' : ''}{shown}, set aside"
		{form}
		{intent}
		button={buttons[act]}
		hint={act === 'keep' ? 'Choose another day, or say why it must not be discarded.' : 'Reading what waits there.'}
	>
		<Facts {facts} />
		{#if holding.set_aside_by}<p class="text-sm">
				<a class="link-plain" href={to.change(holding.set_aside_by.change)}>Change {holding.set_aside_by.change}</a>
				by {holding.set_aside_by.operator} set it aside.
			</p>{/if}
		<fieldset class="flex flex-col gap-2">
			<legend class="label-text mb-1">What becomes of it</legend>
			<label class="flex items-baseline gap-2"
				><input class="radio radio-sm" type="radio" name="act" value="back" bind:group={act} />
				<span><span class="font-semibold">Bring it back</span>, as it was.</span></label
			>
			<label class="ml-7 flex flex-wrap items-center gap-2"
				>under the name <input
					class="input input-sm mono w-60"
					name="new_name"
					autocomplete="off"
					autocapitalize="none"
					spellcheck="false"
					placeholder={holding.name}
					bind:value={name}
					disabled={act !== 'back'}
				/></label
			>
			<label class="flex items-baseline gap-2"
				><input class="radio radio-sm" type="radio" name="act" value="keep" bind:group={act} />
				<span><span class="font-semibold">Keep it</span> longer, or less long.</span></label
			>
			<div class="ml-7 flex flex-wrap items-center gap-2">
				<label class="flex items-center gap-2"
					>until <input
						class="input input-sm"
						name="until"
						type="date"
						bind:value={until}
						disabled={act !== 'keep'}
					/></label
				>
				<label class="flex items-center gap-2"
					>must not be discarded: <input
						class="input input-sm w-60"
						name="hold"
						placeholder="why; empty: no such reason"
						maxlength="300"
						bind:value={hold}
						disabled={act !== 'keep'}
					/></label
				>
			</div>
			<label class="flex items-baseline gap-2"
				><input class="radio radio-sm radio-error" type="radio" name="act" value="discard" bind:group={act} />
				<span><span class="text-error font-semibold">Discard it.</span> Nothing can bring it back.</span></label
			>
		</fieldset>
	</ChangeFormPage>
{/if}

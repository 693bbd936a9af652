<script lang="ts">
	import {
		api,
		problemOf,
		type Brief,
		type Choice,
		type Choices,
		type Engine,
		type EngineField,
		type Finding,
		type Intent,
		type Problem
	} from './api';
	import { optionsOf, property, type Options, valueText } from './engines.svelte';
	import Field from './Field.svelte';
	import FieldInput from './FieldInput.svelte';
	import Skeleton from './Skeleton.svelte';
	import ErrorPanel from './ErrorPanel.svelte';

	type Props = {
		server: string;
		engine: Engine;
		kind: Intent['kind'];
		/** The part of the intent that the options belong to; its own, if nothing is said. */
		part?: string;
		options: Options;
		/** The brief of what is filled in: it says defaults and what is wrong where. */
		brief: Brief | null;
		/** The thing as it is, where the form alters one. */
		now?: { properties: Record<string, unknown> };
		/** The kind of account or role that the form is about. */
		principal?: string;
		/** Fields that have a place of their own in the form. */
		without?: string[];
		/** What stands for leaving a field as it is. */
		unset?: string;
	};
	let {
		server,
		engine,
		kind,
		part,
		options = $bindable(),
		brief,
		now,
		principal,
		without = [],
		unset = 'default'
	}: Props = $props();

	const fields = $derived(
		optionsOf(engine, kind, part).filter(
			(f) => !without.includes(f.name) && (!principal || !f.for || f.for.includes(principal))
		)
	);
	const first = $derived(fields.filter((f) => !f.group));
	const groups = $derived([...new Set(fields.flatMap((f) => (f.group ? [f.group] : [])))]);
	let choices = $state.raw<Choices['choices'] | null>(null);
	let problem = $state<Problem | null>(null);

	$effect(() => {
		const keys = [
			...new Set(fields.flatMap((f) => [f, ...(f.columns ?? [])]).flatMap((f) => (f.from ? [f.from] : [])))
		];
		if (!keys.length) {
			choices = {};
			return;
		}
		api.choices(server, keys).then(
			(c) => ([choices, problem] = [c.choices, null]),
			(e) => (problem = problemOf(e))
		);
	});

	const setting = (name: string) => brief?.settings.find((s) => s.name === name);
	const about = (name: string): Finding[] => brief?.findings.filter((f) => f.option === name) ?? [];

	/** What is offered for a field: of a narrowed one only what goes with the value that narrows it. */
	function offered(f: EngineField): Choice[] {
		const from = f.from ?? f.columns?.find((c) => c.from)?.from;
		const all = from ? (choices?.[from] ?? []) : [];
		if (!f.by) return all;
		const by = valueText(options[f.by]) || setting(f.by)?.value || (now ? valueText(property(now, f.by)) : '');
		return by ? all.filter((c) => !c.for || c.for === by) : all;
	}
	function suggest(f: Finding): void {
		if (f.option && f.suggestion) options[f.option] = f.suggestion;
	}
	/** What the field says of itself until the brief has it. */
	const own = (f: EngineField): Brief['settings'][number] => ({
		name: f.name,
		value: now || unset !== 'default' ? '' : (f.default ?? ''),
		asked: !!now || unset !== 'default',
		decides: f.decides,
		fixed: !!f.fixed
	});
</script>

{#snippet one(f: EngineField)}
	<Field title={f.title} setting={setting(f.name) ?? own(f)} findings={about(f.name)} onsuggest={suggest}>
		{#snippet children(id)}
			<FieldInput
				{id}
				field={f}
				choices={offered(f)}
				unset={now && f.show && f.type !== 'text' && f.type !== 'number' ? '' : now ? (f.show ? '' : 'no') : unset}
				bind:value={options[f.name]}
			/>
		{/snippet}
	</Field>
{/snippet}

{#if problem}<ErrorPanel {problem} />{/if}
{#if !choices && !problem}<Skeleton rows={5} label="Reading what can be chosen" />{:else}
	{#each first as f (f.name)}
		{#if !f.with || options[f.with]}{@render one(f)}{/if}
	{/each}
	{#each groups as group (group)}
		<details class="border-base-300 rounded-box border px-4 py-2" open={!!now}>
			<summary class="cursor-pointer font-semibold">{group}</summary>
			<div class="mt-3 grid gap-4 pb-2 sm:grid-cols-2">
				{#each fields.filter((f) => f.group === group && (!f.with || options[f.with])) as f (f.name)}
					<div class={f.type === 'table' || f.type === 'long' ? 'sm:col-span-2' : ''}>{@render one(f)}</div>
				{/each}
			</div>
		</details>
	{/each}
{/if}

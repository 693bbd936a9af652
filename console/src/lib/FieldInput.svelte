<script lang="ts">
	import type { Choice, EngineField } from './api';
	import type { Row } from './engines.svelte';
	import { exactSize, visible } from './format';

	type Props = {
		/** The label names it by this. */
		id: string;
		field: EngineField;
		/** What can be chosen, already narrowed. */
		choices?: Choice[];
		/** What stands for leaving it as it is: "default", or nothing where there is a value. */
		unset?: string;
		value: unknown;
	};
	let { id, field, choices = [], unset = 'default', value = $bindable() }: Props = $props();

	/** More than so many are searched by typing, not read through. */
	const readable = 60;
	const offered = $derived(
		choices.length ? choices : (field.values ?? []).map((v): Choice => ({ name: v.name, title: v.title }))
	);
	const select = $derived(
		field.type === 'pick' && !field.free && !field.by && offered.length > 0 && offered.length <= readable
	);
	const rows = $derived((value as Row[] | undefined) ?? []);
	/** A table of many columns: each has its title above it. */
	const wide = $derived((field.columns?.length ?? 0) > 2);
	const words = $derived((field.values ?? []).map((v) => v.name).join(', '));

	function remark(c: Choice): string {
		const more = ['encoding', 'collation', 'location']
			.map((k) => c.properties?.[k])
			.filter((x) => typeof x === 'string');
		const sessions = c.properties?.sessions;
		if (typeof sessions === 'number' && sessions > 0) more.push(`${sessions} sessions in it`);
		return more.length ? ` (${more.join(', ')})` : '';
	}
	/** A cell as people write it: a size that was read is a number of bytes. */
	function cellText(c: EngineField, value: unknown): string {
		return c.type === 'size' && typeof value === 'number' ? exactSize(value) : String(value ?? '');
	}
	function setCell(i: number, column: string, text: string): void {
		value = rows.map((r, j) => (j === i ? { ...r, [column]: text } : r));
	}
</script>

{#if field.type === 'bool'}
	<select {id} name={field.name} class="select w-full" bind:value>
		{#if unset}<option value={undefined}>{unset}</option>{/if}
		<option value={true}>yes</option><option value={false}>no</option>
	</select>
{:else if select}
	<select {id} name={field.name} class="select mono w-full" bind:value>
		{#if unset}<option value={undefined}>{unset}</option>{/if}
		{#each offered as c (c.name)}<option value={c.name} disabled={!!c.why}>{visible(c.name)}{remark(c)}</option>{/each}
	</select>
{:else if field.type === 'list'}
	<textarea
		{id}
		name={field.name}
		class="textarea mono w-full"
		rows="2"
		placeholder="one a line"
		spellcheck="false"
		bind:value={
			() => ((value as string[] | undefined) ?? []).join('\n'),
			(text) => (value = text.split('\n').filter((line) => line !== ''))
		}></textarea>
{:else if field.type === 'long'}
	<textarea {id} name={field.name} class="textarea mono w-full" rows="4" spellcheck="false" bind:value></textarea>
{:else if field.type === 'table'}
	<div {id} role="group" aria-label={field.title} class="flex flex-col gap-2">
		{#each rows as row, i (i)}
			<div class="flex flex-wrap items-center gap-2">
				{#each field.columns ?? [] as c (c.name)}
					{#snippet cell()}<input
							name="{field.name}_{c.name}"
							class="input input-sm mono min-w-24 flex-1"
							aria-label="{c.title} {i + 1}"
							placeholder={wide ? undefined : c.title}
							autocomplete="off"
							spellcheck="false"
							list={c.from ? `${id}-offered` : undefined}
							value={cellText(c, row[c.name])}
							oninput={(e) => setCell(i, c.name, e.currentTarget.value)}
						/>{/snippet}
					{#if wide}
						<label class="flex min-w-32 flex-1 flex-col text-sm">
							<span class="quiet">{c.title}</span>{@render cell()}
						</label>
					{:else}{@render cell()}{/if}
				{/each}
				<button type="button" class="btn btn-sm" onclick={() => (value = rows.filter((_, j) => j !== i))}
					>Take away<span class="sr-only"> {row[field.key ?? ''] ?? ''}</span></button
				>
			</div>
		{/each}
		<button type="button" class="btn btn-sm self-start" onclick={() => (value = [...rows, {}])}>Add one</button>
		{#if choices.length}<datalist id="{id}-offered"
				>{#each choices as c (c.name)}<option value={c.name}>{c.title ?? ''}</option>{/each}</datalist
			>{/if}
	</div>
{:else}
	<input
		{id}
		name={field.name}
		class="input w-full {field.name === 'comment' ? '' : 'mono'}"
		autocomplete="off"
		autocapitalize="none"
		spellcheck="false"
		inputmode={field.type === 'number' && !words ? 'numeric' : undefined}
		placeholder={words}
		list={offered.length && choices.length ? `${id}-offered` : undefined}
		bind:value={
			() => (value === undefined ? '' : String(value)), (text) => (value = text === '' && unset ? undefined : text)
		}
	/>
	{#if choices.length}<datalist id="{id}-offered"
			>{#each choices as c, i (i)}<option value={c.name}>{c.title ?? ''}</option>{/each}</datalist
		>{/if}
{/if}

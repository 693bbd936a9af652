<script lang="ts">
	import { Combobox } from 'bits-ui';
	import { visible } from './format';

	/** One of many: typed to narrow, arrows to choose, Enter to take. Where it is free, what is typed counts too. */
	type Option = { value: string; title?: string };
	type Props = {
		id: string;
		name: string;
		label?: string;
		options: Option[];
		value: string;
		free?: boolean;
		placeholder?: string;
	};
	let { id, name, label, options, value = $bindable(), free = false, placeholder = '' }: Props = $props();

	/** So many are drawn; typing finds the others. */
	const drawn = 100;
	let typed = $state<string | null>(null);
	let open = $state(false);
	const found = $derived.by(() => {
		const words = (typed ?? '').toLowerCase().split(/\s+/).filter(Boolean);
		return options.filter((o) => words.every((w) => `${o.value} ${o.title ?? ''}`.toLowerCase().includes(w)));
	});

	function type(text: string): void {
		typed = text;
		open = true;
		if (free || options.some((o) => o.value === text)) value = text;
	}
</script>

<Combobox.Root
	type="single"
	bind:value
	bind:open
	inputValue={typed ?? value}
	onOpenChangeComplete={(now) => {
		if (!now) typed = null;
	}}
>
	<Combobox.Input
		{id}
		{name}
		aria-label={label}
		class="input mono w-full"
		autocomplete="off"
		autocapitalize="none"
		spellcheck={false}
		{placeholder}
		oninput={(e) => type(e.currentTarget.value)}
		onclick={() => (open = true)}
	/>
	<Combobox.Portal>
		<Combobox.Content
			sideOffset={4}
			class="bg-base-100 border-base-300 rounded-box z-30 max-h-64 min-w-(--bits-combobox-anchor-width) overflow-auto border p-1 shadow"
		>
			{#each found.slice(0, drawn) as o (o.value)}
				<Combobox.Item
					value={o.value}
					label={o.value}
					class="mono data-highlighted:bg-base-200 cursor-pointer px-2 py-1 break-all"
					>{visible(o.value)}{#if o.title}<span class="quiet font-sans text-sm">&ensp;{o.title}</span
						>{/if}</Combobox.Item
				>
			{:else}<p class="quiet px-2 py-1 text-sm">{free ? 'none fits; what is typed is taken' : 'none fits'}</p>{/each}
			{#if found.length > drawn}<p class="quiet px-2 py-1 text-sm">
					and {found.length - drawn} more; type to narrow
				</p>{/if}
		</Combobox.Content>
	</Combobox.Portal>
</Combobox.Root>

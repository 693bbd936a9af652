<script lang="ts">
	import type { Server, ServerInput } from './api';
	import { engines } from './engines.svelte';
	import Field from './Field.svelte';
	import FieldInput from './FieldInput.svelte';

	/** Where a server is and how Genarch signs in there. What was known is filled in; the password never is. */
	type Props = { input: ServerInput; known?: Server };
	let { input = $bindable(), known }: Props = $props();

	const engine = $derived(engines.get(input.engine));
	const fields = $derived(engine?.fields.server ?? []);
	const labels = {
		get text() {
			return Object.entries(input.labels ?? {})
				.map(([k, v]) => `${k}=${v}`)
				.join('\n');
		},
		set text(text: string) {
			input.labels = Object.fromEntries(
				text
					.split('\n')
					.filter((l) => l.includes('='))
					.map((l) => [l.slice(0, l.indexOf('=')).trim(), l.slice(l.indexOf('=') + 1).trim()])
			);
		}
	};
</script>

<div class="grid gap-4 sm:grid-cols-2">
	{#if !known}
		<Field title="Name">
			{#snippet children(id)}<input
					{id}
					name="name"
					class="input mono w-full"
					autocomplete="off"
					autocapitalize="none"
					spellcheck="false"
					required
					bind:value={input.name}
				/>{/snippet}
		</Field>
		<Field title="Engine">
			{#snippet children(id)}<select {id} name="engine" class="select w-full" required bind:value={input.engine}
					>{#each engines.all as e (e.id)}<option value={e.id}>{e.title}</option>{/each}</select
				>{/snippet}
		</Field>
	{/if}
	<Field title="Host">
		{#snippet children(id)}<input
				{id}
				name="host"
				class="input mono w-full"
				autocomplete="off"
				spellcheck="false"
				required
				bind:value={input.host}
			/>{/snippet}
	</Field>
	<Field title="Port">
		{#snippet children(id)}<input
				{id}
				name="port"
				type="number"
				min="1"
				max="65535"
				class="input mono w-full"
				placeholder={String(engine?.port ?? '')}
				bind:value={() => input.port || undefined, (n) => (input.port = n ?? 0)}
			/>{/snippet}
	</Field>
	<Field title="Genarch's login there">
		{#snippet children(id)}<input
				{id}
				name="admin"
				class="input mono w-full"
				autocomplete="off"
				autocapitalize="none"
				spellcheck="false"
				required
				bind:value={input.admin}
			/>{/snippet}
	</Field>
	<Field title="Its password">
		{#snippet children(id)}<input
				{id}
				name="secret"
				type="password"
				class="input w-full"
				autocomplete="off"
				required={!known}
				placeholder={known ? 'the one that is kept' : ''}
				bind:value={input.secret}
			/>{/snippet}
	</Field>
	<Field title="Environment">
		{#snippet children(id)}<select {id} name="environment" class="select w-full" bind:value={input.environment}
				>{#each ['production', 'staging', 'development'] as e (e)}<option value={e}>{e}</option>{/each}</select
			>{/snippet}
	</Field>
	<Field title="TLS">
		{#snippet children(id)}<select {id} name="tls" class="select w-full" bind:value={input.tls}
				>{#if !known}<option value={undefined}>off on this machine, else verified</option>{/if}<option value="verified"
					>verified: the certificate is good for the host</option
				><option value="required">required: the certificate is known by its key</option><option value="off">off</option
				></select
			>{/snippet}
	</Field>
	{#if input.tls === 'verified'}<div class="sm:col-span-2">
			<Field title="Certificate of its authority (PEM), where that is your own">
				{#snippet children(id)}<textarea
						{id}
						name="ca"
						class="textarea mono w-full"
						rows="3"
						spellcheck="false"
						bind:value={input.ca}></textarea>{/snippet}
			</Field>
		</div>{/if}
	{#if input.tls === 'required'}<div class="sm:col-span-2">
			<Field title="Key of the server's certificate, sha256:…; empty: the one that it shows now">
				{#snippet children(id)}<input
						{id}
						name="server_key"
						class="input mono w-full"
						autocomplete="off"
						bind:value={input.server_key}
					/>{/snippet}
			</Field>
		</div>{/if}
	{#each fields as f (f.name)}
		<Field title={f.title} setting={{ name: f.name, value: '', asked: true, fixed: false, decides: f.decides }}>
			{#snippet children(id)}<FieldInput
					{id}
					field={f}
					bind:value={() => input.options?.[f.name], (value) => (input.options = { ...input.options, [f.name]: value })}
				/>{/snippet}
		</Field>
	{/each}
	<Field title="Where clients find it, HOST[:PORT], one a line; empty: the same address">
		{#snippet children(id)}<textarea
				{id}
				name="client_addresses"
				class="textarea mono w-full"
				rows="2"
				spellcheck="false"
				bind:value={
					() => (input.client_addresses ?? []).join('\n'),
					(text) => (input.client_addresses = text.split('\n').filter(Boolean))
				}></textarea>{/snippet}
	</Field>
	<Field title="Labels, key=value, one a line">
		{#snippet children(id)}<textarea
				{id}
				name="labels"
				class="textarea mono w-full"
				rows="2"
				spellcheck="false"
				bind:value={() => labels.text, (text) => (labels.text = text)}></textarea>{/snippet}
	</Field>
</div>

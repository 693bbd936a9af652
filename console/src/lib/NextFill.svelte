<script lang="ts">
	import { api, type Change } from './api';
	import { engines } from './engines.svelte';
	import { registered } from './registered.svelte';
	import { session } from './session.svelte';
	import { to } from '../router';

	/** A database that was created by a blueprint with a script: the way to fill it. */
	type Props = { change: Change };
	let { change }: Props = $props();

	const use = $derived(change.asked?.database?.blueprint);
	const server = $derived(change.asked?.server ?? '');
	const database = $derived(change.asked?.database?.name ?? '');
	const engine = $derived(engines.get(registered.get(server)?.engine));
	let there = $state(false);
	$effect(() => {
		const id = engine?.id;
		if (!use || !id || change.kind !== 'database.create' || change.state !== 'done' || !session.may('request')) return;
		api.blueprint(use.name, use.version).then(
			(b) => (there = !!b.scripts?.[id]),
			() => (there = false)
		);
	});
</script>

{#if there && use}<p class="my-4">
		<a
			class="btn btn-primary h-auto min-h-10 py-1"
			href={`${to.fill(server, database)}?${new URLSearchParams({ blueprint: `${use.name}:${use.version ?? 0}` })}`}
			>Fill it with the script of blueprint {use.name} …</a
		>
	</p>{/if}

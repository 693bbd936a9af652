<script lang="ts">
	import { api } from './api';
	import { go, to } from '../router';
	import { visible } from './format';

	type Entry = { text: string; kind: string; environment: string; address: string };
	let dialog = $state<HTMLDialogElement>();
	let typed = $state('');
	let entries = $state<Entry[]>([]);
	let chosen = $state(0);
	let note = $state('');

	const pages: Entry[] = [
		{ text: 'Fleet', kind: 'page', environment: '', address: '/' },
		{ text: 'Changes', kind: 'page', environment: '', address: '/changes' },
		{ text: 'Journal', kind: 'page', environment: '', address: '/journal' }
	];
	const shown = $derived.by(() => {
		const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
		const fits = (e: Entry) => words.every((w) => e.text.toLowerCase().includes(w) || e.environment.startsWith(w));
		return [...pages, ...entries].filter(fits).slice(0, 40);
	});

	export async function open(): Promise<void> {
		typed = '';
		chosen = 0;
		dialog?.showModal();
		await load();
	}

	/** Servers first, then the databases of each as they come. */
	async function load(): Promise<void> {
		note = 'reading …';
		try {
			const servers = await api.servers();
			entries = servers.flatMap((s) => [
				{ text: s.name, kind: 'server', environment: s.environment, address: to.server(s.name) },
				{ text: `access on ${s.name}`, kind: 'page', environment: s.environment, address: to.access(s.name) }
			]);
			const [lists, people] = await Promise.all([
				Promise.allSettled(servers.map((s) => api.databases(s.name, false))),
				Promise.allSettled(servers.map((s) => api.accounts(s.name)))
			]);
			const found: Entry[] = [];
			let silent = 0;
			for (const l of lists) {
				if (l.status === 'rejected') {
					silent++;
					continue;
				}
				for (const d of l.value.databases)
					found.push({ text: d.address, kind: 'database', environment: l.value.environment, address: to.database(l.value.server, d.name) });
			}
			for (const l of people) {
				if (l.status === 'rejected') continue;
				for (const a of l.value.accounts)
					found.push({ text: a.address, kind: a.kind, environment: l.value.environment, address: to.account(l.value.server, { name: a.name, host: a.host, role: a.kind === 'role' && l.value.engine === 'mariadb' }) });
			}
			entries = [...entries, ...found];
			note = silent ? `${lists.length - silent} of ${lists.length} servers answered` : '';
		} catch {
			note = 'Genarch does not answer';
		}
	}

	function pick(e: Entry | undefined): void {
		if (!e) return;
		dialog?.close();
		go(e.address);
	}

	function onkeydown(e: KeyboardEvent): void {
		if (e.key === 'ArrowDown') chosen = Math.min(chosen + 1, shown.length - 1);
		else if (e.key === 'ArrowUp') chosen = Math.max(chosen - 1, 0);
		else if (e.key === 'Enter') pick(shown[chosen]);
		else return;
		e.preventDefault();
	}
</script>

<dialog bind:this={dialog} class="modal" aria-label="Go to">
	<div class="modal-box rounded-box max-w-xl p-0">
		<input
			class="input input-lg w-full rounded-none border-0 border-b focus:outline-none"
			type="text"
			role="combobox"
			aria-expanded="true"
			aria-controls="palette-list"
			aria-activedescendant={shown.length ? `palette-${chosen}` : undefined}
			aria-label="Server, database, account or page"
			placeholder="Server, database, account or page"
			bind:value={typed}
			oninput={() => (chosen = 0)}
			{onkeydown}
		/>
		<ul id="palette-list" role="listbox" aria-label="Matches" class="max-h-96 overflow-y-auto py-1">
			{#each shown as e, i (e.address)}
				<!-- svelte-ignore a11y_click_events_have_key_events (the box above takes the keys) -->
				<li
					id="palette-{i}"
					role="option"
					aria-selected={i === chosen}
					class="flex cursor-pointer items-baseline gap-3 px-4 py-1.5 {i === chosen ? 'bg-base-300' : ''}"
					onclick={() => pick(e)}
					onpointermove={() => (chosen = i)}
				>
					<span class="mono min-w-0 flex-1 truncate">{visible(e.text)}</span>
					<span class="quiet text-sm">{e.environment} {e.kind}</span>
				</li>
			{:else}
				<li class="quiet px-4 py-2" role="option" aria-selected="false">Nothing fits.</li>
			{/each}
		</ul>
		{#if note}<p class="quiet border-base-300 border-t px-4 py-1.5 text-sm">{note}</p>{/if}
	</div>
	<form method="dialog" class="modal-backdrop"><button aria-label="Close">close</button></form>
</dialog>

<script lang="ts">
	import { api, problemOf, type Found } from './api';
	import { go, to } from '../router';
	import { visible } from './format';

	type Entry = { text: string; kind: string; environment: string; address: string };
	let dialog = $state<HTMLDialogElement>();
	let typed = $state('');
	let entries = $state<Entry[]>([]);
	let chosen = $state(0);
	let note = $state('');
	/** What the entries are the answer to; and whether Enter was pressed before it came. */
	let answered = '';
	let wanted = false;
	let timer: ReturnType<typeof setTimeout> | undefined;
	let abort: AbortController | null = null;

	const pages: Entry[] = [
		{ text: 'Fleet', kind: 'page', environment: '', address: '/' },
		{ text: 'Changes', kind: 'page', environment: '', address: '/changes' },
		{ text: 'Holding: what was set aside', kind: 'page', environment: '', address: '/holdings' },
		{ text: 'Blueprints', kind: 'page', environment: '', address: '/blueprints' },
		{ text: 'Journal', kind: 'page', environment: '', address: '/journal' },
		{ text: 'Compare two accounts', kind: 'page', environment: '', address: '/compare' },
		{ text: 'Register a server', kind: 'page', environment: '', address: '/new-server' },
		{ text: 'Operators and tokens', kind: 'page', environment: '', address: '/operators' }
	];
	const shown = $derived.by(() => {
		const words = typed.toLowerCase().split(/\s+/).filter(Boolean);
		return [...pages.filter((e) => words.every((w) => e.text.toLowerCase().includes(w))), ...entries].slice(0, 40);
	});

	export function open(): void {
		typed = '';
		wanted = false;
		chosen = 0;
		entries = [];
		dialog?.showModal();
		search();
	}

	/** Asks for what fits, once typing rests; an answer that was overtaken is dropped. */
	function search(): void {
		clearTimeout(timer);
		abort?.abort();
		timer = setTimeout(async () => {
			const [mine, asked] = [(abort = new AbortController()), typed];
			try {
				const r = await api.search(asked, mine.signal);
				[entries, answered] = [r.found.flatMap(entriesOf), asked];
				if (wanted && asked === typed) pick(shown[chosen]);
				const left = r.total > r.found.length ? `${r.found.length} of ${r.total} that fit` : '';
				const silent = r.answered < r.servers ? `${r.answered} of ${r.servers} servers answered` : '';
				note = [left, silent].filter(Boolean).join(' · ');
			} catch (e) {
				wanted = false;
				if (!mine.signal.aborted) note = problemOf(e).detail;
			}
		}, 120);
	}

	function entriesOf(f: Found): Entry[] {
		const shared = { text: f.address, kind: f.kind, environment: f.environment };
		switch (f.kind) {
			case 'server':
				return [
					{ ...shared, address: to.server(f.name) },
					{ ...shared, text: `access on ${f.name}`, kind: 'page', address: to.access(f.name) }
				];
			case 'database':
				return [{ ...shared, address: to.database(f.server, f.name) }];
			default:
				return [{ ...shared, address: to.account(f.server, f) }];
		}
	}

	function pick(e: Entry | undefined): void {
		wanted = false;
		if (!e) return;
		dialog?.close();
		go(e.address);
	}

	function onkeydown(e: KeyboardEvent): void {
		if (e.key === 'ArrowDown') chosen = Math.min(chosen + 1, shown.length - 1);
		else if (e.key === 'ArrowUp') chosen = Math.max(chosen - 1, 0);
		else if (e.key === 'Enter') {
			// What fitted before the last letter may be another database.
			if (answered === typed) pick(shown[chosen]);
			else wanted = true;
		} else return;
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
			oninput={() => (([chosen, wanted] = [0, false]), search())}
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

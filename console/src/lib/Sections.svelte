<script lang="ts">
	import { visible } from './format';
	import { param, route, to } from '../router';

	/** The sections of a server, or of the database that the page is about: they stay wherever one is within it. */
	const server = $derived(route.pathname.startsWith('/servers/') ? param('server') : '');
	const database = $derived(server ? param('database') : '');
	const base = $derived(to.server(server));
	const inside = $derived(to.database(server, database));
	type Section = { title: string; address: string; covers: string[] };
	const ofServer = $derived<Section[]>([
		{ title: 'Databases', address: base, covers: ['/databases', '/new-database'] },
		{
			title: 'Accounts',
			address: to.accounts(server),
			covers: ['/access', '/accounts', '/roles', '/new-account', '/new-grant']
		},
		{ title: 'Sessions', address: to.sessions(server), covers: ['/sessions'] },
		{ title: 'Changes', address: to.changes(server), covers: ['/changes'] },
		{ title: 'Settings', address: to.settings(server), covers: ['/settings'] }
	]);
	const ofDatabase = $derived<Section[]>([
		{ title: 'Overview', address: inside, covers: ['/drop', '/rename'] },
		{
			title: 'Access',
			address: to.databaseAccess(server, database),
			covers: ['/access', '/handover', '/accounts', '/roles']
		},
		{ title: 'Sessions', address: to.sessions(server, database), covers: ['/sessions'] },
		{ title: 'Changes', address: to.changes(server, database), covers: ['/changes'] },
		{ title: 'Properties', address: to.properties(server, database), covers: ['/properties', '/alter'] }
	]);
	/** The address of the page, without what stands in front of its sections. */
	const here = (section: Section, base: string) =>
		route.pathname === section.address || section.covers.some((c) => route.pathname.slice(base.length).startsWith(c));
</script>

{#snippet row(label: string, sections: Section[], base: string, name = '')}
	<nav class="border-base-300 flex flex-wrap gap-x-1 border-b px-2 text-sm sm:px-4" aria-label={label}>
		{#if name}<span class="mono max-w-64 truncate px-2 py-1.5" title={name}>{name}</span>{/if}
		{#each sections as s (s.title)}
			{@const current = here(s, base)}
			<a
				href={s.address}
				aria-current={current ? 'page' : undefined}
				class="hover:bg-base-200 px-2 py-1.5 {current
					? 'font-semibold underline decoration-2 underline-offset-8'
					: 'quiet'}">{s.title}</a
			>
		{/each}
	</nav>
{/snippet}

{#if server}
	{@render row(`Sections of ${server}`, ofServer, base)}
	{#if database}{@render row(`Sections of ${visible(database)}`, ofDatabase, inside, visible(database))}{/if}
{/if}

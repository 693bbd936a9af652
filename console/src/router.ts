// Every use of the router library goes through this file.
import { createRouter, Router } from 'sv-router';
import Fleet from './pages/Fleet.svelte';
import Change from './pages/Change.svelte';
import Changes from './pages/Changes.svelte';
import Database from './pages/Database.svelte';
import Journal from './pages/Journal.svelte';
import NewDatabase from './pages/NewDatabase.svelte';
import NotFound from './pages/NotFound.svelte';
import Server from './pages/Server.svelte';

export const { p, navigate, isActive, route } = createRouter({
	'/': Fleet,
	'/servers/:server': Server,
	'/servers/:server/new-database': NewDatabase,
	'/servers/:server/databases/:database': Database,
	'/changes': Changes,
	'/changes/:id': Change,
	'/journal': Journal,
	'*': NotFound
});

export { Router };

/** The address of a page as text, for links to what is only known at run time. */
export const to = {
	server: (name: string) => `/servers/${encodeURIComponent(name)}`,
	newDatabase: (server: string) => `/servers/${encodeURIComponent(server)}/new-database`,
	database: (server: string, name: string) =>
		`/servers/${encodeURIComponent(server)}/databases/${encodeURIComponent(name)}`,
	change: (id: number) => `/changes/${id}`
};

/** Goes to an address made by `to`. */
export function go(address: string): void {
	// The library's types know the patterns only, not addresses made from them.
	(navigate as unknown as (path: string) => void)(address);
}

/** A parameter of the present address. */
export function param(name: string): string {
	return (route.params as Record<string, string | undefined>)[name] ?? '';
}

// Every use of the router library goes through this file.
import { createRouter, Router } from 'sv-router';
import Place from './lib/Place.svelte';
import Fleet from './pages/Fleet.svelte';
import NotFound from './pages/NotFound.svelte';

// What most visits do not open is fetched when it is wanted.
const Access = () => import('./pages/Access.svelte');
const Accounts = () => import('./pages/Accounts.svelte');
const Compare = () => import('./pages/Compare.svelte');
const DatabaseAccess = () => import('./pages/DatabaseAccess.svelte');
const DatabaseProperties = () => import('./pages/DatabaseProperties.svelte');
const NewServer = () => import('./pages/NewServer.svelte');
const Operators = () => import('./pages/Operators.svelte');
const ServerSettings = () => import('./pages/ServerSettings.svelte');
const AlterAccount = () => import('./pages/AlterAccount.svelte');
const AccountPage = () => import('./pages/Account.svelte');
const AlterDatabase = () => import('./pages/AlterDatabase.svelte');
const BlueprintPage = () => import('./pages/Blueprint.svelte');
const Blueprints = () => import('./pages/Blueprints.svelte');
const Changes = () => import('./pages/Changes.svelte');
const Database = () => import('./pages/Database.svelte');
const Server = () => import('./pages/Server.svelte');
const Change = () => import('./pages/Change.svelte');
const DropAccount = () => import('./pages/DropAccount.svelte');
const DropDatabase = () => import('./pages/DropDatabase.svelte');
const FillDatabase = () => import('./pages/FillDatabase.svelte');
const GrantPage = () => import('./pages/Grant.svelte');
const HandoverPage = () => import('./pages/Handover.svelte');
const HoldingPage = () => import('./pages/Holding.svelte');
const Holdings = () => import('./pages/Holdings.svelte');
const Journal = () => import('./pages/Journal.svelte');
const NewAccount = () => import('./pages/NewAccount.svelte');
const NewDatabase = () => import('./pages/NewDatabase.svelte');
const RenameDatabase = () => import('./pages/RenameDatabase.svelte');
const Sessions = () => import('./pages/Sessions.svelte');
const You = () => import('./pages/You.svelte');

export const { p, navigate, isActive, route } = createRouter({
	layout: Place,
	'/': Fleet,
	'/servers/:server': Server,
	'/servers/:server/new-database': NewDatabase,
	'/servers/:server/databases/:database': Database,
	'/servers/:server/databases/:database/access': DatabaseAccess,
	'/servers/:server/databases/:database/properties': DatabaseProperties,
	'/servers/:server/databases/:database/handover': HandoverPage,
	'/servers/:server/databases/:database/drop': DropDatabase,
	'/servers/:server/databases/:database/fill': FillDatabase,
	'/servers/:server/databases/:database/rename': RenameDatabase,
	'/servers/:server/databases/:database/alter': AlterDatabase,
	'/servers/:server/databases/:database/sessions': Sessions,
	'/servers/:server/sessions': Sessions,
	'/servers/:server/changes': Changes,
	'/servers/:server/databases/:database/changes': Changes,
	'/servers/:server/access': Access,
	'/servers/:server/accounts': Accounts,
	'/servers/:server/accounts/:account': AccountPage,
	'/servers/:server/roles/:account': AccountPage,
	'/servers/:server/settings': ServerSettings,
	'/servers/:server/accounts/:account/alter': AlterAccount,
	'/servers/:server/roles/:account/alter': AlterAccount,
	'/servers/:server/databases/:database/accounts/:account/alter': AlterAccount,
	'/servers/:server/databases/:database/roles/:account/alter': AlterAccount,
	'/servers/:server/accounts/:account/drop': DropAccount,
	'/servers/:server/roles/:account/drop': DropAccount,
	'/servers/:server/databases/:database/accounts/:account': AccountPage,
	'/servers/:server/databases/:database/roles/:account': AccountPage,
	'/servers/:server/databases/:database/accounts/:account/drop': DropAccount,
	'/servers/:server/databases/:database/roles/:account/drop': DropAccount,
	'/servers/:server/new-account': NewAccount,
	'/servers/:server/new-grant': GrantPage,
	'/servers/:server/holdings/:holding': HoldingPage,
	'/holdings': Holdings,
	'/blueprints': Blueprints,
	'/blueprints/:blueprint': BlueprintPage,
	'/new-blueprint': BlueprintPage,
	'/new-server': NewServer,
	'/compare': Compare,
	'/operators': Operators,
	'/changes': Changes,
	'/changes/:id': Change,
	'/journal': Journal,
	'/you': You,
	'*': NotFound
});

export { Router };

/** The address of a page as text, for links to what is only known at run time. */
export const to = {
	server: (name: string) => `/servers/${encodeURIComponent(name)}`,
	newDatabase: (server: string) => `/servers/${encodeURIComponent(server)}/new-database`,
	database: (server: string, name: string) =>
		`/servers/${encodeURIComponent(server)}/databases/${encodeURIComponent(name)}`,
	databaseAccess: (server: string, name: string) => `${to.database(server, name)}/access`,
	properties: (server: string, name: string) => `${to.database(server, name)}/properties`,
	handover: (server: string, name: string) =>
		`/servers/${encodeURIComponent(server)}/databases/${encodeURIComponent(name)}/handover`,
	sessions: (server: string, database = '') =>
		database ? `${to.database(server, database)}/sessions` : `${to.server(server)}/sessions`,
	drop: (server: string, name: string) => `${to.database(server, name)}/drop`,
	fill: (server: string, name: string) => `${to.database(server, name)}/fill`,
	rename: (server: string, name: string) => `${to.database(server, name)}/rename`,
	alter: (server: string, name: string) => `${to.database(server, name)}/alter`,
	changes: (server: string, database = '') => `${database ? to.database(server, database) : to.server(server)}/changes`,
	settings: (server: string) => `${to.server(server)}/settings`,
	accounts: (server: string) => `${to.server(server)}/accounts`,
	access: (server: string) => `/servers/${encodeURIComponent(server)}/access`,
	account: (server: string, who: Who) =>
		`${who.database ? to.database(server, who.database) : to.server(server)}/${who.role ? 'roles' : 'accounts'}/${encodeURIComponent(whoText({ ...who, database: '' }))}`,
	holdings: (server = '') => `/holdings${server ? `?${new URLSearchParams({ server })}` : ''}`,
	holding: (server: string, id: string) => `${to.server(server)}/holdings/${encodeURIComponent(id)}`,
	blueprint: (name: string) => `/blueprints/${encodeURIComponent(name)}`,
	newBlueprint: '/new-blueprint',
	newAccount: (server: string) => `/servers/${encodeURIComponent(server)}/new-account`,
	newGrant: (server: string, database = '', who = '') =>
		`/servers/${encodeURIComponent(server)}/new-grant?${new URLSearchParams({ database, who })}`,
	compare: (left = '', right = '') => `/compare?${new URLSearchParams({ left, right })}`,
	change: (id: number) => `/changes/${id}`
};

/** What names an account or role: with its host or the database that it lies in, where there are such. */
export type Who = { name: string; host?: string; database?: string; role?: boolean };

/** An account as people write it. */
export function whoText(who: Who): string {
	if (who.database) return `${who.database}/${who.name}`;
	return who.host ? `${who.name}@${who.host}` : who.name;
}

/** The address of a database as the API and the CLI write it: a name that reads as another kind gets a prefix. */
export function databaseAddress(server: string, name: string): string {
	const another = /^([^/]*\/)?(account|role|session|database):/.test(name);
	return `${server}/${another ? 'database:' : ''}${name}`;
}

/** Goes to an address made by `to`. */
export function go(address: string): void {
	// The library's types know the patterns only, not addresses made from them.
	(navigate as unknown as (path: string) => void)(address);
}

/** A parameter of the present address. */
export function param(name: string): string {
	return (route.params as Record<string, string | undefined>)[name] ?? '';
}

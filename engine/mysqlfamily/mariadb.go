package mysqlfamily

import (
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// mariaID names it on the wire, in the records and in the CLI.
const mariaID catalog.Engine = "mariadb"

// mariaLimits: MariaDB counts characters and stores no character beyond U+FFFF in a
// name. It would take 64, but the escaped name must fit a grant's 64 too, so
// new names keep well below.
var mariaLimits = naming.Limits{MaxLength: 48, Counted: naming.Characters, BMPOnly: true,
	Reserved: append(append([]string{}, system...), markerDatabase, "public", "none")}

// mariaAccountLimits: what the server takes of an account's name without altering it.
var mariaAccountLimits = naming.Limits{MaxLength: 80, Counted: naming.Characters, BMPOnly: true,
	Reserved: []string{"public", "none", "current_user", "current_role", "mariadb.sys"}}

// people are the kinds of principals that sign in.
var people = []string{"account"}

// mariaDB is MariaDB, versions 10.6 and later.
var mariaDB = product{description: &mariaDescription, limits: mariaLimits, accountLimits: mariaAccountLimits,
	abilities: mariaAbilities, setUp: mariaSetUp,
	recognises: func(version string) bool { return strings.Contains(version, "MariaDB") },
	identity:   mariaIdentity,
	instance: `SELECT VERSION(), CURRENT_USER(), CASE WHEN @@innodb_read_only THEN 'innodb_read_only is on'
			WHEN @@read_only THEN 'read_only is on (it may be a replica)' ELSE '' END, @@max_connections,
		@@character_set_server, @@collation_server,
		(SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'THREADS_CONNECTED'),
		(SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'UPTIME'),
		(SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'SLAVES_RUNNING'),
		COALESCE((SELECT VARIABLE_VALUE FROM information_schema.SESSION_STATUS WHERE VARIABLE_NAME = 'SSL_CIPHER'),
				'')`,
	processlist: "information_schema.PROCESSLIST",
	comment:     "SCHEMA_COMMENT",
	tablespaces: "information_schema.INNODB_SYS_TABLESPACES",
	outsideKeys: `SELECT FOR_NAME, REF_NAME FROM information_schema.INNODB_SYS_FOREIGN WHERE REF_NAME LIKE
			CONCAT(?, '/%') AND FOR_NAME NOT LIKE CONCAT(?, '/%') LIMIT 200`,
	collationName: mariaCollationName,
	entries:       mariaEntries,
	accountNames: `SELECT User, Host FROM mysql.global_priv
		WHERE NOT COALESCE(JSON_VALUE(Priv, '$.is_role'), 0) AND User NOT IN ('', 'PUBLIC', 'mariadb.sys') ORDER BY
				1, 2 LIMIT 20000`,
	owner: `SELECT User, Host FROM mysql.global_priv WHERE BINARY User = ? AND (? = '' OR Host = ?)
		AND NOT COALESCE(JSON_VALUE(Priv, '$.is_role'), 0) ORDER BY 2`,
	memberships: mariaMemberships,
	member:      `SELECT COUNT(*) FROM mysql.roles_mapping WHERE BINARY User = ? AND Host = ? AND BINARY Role = ?`,
	holders:     mariaHolders, databaseColumns: mariaDatabaseColumns,
	lines: "SELECT p.ID, p.USER, p.HOST, COALESCE(p.DB, ''), p.COMMAND, p.TIME_MS, COALESCE(p.STATE, ''), " +
		"LEFT(COALESCE(p.INFO, ''), 4000), " + beganSQL + " FROM information_schema.PROCESSLIST p LIMIT 50000",
	rowWaits: `SELECT DISTINCT r.trx_mysql_thread_id, b.trx_mysql_thread_id FROM information_schema.INNODB_LOCK_WAITS w
			JOIN information_schema.INNODB_TRX r ON r.trx_id = w.requesting_trx_id JOIN
					information_schema.INNODB_TRX b ON b.trx_id = w.blocking_trx_id LIMIT 5000`,
	shows: `SELECT @@performance_schema, EXISTS (SELECT 1 FROM information_schema.PLUGINS WHERE PLUGIN_NAME
			= 'METADATA_LOCK_INFO' AND PLUGIN_STATUS = 'ACTIVE')`,
	metadataLocks: `SELECT THREAD_ID, COALESCE(LOCK_MODE, ''), COALESCE(LOCK_TYPE, ''), COALESCE(TABLE_SCHEMA, ''),
			COALESCE(TABLE_NAME, '') FROM information_schema.METADATA_LOCK_INFO LIMIT 100000`,
	locksHidden: "Sessions that use a database without having it as their default show only with a plugin: " +
		"INSTALL SONAME 'metadata_lock_info'",
	prepared: mariaPrepared, isBackup: mariaBackup,
	kill: "KILL SOFT CONNECTION ", killStatement: "KILL SOFT QUERY ", compound: true,
	bundles: mariaBundles, placeholder: may.DeleteHistory,
	copies:      "MariaDB has nothing by which a copy can be told from the original.",
	cluster:     "SELECT @@wsrep_on",
	clusterText: "There a drop waits for nobody and aborts open transactions on all nodes",
	waiting:     "SET STATEMENT lock_wait_timeout=5 FOR ",
	copying:     ", check_constraint_checks = 0, max_statement_time = 0",
	unchecked:   "SET STATEMENT foreign_key_checks = 0 FOR ",
	generated:   "IS_GENERATED",
	dropping:    "SET STATEMENT lock_wait_timeout=2, innodb_lock_wait_timeout=2, max_statement_time=0 FOR ",
	dumps:       []string{"mariadb-dump"},
	clients: clientWords{scheme: "mariadb", tls: "sslMode", modes: [3]string{"disable", "trust", "verify-full"},
		options: [2]string{"ssl\n", "ssl\nssl-verify-server-cert\n"}, client: "mariadb-client"},
	ownRole: " WITH ADMIN CURRENT_USER", grantsRoles: func(catalog.Login) bool { return false },
	defaultOf: "FOR", oneDefault: true, administrator: "SUPER",
	method:     mariaMethod,
	credential: func(method string) string { return "IDENTIFIED VIA " + method + " USING " },
	verifier:   hashFor,
	matches: func(kept, method, password string) bool {
		hash, err := hashFor(method, password)
		return err == nil && kept == hash
	},
	marked: nativeHash, isMarked: func(kept, mark string) bool { return kept == nativeHash(mark) },
	countWithin: "SET STATEMENT max_statement_time = %d / 1000 FOR SELECT COUNT(*) FROM ",
	plainMethod: methodNative, nobody: "invalid",
	signIn: `SELECT SUBSTRING_INDEX(USER(), '@', -1), @@have_ssl = 'YES', @@strict_password_validation`}

// mariaSetUp is sent on every connection: names and texts are quoted for this
// character set (a server can be told to pass over what the client says when it
// connects) and this sql_mode, and both limits bound a statement on the server itself, since
// account statements know only the second one. The variable keeps when the server
// began ([beganSQL]): working that out sums up every session's counters, and it
// cannot change while the connection lives.
const mariaSetUp = "SET SESSION character_set_client=utf8mb4, character_set_results=utf8mb4, " +
	"collation_connection=utf8mb4_general_ci, sql_mode='STRICT_TRANS_TABLES,NO_AUTO_CREATE_USER,NO_ENGINE_SUBSTITUTION'," +
	" sql_quote_show_create=1, lock_wait_timeout=5, max_statement_time=30," +
	" @genarch_began = (SELECT UNIX_TIMESTAMP() - CAST(VARIABLE_VALUE AS SIGNED) FROM " +
	"information_schema.GLOBAL_STATUS WHERE VARIABLE_NAME = 'UPTIME')"

var mariaBundles = bundlesWith(may.DeleteHistory)

var mariaDescription = engine.Description{
	ID: mariaID, Title: "MariaDB", Versions: "10.6 and later", Port: 3306,
	Releases: map[string]int{"11.3": 110300},
	Names:    mariaLimits, AddressMarks: []string{"port", "server_uid"},
	Nouns: map[engine.Noun]engine.Word{
		engine.NounDatabase: {One: "database", Many: "databases"},
		engine.NounSchema:   {},
		engine.NounTable:    {One: "table", Many: "tables"},
		engine.NounAccount:  {One: "account", Many: "accounts"},
		engine.NounRole:     {One: "role", Many: "roles"},
		engine.NounSession:  {One: "session", Many: "sessions"},
	},
	Choices: map[string]string{
		"encodings":  "Character sets",
		"collations": "Collations, each with its character set",
		"owners":     "Accounts",
		"templates":  "Databases that can be copied",
	},
	Fields: map[change.Part][]engine.Field{
		change.PartDatabase: {
			{Name: "owner", Title: "Owner", Type: engine.Text, From: "owners", In: engine.AtBoth, Show: engine.InList,
				Default: "nobody: MariaDB has no owners",
				Decides: "which account gets all privileges on it (bundle own)"},
			{Name: "encoding", Title: "Character set", Type: engine.Pick, From: "encodings", In: engine.AtBoth,
				Show:    engine.InList,
				Default: "the server's",
				Decides: "which characters its new tables can store; a later change does not touch tables that exist"},
			{Name: "collation", Title: "Collation", Type: engine.Pick, From: "collations", By: "encoding",
				In:   engine.AtBoth,
				Show: engine.InList, Default: "the character set's",
				Decides: "how text in its new tables is sorted and compared; a later change does not touch tables that exist"},
			{Name: "comment", Title: "Comment", Type: engine.Text, Max: engine.N(maxComment), In: engine.AtBoth,
				Show:    engine.InList,
				Default: "none", Decides: "which remark everybody who sees the database can read"},
			{Name: "template", Title: "Template", Type: engine.Pick, From: "templates", In: engine.AtCreate,
				Show: engine.Nowhere, Default: "none: an empty database",
				Decides: "which database is copied: tables, rows, routines, views, triggers, events"},
			{Name: "data", Title: "Rows of the template", Type: engine.Pick, Values: engine.Titled("all", "none"),
				In: engine.AtCreate, Show: engine.Nowhere, Group: engine.More, Default: "all",
				Decides: "whether the rows are copied too, or only what holds them"},
			{Name: "freeze", Title: "Hold writers up", Type: engine.Yes, In: engine.AtCreate, Show: engine.Nowhere,
				Group: engine.More, Default: "yes",
				Decides: "whether nobody can write to the template meanwhile, so that the copy is of one moment"},
			{Name: checksums, Title: "Compare checksums", Type: engine.Yes, In: engine.AtCreate, Show: engine.Nowhere,
				With: "template", Group: engine.More, Default: "no",
				Decides: "whether each table of the copy is read once more and compared with the template's; " +
					"nobody writes meanwhile"},
			{Name: "copy_grants", Title: "Grants of the template", Type: engine.Yes, In: engine.AtCreate,
				Show: engine.Nowhere, Group: engine.More, Default: "no",
				Decides: "whether everybody gets on the copy what they hold on the template"},
			planning.ExportField("mariadb-dump"),
			planning.TransactionField("; tables without transactions keep what was written"),
			{Name: runAs, Title: "Runs as", Type: engine.Text, From: "owners", In: []change.Kind{change.FillDatabase},
				Show: engine.Nowhere, Default: "the owner, if there is one",
				Decides: "with whose rights views, routines, triggers and events run that the script makes"},
			{Name: "clear_leftovers", Title: "Revoke old grants first", Type: engine.Yes,
				In: []change.Kind{change.CreateDatabase, change.DropDatabase}, Default: "no",
				Decides: "whether grants on the name, which outlive a database and would open a new one, are revoked"},
		},
		change.PartAccount: {
			{Name: "connection_limit", Title: "Connection limit", Type: engine.Number, Values: engine.Titled("none"),
				Min: engine.N(0),
				Max: engine.N(262143), For: people, In: engine.AtAccountBoth, Show: engine.InDetail, Default: "none",
				Decides: "how many sessions at once; open ones stay"},
			{Name: "expires", Title: "Password ends", Type: engine.Text, For: people, In: engine.AtAccountBoth,
				Show:    engine.InList,
				Default: "as the server's default says",
				Decides: "after how many days the password has to be changed, as 90d, now or never; open sessions go on"},
			{Name: "locked", Title: "Locked", Type: engine.Yes, For: people, In: engine.AtAccountBoth,
				Show: engine.InList, Default: "no",
				Decides: "whether sign-in is refused; open sessions go on"},
			{Name: "tls", Title: "TLS demanded", Type: engine.Yes, For: people, In: engine.AtAccountBoth,
				Show: engine.InDetail, Default: "no",
				Decides: "whether it can sign in by an encrypted connection only"},
			{Name: "default_role", Title: "Default role", Type: engine.Text, For: people,
				In:   []change.Kind{change.AlterAccount},
				Show: engine.InDetail, Default: "none",
				Decides: "which of its roles holds from its next sign-in on; none takes it away"},
			{Name: "method", Title: "Signs in by", Type: engine.Text, For: people,
				In:      []change.Kind{change.CreateAccount, change.SetPassword},
				Default: "ed25519", Decides: "how it proves itself: ed25519 or mysql_native_password"},
		},
		change.PartMember: {
			{Name: "no_default", Title: "Not at sign-in", Type: engine.Yes, In: []change.Kind{change.GrantRole},
				Default: "no",
				Decides: "whether the member's default role stays as it is, so that the role needs SET ROLE"},
		},
		change.PartGrant: {
			{Name: "pattern", Title: "The name as the grant has it", Type: engine.Text,
				In:      []change.Kind{change.RevokePrivilege},
				Default: "the plain name", Decides: "which grant is meant, where its database is a pattern"},
		},
		change.PartClearing: {
			{Name: "lock_accounts", Title: "Lock accounts meanwhile", Type: engine.Yes,
				In: []change.Kind{change.DropDatabase, change.SetAside}, Default: "no",
				Decides: "whether accounts that the gate does not stop are locked: out of everything, not of this database alone"},
		},
	},
	Intents: map[change.Kind]engine.Form{
		change.CreateDatabase: {Says: "CREATE DATABASE, with character set and collation always written.",
			Undo: "it is dropped while it is empty"},
		change.AlterDatabase: {Says: "ALTER DATABASE settles what later tables get; tables that exist stay as they are.",
			Undo: "the former values"},
		change.FillDatabase: {Says: "The script runs statement by statement as an account of its own, with the " +
			"bundle own on this database alone, that is dropped afterwards.",
			Undo: "nothing took effect, where it runs in one transaction"},
		change.RenameDatabase: {Why: "MariaDB has no statement that renames a database.",
			Instead: "Make a new database, move the tables into it with RENAME TABLE, and grant anew."},
		change.DropDatabase: {Says: "DROP DATABASE, once every blocker was looked for and nobody uses it."},
		change.SetAside: {Undo: "the same the other way round",
			Says: "One RENAME TABLE moves all tables; views, routines, triggers and grants are saved and dropped."},
		change.BringBack: {Says: "The tables are moved back, and what was saved is made again.",
			Undo: "it is set aside again"},
		change.Discard:     {Says: "DROP DATABASE of the one in which it waits."},
		change.KeepHolding: {Says: "What is noted beside its tables is altered.", Undo: "what was noted"},
		change.EndSessions: {Says: "KILL or KILL QUERY, by number, account, address and port."},
		change.MarkServer: {Says: "A small database of Genarch's with one random number makes the server known for certain.",
			Undo: "it is dropped"},
		change.CreateAccount: {Says: "CREATE USER or CREATE ROLE, with a verifier that Genarch computes.",
			Undo: "DROP USER"},
		change.AlterAccount:  {Says: "ALTER USER and SET DEFAULT ROLE.", Undo: "the former values"},
		change.RenameAccount: {Says: "RENAME USER; definers keep the former name.", Undo: "the former name"},
		change.SetPassword:   {Says: "ALTER USER with a verifier."},
		change.DropAccount: {Says: "It is locked, its sessions are ended, then DROP USER; whatever it is the definer of fails afterwards, and is told before.",
			Undo: "unlocked, until it is dropped"},
		change.SetAsideAccount: {Why: "MariaDB keeps no comment with an account, in which could be noted what it was.",
			Instead: "Lock it, or drop it for good."},
		change.GrantRole: {Says: "GRANT role, and SET DEFAULT ROLE so that it holds at sign-in.",
			Undo: "REVOKE, and the former default role"},
		change.RevokeRole: {Says: "REVOKE role; sessions that hold it keep it until they sign in again.",
			Undo: "GRANT as it was"},
		change.GrantPrivilege: {Says: "GRANT on the name, written so that no character of it is a wildcard.",
			Undo: "REVOKE of what was new"},
		change.RevokePrivilege: {Says: "REVOKE of the grant as it is written.", Undo: "GRANT as it was"},
	},
	Principals: []engine.Principal{
		{Kind: "account", Title: "account", Many: "accounts", SignsIn: true, In: engine.FromHost, Default: "%",
			Names:   mariaAccountLimits,
			Decides: "a name and the host that it comes from: the same name from elsewhere is another account"},
		{Kind: "role", Title: "role", Many: "roles", Role: true, Names: mariaAccountLimits,
			Decides: "a set of privileges that is granted to accounts; it has no host"},
	},
	Scopes: []engine.Scope{
		{Name: catalog.ScopeServer, Title: "whole server (*.*)"},
		{Name: catalog.ScopeDatabase, Title: "database", Within: catalog.ScopeServer, Parts: []string{"database"},
			Pattern: true},
		{Name: catalog.ScopeTable, Title: "table or view", Within: catalog.ScopeDatabase,
			Parts: []string{"database", "name"}},
		{Name: catalog.ScopeRoutine, Title: "routine", Within: catalog.ScopeDatabase,
			Parts: []string{"database", "name"}},
		{Name: catalog.ScopeColumn, Title: "column", Within: catalog.ScopeTable,
			Parts: []string{"database", "name", "column"}},
	},
	Table: table,
	Privileges: engine.ParsePrivileges(`
		server database table column: SELECT, INSERT, UPDATE, REFERENCES
		server database table: DELETE, CREATE, DROP, INDEX, ALTER, CREATE VIEW, SHOW VIEW, TRIGGER, DELETE HISTORY=DELETE VERSIONING ROWS
		server database: CREATE TEMPORARY TABLES, LOCK TABLES, CREATE ROUTINE, EVENT
		server database routine: ALTER ROUTINE, EXECUTE, SHOW CREATE ROUTINE>=11.3
		server: RELOAD, SHUTDOWN, PROCESS, FILE, SHOW DATABASES, SUPER, REPLICATION SLAVE, BINLOG MONITOR=REPLICATION CLIENT, CREATE USER
		server: CREATE TABLESPACE, SET USER, FEDERATED ADMIN, CONNECTION ADMIN, READ_ONLY ADMIN, REPLICATION SLAVE ADMIN
		server: REPLICATION MASTER ADMIN, BINLOG ADMIN, BINLOG REPLAY, SLAVE MONITOR=REPLICA MONITOR`),
	Granting: engine.Granting{Option: "object", Admin: true,
		Later:  "A grant on the database covers everything in it, what is made later included.",
		AtOnce: "Sessions outside the database feel it at once; those in it when they next say USE; privileges on the whole server at the next sign-in.",
	},
	Bundles: []engine.Bundle{
		{Name: "read", Decides: "Read all data, that of later tables included; alter nothing.",
			On: onDatabase(mariaBundles[access.BundleRead])},
		{Name: "write", Decides: "Read and write all data, that of later tables included; alter no structure.",
			On: onDatabase(mariaBundles[access.BundleWrite])},
		{Name: "build", Decides: "Write, and make and alter tables, views and routines; drop nothing.",
			On: onDatabase(mariaBundles[access.BundleBuild])},
		{Name: "own", Decides: "Everything that can be granted on one " +
			"database.", On: onDatabase(mariaBundles[access.BundleOwn]),
			Careful: "It could drop the database outside Genarch."},
	},
	Endings: map[catalog.Ending]engine.Form{
		catalog.EndSession:   {Says: "The connection is closed and its transaction is rolled back."},
		catalog.EndStatement: {Says: "What runs is stopped; connection and transaction stay."},
	},
	Gate: engine.Gate{Keeps: engine.KeepsRights,
		Says:  "The privileges on the database are revoked, exactly remembered, and granted again.",
		Leaks: "It does not stop accounts with privileges on the whole server, views and events that run as their definer, and sessions that are in already."},
	Team: engine.Form{Says: "Makes the accounts NAME_app (write) and NAME_read (read) and the role NAME_owner, " +
		"and tries them."},
	Script: engine.Script{Comment: "-- ", End: ";", Media: "application/sql", File: "sql", Client: "mariadb",
		Begins: []string{"/*M!999999", "-- MariaDB dump", "-- MySQL dump"}},
}

// mariaAbilities are those that Genarch's work needs.
var mariaAbilities = []ability{
	{code: "create_database", title: "create databases", privileges: []string{"CREATE"}},
	{code: "see_databases", title: "see all databases", privileges: []string{"SHOW DATABASES"}},
	{code: "see_sessions", title: "see all sessions and sizes", privileges: []string{"PROCESS"}},
	{code: "end_sessions", title: "end sessions", privileges: []string{"CONNECTION ADMIN"}},
	{code: "manage_accounts", title: "create and alter accounts", privileges: []string{"CREATE USER"}},
	{code: "read_grants", title: "read the grants of all accounts", privileges: []string{"SELECT"}},
	{code: "give_bundles", title: "grant privileges on databases",
		privileges: append(mariaBundles[access.BundleOwn].Names(), grantOption)},
	{code: "set_definers", title: "keep what runs with the privileges of others theirs",
		privileges: []string{"SET USER"}},
	{code: "drop_database", title: "drop databases", privileges: []string{"DROP"}},
	{code: "alter_database", title: "alter databases", privileges: []string{"ALTER"}},
}

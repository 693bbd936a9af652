package postgres

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// ID names the engine on the wire, in the records and in the CLI.
const ID catalog.Engine = "postgresql"

// Describe says what PostgreSQL has.
func (Engine) Describe() *engine.Description { return &description }

// limits: a name is cut at 63 bytes with only a notice, so longer ones must
// never reach the server.
var limits = naming.Limits{MaxLength: 63, Counted: naming.Bytes,
	Reserved: []string{"postgres", "template0", "template1"}}

// accountLimits: the same, and what the server keeps for itself.
var accountLimits = naming.Limits{MaxLength: 63, Counted: naming.Bytes,
	Reserved: []string{"public", "none", "current_user", "session_user", "current_role"}}

// copyInstead is what to do about a property that is settled when a database is made.
const copyInstead = "No statement alters it: make a new database and copy the data into it."

var description = engine.Description{
	ID: ID, Title: "PostgreSQL", Versions: "15 and later", Port: 5432,
	Releases: map[string]int{"16": 160000, "17": 170000},
	Names:    limits,
	Nouns: map[engine.Noun]engine.Word{
		engine.NounDatabase: {One: "database", Many: "databases"},
		engine.NounSchema:   {One: "schema", Many: "schemas"},
		engine.NounTable:    {One: "table", Many: "tables"},
		engine.NounAccount:  {One: "role", Many: "roles"},
		engine.NounRole:     {One: "group role", Many: "group roles"},
		engine.NounSession:  {One: "session", Many: "sessions"},
	},
	Choices: map[string]string{
		"encodings":   "Encodings",
		"collations":  "Collations: locales of the C library",
		"locales":     "Locales of ICU and of the built-in provider",
		"templates":   "Databases that can be copied",
		"tablespaces": "Tablespaces",
		"owners":      "Roles that can own a database",
		"settings":    "Settings that a database can have",
	},
	Fields: map[change.Part][]engine.Field{
		engine.PartServer: {
			{Name: "database", Title: "Maintenance database", Type: engine.Text, Default: "postgres",
				Decides: "where Genarch connects to; it can neither be dropped nor serve as template through Genarch"},
			{Name: "weak_sign_in", Title: "Weak sign-in", Type: engine.Yes, Default: "no",
				Decides: "whether the server may ask for the password in a form that gives it away (md5, clear text)",
				Careful: "it may ask for the password in a form that gives it away to whoever answers in its place"},
		},
		change.PartDatabase: databaseFields,
		change.PartAccount:  accountFields,
		change.PartMember: {
			{Name: "inherit", Title: "Inherits at once", Type: engine.Yes, In: []change.Kind{change.GrantRole},
				Since: "16", Default: "yes",
				Decides: "whether the role's privileges hold without SET ROLE"},
			{Name: "set_role", Title: "SET ROLE allowed", Type: engine.Yes, In: []change.Kind{change.GrantRole},
				Since: "16", Default: "yes",
				Decides: "whether SET ROLE is allowed"},
		},
	},
	Intents: map[change.Kind]engine.Form{
		change.CreateDatabase: {Says: "CREATE DATABASE copies a template, in which nobody may be connected.",
			Undo: "it is dropped, while it is the one that was made and nobody is in it"},
		change.AlterDatabase: {Says: "ALTER DATABASE and COMMENT take effect at once, with sessions connected; only another tablespace needs it empty of sessions.",
			Undo: "the former values"},
		change.FillDatabase: {Says: "The script runs statement by statement as an account of its own, a member " +
			"of the owner, that is dropped afterwards.",
			Undo: "nothing took effect, where it runs in one transaction"},
		change.RenameDatabase: {Says: "ALTER DATABASE RENAME, once nobody is connected.", Undo: "the former name"},
		change.DropDatabase:   {Says: "DROP DATABASE, once it is closed and nobody is connected."},
		change.SetAside: {Undo: "the former name, and it is opened",
			Says: "It is closed, and renamed once nobody is connected; grants, settings and slots stay with it."},
		change.BringBack: {Says: "It is renamed back and opened.", Undo: "the name under which it waited, closed"},
		change.Discard:   {Says: "DROP DATABASE of the one that waits."},
		change.KeepHolding: {Says: "COMMENT, in which is noted what it was and how long it is kept.",
			Undo: "the former comment"},
		change.EndSessions: {
			Says: "The functions pg_terminate_backend and pg_cancel_backend, by process and start time."},
		change.MarkServer: {Why: "PostgreSQL has a mark of its own, the system identifier.",
			Instead: "Nothing has to be done."},
		change.CreateAccount: {Says: "CREATE ROLE with a SCRAM verifier that Genarch computes.",
			Undo: "DROP ROLE, while it owns nothing"},
		change.AlterAccount:  {Says: "ALTER ROLE and COMMENT.", Undo: "the former values"},
		change.RenameAccount: {Says: "ALTER ROLE RENAME; an md5 password is lost.", Undo: "the former name"},
		change.SetPassword:   {Says: "ALTER ROLE PASSWORD with a SCRAM verifier."},
		change.DropAccount: {Says: "In each database what it owns is reassigned and what it was granted is dropped; then DROP ROLE.",
			Undo: "what was reassigned is handed back, until the role itself is dropped"},
		change.SetAsideAccount: {
			Says: "It may not sign in, its sessions are ended, it is renamed; what it has stays with it.",
			Undo: "the former name, and it may sign in"},
		change.GrantRole:  {Says: "GRANT role TO member.", Undo: "REVOKE"},
		change.RevokeRole: {Says: "REVOKE role FROM member.", Undo: "GRANT as it was"},
		change.GrantPrivilege: {Says: "GRANT, and ALTER DEFAULT PRIVILEGES for what is made later.",
			Undo: "REVOKE of what was new"},
		change.RevokePrivilege: {Says: "REVOKE, as each grantor granted it.", Undo: "GRANT as it was"},
	},
	Principals: []engine.Principal{
		{Kind: "account", Title: "role that signs in", Many: "roles that sign in", SignsIn: true, Space: "roles",
			Names:   accountLimits,
			Decides: "who signs in; PostgreSQL calls it a role"},
		{Kind: "role", Title: "group role", Many: "group roles", Role: true, Space: "roles", Names: accountLimits,
			Decides: "a group: its members have its privileges, and nobody signs in as it"},
	},
	Scopes: []engine.Scope{
		{Name: catalog.ScopeServer, Title: "setting of the server", Parts: []string{"name"}},
		{Name: catalog.ScopeDatabase, Title: "database", Parts: []string{"database"}},
		{Name: catalog.ScopeSchema, Title: "schema", Within: catalog.ScopeDatabase,
			Parts: []string{"database", "schema"}},
		{Name: catalog.ScopeTable, Title: "table or view", Within: catalog.ScopeSchema,
			Parts: []string{"database", "schema", "name"}},
		{Name: catalog.ScopeSequence, Title: "sequence", Within: catalog.ScopeSchema,
			Parts: []string{"database", "schema", "name"}},
		{Name: catalog.ScopeRoutine, Title: "routine", Within: catalog.ScopeSchema,
			Parts: []string{"database", "schema", "name"}},
		{Name: catalog.ScopeColumn, Title: "column", Within: catalog.ScopeTable,
			Parts: []string{"database", "schema", "name", "column"}},
	},
	Table: table,
	Privileges: engine.ParsePrivileges(`
		table column: SELECT, INSERT, UPDATE, REFERENCES
		table: DELETE, TRUNCATE, TRIGGER, MAINTAIN>=17
		sequence: SELECT, UPDATE
		schema sequence: USAGE
		database schema: CREATE
		database: CONNECT, TEMPORARY=TEMP
		routine: EXECUTE
		server: SET, ALTER SYSTEM`),
	Granting: engine.Granting{Option: "privilege", Admin: true,
		Later:  "Default privileges cover what one role makes later; each role that makes objects needs its own.",
		AtOnce: "A grant or a revoke reaches open sessions with their next statement.",
	},
	Bundles: []engine.Bundle{
		{Name: "read", Decides: "Read all data, that of later tables included; alter nothing.",
			On: map[catalog.Scope][]string{"database": {"CONNECT"}, "schema": {"USAGE"}, "table": {"SELECT"},
				"sequence": {"SELECT"}}},
		{Name: "write", Decides: "Read and write all data, that of later tables included; alter no structure.",
			On: map[catalog.Scope][]string{"database": {"CONNECT", "TEMPORARY"}, "schema": {"USAGE"},
				"table": {"SELECT", "INSERT", "UPDATE", "DELETE"}, "sequence": {"USAGE", "SELECT"}}},
		{Name: "build", Decides: "Write, and make schemas, tables and routines of its own; what others made it cannot alter.",
			On: map[catalog.Scope][]string{"database": {"CONNECT", "TEMPORARY", "CREATE"},
				"schema":   {"USAGE", "CREATE"},
				"table":    {"SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER"},
				"sequence": {"USAGE", "SELECT", "UPDATE"}}},
		{Name: "own", Decides: "Act as the owner of the database: alter and drop what belongs to the owner."},
	},
	Endings: map[catalog.Ending]engine.Form{
		catalog.EndSession:   {Says: "The connection is closed and its transaction is rolled back."},
		catalog.EndStatement: {Says: "What runs is cancelled; connection and transaction stay."},
	},
	Gate: engine.Gate{Keeps: engine.KeepsAll,
		Says: "ALTER DATABASE ALLOW_CONNECTIONS false keeps everybody out, superusers too; who is in stays."},
	Team: engine.Form{Says: "Makes the role NAME_owner, which owns it and cannot sign in, and the accounts NAME_app (write) and NAME_read (read), and tries them; nobody else gets in."},
	Script: engine.Script{Comment: "-- ", End: ";", Media: "application/sql", File: "sql", Client: "psql",
		Begins: []string{"-- PostgreSQL database"},
		Head:   scriptHead, Connect: connectLine},
}

var accountFields = []engine.Field{
	{Name: "connection_limit", Title: "Connection limit", Type: engine.Number, Values: engine.Titled("none"),
		Min: engine.N(0), Max: engine.N(262143),
		In: engine.AtAccountBoth, Show: engine.InDetail, Default: "none",
		Decides: "how many sessions at once; open ones stay"},
	{Name: "expires", Title: "Password ends", Type: engine.Text, In: engine.AtAccountBoth, Show: engine.InList,
		Default: "never",
		Decides: "until when its password lets it in, as 2027-01-31 or never; open sessions go on"},
	{Name: "locked", Title: "Locked", Type: engine.Yes, In: engine.AtAccountBoth, Show: engine.InList, Default: "no",
		Decides: "whether sign-in is refused; open sessions go on"},
	{Name: "comment", Title: "Comment", Type: engine.Text, Max: engine.N(4000), In: engine.AtAccountBoth,
		Show: engine.InList, Default: "none",
		Decides: "which remark everybody on the server can read"},
	{Name: "reassign_to", Title: "Reassign what it owns to", Type: engine.Text, From: "owners",
		In:      []change.Kind{change.DropAccount},
		Decides: "who owns afterwards what it owns; as long as it owns something it cannot be dropped without"},
}

var databaseFields = []engine.Field{
	{Name: "owner", Title: "Owner", Type: engine.Pick, From: "owners", In: engine.AtBoth, Show: engine.InList,
		Default: "Genarch's login",
		Decides: "who may alter and drop it; it has no rights by that on tables that others own"},
	{Name: "template", Title: "Template", Type: engine.Pick, From: "templates", In: engine.AtCreate,
		Default: "template1",
		Decides: "what is in it from the start: a copy of that database's contents"},
	{Name: "as_template", Title: "As the template", Type: engine.Yes, In: engine.AtCreate, With: "template",
		Group: engine.More, Default: "no",
		Decides: "whether owner, comment, connection limit and settings are the template's, unless asked otherwise"},
	{Name: copyGrants, Title: "Grants of the template", Type: engine.Yes, In: engine.AtCreate, With: "template",
		Group: engine.More, Default: "no",
		Decides: "whether everybody may on the database itself what they may on the template: connect, create schemas"},
	{Name: "encoding", Title: "Encoding", Type: engine.Pick, From: "encodings", In: engine.AtCreate,
		Show:    engine.InList,
		Default: "the template's", Decides: "which characters can be stored", Fixed: copyInstead},
	{Name: "collation", Title: "Collation", Type: engine.Pick, From: "collations", By: "encoding", Free: true,
		In:   engine.AtCreate,
		Show: engine.InList, Default: "the template's", Decides: "how text is sorted and compared", Fixed: copyInstead},
	{Name: "comment", Title: "Comment", Type: engine.Text, Max: engine.N(4000), In: engine.AtBoth, Show: engine.InList,
		Default: "none",
		Decides: "which remark everybody on the server can read"},
	{Name: "private", Title: "Private", Type: engine.Yes, In: engine.AtCreate, Default: "no",
		Decides: "whether CONNECT and TEMPORARY are revoked from everybody"},
	{Name: "allow", Title: "Who may connect", Type: engine.List, From: "owners", With: "private", In: engine.AtCreate,
		Default: "the owner",
		Decides: "who gets CONNECT on a private one"},
	{Name: "ctype", Title: "Character type", Type: engine.Pick, From: "collations", By: "encoding", Free: true,
		In:   engine.AtCreate,
		Show: engine.InDetail, Group: engine.More, Default: "the collation's",
		Decides: "what counts as a letter, and upper and lower case", Fixed: copyInstead},
	{Name: "provider", Title: "Locale provider", Type: engine.Pick, In: engine.AtCreate, Show: engine.InDetail,
		Group:   engine.More,
		Values:  []engine.Value{{Name: providerLibc}, {Name: providerICU}, {Name: providerBuiltin, Since: "17"}},
		Default: "the template's", Decides: "whose rules for sorting are used", Fixed: copyInstead},
	{Name: "locale", Title: "Locale", Type: engine.Text, From: "locales", By: "provider", In: engine.AtCreate,
		Show:  engine.InDetail,
		Group: engine.More, Default: "the template's", Decides: "the locale at that provider", Fixed: copyInstead},
	{Name: "tablespace", Title: "Tablespace", Type: engine.Pick, From: "tablespaces", Alone: true,
		Show: engine.InDetail, Group: engine.More,
		In: engine.AtBoth, Default: "the template's",
		Decides: "where on disk; moving it later copies all files and needs it empty of sessions"},
	planning.ExportField("pg_dump"),
	planning.TransactionField(""),
	{Name: skipOwners, Title: "Leave owners out", Type: engine.Yes, In: []change.Kind{change.FillDatabase},
		Show: engine.Nowhere, Default: "no",
		Decides: "whether statements with OWNER TO are passed over, so that all belongs to the owner"},
	{Name: skipGrants, Title: "Leave grants out", Type: engine.Yes, In: []change.Kind{change.FillDatabase},
		Show: engine.Nowhere, Default: "no", Decides: "whether statements that grant or revoke are passed over"},
	{Name: "strategy", Title: "Copy strategy", Type: engine.Pick, Values: engine.Titled(strategyWAL, strategyCopy),
		In:    engine.AtCreate,
		Group: engine.More, Default: strategyWAL,
		Decides: "how the template is copied; for large templates file_copy is quicker but forces checkpoints"},
	{Name: "connection_limit", Title: "Connection limit", Type: engine.Number, Values: engine.Titled("none"),
		Min: engine.N(0),
		Max: engine.N(262143), In: engine.AtBoth, Show: engine.InList, Group: engine.More, Default: "none",
		Decides: "how many sessions at once; superusers are not held by it"},
	{Name: "allow_connections", Title: "Connections allowed", Type: engine.Yes, In: engine.AtBoth, Show: engine.InList,
		Group: engine.More, Default: "yes", Decides: "whether anybody can connect"},
	{Name: "is_template", Title: "May serve as template", Type: engine.Yes, In: engine.AtBoth, Show: engine.InList,
		Group:   engine.More,
		Default: "no", Decides: "whether everybody who may create databases can copy it"},
	{Name: "settings", Title: "Settings", Type: engine.Table, Key: "name", In: []change.Kind{change.AlterDatabase},
		Show:  engine.InDetail,
		Group: engine.More, Default: "none", Decides: "with which settings new sessions in it begin",
		Columns: []engine.Field{
			{Name: "name", Title: "Setting", Type: engine.Pick, From: "settings", Free: true, Required: true},
			{Name: "value", Title: "Value", Type: engine.Text},
		}},
	{Name: "collation_version", Title: "Collation version", Type: engine.Text, Show: engine.InDetail,
		Group:   engine.More,
		Decides: "by which version of the system's rules its indexes on text are thought to be sorted"},
	{Name: "system_collation_version", Title: "Collation version of the system", Type: engine.Text,
		Show: engine.InDetail, Group: engine.More,
		Decides: "by which rules text is sorted now"},
	{Name: "refresh_collation", Title: "Refresh collation version", Type: engine.Yes,
		In:    []change.Kind{change.AlterDatabase},
		Group: engine.More, Default: "no",
		Decides: "whether the version of the collation that the system now has is noted as the one in use; rebuild the indexes on text before"},
}

package sqlserver

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// ID names the engine on the wire, in the records and in the CLI.
const ID catalog.Engine = "sqlserver"

// oldest is the first version that is looked after: 2016.
const oldest = 13

// Describe says what SQL Server has.
func (Engine) Describe() *engine.Description { return &description }

// limits: the log's file gets the name with a suffix, and what is set aside gets a longer one.
var limits = naming.Limits{MaxLength: 123, Counted: naming.UTF16,
	Reserved: []string{master, "model", "msdb", "tempdb", "distribution"}}

var loginLimits = naming.Limits{MaxLength: 128, Counted: naming.UTF16, Reserved: []string{"sa", "public"}}

// yes is an option that is on or off.
func yes(name, title, standard, decides string) engine.Field {
	return engine.Field{Name: name, Title: title, Type: engine.Yes, In: engine.AtBoth, Show: engine.InDetail,
		Group: engine.More, Default: standard, Decides: decides}
}

// alone marks an option for which nobody else may be in the database.
func alone(f engine.Field) engine.Field {
	f.Alone = true
	return f
}

var fileColumns = []engine.Field{
	{Name: "name", Title: "Name", Type: engine.Text, Required: true, Max: engine.N(128)},
	{Name: "kind", Title: "Kind", Type: engine.Pick, Values: engine.Titled("data", fileLog)},
	{Name: "filegroup", Title: "Filegroup", Type: engine.Text, Max: engine.N(128)},
	{Name: "path", Title: "Path", Type: engine.Text, Max: engine.N(259)},
	{Name: "size", Title: "Size", Type: engine.Size, Min: engine.N(512 << 10)},
	{Name: "max_size", Title: "At most", Type: engine.Size, Values: engine.Titled("unlimited"), Min: engine.N(1 << 20)},
	{Name: "growth", Title: "Grows by", Type: engine.Text},
}

var description = engine.Description{
	ID: ID, Title: "SQL Server", Versions: "2016 and later, on Windows and Linux; no managed services", Port: 1433,
	Releases: map[string]int{"2017": 14_000_000, "2019": 15_000_000, "2022": 16_000_000},
	Names:    limits,
	Nouns: map[engine.Noun]engine.Word{
		engine.NounDatabase: {One: "database", Many: "databases"},
		engine.NounSchema:   {One: "schema", Many: "schemas"},
		engine.NounTable:    {One: "table", Many: "tables"},
		engine.NounAccount:  {One: "login", Many: "logins"},
		engine.NounRole:     {One: "server role", Many: "server roles"},
		engine.NounSession:  {One: "session", Many: "sessions"},
	},
	Choices: map[string]string{
		"collations": "Collations",
		"owners":     "Logins that can own a database",
		"templates":  "Databases that can be copied",
	},
	Fields: map[change.Part][]engine.Field{change.PartDatabase: {
		{Name: "owner", Title: "Owner", Type: engine.Pick, From: "owners", In: engine.AtBoth, Show: engine.InList,
			Default: "Genarch's login", Decides: "which login is dbo in it, and may do everything there"},
		{Name: template, Title: "Template", Type: engine.Pick, From: "templates", In: engine.AtCreate,
			Show: engine.Nowhere, Default: "the database model",
			Decides: "of which database it is a copy, by a backup that is restored under the new name"},
		alone(engine.Field{Name: "collation", Title: "Collation", Type: engine.Pick, From: "collations",
			In: engine.AtBoth, Show: engine.InList, Default: "the server's",
			Decides: "how text is sorted and compared, and by which code page varchar is kept; columns that exist " +
				"keep theirs"}),
		{Name: "recovery", Title: "Recovery model", Type: engine.Pick,
			Values: engine.Titled("full", "bulk_logged", "simple"), In: engine.AtBoth, Show: engine.InList,
			Default: "the database model's",
			Decides: "whether the log is kept until it is backed up (full), or only until it is not needed (simple)"},
		{Name: "files", Title: "Files", Type: engine.Table, Key: "name", Columns: fileColumns, In: engine.AtBoth,
			Show: engine.InDetail, Default: "one for data and one for the log, in the server's folders",
			Decides: "where on its disks it lies, how large each file is at first, by how much and how far it grows"},
		{Name: "compatibility", Title: "Compatibility level", Type: engine.Pick, In: engine.AtBoth,
			Show: engine.InDetail, Group: engine.More, Default: "the server's version",
			Values: []engine.Value{{Name: "100"}, {Name: "110"}, {Name: "120"}, {Name: "130"},
				{Name: "140", Since: "2017"}, {Name: "150", Since: "2019"}, {Name: "160", Since: "2022"}},
			Decides: "as which version the server understands its queries, and how it plans them"},
		alone(engine.Field{Name: "containment", Title: "Containment", Type: engine.Pick,
			Values: engine.Titled("none", "partial"), In: engine.AtBoth, Show: engine.InDetail, Group: engine.More,
			Default: "none", Decides: "whether it can have users without a login"}),
		yes("snapshot_isolation", "Snapshot isolation", "no",
			"whether transactions may ask to see the data of one moment"),
		alone(yes("read_committed_snapshot", "Read committed by snapshot", "no",
			"whether readers see the last committed rows rather than wait for writers")),
		yes("auto_create_statistics", "Create statistics", "yes",
			"whether the server makes statistics that its plans need"),
		yes("auto_update_statistics", "Update statistics", "yes", "whether it brings old statistics up to date"),
		yes("auto_update_statistics_async", "Update them aside", "no",
			"whether queries go on with old statistics while new ones are made"),
		yes("auto_close", "Auto close", "no",
			"whether it is shut down whenever its last session ends, and opened at the next: slow to connect to"),
		yes("auto_shrink", "Auto shrink", "no", "whether its files are made smaller again and again"),
		{Name: "page_verify", Title: "Page verification", Type: engine.Pick,
			Values: engine.Titled("checksum", "torn_page_detection", "none"), In: engine.AtBoth,
			Show: engine.InDetail, Group: engine.More, Default: "checksum",
			Decides: "whether pages that the disk has damaged are noticed"},
		planning.TransactionField(""),
		yes("trustworthy", "Trustworthy", "no",
			"whether code in it that runs as somebody else has that one's rights on the whole server"),
		{Name: "access", Title: "Who gets in", Type: engine.Pick, Alone: true,
			Values: []engine.Value{{Name: "multi_user", Title: "everybody with a user"},
				{Name: "restricted_user", Title: "owners and administrators"},
				{Name: "single_user", Title: "one session"}},
			In: []change.Kind{change.AlterDatabase}, Show: engine.InDetail,
			Decides: "whether everybody with a user in it gets in, or owners and administrators only"},
		alone(engine.Field{Name: "read_only", Title: "Read only", Type: engine.Yes,
			In: []change.Kind{change.AlterDatabase}, Show: engine.InDetail,
			Decides: "whether writing to it is refused to everybody"}),
		alone(engine.Field{Name: "offline", Title: "Offline", Type: engine.Yes,
			In: []change.Kind{change.AlterDatabase}, Show: engine.InDetail,
			Decides: "whether its files are closed and nobody can use it"}),
		{Name: "state", Title: "State", Type: engine.Text, Show: engine.InDetail,
			Decides: "what the server can do with it"},
		{Name: "log_waits_for", Title: "Log waits for", Type: engine.Text, Show: engine.InDetail,
			Decides: "why the log cannot be used anew"},
		{Name: "data_size", Title: "Size of the data files", Type: engine.Size, Show: engine.InDetail,
			Decides: "what its data files take on disk"},
		{Name: "log_size", Title: "Size of the log", Type: engine.Size, Show: engine.InDetail,
			Decides: "what its log takes on disk"},
		{Name: "encrypted", Title: "Encrypted", Type: engine.Yes, Show: engine.InDetail,
			Decides: "whether the server keeps its files encrypted"},
		{Name: "made", Title: "Made", Type: engine.Text, Show: engine.InDetail,
			Decides: "when it was made or restored on this server"},
		{Name: "backed_up", Title: "Last backup", Type: engine.Text, Show: engine.InDetail,
			Decides: "when a whole backup of it ended last, by the server's own records"},
		{Name: "replicated", Title: "Replicated", Type: engine.Text, Show: engine.InDetail,
			Decides: "by what means it is copied to other servers"},
		{Name: "snapshot_of", Title: "Snapshot of", Type: engine.Text, Show: engine.InDetail,
			Decides: "of which database it is a snapshot"},
	}, change.PartAccount: accountFields,
		change.PartGrant: {
			{Name: "deny", Title: "Deny", Type: engine.Yes, In: []change.Kind{change.GrantPrivilege}, Default: "no",
				Decides: "whether the privileges are refused, whatever else grants them"},
		},
	},
	Intents: intents,
	Principals: []engine.Principal{
		{Kind: "login", Title: "login", Many: "logins", SignsIn: true, Names: loginLimits,
			Decides: "who signs in to the server; in each database it acts through a user"},
		{Kind: "server_role", Title: "server role", Many: "server roles", Role: true, Names: loginLimits,
			Decides: "privileges on the whole server, for the logins that are in it"},
		{Kind: "user", Title: "user", Many: "users", In: engine.InDatabase, Names: loginLimits,
			Decides: "as whom a login acts in one database"},
		{Kind: "database_role", Title: "database role", Many: "database roles", Role: true, In: engine.InDatabase,
			Names: loginLimits, Decides: "privileges in one database, for the users that are in it"},
	},
	Scopes: []engine.Scope{
		{Name: catalog.ScopeServer, Title: "whole server"},
		{Name: catalog.ScopeDatabase, Title: "database", Within: catalog.ScopeServer, Parts: []string{"database"}},
		{Name: catalog.ScopeSchema, Title: "schema", Within: catalog.ScopeDatabase,
			Parts: []string{"database", "schema"}},
		{Name: catalog.ScopeTable, Title: "table or view", Within: catalog.ScopeSchema,
			Parts: []string{"database", "schema", "name"}},
		{Name: catalog.ScopeRoutine, Title: "procedure or function", Within: catalog.ScopeSchema,
			Parts: []string{"database", "schema", "name"}},
		{Name: catalog.ScopeColumn, Title: "column", Within: catalog.ScopeTable,
			Parts: []string{"database", "schema", "name", "column"}},
	},
	Table: table, Privileges: engine.ParsePrivileges(privileges),
	Granting: engine.Granting{Option: "privilege",
		Later:  "A grant on a schema or on the database covers everything in it, what is made later included.",
		AtOnce: "A grant or a revoke reaches open sessions with their next statement."},
	Bundles: []engine.Bundle{
		{Name: "read", Decides: "Read all data, that of later tables included; alter nothing.",
			On: bundles[access.BundleRead].On()},
		{Name: "write", Decides: "Read and write all data and run all procedures; alter no structure.",
			On: bundles[access.BundleWrite].On()},
		{Name: "build", Decides: "Write, and make and alter tables, views and procedures.",
			On: bundles[access.BundleBuild].On()},
		{Name: "own", Decides: "Everything in the database, as a member of db_owner.",
			Careful: "It could drop the database outside Genarch."},
	},
	Endings: map[catalog.Ending]engine.Form{
		catalog.EndSession: {Says: "The connection is closed and its transaction is rolled back, which can take long."},
		catalog.EndStatement: {Why: "SQL Server lets only the client itself stop its statement.",
			Instead: "End the whole session."},
	},
	Gate: engine.Gate{Keeps: engine.KeepsAll, AtLast: true,
		Says: "At the last it is taken for one session, Genarch's own, which ends everybody else there and stays in it; " +
			"until then new logins get in."},
	Team: engine.Form{Says: "Makes the logins NAME_app (write) and NAME_read (read) with a user each, and in the " +
		"database the role NAME_owner, whose members may do everything there, and tries them; nobody else gets in."},
	Script: engine.Script{Comment: "-- ", End: "\nGO", Media: "application/sql", File: "sql", Client: "sqlcmd",
		Piece: "batch", Pieces: "batches", Wide: true, AnyCase: true},
}

// intents say how each intent is done.
var intents = map[change.Kind]engine.Form{
	change.CreateDatabase: {Says: "CREATE DATABASE copies the database model; owner and options are set by " +
		"statements after it.",
		Undo: "it is dropped, while it is the one that was made and nobody is in it"},
	change.AlterDatabase: {Says: "ALTER DATABASE takes effect at once; for what needs the database alone it is taken " +
		"for one session.",
		Undo: "the former values"},
	change.RenameDatabase: {Says: "ALTER DATABASE MODIFY NAME, while Genarch's session alone is in it.",
		Undo: "the former name"},
	change.DropDatabase: {Says: "It is taken for one session, Genarch's own, and dropped; no file stays."},
	change.SetAside: {Says: "It is renamed and taken offline; owner, users, grants, options and files stay as they " +
		"are.",
		Undo: "online, with the former name"},
	change.BringBack: {Says: "It is brought online and renamed back.", Undo: "the name under which it waited, " +
		"offline"},
	change.Discard:     {Says: "It is brought online, so that no file stays, taken for one session, and dropped."},
	change.KeepHolding: {Says: "What is noted in an extended property of master is altered.", Undo: "what was noted"},
	change.EndSessions: {Says: "KILL by number, where the connection is still the one that was seen."},
	change.MarkServer: {Says: "An extended property of master with one random number makes the server known for " +
		"certain.",
		Undo: "it is removed"},
	change.FillDatabase: {Says: "The script runs batch by batch as a login of its own, with a user in this database " +
		"alone, both of which are dropped afterwards.",
		Undo: "nothing took effect, where it runs in one transaction"},
	change.CreateAccount: {Says: "CREATE LOGIN with a hash of the password, CREATE SERVER ROLE, or in a database " +
		"CREATE USER and CREATE ROLE.", Undo: "it is dropped, while it is the one that was made"},
	change.AlterAccount:  {Says: "ALTER LOGIN or ALTER USER.", Undo: "the former values"},
	change.RenameAccount: {Says: "Its users, what it may do and what it owns stay.", Undo: "the former name"},
	change.SetPassword:   {Says: "The server gets a hash, never the text."},
	change.DropAccount: {Says: "A login is disabled and its sessions are ended, then its users are dropped, then it " +
		"itself; a role is emptied first."},
	change.SetAsideAccount: {Why: "SQL Server keeps no note with a login by which it could be brought back for " +
		"certain.",
		Instead: "Lock it, with its sessions ended; or drop it."},
	change.GrantRole:  {Says: "ALTER SERVER ROLE, or ALTER ROLE in a database, ADD MEMBER.", Undo: "DROP MEMBER"},
	change.RevokeRole: {Says: "DROP MEMBER.", Undo: "ADD MEMBER"},
	change.GrantPrivilege: {Says: "GRANT or DENY to the login's user in the database, who is made if there is none.",
		Undo: "what was there before"},
	change.RevokePrivilege: {Says: "REVOKE takes grants and denials.", Undo: "they are granted and denied again"},
}

var accountFields = []engine.Field{
	{Name: "default_database", Title: "Default database", Type: engine.Text, Max: engine.N(128),
		In: engine.AtAccountBoth, Show: engine.InDetail, Default: master, For: []string{"login"},
		Decides: "where it is after signing in; it cannot sign in when that is gone"},
	{Name: "locked", Title: "Locked", Type: engine.Yes, In: engine.AtAccountBoth, Show: engine.InList, Default: "no",
		For: []string{"login"}, Decides: "whether sign-in is refused; open sessions go on"},
	{Name: "sid", Title: "Number", Type: engine.Text, Max: engine.N(34), In: []change.Kind{change.CreateAccount},
		Default: "a new one", For: []string{"login"},
		Decides: "by which number users of databases know it: that of the same login on another server, for copies"},
	{Name: "reassign_to", Title: "Reassign what it owns to", Type: engine.Text, From: "owners",
		In: []change.Kind{change.DropAccount}, For: []string{"login"},
		Decides: "who owns its databases afterwards; as long as it owns one it cannot be dropped without"},
	{Name: "policy", Title: "Password policy", Type: engine.Yes, Show: engine.InDetail, For: []string{"login"},
		Decides: "whether the rules of the machine hold for its password"},
	{Name: "expiration", Title: "Password expires", Type: engine.Yes, Show: engine.InDetail,
		For: []string{"login"}, Decides: "whether its password ends after the time that the machine says"},
	{Name: "login", Title: "Login", Type: engine.Text, Max: engine.N(128), In: engine.AtAccountBoth,
		Show: engine.InDetail, For: []string{"user"}, Default: "that of the same name",
		Decides: "which login acts as it, known by its number and not by its name"},
	{Name: "without_login", Title: "Without a login", Type: engine.Yes, In: []change.Kind{change.CreateAccount},
		Default: "no", For: []string{"user"},
		Decides: "whether nobody signs in as it: code runs as it, and it can be given rights to hold"},
	{Name: "kind", Title: "Kind", Type: engine.Text, Show: engine.InDetail, For: []string{"user"},
		Decides: "why no login acts as it, or that it is the owner"},
	{Name: "default_schema", Title: "Default schema", Type: engine.Text, Max: engine.N(128), In: engine.AtAccountBoth,
		Show: engine.InDetail, For: []string{"user"}, Default: "dbo",
		Decides: "where names without a schema are looked for"},
}

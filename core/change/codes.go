package change

// The stable codes of findings. Each comment gives an example; the planners'
// tests run every one of them.
const (
	// NameTaken: create tickets_prod where there is a tickets_prod.
	NameTaken = "name.taken"
	// NameTakenByCase: create tickets_prod beside Tickets_Prod.
	NameTakenByCase = "name.taken_by_case"
	// NameLookalike: create tickets-prod beside tickets_prod.
	NameLookalike = "name.lookalike"
	// OptionUnsupported: a tablespace on MariaDB.
	OptionUnsupported = "option.unsupported"
	// OptionAbsent: an encoding, a tablespace, an owner that the server does not have.
	OptionAbsent = "option.absent"
	// OptionUnlisted: a locale of the C library that only the server itself can judge.
	OptionUnlisted = "option.unlisted"
	// OptionUnusable: a template that Genarch's login may not copy.
	OptionUnusable = "option.unusable"
	// KindUnsupported: renaming a database where no statement does.
	KindUnsupported = "kind.unsupported"
	// OptionInvalid: a locale beside a collation, which it sets too.
	OptionInvalid = "option.invalid"
	// OwnerAmbiguous: owner sailings_app where it exists at two hosts.
	OwnerAmbiguous = "owner.ambiguous"
	// OptionRisky: an option that hardly any database is better with.
	OptionRisky = "option.risky"
	// DiskFull: files of 2 TB on a disk with 40 GB.
	DiskFull = "disk.full"
	// OwnerDenied: Genarch's login may not make a database for that owner.
	OwnerDenied = "owner.denied"
	// OwnerConcept: MariaDB has no owners; the account gets a bundle instead.
	OwnerConcept = "owner.bundle"
	// CollationUnknown: a collation that the server does not have.
	CollationUnknown = "collation.unknown"
	// CollationMismatch: latin1_swedish_ci with utf8mb4.
	CollationMismatch = "collation.mismatch"
	// CollationRefresh: indexes may sort by the former version.
	CollationRefresh = "collation.refresh"
	// TemplateOpen: a database with data becomes one that others may copy.
	TemplateOpen = "template.open"
	// SettingRefused: a setting that the server does not know, or a value that it does not take.
	SettingRefused = "setting.refused"
	// TablesKeep: tables that keep their collation when that of the database is altered.
	TablesKeep = "tables.keep"
	// OwnerReplaced: who held all of a database loses it to another.
	OwnerReplaced = "owner.replaced"
	// LocaleMissing: provider icu without a locale.
	LocaleMissing = "locale.missing"
	// TemplateMismatch: another encoding than that of the chosen template.
	TemplateMismatch = "template.mismatch"
	// TemplateInUse: somebody is connected to the template.
	TemplateInUse = "template.in_use"
	// TemplateSwitched: template0 is taken since encoding or locale differ.
	TemplateSwitched = "template.switched"
	// GrantsLeftover: old grants on that name would take effect again.
	GrantsLeftover = "grants.leftover"
	// RightsMissing: the login may not create databases there.
	RightsMissing = "rights.missing"
	// ServerReadOnly: a standby, or read_only is on.
	ServerReadOnly = "server.read_only"
	// ServerHasIdentity: a server that is marked already, or needs no mark.
	ServerHasIdentity = "server.marked"
	// ExistsAsAsked: --if-not-exists, and it is there as asked.
	ExistsAsAsked = "exists.as_asked"
	// ExistsDifferent: --if-not-exists, and what is there differs.
	ExistsDifferent = "exists.different"
	// MadeMeanwhile: another change made it since; says who and when.
	MadeMeanwhile = "name.made_by_change"
)

// The codes of findings about sessions, and about taking databases away.
const (
	// SessionsEnded: who is connected and would be ended.
	SessionsEnded = "sessions.ended"
	// SessionsWaited: who is connected and is waited for.
	SessionsWaited = "sessions.waited_for"
	// SessionsNone: nobody is connected.
	SessionsNone = "sessions.none"
	// SessionsHidden: Genarch's login may not see what sessions do.
	SessionsHidden = "sessions.hidden"
	// SessionsDenied: Genarch's login may not end a session.
	SessionsDenied = "sessions.denied"
	// SessionsUnseen: what the server does not show of its sessions.
	SessionsUnseen = "sessions.unseen"
	// SessionGone: a session that was named is not there any more.
	SessionGone = "session.gone"
	// SessionKept: a session that is never ended: Genarch's own, the server's.
	SessionKept = "session.kept"
	// WorkLost: a session has written, and ending it loses that.
	WorkLost = "work.lost"
	// ReplicationRunning: a session of replication is in the way.
	ReplicationRunning = "replication.running"
	// BackupRunning: a backup is in the way.
	BackupRunning = "backup.running"
	// WorkerRunning: a background worker is in the way, and would be back.
	WorkerRunning = "worker.running"
	// PreparedWaiting: a prepared transaction is in the way.
	PreparedWaiting = "prepared.waiting"
	// DatabaseKept: a database of the engine, of Genarch, or of its login.
	DatabaseKept = "database.kept"
	// DatabaseTemplate: a template has to cease to be one first.
	DatabaseTemplate = "database.template"
	// DatabaseBroken: left over from an interrupted drop.
	DatabaseBroken = "database.broken"
	// DatabaseTriggers: code of tenants runs whenever somebody alters the database, with that one's rights.
	DatabaseTriggers = "database.triggers"
	// DatabaseReadOnly: nothing in it can be altered, or what making it so does.
	DatabaseReadOnly = "database.read_only"
	// DatabaseDenied: it is there, and Genarch's login may not do that to it.
	DatabaseDenied = "database.denied"
	// DatabaseGone: --if-exists, and it is not there.
	DatabaseGone = "database.gone"
	// DatabaseSame: it is as asked already.
	DatabaseSame = "database.as_asked"
	// DropLoses: what would be lost.
	DropLoses = "drop.loses"
	// DropFinal: there is no way back.
	DropFinal = "drop.final"
	// DropOrphans: accounts that have something in no other database.
	DropOrphans = "drop.orphans"
	// DropBreaks: what elsewhere needs it and would fail.
	DropBreaks = "drop.breaks"
	// DropLastUse: when it was last used, as far as anybody knows.
	DropLastUse = "drop.last_use"
	// DatabaseHeld: it was set aside, and only bringing it back or discarding it is possible.
	DatabaseHeld = "database.held"
	// HoldingKept: for how long what is set aside is kept, and how it comes back.
	HoldingKept = "holding.kept"
	// HoldingFrees: what setting it aside frees, and what not.
	HoldingFrees = "holding.frees"
	// HoldingSlot: a replication slot or subscription that waits with it.
	HoldingSlot = "holding.replication"
	// HoldingBack: what comes back.
	HoldingBack = "holding.back"
	// HoldingAbsent: nothing that was set aside waits under that name.
	HoldingAbsent = "holding.absent"
	// HoldingEarly: its keeping time is not over.
	HoldingEarly = "holding.early"
	// HoldingStopped: somebody said that it must not be discarded.
	HoldingStopped = "holding.hold"
	// HoldingOpened: it was opened outside Genarch since.
	HoldingOpened = "holding.opened"
	// HoldingBroken: something of it could not be made again.
	HoldingBroken = "holding.broken"
	// HoldingUnsealed: what was saved with it does not bear Genarch's seal.
	HoldingUnsealed = "holding.unsealed"
	// HoldingRenamed: under another name, what is written in its definitions means the old one.
	HoldingRenamed = "holding.renamed"
	// HoldingGrants: grants of accounts that are gone.
	HoldingGrants = "holding.grants"
	// HoldingSame: it is kept like that already.
	HoldingSame = "holding.as_asked"
	// CopyWhat: what a copy takes from its template.
	CopyWhat = "copy.what"
	// CopyEvents: the events of a copy are disabled.
	CopyEvents = "copy.events"
	// CopyNames: definitions have the name of the template in them.
	CopyNames = "copy.names"
	// CopyPeople: users and grants of the template are in the copy too.
	CopyPeople = "copy.people"
	// CopyFile: where the copy lies on the server's disk while it is made.
	CopyFile = "copy.file"
	// CopyMoving: somebody may write while it is copied.
	CopyMoving = "copy.moving"
	// CopyFreezes: writers are held up while it is copied.
	CopyFreezes = "copy.freezes"
	// KeysOutside: foreign keys of another database point into it (MariaDB).
	KeysOutside = "keys.outside"
	// GateIncomplete: who can come back while the gate is closed (MariaDB).
	GateIncomplete = "gate.incomplete"
	// GateEffect: what the gate does to whom, while it is closed.
	GateEffect = "gate.effect"
)

// The codes of findings about accounts, roles and grants.
const (
	// AccountExists: create tickets_app where there is one.
	AccountExists = "account.exists"
	// AccountAbsent: alter an account that does not exist.
	AccountAbsent = "account.absent"
	// AccountAmbiguous: tickets_app where it exists at two hosts.
	AccountAmbiguous = "account.ambiguous"
	// AccountLookalike: tickets-app beside tickets_app.
	AccountLookalike = "account.lookalike"
	// AccountOtherHost: app@10.0.% beside app@%: which of them a client gets.
	AccountOtherHost = "account.other_host"
	// AccountAnonymous: a anonymous account catches the login.
	AccountAnonymous = "account.anonymous"
	// AccountOwn: Genarch's own login is never locked, renamed or dropped.
	AccountOwn = "account.own_login"
	// AccountSystem: root, mariadb.sys, pg_monitor: kept for the engine.
	AccountSystem = "account.system"
	// AccountHeld: it was set aside, and only bringing it back or discarding it is possible.
	AccountHeld = "account.held"
	// AccountLast: the last account that may give all privileges.
	AccountLast = "account.last_administrator"
	// AccountSuper: what is asked means little for a superuser.
	AccountSuper = "account.superuser"
	// AccountSessions: open sessions of an account that is to go.
	AccountSessions = "account.sessions"
	// AccountOwns: it owns things, and nobody is named to get them.
	AccountOwns = "account.owns"
	// AccountDefines: views and routines run with its rights (MariaDB).
	AccountDefines = "account.defines"
	// AccountRevives: definers of that name are left, and take effect again with it.
	AccountRevives = "account.revives"
	// AccountLosesGrants: what it was given goes with it.
	AccountLosesGrants = "account.grants"
	// AccountMembers: a role that has members, or an account that has roles.
	AccountMembers = "account.members"
	// AccountSeen: when it was last seen, or that the engine does not know.
	AccountSeen = "account.last_seen"
	// HostInvalid: a host with an @ in it.
	HostInvalid = "host.invalid"
	// HostWide: the host lets everybody in.
	HostWide = "host.wide"
	// PasswordWeak: a password that is easily guessed.
	PasswordWeak = "password.weak"
	// PasswordMissing: an account that anybody could use.
	PasswordMissing = "password.missing"
	// SecondPassword: the former password is taken beside the new one, or ceases to be.
	SecondPassword = "password.second"
	// PasswordMethod: how the password is kept, and what that means.
	PasswordMethod = "password.method"
	// PasswordCleared: a rename clears an md5 password.
	PasswordCleared = "password.cleared"
	// TLSMissing: TLS demanded on a server that has none.
	TLSMissing = "tls.missing"
	// RoleAbsent: a role that does not exist.
	RoleAbsent = "role.absent"
	// RoleCircle: the role would belong to itself.
	RoleCircle = "role.circle"
	// RoleHeld: it is a member already; or not, when taking.
	RoleHeld = "role.held"
	// RoleDormant: the role is held only after SET ROLE.
	RoleDormant = "role.dormant"
	// RoleAdminOption: the member may give the role on.
	RoleAdminOption = "role.admin_option"
	// PrivilegeGrantOption: the privileges may be granted on.
	PrivilegeGrantOption = "privilege.grant_option"
	// GrantInvalid: a privilege that the object does not know.
	GrantInvalid = "grant.invalid"
	// GrantHeld: it has that already; or has it not, when taking.
	GrantHeld = "grant.held"
	// GrantNarrows: the exact grant takes away what a pattern gave.
	GrantNarrows = "grant.narrows"
	// GrantRemains: it keeps the privilege another way.
	GrantRemains = "grant.remains"
	// GrantOther: granted by somebody else.
	GrantOther = "grant.other_grantor"
	// GrantUncovered: what will be made there is not covered.
	GrantUncovered = "grant.uncovered"
	// GrantEffect: when it comes into force.
	GrantEffect = "grant.effect"
	// GrantWide: a grant opens more databases than it seems to name.
	GrantWide = "grant.wide"
	// ServerTakenOver: what is asked for lets somebody do anything on the whole server.
	ServerTakenOver = "server.taken_over"
	// NameHidden: a name holds characters that do not show.
	NameHidden = "name.hidden"
	// ObjectAmbiguous: a routine was named without its argument types, and there are several.
	ObjectAmbiguous = "object.ambiguous"
	// ObjectAbsent: a schema, table or routine that does not exist.
	ObjectAbsent = "object.absent"
	// DatabaseAbsent: a database that does not exist.
	DatabaseAbsent = "database.absent"
	// DatabaseClosed: a database that nobody can connect to.
	DatabaseClosed = "database.closed"
	// PublicAccess: what everybody may do on a new database.
	PublicAccess = "public.access"
	// LoginUntried: the login cannot be tried from where Genarch runs.
	LoginUntried = "login.untried"
	// TeamName: a team's name that makes no good names.
	TeamName = "team.name"
	// ExportFirst: a database is exported before it is dropped.
	ExportFirst = "export.first"
	// ExportImpossible: there is no program for that, or of an earlier version than the server.
	ExportImpossible = "export.impossible"
	// ScriptAbsent: a script that was removed, or was never sent.
	ScriptAbsent = "script.absent"
	// ScriptBroken: a script that ends within a quoted text.
	ScriptBroken = "script.broken"
	// ScriptEmpty: a file with comments only.
	ScriptEmpty = "script.empty"
	// ScriptForeign: a dump of MariaDB for a PostgreSQL server.
	ScriptForeign = "script.other_engine"
	// ScriptEncoding: a script in UTF-16, with bytes that are no UTF-8, or an archive.
	ScriptEncoding = "script.encoding"
	// ScriptRefused: LOAD DATA LOCAL, \copy, a program.
	ScriptRefused = "script.refused"
	// ScriptOutside: CREATE ROLE, USE another_database, SET GLOBAL.
	ScriptOutside = "script.outside"
	// ScriptPlaceholder: CHANGE_ME, '<password>'.
	ScriptPlaceholder = "script.placeholder"
	// ScriptTypographic: “quotes” of a text processor.
	ScriptTypographic = "script.typographic_quotes"
	// ScriptExisting: CREATE TABLE fares where there is one.
	ScriptExisting = "script.existing"
	// ScriptDrops: DROP TABLE fares where there is one.
	ScriptDrops = "script.drops"
	// ScriptAtOnce: whether it runs in one transaction.
	ScriptAtOnce = "script.one_transaction"
	// ScriptOwners: ALTER TABLE … OWNER TO somebody else.
	ScriptOwners = "script.owners"
	// ScriptGrants: GRANT … to accounts.
	ScriptGrants = "script.grants"
	// ScriptDefiners: what it makes runs with the rights of an account.
	ScriptDefiners = "script.definers"
	// ScriptLong: a statement that is longer than the server takes.
	ScriptLong = "script.long_statement"
	// FillAccount: as whom the script runs.
	FillAccount = "fill.account"
	// FillReaches: what the script may do beyond this database.
	FillReaches = "fill.reaches"
	// FillOwner: a database whose owner is a superuser.
	FillOwner = "fill.superuser"
	// TemplateCollation: a template that was made with another version of the system's collations.
	TemplateCollation = "template.collation_version"
	// CatalogueHidden: what Genarch's login may not read.
	CatalogueHidden = "catalogue.hidden"
)

package catalog

// Snapshot is everything that a planner may know of a server: a fresh reading
// of what bears on one intent. Planners never ask a server themselves.
type Snapshot struct {
	// Details are what only the engine's own planner reads of it; never kept.
	Details  any
	Server   Server
	Instance Instance
	// Names are the names of all databases that the login can see.
	Names []string
	// Target is the database that the intent names, if there is one.
	Target *Database
	// Source is the template as a database, and SourceMine whether Genarch's
	// login may alter it; read when its sessions may be ended.
	Source     *Database
	SourceMine bool
	// TemplateUsers says who sits in the template: "account from address".
	TemplateUsers []string
	Choices       Choices
	// OwnerFound: the role or account asked for as owner, as the server
	// writes it; several where a name without a host fits several accounts.
	OwnerFound []string
	// OwnerAllowed: the login may make a database for that owner.
	OwnerAllowed bool
	// Leftover are grants that would come alive with the new name, as text.
	Leftover []string
	// Access is read for intents about accounts, roles, grants and teams.
	Access *Access
	// Self is Genarch's own login, and Client where it comes from (MariaDB).
	Self   Principal
	Client string
	// Sessions are those of the account that the intent is about, in words.
	Sessions []string
	// Connected are the sessions in the way of an intent that clears a database
	// or an account, or all of the server for one that ends sessions.
	Connected []Session
	// SessionsUnseen says what of them the server does not show.
	SessionsUnseen []string
	// Doomed is read for intents that take a database away or move it.
	Doomed *Doomed
	// Holdings are what an account that is to be dropped has, by database.
	Holdings []Holding
	// Definers are what runs with an account's rights (MariaDB), in words.
	Definers []string
	// TLSReady: the server can encrypt connections.
	TLSReady bool
	// Methods are the ways to sign in that the server knows (MariaDB).
	Methods []string
	// Strict: the server refuses a password that it cannot check itself, which
	// a verifier is (MariaDB: strict_password_validation).
	Strict string
	// Use is when somebody was last seen in the database, or as the account, that
	// the intent is about. No engine tells; it is filled in by whoever watches.
	Use Use
	// ObjectAbsent: the table or routine of a grant is not there (MariaDB).
	ObjectAbsent bool
	// Routine is what kind of routine a grant names, if it is not of the usual kind.
	Routine string
	// FoldsCase: the server stores names in lower case.
	FoldsCase bool
}

// Holding is what a PostgreSQL role has in one database, or on what all share
// (Database is empty then). Source: pg_shdepend.
type Holding struct {
	Database string
	// Closed: nobody can connect to the database, so nothing there can be altered.
	Closed bool
	// Owned, Granted and Policies count the objects.
	Owned, Granted, Policies int
	// Kinds says what is owned: "3 tables, 1 schema".
	Kinds string
	// Databases are those that it owns, where Database is empty.
	Databases []string
}

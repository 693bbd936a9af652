package catalog

import (
	"slices"
	"time"

	"example.com/genarch/core/privilege"
)

// Principal names whoever can hold privileges on one server: an account, a
// role, or everybody ([Public]). An engine's description says which of the parts it
// has: where accounts and roles are one kind of thing, Role is false for all.
type Principal struct {
	Name string `json:"name"`
	// Host is where an account comes from, where that is part of it.
	Host string `json:"host,omitempty"`
	// Database is the one that it lies in, where it is not the whole server's.
	Database string `json:"database,omitempty"`
	Role     bool   `json:"role,omitempty"`
}

// Public is everybody who can sign in.
var Public = Principal{Name: "PUBLIC", Role: true}

// String writes it as people do: name@host where it has a host, database/name where
// it lies in one, else the name.
func (p Principal) String() string {
	if p.Database != "" {
		return p.Database + "/" + p.Name
	}
	if p.Host != "" {
		return p.Name + "@" + p.Host
	}
	return p.Name
}

// Account is an account or role as its server shows it. Pointers are nil where
// it cannot be seen.
type Account struct {
	Principal
	// Key is by what the engine itself tells it from another one of the same name; empty
	// where there is nothing.
	Key string
	// Bootstrap: it is the system's own, and the superuser that the server was set up
	// with, whom people use: it is shown among theirs.
	Bootstrap bool
	// Login: it may sign in. A role (group) may not.
	Login bool
	// Super: nothing is refused to it.
	Super bool
	// Inherit: PostgreSQL's rolinherit, for memberships of versions before 16.
	Inherit bool
	// Attributes are the rights that reach the whole server: PostgreSQL's role
	// attributes (CREATEDB, CREATEROLE, REPLICATION, BYPASSRLS).
	Attributes []string
	// Global are MariaDB's privileges on *.*, GlobalGrant whether it may pass them on.
	Global      privilege.Set
	GlobalGrant bool
	Locked      bool
	// Password says whether it has one; nil: cannot be seen.
	Password *bool
	// Open: whoever knows its name can sign in (MariaDB: an empty password; an
	// account made without a usable one has no password, and is not open).
	Open bool
	// Expires is when its password ends; Expired: it has.
	Expires time.Time
	Expired bool
	// PasswordDays is after how many days a password ends (MariaDB): 0 never,
	// nil as the server's default says.
	PasswordDays *int
	// ConnectionLimit is -1 for none.
	ConnectionLimit int
	Sessions        *int
	// Method is how it proves itself: scram-sha-256, md5, ed25519, mysql_native_password, unix_socket, …
	Method string
	// TLS is what its sign-in demands: "" nothing, ANY, X509, SPECIFIED.
	TLS         string
	DefaultRole string
	// DefaultRoles are all of them, where there can be several.
	DefaultRoles []string
	Comment      string
	// System: the engine made it, or it is kept for the engine.
	System bool
	// Held is set for one that was set aside; its name is that under which it waits.
	Held *Holding
	// Properties are all others, by the names of the engine's fields.
	Properties Values
}

// Membership says that Member belongs to Role.
type Membership struct {
	Role, Member Principal
	// Admin: the member may give the role on.
	Admin bool
	// Inherit: the role's privileges hold at once. Set: they can be taken on
	// with SET ROLE.
	Inherit, Set bool
	Grantor      string
}

// Scope is the level of an object that privileges are held on.
type Scope string

// The scopes, the widest first.
const (
	ScopeServer   Scope = "server"
	ScopeDatabase Scope = "database"
	ScopeSchema   Scope = "schema"
	ScopeTable    Scope = "table"
	ScopeSequence Scope = "sequence"
	ScopeRoutine  Scope = "routine"
	ScopeColumn   Scope = "column"
	// ScopeFuture is what will be made later (PostgreSQL: default privileges).
	ScopeFuture Scope = "future"
)

// Entry is one line of an access list: who holds what, and who gave it.
type Entry struct {
	Grantee    Principal
	Grantor    string
	Privileges privilege.Set
	Grantable  privilege.Set
	// Denied is refused to the grantee whatever else it holds, on engines that can.
	Denied privilege.Set
	// Builtin: it holds because nothing was ever granted or revoked there.
	Builtin bool
}

// Object is one thing that a question is about. Schema exists on PostgreSQL
// only.
type Object struct {
	Scope    Scope  `json:"scope"`
	Database string `json:"database,omitempty"`
	Schema   string `json:"schema,omitempty"`
	Name     string `json:"name,omitempty"`
	// Args are the argument types of a routine as the engine itself writes them,
	// in parentheses: "(integer, text)". Only a reading of the catalogue sets
	// them; empty where an engine has none, or where a person named the routine.
	Args   string `json:"args,omitempty"`
	Column string `json:"column,omitempty"`
	// Routine is what kind of routine it is, in the engine's own word, where two
	// kinds may have one name and it is not the usual one. Only a reading sets it.
	Routine string `json:"routine,omitempty"`
}

// Fits reports whether o, read from the catalogue, is what a person named. A
// routine may be named with its argument types behind it or without: the whole
// text is compared, and a name is never taken apart.
func (o Object) Fits(named Object) bool {
	if o.Scope != named.Scope || o.Schema != named.Schema || o.Column != named.Column {
		return false
	}
	return o.Name == named.Name && (named.Args == "" || o.Args == named.Args) ||
		o.Args != "" && named.Args == "" && o.Name+o.Args == named.Name
}

// Class is a number of objects of one database, schema and kind that have the
// same owner and the same access list.
type Class struct {
	Object
	// Example is one of them; Count says how many there are.
	Example string
	Count   int
	Owner   string
	Entries []Entry
}

// DefaultPrivilege is what an account will hold on objects that Maker will make.
type DefaultPrivilege struct {
	Maker string
	// On is what kind of object: table, sequence, schema, routine.
	On Scope
	// Schema limits it to one schema; empty: in all.
	Schema  string
	Entries []Entry
}

// ObjectGrants is what the catalogues inside one PostgreSQL database say.
type ObjectGrants struct {
	Classes []Class
	Futures []DefaultPrivilege
	Read    time.Time
}

// AccessDatabase is one database and who may do what on it.
type AccessDatabase struct {
	Name   string
	Owner  string
	System bool
	// Closed: nobody can connect.
	Closed  bool
	Entries []Entry
	// Interior is nil where it was not read; Why says why not.
	Interior *ObjectGrants
	Why      string
}

// Grant is one grant of MariaDB, as its grant tables hold it.
type Grant struct {
	Entry
	Object
}

// Access is everything that says who may do what on one server.
type Access struct {
	// Number is the engine's version, comparable: 150018.
	Number      int
	Accounts    []Account
	Memberships []Membership
	Databases   []AccessDatabase
	// Grants are MariaDB's, below the server; at ScopeDatabase the name is a pattern.
	Grants []Grant
	// Denials are what is refused on single databases to who holds it on the whole server, in
	// their Denied.
	Denials []Grant
	// Unknown says what could not be read, in words.
	Unknown []string
	Read    time.Time
}

// AccessQuery says what of a server's access is to be read beside accounts,
// memberships and the grants that the whole server shows.
type AccessQuery struct {
	// Inside names the databases to be looked into; All looks into every one.
	Inside []string
	All    bool
	// Object is read by itself, not within a class.
	Object *Object
	// Fresh: nothing that was kept from an earlier reading will do.
	Fresh bool
}

// WithMembers adds to some all that belong to them, by whatever way.
func WithMembers(some map[Principal]bool, list []Membership) map[Principal]bool {
	for grown := len(some) > 0; grown; {
		grown = false
		for _, m := range list {
			if some[m.Role] && !some[m.Member] {
				some[m.Member], grown = true, true
			}
		}
	}
	return some
}

// Candidates are the accounts that a principal can mean: itself, or, for a
// name without a host, every account of that name. One of the whole server comes before those that lie
// in databases.
func Candidates(list []Account, p Principal) []Account {
	var out []Account
	if i := slices.IndexFunc(list, func(a Account) bool { return a.Principal == p }); i >= 0 && p.Host == "" &&
		p.Database == "" && slices.ContainsFunc(list, func(a Account) bool { return a.Database != "" }) {
		return list[i : i+1]
	}
	for _, a := range list {
		if a.Name == p.Name && a.Role == p.Role && (a.Host == p.Host || p.Host == "") &&
			(a.Database == p.Database || p.Database == "") {
			out = append(out, a)
		}
	}
	return out
}

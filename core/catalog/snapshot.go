package catalog

import "example.com/genarch/core/script"

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
	// Source is the template as a database; read when its sessions may be ended.
	Source  *Database
	Choices Choices
	// OwnerFound: the role or account asked for as owner, as the server
	// writes it; several where a name without a host fits several accounts.
	OwnerFound []string
	// OwnerAllowed: the login may make a database for that owner.
	OwnerAllowed bool
	// Access is read for intents about accounts, roles, grants and teams.
	Access *Access
	// Self is Genarch's own login.
	Self Principal
	// Sessions are those of the account that the intent is about, in words.
	Sessions []string
	// Connected are the sessions in the way of an intent that clears a database
	// or an account, or all of the server for one that ends sessions.
	Connected []Session
	// SessionsUnseen says what of them the server does not show.
	SessionsUnseen []string
	// DropImpact is read for intents that take a database away or move it.
	DropImpact *DropImpact
	// Script is the one that the intent asks for; nil: there is none. It is filled in by whoever
	// keeps scripts.
	Script *script.Kept
	// Use is when somebody was last seen in the database, or as the account, that
	// the intent is about. No engine tells; it is filled in by whoever watches.
	Use Use
}

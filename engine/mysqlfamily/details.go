package mysqlfamily

import "example.com/genarch/engine"

// details are what only this engine's planner reads of a snapshot.
type details struct {
	// FoldsCase: the server stores names in lower case.
	FoldsCase bool
	// Tables are those of a database that is altered, with their collations.
	Tables []tableCollation
	// Copied, Objects and CopiedSessions tell what a template holds, and how many are connected
	// to it.
	Copied         copied
	Objects        objects
	CopiedSessions int
	// Filling is read for the run of a script.
	Filling filling
	// Program exports the database; NoProgram is why none can.
	Program   engine.Program
	NoProgram string
	// Leftover are grants that would take effect again with the new name, as text.
	Leftover []string
	// Client is where Genarch's login comes from.
	Client string
	// TLSReady: the server can encrypt connections.
	TLSReady bool
	// Methods are the ways to sign in that the server knows.
	Methods []string
	// PlainNames: with partial revokes, the database of a grant is no pattern.
	PlainNames bool
	// Strict are the plugins that refuse a password which they cannot check, as a
	// verifier is (strict_password_validation); empty: none does.
	Strict string
	// Definers are what runs with an account's rights, in words.
	Definers []string
	// ObjectAbsent: the table or routine of a grant is not there.
	ObjectAbsent bool
	// Routine is what kind of routine a grant names, if it is no procedure.
	Routine string
}

type tableCollation struct{ Table, Collation string }

func detailsOf(of any) *details {
	if d, ok := of.(*details); ok {
		return d
	}
	return &details{}
}

// dropDetails are what only this engine's planner reads of a database that is dropped.
type dropDetails struct {
	// OutsideKeys are foreign keys of other databases that point into it.
	OutsideKeys []string
	// Detached counts transactions without a session that hold rows.
	Detached int
	// Cluster: the server is one of several that can all be written to.
	Cluster bool
	// Events are the scheduled events that are enabled.
	Events []scheduled
	// Objects are read of what is set aside or brought back.
	Objects objects
	// Saved is read of what waits.
	Saved saved
}

// saved is what was kept of a database that was set aside, by what makes it again.
type saved struct {
	Definitions []definition // without their bodies
	Grants      []savedGrant
	Events      []scheduled // those that were enabled
	// Sealed: it bears Genarch's seal, so nobody else wrote or altered it.
	Sealed bool
}

// scheduled is an event, and whose privileges it runs with, as the server writes it:
// name@host, and name@ for a role.
type scheduled struct{ Name, Definer string }

func dropDetailsOf(of any) *dropDetails {
	if d, ok := of.(*dropDetails); ok {
		return d
	}
	return &dropDetails{}
}

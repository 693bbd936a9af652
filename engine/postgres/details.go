package postgres

import "example.com/genarch/engine"

// details are what only this engine's planner reads of a snapshot.
type details struct {
	// Refused says, by name, why the server takes a setting with its value not.
	Refused map[string]string
	// TemplateUsers says who sits in the template: "account from address".
	TemplateUsers []string
	// SourceMine: Genarch's login may alter the template.
	SourceMine bool
	// Filling is read for the run of a script.
	Filling *filling
	// Program exports the database; NoProgram is why none can.
	Program   engine.Program
	NoProgram string
	// Belongings are what an account that is to be dropped has, by database.
	Belongings []belonging
}

func detailsOf(of any) *details {
	if d, ok := of.(*details); ok {
		return d
	}
	return &details{}
}

// belonging is what a role has in one database, or on what all share (Database is empty
// then). Source: pg_shdepend.
type belonging struct {
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

// dropDetails are what only this engine's planner reads of a database that is taken
// away or moved.
type dropDetails struct {
	// Slots are its logical replication slots, Subscriptions what it receives.
	Slots         []slot
	Subscriptions []string
}

func dropDetailsOf(of any) *dropDetails {
	if d, ok := of.(*dropDetails); ok {
		return d
	}
	return &dropDetails{}
}

// slot is a logical replication slot.
type slot struct {
	Name   string
	Active bool
}

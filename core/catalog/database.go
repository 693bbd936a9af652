package catalog

import (
	"maps"
	"time"
)

// Database is one database as its server shows it. Pointers are nil where the
// engine does not tell or Genarch's login may not see it: unknown is not zero.
type Database struct {
	Name string
	// Owner is who owns it; where there are no owners, who holds all of it.
	Owner     string
	Encoding  string
	Collation string
	Comment   string
	// Closed: nobody can connect to it. Broken: all that can be done with it is to
	// drop it.
	Closed, Broken bool
	System         bool
	// Properties are all others, by the names of the engine's fields. A property of the
	// same name as an option is what that option settled.
	Properties Values
	// Trouble says in a sentence what is wrong with it: left over from an
	// interrupted drop, a collation whose version changed. Empty when nothing is.
	Trouble  string
	Size     *int64 // bytes
	Tables   *int
	TablesAt time.Time // when Tables was counted; zero: just now
	Sessions *int
	// Held is set for one that was set aside; its name is that under which it waits.
	Held *Holding
	// Key is by what the engine itself tells it from another one of the same name; empty
	// where there is nothing.
	Key string
}

// Listing is the databases of one server, read at one moment.
type Listing struct {
	Databases []Database
	// Held are those that were set aside; they are not among the databases.
	Held []Database
	// HeldAccounts are the accounts that were set aside, where the engine can.
	HeldAccounts []Account
	Read         time.Time
	// Partial says what is missing from the listing and why; empty when whole.
	Partial []string
}

// Values are the properties by the names of the engine's fields, those included
// that every engine has. An empty one is left out.
func (d Database) Values() Values {
	out := maps.Clone(d.Properties)
	if out == nil {
		out = Values{}
	}
	for name, text := range map[string]string{"owner": d.Owner, "encoding": d.Encoding, "collation": d.Collation,
		"comment": d.Comment} {
		if text != "" {
			out[name] = text
		}
	}
	return out
}

package catalog

import "time"

// Database is one database as its server shows it. Pointers are nil where the
// engine does not tell or Genarch's login may not see it: unknown is not zero.
type Database struct {
	Name      string
	Owner     string // PostgreSQL: the owner role; MariaDB: "" (no owners), see Owners
	Owners    []string
	Encoding  string
	Collation string
	// CType, Provider, Locale and Tablespace exist on PostgreSQL only.
	CType            string
	Provider         string
	Locale           string
	Tablespace       string
	IsTemplate       bool
	AllowConnections bool
	// ConnectionLimit is -1 for none.
	ConnectionLimit int
	System          bool
	// Trouble says in a sentence what is wrong with it: left over from an
	// interrupted drop, a collation whose version changed. Empty when nothing is.
	Trouble  string
	Comment  string
	Size     *int64 // bytes
	Tables   *int
	TablesAt time.Time // when Tables was counted; zero: just now
	Sessions *int
	// Key is the engine's own stable number for it (PostgreSQL: the oid).
	Key uint64
}

// Listing is the databases of one server, read at one moment.
type Listing struct {
	Databases []Database
	Read      time.Time
	// Partial says what is missing from the listing and why; empty when whole.
	Partial []string
}

// Package privilege names what an account may do on an object, as sets that can
// be united and compared. The words are those of SQL and of the engines' own
// documentation: PostgreSQL's ACL letters, MariaDB's SHOW PRIVILEGES.
package privilege

import (
	"fmt"
	"math/bits"
	"strings"
)

// Set is any number of privileges. The zero value is none.
type Set uint64

// The privileges. Those up to Temporary mean the same on both engines or exist
// on PostgreSQL; the rest are MariaDB's, on one database and on the whole server.
const (
	Select Set = 1 << iota
	Insert
	Update
	Delete
	Truncate
	References
	Trigger
	Maintain
	Usage
	Create
	Connect
	Temporary
	Execute
	Drop
	Index
	Alter
	CreateTemporaryTables
	LockTables
	CreateView
	ShowView
	CreateRoutine
	AlterRoutine
	Event
	DeleteHistory
	Reload
	Shutdown
	Process
	File
	ShowDatabases
	Super
	ReplicationSlave
	BinlogMonitor
	CreateUser
	CreateTablespace
	SetUser
	FederatedAdmin
	ConnectionAdmin
	ReadOnlyAdmin
	ReplicationSlaveAdmin
	ReplicationMasterAdmin
	BinlogAdmin
	BinlogReplay
	SlaveMonitor
	ShowCreateRoutine
	SetParameter
	AlterSystem
	last

	// Own is no privilege that can be granted: it stands for owning the object
	// (or acting as its owner), which lets one alter and drop it.
	Own Set = 1 << 63
	// Below says that something within the object is open, but not all of it.
	Below Set = 1 << 62
)

// All is every privilege that can be granted.
const All = last - 1

var names = [...]string{"SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER", "MAINTAIN", "USAGE", "CREATE", "CONNECT",
	"TEMPORARY", "EXECUTE", "DROP", "INDEX", "ALTER", "CREATE TEMPORARY TABLES", "LOCK TABLES", "CREATE VIEW", "SHOW VIEW", "CREATE ROUTINE",
	"ALTER ROUTINE", "EVENT", "DELETE HISTORY", "RELOAD", "SHUTDOWN", "PROCESS", "FILE", "SHOW DATABASES", "SUPER", "REPLICATION SLAVE",
	"BINLOG MONITOR", "CREATE USER", "CREATE TABLESPACE", "SET USER", "FEDERATED ADMIN", "CONNECTION ADMIN", "READ_ONLY ADMIN",
	"REPLICATION SLAVE ADMIN", "REPLICATION MASTER ADMIN", "BINLOG ADMIN", "BINLOG REPLAY", "SLAVE MONITOR", "SHOW CREATE ROUTINE", "SET", "ALTER SYSTEM"}

// byName finds a privilege by its name, or by a name that it had in an older version.
var byName = func() map[string]Set {
	m := map[string]Set{"TEMP": Temporary, "REPLICATION CLIENT": BinlogMonitor, "DELETE VERSIONING ROWS": DeleteHistory, "REPLICA MONITOR": SlaveMonitor}
	for i, n := range names {
		m[n] = 1 << i
	}
	return m
}()

// Named finds one privilege by its name, in any case.
func Named(name string) (Set, bool) {
	s, ok := byName[strings.ToUpper(strings.Join(strings.Fields(name), " "))]
	return s, ok
}

// Parse reads names; the error says which one is no privilege.
func Parse(list []string) (Set, error) {
	var out Set
	for _, name := range list {
		s, ok := Named(name)
		if !ok {
			return 0, fmt.Errorf("there is no privilege %q", name)
		}
		out |= s
	}
	return out, nil
}

// Has reports whether all of other are in s.
func (s Set) Has(other Set) bool { return s&other == other }

// Names lists the privileges in a fixed order, [Own] and [Below] left out.
func (s Set) Names() []string {
	out := make([]string, 0, bits.OnesCount64(uint64(s&All)))
	for i, n := range names {
		if s&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

// String is the names as SQL lists them.
func (s Set) String() string { return strings.Join(s.Names(), ", ") }

package enginetest

import (
	"context"
	"database/sql"
	"strings"

	"example.com/genarch/engine"
	"example.com/genarch/localdb"
)

// Rig is a running server with what the suite's own clients have to say to it: the
// suite knows no engine. Package rigs has them.
type Rig struct {
	Engine  engine.Engine
	Running *localdb.Server
	// Driver is the one of package sql, and DSN the administrator's address of a database.
	Driver string
	DSN    func(database string) string
	Main   string // the database that is always there
	Number string // asks for the number of the session
	Begin  string // begins a transaction
	Sleep  string // runs a minute, with a table shifts of a few rows
	Busy   string // reads that table, and leaves the processors to others where it can
	Quote  func(name string) string
	// Account makes one that signs in by a password, and may read a database.
	Account func(name, password, database string) []string
	Host    string // of such an account, where accounts have hosts
	// Numbered: a database that was made anew is told apart from the one before.
	Numbered bool
}

// Conn is one connection of a client, as its program has it.
type Conn struct {
	*sql.Conn
	db *sql.DB
}

// Close closes the connection itself; that of package sql only goes back to its pool.
func (c *Conn) Close() {
	c.Conn.Close()
	c.db.Close()
}

// Client opens one connection to a database as the administrator or, with an
// account, as that one, whose password is the administrator's.
func Client(ctx context.Context, rig Rig, database, account string) (*Conn, error) {
	dsn := rig.DSN(database)
	if account != "" {
		dsn = strings.Replace(dsn, rig.Running.Admin+":", account+":", 1)
	}
	db, err := sql.Open(rig.Driver, dsn)
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, err
	}
	return &Conn{conn, db}, nil
}

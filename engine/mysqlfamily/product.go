package mysqlfamily

import (
	"context"
	"database/sql/driver"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// product is what one server of the family is: where it differs from the others, as data,
// and where data does not do, as functions. Whatever all of them share has no branch on it.
type product struct {
	description *engine.Description
	// limits are those of new databases' names, accountLimits of accounts'.
	limits, accountLimits naming.Limits
	// abilities are those that Genarch's work needs.
	abilities []ability
	// setUp is sent on every connection.
	setUp string
	// recognises reports whether a server that calls itself so is one.
	recognises func(version string) bool
	// identity reads what tells instances apart, but for the marker.
	identity func(ctx context.Context, c driver.Conn) (catalog.Identity, error)
	// instance reads of a server, as columns: its version, the account of the login, whether
	// read_only and innodb_read_only are on, how many sessions are allowed, character set and
	// collation, how many sessions are open, since how many seconds it runs, how many
	// replications it receives, and the cipher of this connection.
	instance string
	// processlist shows the sessions, with ID, USER, HOST, DB and COMMAND.
	processlist string
	// comment is the column of SCHEMATA that has a database's comment, or what stands for it.
	comment string
	// tablespaces shows the files of tables, with NAME and FILE_SIZE.
	tablespaces string
	// outsideKeys lists foreign keys of other databases that point into one; its folder is
	// given twice, with the wildcards of LIKE escaped.
	outsideKeys string
	// collationName reads by which column collations are offered.
	collationName func(ctx context.Context, s *server) (string, error)
	// system are the server's own databases, systemAccounts its own accounts.
	systemAccounts []string
	// entries reads accounts and roles, all or one, with what the server keeps of passwords.
	entries func(ctx context.Context, s *server, only *catalog.Principal) ([]entry, error)
	// accountNames lists accounts that are no roles, as User and Host; owner looks for those of
	// a name, given as name, host, host.
	accountNames, owner string
	// memberships reads who belongs to which role; member counts the memberships of an account
	// or role, given by name and host, in a role.
	memberships func(ctx context.Context, s *server) ([]catalog.Membership, error)
	member      string
	// holders tells whom a row of the grant tables is about.
	holders func(ctx context.Context, s *server) (func(user, host string) catalog.Principal, error)
	// databaseColumns are the privileges of mysql.db.
	databaseColumns []databaseColumn
	// lines reads the sessions: number, user, client, database, command, milliseconds in its
	// state, state, statement, and when the server began.
	lines string
	// rowWaits reads who waits for whom for a row, by numbers of sessions.
	rowWaits string
	// shows reads whether the server keeps what clients call themselves, and whether it shows
	// metadata locks; metadataLocks reads these: session, mode, kind, database, table;
	// locksHidden says what does not show without.
	shows, metadataLocks, locksHidden string
	// prepared lists transactions that wait for their second phase.
	prepared func(ctx context.Context, s *server) ([]catalog.Prepared, error)
	// isBackup reports whether a lock is one that a backup takes.
	isBackup func(l metadataLock) bool
	// kill and killStatement end a session and its statement; its number goes behind. compound:
	// several can go in one statement.
	kill, killStatement string
	compound            bool
	// signIn reads how accounts can sign in: the client's host, whether TLS is ready, whether
	// verifiers are refused.
	signIn string
}

// entry is an account or role as the server keeps it.
type entry struct {
	catalog.Account
	kept string // what the server keeps of its password
}

// id names the engine on the wire, in the records and in the CLI.
func (p *product) id() catalog.Engine { return p.description.ID }

// killEach is what is sent for each session, right after its account and client were
// compared; killRunning stops the running statement of each.
func (p *product) killEach() string    { return p.kill + "…" }
func (p *product) killRunning() string { return p.killStatement + "…" }

// products are all of the family.
var products = map[catalog.Engine]*product{}

// productOf is the one that a snapshot was taken of: [Engine.Plan] says which.
func productOf(snap catalog.Snapshot) *product { return products[snap.Server.Engine] }

// Of tells the members of the family apart by their types, so that the zero value of each
// [Engine] is ready for use.
type Of interface{ product() *product }

// MariaDB is MariaDB.
type MariaDB struct{}

func (MariaDB) product() *product { return &mariaDB }

// Describe says what the product has.
func (e Engine[P]) Describe() *engine.Description { return e.product().description }

func init() {
	for _, p := range []*product{&mariaDB} {
		products[p.id()] = p
	}
}

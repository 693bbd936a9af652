package mysqlfamily

import (
	"context"
	"database/sql/driver"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// product is what one server of the family is: where it differs from the others, as data,
// and where data does not do, as functions. Whatever all of them share has no branch on it.
type product struct {
	description *engine.Description
	// limits are those of new databases' names, accountLimits of accounts'.
	limits, accountLimits naming.Limits
	// hosts is how the hosts of accounts are read.
	hosts hosts
	// abilities are those that Genarch's work needs.
	abilities []ability
	// administrator is the right of those whom only those who have it alter, or end the sessions of.
	administrator string
	// fresh stands behind the login that Genarch is to get, so that nobody signs in before it has
	// a password; empty: not needed.
	fresh string
	// setUp is sent on every connection.
	setUp string
	// recognises reports whether a server that calls itself so is one.
	recognises func(version string) bool
	// oldest is the first version that is looked after, as 80022; 0: none is refused.
	oldest int
	// identity reads what tells instances apart, but for the marker.
	identity func(ctx context.Context, c driver.Conn) (catalog.Identity, error)
	// instance reads of a server, as columns: its version, the account of the login, why nothing
	// can be altered there ('': it can), how many sessions are allowed, character set and
	// collation, how many sessions are open, since how many seconds it runs, how many
	// replications it receives, and the cipher of this connection.
	instance string
	// processlist shows the sessions, with ID, USER, HOST, DB and COMMAND.
	processlist string
	// comment is the column of SCHEMATA that has a database's comment, or what stands for it.
	comment string
	// states lists databases, whether they are read only, and whether new tables in them are
	// encrypted; more conditions stand behind; empty:
	// there are none.
	states string
	// tablespaces shows the files of tables, with NAME and FILE_SIZE.
	tablespaces string
	// outsideKeys lists foreign keys of other databases that point into one; its folder is
	// given twice, with the wildcards of LIKE escaped.
	outsideKeys string
	// collationName reads by which column collations are offered.
	collationName func(ctx context.Context, s *server) (string, error)
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
	// restrictions reads what is refused on single databases to who holds it on the whole server,
	// and what of the server's rules is not counted; nil: there is no such thing.
	restrictions func(ctx context.Context, s *server) (denials []catalog.Grant, unknown []string, err error)
	// plainNames reads whether the database of a grant is a plain name, wildcards and all, so that
	// how to write one with _ or % is not certain; empty: it never is.
	plainNames string
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
	// bundles are privileges on a database. placeholder is the right that shadows a pattern: of
	// all rows of an account only the most exact one counts, so a row with next to nothing
	// takes away what a pattern gave.
	bundles     map[access.Bundle]privilege.Set
	placeholder privilege.Set
	// copies says by what a copy of a server is told from it.
	copies string
	// cluster reads whether the server is one of several that can all be written to, and
	// clusterText says what a drop does there.
	cluster, clusterText string
	// dropping is put before a drop, and bounded set before on its session: that it waits for
	// locks for a moment only. looksForLocks: whether somebody holds a lock is looked up, and
	// not tried.
	dropping, bounded string
	// unchecked is put before what drops tables, so that it does not matter what points to them, and
	// uncheckedFirst set before on its session.
	unchecked, uncheckedFirst string
	// copying is set besides on the session that copies rows, so that also those are taken that
	// today's rules would not let in.
	copying string
	// generated tells of a column whether it is NEVER one that the server works out, and upToDate is
	// set on a session that reads the next numbers of tables as they are now; empty: they are.
	generated, upToDate string
	// waiting is put before what is to wait for locks for a few seconds.
	waiting       string
	looksForLocks bool
	// atomicDrop: a drop that fails has taken nothing.
	atomicDrop bool
	// dumps are the programs that export from it, the best one first.
	dumps []string
	// clients are the words of its clients.
	clients clientWords
	// roleHost is the host that roles have; empty: none. ownRole makes whoever makes a role its
	// administrator, and grantsRoles reports whether the login may grant any role.
	roleHost, ownRole string
	grantsRoles       func(login catalog.Login) bool
	// defaultOf stands between a default role and whose it is.
	defaultOf string
	// oneDefault: an account has one default role at most.
	oneDefault bool
	// method settles how a new password is kept, with what there is to say about it; credential
	// stands before what is kept; verifier computes it, and matches compares it. plainMethod
	// and nobody let nobody sign in.
	method              func(b *change.Brief, asked, current string, snap catalog.Snapshot) string
	credential          func(method string) string
	verifier            func(method, password string) (string, error)
	matches             func(kept, method, password string) bool
	plainMethod, nobody string
	// marked is what SET PASSWORD is given so that the account of a script bears a mark, and
	// isMarked finds it again in what is kept.
	marked   func(mark string) string
	isMarked func(kept, mark string) bool
	// countWithin counts rows within milliseconds; the table stands behind.
	countWithin string
	// onlyTables: a script may make tables and write rows, and nothing that runs with an
	// account's rights.
	onlyTables bool
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

// role is the role of a name.
func (p *product) role(name string) catalog.Principal {
	return catalog.Principal{Name: name, Host: p.roleHost, Role: true}
}

// remark is the comment that a database of Genarch's own gets, where databases have one.
func (p *product) remark(text string) string {
	if p.comment == noComment {
		return ""
	}
	return text
}

// noComment stands for the comment of a database that can have none.
const noComment = "''"

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

// MySQL is MySQL.
type MySQL struct{}

func (MySQL) product() *product { return &mySQL }

// Describe says what the product has.
func (e Engine[P]) Describe() *engine.Description { return e.product().description }

func init() {
	for _, p := range []*product{&mariaDB, &mySQL} {
		products[p.id()] = p
	}
}

package catalog

import (
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"
)

// SessionID marks one session for certain. The number alone does not: servers
// use their numbers again, so it goes with a mark that no later session of that
// number has. PostgreSQL: the time at which its process began, in microseconds.
// MariaDB: account, client and port, and when the server itself began.
type SessionID struct {
	Number int64  `json:"number"`
	Mark   string `json:"mark"`
}

// String writes it as ParseSessionID reads it: 4711-hw2k9x3f1z0.
func (id SessionID) String() string { return strconv.FormatInt(id.Number, 10) + "-" + id.Mark }

// ErrSessionID is what every failure of [ParseSessionID] wraps.
var ErrSessionID = errors.New("not a session's identity")

// ParseSessionID reads what String wrote. A number alone is refused.
func ParseSessionID(text string) (SessionID, error) {
	number, mark, _ := strings.Cut(text, "-")
	n, err := strconv.ParseInt(number, 10, 64)
	if err != nil || n <= 0 {
		return SessionID{}, fmt.Errorf("%w: %q; it looks like 4711-hw2k9x3f1z0", ErrSessionID, text)
	}
	if mark == "" {
		return SessionID{}, fmt.Errorf("%w: the number %s alone may be somebody else's session by now; take the whole identity from the list of sessions", ErrSessionID, number)
	}
	for _, c := range mark {
		if (c < '0' || c > '9') && (c < 'a' || c > 'z') {
			return SessionID{}, fmt.Errorf("%w: %q; it looks like 4711-hw2k9x3f1z0", ErrSessionID, text)
		}
	}
	return SessionID{n, mark}, nil
}

// SessionKind says what a session is there for.
type SessionKind string

// The kinds. Only those of clients are ever ended by a filter.
const (
	ClientSession SessionKind = "client"
	// OwnSession is one of Genarch's own.
	OwnSession SessionKind = "own"
	// EngineSession is the server's own: autovacuum, the event scheduler.
	EngineSession SessionKind = "engine"
	// ReplicationSession sends to or receives from another server.
	ReplicationSession SessionKind = "replication"
	// BackupSession looks like a running backup; what tells it is a hint that
	// the client could have chosen itself.
	BackupSession SessionKind = "backup"
	// WorkerSession is a background worker, of an extension or a job, which would be back.
	WorkerSession SessionKind = "worker"
)

// Activity is what a session does just now.
type Activity string

// The activities.
const (
	SessionIdle   Activity = "idle"
	SessionActive Activity = "active"
	// SessionInTransaction: it does nothing, and has a transaction open.
	SessionInTransaction Activity = "idle_in_transaction"
	// SessionEnding: it was ended, and rolls its work back.
	SessionEnding Activity = "ending"
)

// Session is one connection to a server, as the server shows it. Zero times and
// empty texts are what the engine does not tell.
type Session struct {
	ID   SessionID
	Kind SessionKind
	// Database is the one it is connected to; Uses are others in which it holds
	// locks (MariaDB, where the server shows them).
	Database string
	Uses     []string
	// Account is who it signed in as; on MariaDB the host is inferred.
	Account Principal
	// Super: nothing is refused to the account, and only an equal may end it.
	Super       bool
	Application string
	// Client is where it comes from, with the port on MariaDB.
	Client     string
	Started    time.Time
	Activity   Activity
	StateSince time.Time
	// Statement is what runs or ran last, cut at [MaxStatement] characters, without
	// what may be a password (lexical.Dialect.Guarded); Shape the same without any text
	// that stands in it (lexical.Dialect.Shape). Only the shape is ever kept.
	Statement string
	Shape     string
	// Transaction is when the open transaction began; zero: none is open.
	Transaction time.Time
	// Written: the open transaction has written, and ending it loses that.
	// Rows is how many rows, where the engine counts them (MariaDB).
	// LogBytes is how much log, where the engine tells that; 0: none, or it does not tell.
	Written  bool
	Rows     *int64
	LogBytes int64
	// Locks counts what it holds; BlockedBy are the numbers of the sessions that
	// it waits for; Wait is what for.
	Locks     int
	BlockedBy []int64
	Wait      string
	// Progress tells how far an ending session is with rolling its work back, or a backup.
	Progress string
	// Leader is the session that a parallel worker works for; 0: none.
	Leader int64
	// Hidden: Genarch's login may not see what it does.
	Hidden bool
}

// MaxStatement is how many characters of a statement are read.
const MaxStatement = 4000

// SessionList is the sessions of a server, read at one moment.
type SessionList struct {
	Sessions []Session
	// Prepared are transactions that were prepared for a two-phase commit. They
	// belong to no session any more.
	Prepared []Prepared
	// Unseen says in words what the server does not show.
	Unseen []string
	// Allowed is how many sessions the server takes.
	Allowed int
	Read    time.Time
}

// Prepared is a transaction that waits for its second phase.
type Prepared struct {
	Name string
	// Database and Owner are empty on MariaDB, which tells neither.
	Database, Owner string
	Since           time.Time
}

// SessionQuery says which sessions are to be read, and how much of each. Its
// zero value reads all there is of every session.
type SessionQuery struct {
	// Database reads those in it, or using it.
	Database string
	// Brief is for looks in quick succession: it leaves out locks and who waits
	// for whom, and what the server is slow to tell may be a moment old.
	Brief bool
}

// Ending says how a session is to be ended.
type Ending string

// The endings.
const (
	// EndSession closes the connection; its transaction is rolled back.
	EndSession Ending = "session"
	// EndStatement stops what runs just now; connection and transaction stay.
	EndStatement Ending = "statement"
)

// Sample is how many client sessions a server had at one time.
type Sample struct {
	At time.Time
	// Idle do nothing, Busy run something, Open have a transaction open and do
	// nothing. Waiting for a lock are some of the busy ones.
	Idle, Busy, Open, Waiting int
	// Missing: the server did not answer.
	Missing bool
}

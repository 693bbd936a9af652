package wire

import "time"

// ServerSession is one connection to a server. What is absent, the engine does
// not tell.
type ServerSession struct {
	ID          string     `json:"id" doc:"Its identity: the number and a mark that no later session of that number has."`
	Address     string     `json:"address"`
	Number      int64      `json:"number"`
	Class       string     `json:"class" enum:"idle,busy,in_transaction,written,ending,hidden,own,engine,worker,backup,replication" doc:"What ending it would mean."`
	Loses       string     `json:"loses" doc:"What it would lose by being ended."`
	Database    string     `json:"database,omitempty"`
	Uses        []string   `json:"uses,omitempty" nullable:"false" doc:"Other databases in which it holds locks, on engines where a session is in several."`
	Account     Principal  `json:"account"`
	Superuser   bool       `json:"superuser,omitempty"`
	Application string     `json:"application,omitempty"`
	Client      string     `json:"client,omitempty"`
	Started     *time.Time `json:"started,omitempty"`
	State       string     `json:"state" enum:"idle,active,idle_in_transaction,ending"`
	StateSince  *time.Time `json:"state_since,omitempty"`
	Statement   string     `json:"statement,omitempty" doc:"What runs or ran last, at most 4000 characters."`
	Transaction *time.Time `json:"transaction,omitempty" doc:"When its open transaction began."`
	Written     bool       `json:"written" doc:"Its transaction has written."`
	Rows        *int64     `json:"rows,omitempty" doc:"How many rows, where the engine tells."`
	LogBytes    int64      `json:"log_bytes,omitempty" doc:"How many bytes of log, where the engine tells."`
	Locks       int        `json:"locks"`
	BlockedBy   []int64    `json:"blocked_by" nullable:"false" doc:"The numbers of those it waits for."`
	Wait        string     `json:"wait,omitempty"`
	Progress    string     `json:"progress,omitempty"`
	Leader      int64      `json:"leader,omitempty" doc:"The session that a parallel worker works for."`
}

// Wait is a line of the tree of who waits for whom.
type Wait struct {
	Session ServerSession `json:"session"`
	Depth   int           `json:"depth" doc:"0: it waits for nobody."`
	Blocks  int           `json:"blocks" doc:"How many wait for it, directly or behind others."`
	Again   bool          `json:"again,omitempty" doc:"It stands further up too."`
}

// Prepared is a prepared transaction, which belongs to no session.
type Prepared struct {
	Name     string     `json:"name"`
	Database string     `json:"database,omitempty"`
	Owner    string     `json:"owner,omitempty"`
	Since    *time.Time `json:"since,omitempty"`
}

// SessionList is the sessions of a server, read at one moment.
type SessionList struct {
	Server      string          `json:"server"`
	Engine      string          `json:"engine"`
	Environment string          `json:"environment"`
	Sessions    []ServerSession `json:"sessions" nullable:"false"`
	Total       int             `json:"total" doc:"How many fit, if more than are shown."`
	All         int             `json:"all" doc:"How many there are, the engine's own and Genarch's included."`
	Waits       []Wait          `json:"waits" nullable:"false" doc:"Who blocks whom: every tree that a session which was asked for is in, whole."`
	Prepared    []Prepared      `json:"prepared" nullable:"false"`
	Unseen      []string        `json:"unseen" nullable:"false" doc:"What the server does not show."`
	Allowed     int             `json:"allowed" doc:"How many the server takes."`
	Read        time.Time       `json:"read"`
}

// SessionSample is how many sessions there were at one time.
type SessionSample struct {
	At      time.Time `json:"at"`
	Idle    int       `json:"idle"`
	Busy    int       `json:"busy"`
	Open    int       `json:"open" doc:"In a transaction, doing nothing or with written work."`
	Waiting int       `json:"waiting" doc:"For a lock; they are among the busy ones."`
	Missing bool      `json:"missing,omitempty" doc:"The server did not answer."`
}

// Use is when somebody was last seen using a database or an account, as far as
// Genarch has looked: the engines keep no record of it.
type Use struct {
	Last       *time.Time `json:"last,omitempty" doc:"Absent: nobody was seen since the watch began."`
	Since      time.Time  `json:"since" doc:"When Genarch began to watch the server."`
	Unobserved int64      `json:"unobserved" doc:"For how many seconds of that nobody looked, or the server did not answer."`
}

// SessionHistory is the samples of the last hour.
type SessionHistory struct {
	Server  string          `json:"server"`
	Seconds int             `json:"seconds" doc:"Between two samples."`
	Samples []SessionSample `json:"samples" nullable:"false"`
}

// ClearingSpec says how sessions that are in the way are dealt with.
type ClearingSpec struct {
	Grace      int            `json:"grace,omitempty" minimum:"0" maximum:"3600" doc:"Seconds in which work may go on by itself first."`
	WhenEmpty  int            `json:"when_empty,omitempty" minimum:"0" maximum:"43200" doc:"Seconds to wait for the last session to leave; then nobody is ended."`
	AcceptLoss bool           `json:"accept_loss,omitempty" doc:"Sessions that have written may be ended too."`
	Options    map[string]any `json:"options,omitempty" doc:"The options of the engine, by name, as GET /engines describes them."`
}

// SessionsSpec asks for sessions to be ended: those named, or those that fit.
type SessionsSpec struct {
	IDs           []string `json:"ids,omitempty" maxItems:"1000" nullable:"false" doc:"Their identities, as in the list."`
	Database      string   `json:"database,omitempty" maxLength:"400"`
	Account       string   `json:"account,omitempty" maxLength:"800" doc:"A name, or name@host."`
	Application   string   `json:"application,omitempty" maxLength:"400"`
	Client        string   `json:"client,omitempty" maxLength:"300" doc:"An address, without a port."`
	Class         string   `json:"class,omitempty" enum:"idle,busy,in_transaction,written,hidden"`
	IdleLonger    int      `json:"idle_longer,omitempty" minimum:"0" doc:"Seconds."`
	Older         int      `json:"older,omitempty" minimum:"0" doc:"Seconds since it, or its transaction, began."`
	StatementOnly bool     `json:"statement_only,omitempty" doc:"Stop what runs just now, and leave the session."`
}

// Clearing is how far a step that clears sessions is.
type Clearing struct {
	Phase     string         `json:"phase" enum:"waiting,ending,cleared,given_up"`
	Began     time.Time      `json:"began"`
	GraceEnds *time.Time     `json:"grace_ends,omitempty"`
	Found     int            `json:"found" doc:"At the first look."`
	Left      int            `json:"left" doc:"Now; -1: not looked yet."`
	Ended     int            `json:"ended"`
	Gone      int            `json:"gone" doc:"Left by themselves."`
	Came      int            `json:"came" doc:"Came meanwhile."`
	Who       []Present      `json:"who" nullable:"false" doc:"Those that are left, at most 20."`
	EndedWho  []string       `json:"ended_who" nullable:"false" doc:"Those that were ended, at most 200."`
	Returned  []string       `json:"returned" nullable:"false" doc:"Those that came back although the gate was closed."`
	Series    []SessionPoint `json:"series" nullable:"false"`
	Why       string         `json:"why,omitempty"`
}

// Present is one session that is still there.
type Present struct {
	ID          string `json:"id"`
	Account     string `json:"account"`
	Application string `json:"application,omitempty"`
	Client      string `json:"client,omitempty"`
	Class       string `json:"class"`
	Progress    string `json:"progress,omitempty"`
}

// SessionPoint is how many were left, milliseconds after the beginning.
type SessionPoint struct {
	At   int64 `json:"at"`
	Left int   `json:"left"`
}

// Package engine is the contract between Genarch and the database engines: how
// a server is opened, read, planned for, and altered step by step. Everything
// particular to one engine lives in that engine's own folder; cmd/genarch names
// the engines in plain sight. Package enginetest holds the suite that each of
// them passes.
package engine

import (
	"context"
	"io"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/handover"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/script"
	"example.com/genarch/core/secret"
)

// Engine is one kind of database server.
type Engine interface {
	// Describe says what the engine has, in its own words, as data. It is always the
	// same value, and nobody alters it.
	Describe() *Description
	// Plan briefs an intent from what snap shows. It is pure: the same
	// arguments give the same brief. What forbids the intent is a stop
	// finding in the brief; an error means that the intent is malformed.
	Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error)
	// Rules prepares the engine's judgement of a reading of who may do what: see
	// [access.New].
	Rules(g *access.Graph) access.Rules
	// Prepare writes the statements that make a login for Genarch itself on a server,
	// with the abilities that [Server.Inspect] reports and no others, in order.
	Prepare(login catalog.Principal) []Right
	// Connections writes one login in the forms of the engine's own clients.
	Connections(l handover.Login) []handover.Form
	// Script takes a file of statements for the engine apart, as its own client does.
	Script(from io.Reader) script.Splitter
	// Open prepares access to a server without connecting to it. The
	// caller closes the result.
	Open(t Target) (Server, error)
}

// Right is one statement that gives Genarch's own login something, and what for: one
// line that stands after "to".
type Right struct {
	For       string
	Statement string
}

// Target is a server to be opened.
type Target struct {
	Server   catalog.Server
	Password secret.Text
	// SkipIdentityCheck opens whatever instance answers. When false (the careful
	// choice), every new connection must show the identity in Server, or is
	// closed with an [IdentityError].
	SkipIdentityCheck bool
	// Sealer proves that what lies on the server was kept there by Genarch; nil: nothing can
	// be proved.
	Sealer journal.Sealer
}

// Server gives access to one running server. It holds at most [MaxConns]
// connections, opened when they are needed, and may be used by many goroutines.
// Every method takes a context with a deadline and returns an [*Error],
// an [*IdentityError], or [ErrNotFound].
type Server interface {
	// Inspect reads what the instance says of itself.
	Inspect(ctx context.Context) (catalog.Instance, error)
	// Databases lists all databases that the login can see.
	Databases(ctx context.Context) (catalog.Listing, error)
	// Database reads one, tables counted; ErrNotFound if there is none.
	Database(ctx context.Context, name string) (catalog.Database, error)
	// Choices reads lists of what can be chosen, by the keys of the description.
	Choices(ctx context.Context, keys ...string) (catalog.Choices, error)
	// Access reads who may do what: accounts, memberships, grants.
	Access(ctx context.Context, q catalog.AccessQuery) (catalog.Access, error)
	// Sessions reads who is connected.
	Sessions(ctx context.Context, q catalog.SessionQuery) (catalog.SessionList, error)
	// End asks the server to end sessions, each by its whole identity: one
	// whose number belongs to somebody else by now is left alone, and one that
	// has gone is no error. What was asked is not yet so: read again. refused
	// says which the server would not end, and why.
	End(ctx context.Context, ids []catalog.SessionID, how catalog.Ending) (refused map[catalog.SessionID]string,
		err error)
	// Snapshot reads all that planning this intent needs.
	Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error)

	// Do carries a step out. Before it sends anything that alters, it announces
	// by [change.Step.Announce] which session will send. An error of kind
	// NotSent, Refused or Differs says that the step took no effect, unless
	// Report.Applied is set; one of kind Unknown that nobody knows yet: once
	// Sender says that the session is gone, it can be probed.
	Do(ctx context.Context, s change.Step) (Report, error)
	// Sender says whether the session that a step announced can still do its
	// work: a server works on after its client is gone. With end, it is asked to
	// end the session.
	Sender(ctx context.Context, id catalog.SessionID, end bool) (SenderState, error)
	// Probe looks whether a step took effect. Nobody may be at it any more. What it
	// sends to carry on what is half done it announces, as Do does.
	Probe(ctx context.Context, s change.Step) (took bool, err error)
	// Undo takes a step back, and announces as Do does. A step whose effect is not
	// there (any more) is undone already. It refuses what would harm others.
	Undo(ctx context.Context, s change.Step) (Report, error)

	// ForChange is the same server for one change, by connections that are kept for
	// changes, so that those who only read cannot hold it up. What alters goes by a
	// session of the change's own, as long as one is free. done gives that back, once:
	// settled says that the records hold the outcome of all that was sent on it.
	// Otherwise it is closed, for whoever finds it there later may end it.
	// Closing the result does nothing.
	ForChange() (own Server, done func(settled bool))

	// Close ends all connections; calls in progress may fail.
	Close()
}

// SenderState is what a session that sent a step may still do.
type SenderState string

// The states of a sender.
const (
	// SenderGone: it is not there any more, so nothing of it can still happen.
	SenderGone SenderState = "gone"
	// SenderIdle: it is there and does nothing just now; what its client sent last
	// may lie unread before it.
	SenderIdle SenderState = "idle"
	// SenderWorking: it is at it.
	SenderWorking SenderState = "working"
)

// The most connections that Genarch holds to one server: so many for reading, so
// many kept for changes, and the one by which a change alters. In each, Inside are to
// other databases than its own.
const (
	Readers       = 3
	ReadersInside = 2
	Workers       = 2
	WorkersInside = 1
	Altering      = 1
	MaxConns      = Readers + ReadersInside + Workers + WorkersInside + Altering
)

// Report is what a step brought back.
type Report struct {
	// Messages are what the server said beside its answer.
	Messages []change.Message
	// Learned is kept with the step: what probing and undoing need to know.
	Learned map[string]string
	// Applied: the step took effect although an error is returned with it.
	Applied bool
}

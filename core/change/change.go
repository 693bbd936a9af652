package change

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/remedy"
	"example.com/genarch/core/secret"
)

// State is where a change stands.
type State string

// The states. Done, reverted, stuck, declined, withdrawn and expired are ends.
const (
	Draft     State = "draft"
	Waiting   State = "waiting"
	Ready     State = "ready"
	Running   State = "running"
	Done      State = "done"
	Reverted  State = "reverted"
	Stuck     State = "stuck"
	Declined  State = "declined"
	Withdrawn State = "withdrawn"
	Expired   State = "expired"
)

// States lists them all, in the order of a life.
var States = []State{Draft, Waiting, Ready, Running, Done, Reverted, Stuck, Declined, Withdrawn, Expired}

// moves holds every allowed transition.
var moves = map[State][]State{
	Draft:   {Waiting, Ready, Withdrawn, Expired},
	Waiting: {Ready, Declined, Withdrawn, Expired},
	Ready:   {Running, Withdrawn, Expired},
	Running: {Done, Reverted, Stuck},
}

// ErrState is wrapped by a refused transition.
var ErrState = errors.New("the change is not in a state for that")

// Ended reports whether nothing more happens in this state.
func (s State) Ended() bool { return len(moves[s]) == 0 }

// Move checks the transition from s to next.
func (s State) Move(next State) error {
	if !slices.Contains(moves[s], next) {
		return fmt.Errorf("%w: it is %s and cannot become %s", ErrState, s, next)
	}
	return nil
}

// Change is one intended alteration, from draft to outcome.
type Change struct {
	ID       uint64
	Intent   Intent
	Brief    Brief
	State    State
	Operator string // who asked
	RunBy    string // who let it run
	Accepted []string
	Steps    []StepRun
	Failure  *Failure
	// Result is one sentence on what came out.
	Result string
	// StopBy is who asked for it to be stopped while it ran; empty: nobody.
	StopBy string
	// Key of the object that was made, by which its engine tells it; empty: unknown.
	ObjectKey string
	// Secrets are the passwords that a new change brings; they are kept apart
	// from it, sealed.
	Secrets []Secret `json:"-"`

	Created time.Time
	Started time.Time
	Ended   time.Time
}

// Secret is the password of one account that a change makes or alters.
type Secret struct {
	// Account is its name, without a host: no change has two of one name.
	Account string
	// Given: the operator chose it; else it was generated, and is shown once.
	Given bool
	Text  secret.Text
}

// Status is how far one step is.
type Status string

// The statuses of a step.
const (
	Planned Status = "planned"
	// Begun: its intention is recorded; what came of it is not known yet.
	Begun Status = "begun"
	// Unknown: it was sent and no answer came. It has to be probed.
	Unknown Status = "unknown"
	Applied Status = "done"
	// Failed: it took no effect.
	Failed Status = "failed"
	Undone Status = "undone"
	// Undoing: taking it back has begun.
	Undoing Status = "undoing"
	// UndoFailed: it took effect and could not be rolled back.
	UndoFailed Status = "undo_failed"
	// PartiallyApplied: it failed, and what the try has altered could not all be put right.
	PartiallyApplied Status = "harmed"
)

// StepRun is a step and what happened to it.
type StepRun struct {
	Step
	Status   Status
	Begun    time.Time
	Ended    time.Time
	Probed   bool // its outcome was found out by looking
	Messages []Message
	Failure  *Failure
	// Clearing is how far a step of kind [ClearSessions] is.
	Clearing *clearing.Progress
	// Work is how far it is, while it runs in this service and tells; it is not kept.
	Work *Work
	// Sender is the session that sent it; nil: nothing that alters was sent. While
	// it lives, the server may still do the step.
	Sender *catalog.SessionID
}

// Message is something that the server said while a step ran.
type Message struct {
	Severity string `json:"severity"`
	Code     string `json:"code,omitempty"`
	Text     string `json:"text"`
	// Account is whose proof it is, as the engine writes accounts; empty: nobody's.
	Account string `json:"account,omitempty"`
}

// Failure is why something did not work, for a person to act upon.
type Failure struct {
	// Kind: not_sent, refused, unknown, differs.
	Kind string `json:"kind"`
	Code string `json:"code,omitempty"` // the engine's own
	Text string `json:"text"`
	Next string `json:"next,omitempty"`
	// Actions are ways to do that.
	Actions []remedy.Action `json:"actions,omitempty"`
	// Passing: what stood in the way is of the moment, and the same may succeed a
	// little later.
	Passing bool `json:"passing,omitempty"`
}

// Error makes a Failure an error.
func (f *Failure) Error() string {
	if f.Code != "" {
		return f.Text + " (" + f.Code + ")"
	}
	return f.Text
}

// Prepare lays out the steps of the brief as planned.
func (c *Change) Prepare() {
	c.Steps = make([]StepRun, len(c.Brief.Steps))
	for i, s := range c.Brief.Steps {
		c.Steps[i] = StepRun{Step: s, Status: Planned}
	}
}

// unaccepted lists the cautions of the brief that were not accepted.
func (c *Change) unaccepted(accepted []string) []string {
	var out []string
	for _, code := range c.Brief.Codes(Caution) {
		if !slices.Contains(accepted, code) {
			out = append(out, code)
		}
	}
	return out
}

// CreatedBy finds, among the ended changes of one target with the newest first, the
// one that made what is there now. key is by what the engine tells that; a change
// that noted none, or no key, is taken at its word.
func CreatedBy(ended []Change, key string) (Change, bool) {
	for _, c := range ended {
		if c.State == Done && c.Intent.Kind == CreateDatabase && c.Brief.Outcome == Acts &&
			(key == "" || c.ObjectKey == "" || c.ObjectKey == key) {
			return c, true
		}
	}
	return Change{}, false
}

// MakerLimit is how many changes of a target are looked through for its maker.
const MakerLimit = 50

// Filter narrows a list of changes; zero fields do not.
type Filter struct {
	Server string
	// Target is the address of what they are about, before or afterwards.
	Target string
	State  State
	// Operator asked for them or let them run.
	Operator string
	Kind     Kind
	// Since and Until are when they were asked for, the end not included.
	Since, Until time.Time
	Before       uint64 // changes with a smaller number
	Limit        int
}

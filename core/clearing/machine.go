package clearing

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/remedy"
)

// Rules are how one clearing is to go about it.
type Rules struct {
	Target Target `json:"target"`
	// Grace is how long work may go on by itself before it is ended. It ends
	// early when nobody works any more: an idle session would not leave anyway.
	Grace time.Duration `json:"grace,omitempty"`
	// WhenEmpty waits that long for the last session to leave by itself, and
	// ends nobody. Grace means nothing then.
	WhenEmpty time.Duration `json:"when_empty,omitempty"`
	// AcceptLoss: sessions that have written may be ended.
	AcceptLoss bool `json:"accept_loss,omitempty"`
	// GateIncomplete: the gate does not keep everybody out (MariaDB), so whoever comes
	// back and holds nothing does not count, once everybody was ended.
	GateIncomplete bool `json:"leaky,omitempty"`
	// ActEnds: what comes after the clearing ends whoever is there then, so those who came after the
	// first look count only once they have written, or must not be ended.
	ActEnds bool `json:"act_ends,omitempty"`
	// How they are ended; empty: the whole session.
	How catalog.Ending `json:"how,omitempty"`
}

const (
	// patience is how long an ended session may take to go.
	patience = 20 * time.Second
	// rollback is how long it may take to take its work back, while the server
	// says that it does.
	rollback = 15 * time.Minute
	// another tells a statement from the one before it by when it began; the
	// engines' clocks for that are not exact.
	another = 50 * time.Millisecond
	// returns is how many rounds of endings a leaky gate is given.
	returns = 3
)

// Limit is the longest that a clearing by these rules can take.
func (r Rules) Limit() time.Duration {
	return max(r.Grace, r.WhenEmpty) + patience + rollback + time.Minute
}

// Phase says how far a clearing is.
type Phase string

// The phases. Cleared and GivenUp are ends.
const (
	// Waiting: work may go on, nobody is ended.
	Waiting Phase = "waiting"
	// Closing: sessions are being ended, and looked for until they are gone.
	Closing Phase = "ending"
	Cleared Phase = "cleared"
	GivenUp Phase = "given_up"
)

// Order is what is to be done now.
type Order struct {
	Phase Phase
	// End are the sessions to be ended, by their identity.
	End []catalog.SessionID
	// Again is how long to wait at most before the next look.
	Again time.Duration
	// Why says what made it give up, and Next what to do about it.
	Why, Next string
	// Actions are ways to do that.
	Actions []remedy.Action
}

// Machine carries one clearing. It is for one goroutine.
type Machine struct {
	rules   Rules
	began   time.Time
	closing time.Time // when the first was ended; zero: nobody was
	looks   int       // since closing
	ended   map[catalog.SessionID]catalog.Session
	first   map[catalog.SessionID]bool // who was there at the first look
	refused map[catalog.SessionID]string
	last    []catalog.Session // the target's, at the last look
	stopped string
	p       Progress
}

// New begins a clearing at a time.
func New(r Rules, began time.Time) *Machine {
	m := &Machine{rules: r, began: began, ended: map[catalog.SessionID]catalog.Session{},
		refused: map[catalog.SessionID]string{}}
	m.p = Progress{Phase: Waiting, Began: began, Left: -1}
	if wait := max(r.Grace, r.WhenEmpty); wait > 0 {
		m.p.GraceEnds = began.Add(wait)
	}
	return m
}

// Stop has the next order give up: somebody wants the clearing to end.
func (m *Machine) Stop(why string) { m.stopped = why }

// Refused tells that the server would not end a session.
func (m *Machine) Refused(id catalog.SessionID, why string) { m.refused[id] = why }

// Unacknowledged tells that an order may not have reached the server: those sessions
// are ordered to be ended again if they are still there.
func (m *Machine) Unacknowledged(ids []catalog.SessionID) {
	for _, id := range ids {
		if s, ordered := m.ended[id]; ordered {
			delete(m.ended, id)
			m.p.unended(s)
		}
	}
}

// Saw tells what sessions the server has at a time, and gives the order for now.
// Sessions outside the target may be among them; they are never in an order.
func (m *Machine) Saw(now time.Time, list []catalog.Session) Order {
	in := m.rules.Target.Of(list)
	if m.first == nil {
		m.first = map[catalog.SessionID]bool{}
		for _, s := range in {
			m.first[s.ID] = true
		}
		m.p.Found = len(in)
	}
	m.note(now, in)
	o := m.order(now, in)
	m.p.Phase, m.p.Why, m.p.Next = o.Phase, o.Why, o.Next
	return o
}

func (m *Machine) order(now time.Time, in []catalog.Session) Order {
	left := m.inTheWay(in)
	if len(left) == 0 {
		return Order{Phase: Cleared}
	}
	if m.stopped != "" {
		return m.giveUp(m.stopped, "")
	}
	if m.closing.IsZero() {
		if m.mayWait(now, left) {
			return Order{Phase: Waiting, Again: min(m.p.GraceEnds.Sub(now), lookWaiting)}
		}
		if m.rules.WhenEmpty > 0 {
			return m.giveUp(fmt.Sprintf("after %s somebody was still connected: %s",
				Span(int(m.rules.WhenEmpty.Seconds())), names(left)), "Wait longer, or let sessions be ended.")
		}
	}
	if i := slices.IndexFunc(left, func(s catalog.Session) bool { return Classify(s).bars() }); i >= 0 &&
		len(m.rules.Target.IDs) == 0 {
		return m.giveUp(fmt.Sprintf("%s is there: %s, which is never ended by itself", Who(left[i]), Classify(left[i])),
			"Let it finish, or stop it where it was started.")
	}
	if !m.rules.AcceptLoss {
		if lost := slices.DeleteFunc(slices.Clone(left),
			func(s catalog.Session) bool { return !m.loses(s) }); len(lost) > 0 {
			return m.giveUp("written work would be lost, and that was not accepted: "+names(lost),
				"Let them finish, or accept the loss.", remedy.Option("clearing.accept_loss", remedy.Yes))
		}
	}
	if len(m.refused) > 0 {
		for _, s := range left {
			if why, ok := m.refused[s.ID]; ok {
				return m.giveUp(Who(s)+" cannot be ended: "+why, "")
			}
		}
	}
	return m.end(now, left)
}

// end orders everybody to be ended who was not yet, and gives up on those that
// do not go.
func (m *Machine) end(now time.Time, left []catalog.Session) Order {
	o := Order{Phase: Closing, Again: lookClosing(m.looks)}
	if m.closing.IsZero() {
		m.closing = now
	}
	m.looks++
	var fresh []catalog.Session
	stay, rolling := 0, 0
	for _, s := range left {
		switch _, done := m.ended[s.ID]; {
		case done:
			stay++
			if s.Activity == catalog.SessionEnding {
				rolling++
			}
		case s.Leader == 0: // a parallel worker goes with its leader
			fresh = append(fresh, s)
		}
	}
	limit, what := patience, "did not go"
	if rolling > 0 {
		what = "was ended and is still rolling its work back"
		if rolling == stay {
			limit = rollback
		}
	}
	if now.Sub(m.closing) > limit {
		if stay == 0 {
			return m.giveUp(fmt.Sprintf("for %s others came as fast as they were ended: %s", Span(int(limit.Seconds())),
				names(left)), "Stop what connects, or lock its account, and try again.")
		}
		return m.giveUp(fmt.Sprintf("within %s somebody %s: %s", Span(int(limit.Seconds())), what, names(left)),
			"Look again later: what was ended goes as soon as it can.")
	}
	for _, s := range fresh {
		m.ended[s.ID] = s
		m.p.ended(s)
		o.End = append(o.End, s.ID)
	}
	return o
}

// mayWait reports whether work may still go on by itself.
func (m *Machine) mayWait(now time.Time, left []catalog.Session) bool {
	if !now.Before(m.p.GraceEnds) {
		return false
	}
	return m.rules.WhenEmpty > 0 ||
		slices.ContainsFunc(left, func(s catalog.Session) bool { return Classify(s) != Idle })
}

// inTheWay leaves out whoever does not keep the act from happening.
func (m *Machine) inTheWay(in []catalog.Session) []catalog.Session {
	if m.rules.How == catalog.EndStatement {
		// Whose statement was stopped may stay, and may begin another one.
		return slices.DeleteFunc(slices.Clone(in), func(s catalog.Session) bool {
			before, done := m.ended[s.ID]
			return s.Activity != catalog.SessionActive || done && s.StateSince.Sub(before.StateSince) > another
		})
	}
	if m.rules.ActEnds {
		return slices.DeleteFunc(slices.Clone(in), func(s catalog.Session) bool {
			c := Classify(s)
			return !m.first[s.ID] && !c.bars() && c != Written && c != Hidden
		})
	}
	if !m.rules.GateIncomplete || m.looks < returns {
		return in
	}
	return slices.DeleteFunc(slices.Clone(in),
		func(s catalog.Session) bool { return !m.first[s.ID] && Classify(s) == Idle })
}

// loses reports whether ending a session that was not ended yet loses work.
func (m *Machine) loses(s catalog.Session) bool {
	if _, done := m.ended[s.ID]; done || m.rules.How == catalog.EndStatement {
		return false
	}
	c := Classify(s)
	return c == Written || c == Hidden
}

func (m *Machine) giveUp(why, next string, ways ...remedy.Action) Order {
	return Order{Phase: GivenUp, Why: why, Next: next, Actions: ways}
}

// names lists sessions for a sentence, at most five.
func names(list []catalog.Session) string {
	var out []string
	for _, s := range list[:min(len(list), 5)] {
		text := Who(s) + ", " + Classify(s).String()
		if s.Progress != "" {
			text += ", " + s.Progress
		}
		out = append(out, text)
	}
	text := strings.Join(out, "; ")
	if more := len(list) - 5; more > 0 {
		text += fmt.Sprintf("; and %d more", more)
	}
	return text
}

// lookWaiting lies at most between two looks while work goes on.
const lookWaiting = 250 * time.Millisecond

// lookClosing lies between two looks while sessions go: soon at first, for most
// go at once.
func lookClosing(n int) time.Duration {
	return min(4*time.Millisecond<<min(n, 8), 40*time.Millisecond)
}

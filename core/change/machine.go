package change

import (
	"fmt"
	"slices"
	"strings"
	"time"
)

// Operation is what the runner has to do next with a running change.
type Operation string

// The actions. Before Do and Undo the runner commits the step's new status
// ([Change.Begin]); after each action it reports with [Change.Record].
const (
	Do     Operation = "do"
	Probe  Operation = "probe"
	Undo   Operation = "undo"
	Finish Operation = "finish"
)

// NextOp is the next action and the step or end that it is about.
type NextOp struct {
	Op   Operation
	Step int
	// End is the final state, for Finish.
	End State
}

// Next says what to do now. It depends on the recorded steps alone, so a
// change that was interrupted anywhere goes on from its records: a step that
// was begun and has no outcome is probed, never blindly repeated.
func (c *Change) Next() NextOp {
	failed := false
	for i, s := range c.Steps {
		switch s.Status {
		case Begun, Unknown:
			return NextOp{Op: Probe, Step: i}
		case Undoing:
			return NextOp{Op: Undo, Step: i}
		case Failed, Undone, UndoFailed, PartiallyApplied:
			failed = true
		case Applied:
			// It took effect, but not as it should: take it back.
			failed = failed || s.Failure != nil
		}
	}
	if !failed {
		next := slices.IndexFunc(c.Steps, func(s StepRun) bool { return s.Status == Planned })
		if next < 0 {
			return NextOp{Op: Finish, End: Done}
		}
		if c.StopBy == "" || !c.Stoppable() {
			return NextOp{Op: Do, Step: next}
		}
	}
	end := Reverted
	for i := len(c.Steps) - 1; i >= 0; i-- {
		s := c.Steps[i]
		switch {
		case s.Status == UndoFailed:
			// What stands on this step must not be taken from under it.
			return NextOp{Op: Finish, End: Stuck}
		case s.Status == PartiallyApplied:
			end = Stuck
		case s.Status == Failed && s.Repair != "":
			return NextOp{Op: Undo, Step: i}
		case s.Status != Applied || s.ReadOnly || s.Irreversible:
		case s.Undo == "":
			return NextOp{Op: Finish, End: Stuck}
		default:
			return NextOp{Op: Undo, Step: i}
		}
	}
	return NextOp{Op: Finish, End: end}
}

// Stoppable reports whether everything that was done so far can be rolled back, or is just
// being done and can be cut off.
func (c *Change) Stoppable() bool {
	return !slices.ContainsFunc(c.Steps, func(s StepRun) bool {
		open := s.Status == Begun || s.Status == Unknown
		return (s.Status == Applied || open && !s.Halts) && !s.ReadOnly && !s.Irreversible && s.Undo == ""
	})
}

// Decision is what an operator says when letting a change run.
type Decision struct {
	// Fingerprint is that of the brief which was read; empty: the recorded one.
	Fingerprint string
	// Accepted are the codes of the cautions that are accepted.
	Accepted []string
	// Confirm is the name that was typed, where the brief asks for one.
	Confirm string
}

// Start lets a change run: it checks state, stops, cautions and the confirmation,
// walks the states to running, and begins the first act. On an error the change
// is as it was.
func (c *Change) Start(by string, d Decision, now time.Time) (NextOp, error) {
	state := c.State
	for _, next := range []State{Ready, Running} {
		if state == next && next == Ready {
			continue
		}
		if err := state.Move(next); err != nil {
			return NextOp{}, err
		}
		state = next
	}
	if c.Brief.Stopped() {
		return NextOp{}, ErrStopped
	}
	if missing := c.unaccepted(d.Accepted); len(missing) > 0 {
		return NextOp{}, &Unaccepted{Codes: missing}
	}
	if c.Brief.Confirm != "" && d.Confirm != c.Brief.Confirm {
		return NextOp{}, &Unconfirmed{Name: c.Brief.Confirm}
	}
	c.State, c.RunBy, c.Accepted, c.Started = state, by, c.Brief.Codes(Caution), now
	first := c.Next()
	if first.Op == Do {
		c.Begin(first, now)
	}
	return first, nil
}

// Begin records the intention of an act on a step, before it happens.
func (c *Change) Begin(a NextOp, now time.Time) {
	s := &c.Steps[a.Step]
	switch a.Op {
	case Do:
		s.Status, s.Begun = Begun, now
	case Undo:
		s.Status = Undoing
	}
}

// Effect is what is known of a action afterwards.
type Effect string

// The effects. For Probe, Happened means that the step took effect.
const (
	Happened    Effect = "happened"
	NotHappened Effect = "not_happened"
	// Unclear: it cannot be told (the line was cut, the probe failed).
	Unclear Effect = "unclear"
)

// Result is what the runner reports of a action.
type Result struct {
	Effect   Effect
	Messages []Message
	Failure  *Failure
	// Working: of an unclear probe, that the server is known to be at it.
	Working bool
}

// Record records what came of an act.
func (c *Change) Record(a NextOp, seen Result, now time.Time) {
	s := &c.Steps[a.Step]
	s.Messages = append(s.Messages, seen.Messages...)
	if seen.Failure != nil {
		s.Failure = seen.Failure
	}
	s.Ended = now
	switch a.Op {
	case Do, Probe:
		s.Probed = s.Probed || a.Op == Probe
		switch seen.Effect {
		case Happened:
			s.Status = Applied
			if a.Op == Probe {
				s.Failure, c.Failure = nil, nil
			}
		case NotHappened:
			s.Status = Failed
			if s.Failure == nil {
				s.Failure = &Failure{Kind: "not_sent", Text: "the step was begun but took no effect"}
			}
		default:
			s.Status = Unknown
		}
	case Undo:
		switch {
		case seen.Effect == Happened:
			s.Status = Undone
		case s.Undo == "":
			// The step had failed: whatever is not mended, the steps before it
			// can be rolled back.
			s.Status = PartiallyApplied
		default:
			s.Status = UndoFailed
		}
	}
	if c.Failure == nil && s.Failure != nil {
		c.Failure = s.Failure
	}
}

// GiveUp ends a change that can go neither on nor back: the step that cannot
// be told stays as it is, and a person has to look.
func (c *Change) GiveUp(why Failure, now time.Time) {
	c.Failure = &why
	c.end(Stuck, now)
}

// Close ends the change as an act of kind Finish says.
func (c *Change) Close(a NextOp, now time.Time) { c.end(a.End, now) }

func (c *Change) end(state State, now time.Time) {
	c.State, c.Ended = state, now
	switch state {
	case Done:
		c.Failure = nil
		c.Result = "done, and read back as asked: " + c.Brief.Summary
		if c.Brief.Outcome == Nothing {
			c.Result = "nothing to do: " + c.Brief.Summary
		}
	case Reverted:
		c.Result = "failed, and everything that had been done was rolled back"
		if !c.touched() {
			c.Result = "failed before anything was altered"
		}
		if c.StopBy != "" {
			c.Failure = &Failure{Kind: "stopped", Text: "it was stopped by " + c.StopBy}
			c.Result = strings.Replace(c.Result, "failed", "stopped by "+c.StopBy, 1)
		}
		if n := c.clearedOf(); n > 0 {
			c.Result += fmt.Sprintf("; %d sessions had been ended by then", n)
		}
	case Stuck:
		c.Result = "stopped halfway: " + c.standing()
	}
}

func (c *Change) touched() bool {
	for _, s := range c.Steps {
		if s.Status == Undone {
			return true
		}
	}
	return false
}

// clearedOf is how many sessions were ended.
func (c *Change) clearedOf() int {
	n := 0
	for _, s := range c.Steps {
		if s.Clearing != nil {
			n += s.Clearing.Ended
		}
	}
	return n
}

// standing says in words which steps are in effect and which nobody knows.
func (c *Change) standing() string {
	text := ""
	for _, s := range c.Steps {
		word := ""
		switch s.Status {
		case Applied:
			if s.ReadOnly || s.Irreversible {
				continue
			}
			word = "in effect"
		case UndoFailed:
			word = "in effect, could not be rolled back"
		case PartiallyApplied:
			word = "failed, and left something altered"
		case Unknown, Begun, Undoing:
			word = "not known"
		default:
			continue
		}
		if text != "" {
			text += "; "
		}
		text += fmt.Sprintf("%s: %s", s.Title, word)
	}
	if text == "" {
		return "nothing is in effect"
	}
	return text
}

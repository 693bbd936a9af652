package change

import (
	"errors"
	"fmt"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
)

// ClearingSpec says how sessions that are in the way are dealt with. Its zero
// value ends them at once, except those that would lose written work.
type ClearingSpec struct {
	// Grace is how many seconds work may go on by itself first.
	Grace int `json:"grace,omitempty"`
	// WhenEmpty is how many seconds to wait for the last session to leave by
	// itself; then nobody is ended. 0: sessions are ended.
	WhenEmpty int `json:"when_empty,omitempty"`
	// AcceptLoss: sessions that have written may be ended too.
	AcceptLoss bool `json:"accept_loss,omitempty"`
	// Options are what is asked for of the engine's own fields, by their names.
	Options catalog.Values `json:"options,omitempty"`
}

// MaxGrace and MaxWhenEmpty bound the waiting, in seconds.
const (
	MaxGrace     = 3600
	MaxWhenEmpty = 12 * 3600
)

func (c ClearingSpec) check() error {
	switch {
	case c.Grace < 0 || c.Grace > MaxGrace:
		return fmt.Errorf("the grace is between 0 and %d seconds, not %d", MaxGrace, c.Grace)
	case c.WhenEmpty < 0 || c.WhenEmpty > MaxWhenEmpty:
		return fmt.Errorf("the wait for the last session is between 0 and %d seconds, not %d", MaxWhenEmpty,
			c.WhenEmpty)
	case c.WhenEmpty > 0 && c.Grace > 0:
		return errors.New(
			"give either a grace, after which sessions are ended, or a time to wait for the last one to leave, after which nobody is",
		)
	}
	return nil
}

// Asks reports whether an option of the engine's is asked for.
func (c *ClearingSpec) Asks(option string) bool { return c != nil && c.Options.Bool(option) }

// Rules are the rules for clearing a target as asked.
func (c *ClearingSpec) Rules(t clearing.Target) clearing.Rules {
	r := clearing.Rules{Target: t}
	if c != nil {
		r.Grace, r.WhenEmpty = time.Duration(c.Grace)*time.Second, time.Duration(c.WhenEmpty)*time.Second
		r.AcceptLoss = c.AcceptLoss
	}
	return r
}

// SessionsSpec asks for sessions to be ended: those named by their identity, or
// those that the filter fits.
type SessionsSpec struct {
	IDs []catalog.SessionID `json:"ids,omitempty"`
	clearing.Filter
	// StatementOnly stops what runs just now, and leaves the session.
	StatementOnly bool `json:"statement_only,omitempty"`
}

// MaxSessions is how many sessions one change may name.
const MaxSessions = 1000

func (s SessionsSpec) check() error {
	switch {
	case len(s.IDs) == 0 && s.Filter.Empty():
		return errors.New(
			"session.end needs sessions, by their identity or by what they are: the whole server is never meant",
		)
	case len(s.IDs) > 0 && !s.Filter.Empty():
		return errors.New("name sessions either by their identity or by what they are")
	case len(s.IDs) > MaxSessions:
		return fmt.Errorf("at most %d sessions at once", MaxSessions)
	}
	return s.Filter.Check()
}

func (s DatabaseSpec) check(k Kind) error {
	if k == RenameDatabase && s.NewName == s.Name {
		return errors.New("the new name is the one that it has")
	}
	return checkKeep(s.KeepDays)
}

// SettingText says in words how sessions are dealt with.
func (c *ClearingSpec) SettingText() string {
	switch {
	case c == nil:
		return "ended at once"
	case c.WhenEmpty > 0:
		return fmt.Sprintf("waited for, up to %s; nobody is ended", clearing.Span(c.WhenEmpty))
	case c.Grace > 0:
		return fmt.Sprintf("%s for work to finish, then ended", clearing.Span(c.Grace))
	}
	return "ended at once"
}

package runner

import (
	"context"
	"fmt"
	"sync"

	"example.com/genarch/core/change"
)

// stopper is how a running change hears that it is to stop.
type stopper struct {
	asked chan struct{} // closed when somebody asked
	// holder is what the claim of the change is held by. It is another one each time
	// a change is taken over, by the same service too: so of two that work on one,
	// only the later can write.
	holder string

	mu   sync.Mutex // guards who and last
	who  string
	last change.Change // as it was told to those who watch
}

func newStopper(by, holder string) *stopper {
	s := &stopper{asked: make(chan struct{}), holder: holder}
	if by != "" {
		s.ask(by)
	}
	return s
}

// ask tells the change to stop; only the first one to ask is noted.
func (s *stopper) ask(by string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.who == "" {
		s.who = by
		close(s.asked)
	}
}

// by is who asked; empty: nobody.
func (s *stopper) by() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.who
}

// Live is a change that this service runs, as those who watch it see it: how far
// its clearing is goes into the records only with the end of that.
func (r *Runner) Live(id uint64) (change.Change, bool) {
	r.mu.Lock()
	s, here := r.stops[id]
	r.mu.Unlock()
	if !here {
		return change.Change{}, false
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.last, s.last.ID == id && !s.last.State.Ended()
}

// Stop has a running change stop as soon as it can, and roll back what it did.
// It comes back at once; Wait waits for the end. What cannot be rolled back any
// more goes on to its end ([change.ErrTooLate]).
func (r *Runner) Stop(ctx context.Context, operator string, id uint64) (change.Change, error) {
	c, err := r.Store.Change(ctx, id)
	switch {
	case err != nil:
		return c, err
	case c.State != change.Running:
		return c, fmt.Errorf("%w: change %d is %s, not running", change.ErrState, id, c.State)
	case !c.Stoppable():
		return c, fmt.Errorf("%w: change %d", change.ErrTooLate, id)
	}
	if err := r.Store.AskStop(ctx, id, operator, entry(c, operator, "change.stop", nil)); err != nil {
		return c, err
	}
	r.mu.Lock()
	if s, here := r.stops[id]; here {
		s.ask(operator)
	}
	r.mu.Unlock()
	c.StopBy = operator
	return c, nil
}

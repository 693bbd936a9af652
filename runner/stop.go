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

	mu  sync.Mutex // guards who
	who string
}

func newStopper(by string) *stopper {
	s := &stopper{asked: make(chan struct{})}
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

// Stop has a running change stop as soon as it can, and take back what it did.
// It comes back at once; Wait waits for the end. What cannot be taken back any
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

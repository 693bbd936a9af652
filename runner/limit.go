package runner

import (
	"context"
	"sync/atomic"
	"time"
)

// limit is a context that ends after a time which can stand still: while Genarch's
// own records are away, the time of a step does not run.
type limit struct {
	context.Context
	cancel context.CancelFunc
	timer  *time.Timer
	ends   time.Time
	over   atomic.Bool
}

func newLimit(ctx context.Context, d time.Duration) *limit {
	l := &limit{ends: time.Now().Add(d)}
	l.Context, l.cancel = context.WithCancel(ctx)
	l.timer = time.AfterFunc(d, func() {
		l.over.Store(true)
		l.cancel()
	})
	return l
}

// Err is DeadlineExceeded once the time is over.
func (l *limit) Err() error {
	if err := l.Context.Err(); err == nil || !l.over.Load() {
		return err
	}
	return context.DeadlineExceeded
}

// halt runs f outside the time.
func (l *limit) halt(f func()) {
	if !l.timer.Stop() {
		f() // it is over already
		return
	}
	left := time.Until(l.ends)
	f()
	l.ends = time.Now().Add(left)
	l.timer.Reset(left)
}

// stop ends the context and its timer.
func (l *limit) stop() {
	l.timer.Stop()
	l.cancel()
}

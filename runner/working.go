package runner

import (
	"context"
	"sync"
	"time"

	"example.com/genarch/core/change"
)

// working has a step tell how far it is, at most every [showEvery], and cuts it off when
// somebody wants the change to stop, if it can be cut off. The step may tell from several
// goroutines, as long as it does not return before them.
func (r *Runner) working(ctx context.Context, c *change.Change, step *change.StepRun,
	stop *stopper) (context.Context, context.CancelFunc) {
	var mu sync.Mutex // guards shown and the step's Work
	shown := time.Time{}
	step.Tell = func(w change.Work) {
		mu.Lock()
		defer mu.Unlock()
		step.Work = &w
		if now().Sub(shown) >= showEvery {
			shown = now()
			r.publish(*c)
		}
	}
	if !step.Halts {
		return ctx, func() { step.Tell = nil }
	}
	ctx, cancel := context.WithCancel(ctx)
	go func() {
		select {
		case <-stop.asked:
			cancel()
		case <-ctx.Done():
		}
	}()
	return ctx, func() {
		step.Tell = nil
		cancel()
	}
}

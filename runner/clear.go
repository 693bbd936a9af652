package runner

import (
	"context"
	"errors"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/engine"
)

const (
	// showEvery is how often a clearing is told to those who watch, at most.
	showEvery = 200 * time.Millisecond
	// blindTime is how long the server may give no answer before a clearing is
	// given up.
	blindTime = 30 * time.Second
	// blindPause lies between two looks then.
	blindPause = 300 * time.Millisecond
	// lookTime bounds one look.
	lookTime = 10 * time.Second
	// endTime bounds one order to end sessions: a server may be slow at it.
	endTime = 15 * time.Second
)

// clear carries a step out that clears sessions: it looks, ends and waits as the
// machine says, and tells how far it is. Nobody is ended before the intention is
// on record.
//
// Long: the loop of a clearing; its cases belong together.
func (r *Runner) clear(ctx context.Context, c *change.Change, act change.NextOp, access engine.Server, stop *stopper,
	noted *intention) change.Result {
	step := &c.Steps[act.Step]
	m := clearing.New(*step.Clear, now())
	shown, blind := time.Time{}, time.Time{}
	show := func(always bool) {
		p := m.Progress()
		step.Clearing = &p
		if always || now().Sub(shown) >= showEvery {
			shown = now()
			r.publish(*c)
		}
	}
	defer show(true)
	// Until the first is ended, each look shows who has written; after that they
	// come in quick succession.
	query := catalog.SessionQuery{Database: step.Clear.Target.Database}
	for {
		if by := stop.by(); by != "" {
			m.Stop("it was stopped by " + by)
		} else if r.isClosing() {
			m.Stop("the service is stopping")
		}
		pauseFor := blindPause
		list, err := r.look(ctx, access, query)
		if err == nil {
			blind = time.Time{}
			o := m.Saw(now(), list.Sessions)
			switch o.Phase {
			case clearing.Cleared:
				return change.Result{Effect: change.Happened}
			case clearing.GivenUp:
				return change.Result{Effect: change.NotHappened,
					Failure: &change.Failure{Kind: string(engine.Refused), Text: o.Why, Next: o.Next,
						Actions: o.Actions}}
			}
			show(false)
			if len(o.End) > 0 {
				if !noted.record() {
					return change.Result{Effect: change.Unclear} // another service has it
				}
				err = r.end(ctx, m, access, o.End, step.Clear.How)
			}
			pauseFor, query.Brief = o.Again, o.Phase == clearing.Closing
		}
		if err != nil {
			if blind.IsZero() {
				blind = now()
			}
			_, stranger := errors.AsType[*engine.IdentityError](err)
			if stranger || now().Sub(blind) > blindTime || ctx.Err() != nil || stop.by() != "" || r.isClosing() {
				f := engine.Failure(err)
				f.Text = "who is connected could not be read: " + f.Text
				return change.Result{Effect: change.NotHappened, Failure: f}
			}
		}
		select {
		case <-ctx.Done():
		case <-time.After(pauseFor):
		case <-stop.asked:
		case <-r.closing:
		}
		if ctx.Err() != nil && r.base.Err() != nil {
			// Cut off: the next service looks how far it came.
			return change.Result{Effect: change.Unclear, Failure: engine.Failure(ctx.Err())}
		}
	}
}

// look reads the sessions within a deadline of its own: a server that hangs must
// not keep a wish to stop from being heard.
func (r *Runner) look(ctx context.Context, access engine.Server, q catalog.SessionQuery) (catalog.SessionList, error) {
	ctx, cancel := context.WithTimeout(ctx, lookTime)
	defer cancel()
	return access.Sessions(ctx, q)
}

// end has the server end sessions, and tells the machine of those that it will not.
func (r *Runner) end(ctx context.Context, m *clearing.Machine, access engine.Server, ids []catalog.SessionID,
	how catalog.Ending) error {
	ctx, cancel := context.WithTimeout(ctx, endTime)
	defer cancel()
	refused, err := access.End(ctx, ids, how)
	for id, why := range refused {
		m.Refused(id, why)
	}
	if err != nil {
		m.Unacknowledged(ids)
	}
	return err
}

// probeCleared looks, after a crash, whether the clearing had come to its end.
func (r *Runner) probeCleared(ctx context.Context, step change.StepRun, access engine.Server) change.Result {
	list, err := access.Sessions(ctx, catalog.SessionQuery{Database: step.Clear.Target.Database})
	if err != nil {
		return change.Result{Effect: change.Unclear, Failure: engine.Failure(err)}
	}
	if len(step.Clear.Target.Of(list.Sessions)) == 0 {
		return change.Result{Effect: change.Happened}
	}
	return change.Result{Effect: change.NotHappened,
		Failure: &change.Failure{Kind: string(engine.Refused),
			Text: "the service was interrupted while it cleared the sessions, and somebody is still there",
			Next: "Ask again."}}
}

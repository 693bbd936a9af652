package runner

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/events"
)

// spawn carries a claimed change out in a goroutine. begun is the act whose
// intention was committed with the claim; its slot is taken already.
// w is the server as it was read for the decision.
func (r *Runner) spawn(c change.Change, begun change.NextOp, holder string, w *work) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.closed {
		return change.ErrClosing
	}
	stop := newStopper(c.StopBy, holder)
	r.stops[c.ID] = stop
	r.running.Go(func() {
		defer func() {
			<-r.slots
			r.mu.Lock()
			defer r.mu.Unlock()
			if r.stops[c.ID] == stop { // else it was taken over again, by this very service
				delete(r.stops, c.ID)
			}
		}()
		ctx, cancel := context.WithCancelCause(r.base)
		defer cancel(nil)
		go r.renew(ctx, cancel, c.ID, stop)
		w.end(r.carry(ctx, c, begun, stop, w))
	})
	return nil
}

// renew extends the lease until ctx ends; losing it ends ctx, for then another
// service goes on with the change. It also hears of a wish to stop that another
// service was told.
func (r *Runner) renew(ctx context.Context, cancel context.CancelCauseFunc, id uint64, stop *stopper) {
	tick := time.NewTicker(r.Lease / 3)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			if err := r.Store.Renew(ctx, id, stop.holder, r.Lease); errors.Is(err, record.ErrStale) {
				cancel(errors.New("another service took the change over"))
				return
			}
			if by, err := r.Store.StopAsked(ctx, id); err == nil && by != "" {
				stop.ask(by)
			}
		}
	}
}

// carry runs the change to its end. What is committed at each turn is the
// outcome of the last action together with the intention of the next, before the
// next alters anything; so after a crash at any point the records say what to look at.
// done is an operation whose intention is committed already; a zero NextOp is none.
// It reports whether the records hold the outcome of all that was sent.
//
// Long: the loop of a change; its cases belong together.
func (r *Runner) carry(ctx context.Context, c change.Change, done change.NextOp, stop *stopper,
	w *work) (settled bool) {
	var news []journal.Entry
	probing := time.Time{}
	for {
		c.StopBy = stop.by()
		act := c.Next()
		if done.Op == change.Do {
			act, done = done, change.NextOp{}
		} else {
			if act.Op == change.Finish {
				c.Close(act, now())
				sent := func(s change.StepRun) bool { return s.Sender != nil }
				return r.finish(ctx, c, stop.holder, news) && !slices.ContainsFunc(c.Steps, sent)
			}
			if r.isClosing() && act.Op != change.Undo {
				r.handBack(ctx, c, stop.holder, news)
				return false
			}
			c.Begin(act, now())
			if probing.IsZero() { // a probe that is repeated is told once
				news = append(news, stepEntry(c, act, string(act.Op)+".begin"))
			}
			if act.Op == change.Undo {
				if !r.save(ctx, c, stop.holder, news) {
					return false
				}
				news = nil
			}
		}
		r.publish(c)
		// What alters has the intention written right before it is sent: see ready.
		noted := r.intend(ctx, c, stop.holder, news)
		seen := r.perform(ctx, &c, act, stop, noted, w, probing)
		var ok bool
		if news, ok = noted.close(); !ok {
			return false
		}
		if context.Cause(ctx) != nil && seen.Effect == change.Unclear {
			return false // cut off: what was begun is on record, and will be probed
		}
		c.Record(act, seen, now())
		news = append(news, stepEntry(c, act, string(act.Op)+"."+string(seen.Effect)))
		if act.Op != change.Probe || seen.Effect != change.Unclear {
			probing = time.Time{}
			continue
		}
		news = nil // a probe that found nothing out is no news
		if probing.IsZero() {
			probing = now()
		}
		limit := r.ProbeTime
		if seen.Working {
			limit = max(limit, workTime) // it can be told as soon as it is through
		}
		if now().Sub(probing) > limit && c.Steps[act.Step].ReadOnly {
			// It alters nothing, so what was done before can be rolled back.
			c.Record(act, change.Result{Effect: change.NotHappened, Failure: stillUnknown(c.Steps[act.Step].Failure)},
				now())
			news, probing = append(news, stepEntry(c, act,
				string(act.Op)+"."+string(change.NotHappened))), time.Time{}
			continue
		}
		if now().Sub(probing) > limit {
			c.GiveUp(*stillUnknown(c.Steps[act.Step].Failure), now())
			r.finish(ctx, c, stop.holder, []journal.Entry{stepEntry(c, act, "probe.given_up")})
			return false
		}
		engine.Pause(ctx, probePause)
	}
}

const (
	// probePause lies between two looks for an unknown outcome.
	probePause = 250 * time.Millisecond
	// settleTime is how long a session whose answer was lost may work on before it
	// is ended, if the step can be cut off; workTime how long it is waited for.
	settleTime = 5 * time.Second
	workTime   = time.Hour
	// idleTime is how long one that does nothing is left alone, if the step cannot.
	idleTime = 10 * time.Second
)

func stillUnknown(f *change.Failure) *change.Failure {
	text := "the outcome of a step could not be found out"
	if f != nil {
		text += ": " + f.Text
	}
	return &change.Failure{Kind: string(engine.Unknown), Text: text,
		Next: "Look at the server, and put right by hand what the statements of the change show."}
}

// perform does one action on the server and says what is known afterwards. Taking
// back is not cut short by a shutdown, and is tried again while the server cannot
// be reached: undoing what is not there (any more) does no harm.
func (r *Runner) perform(ctx context.Context, c *change.Change, act change.NextOp, stop *stopper, noted *intention,
	w *work, probing time.Time) change.Result {
	if act.Op != change.Undo {
		return r.performOnce(ctx, c, act, stop, noted, w, probing)
	}
	for begun := now(); ; {
		seen := r.performOnce(ctx, c, act, stop, noted, w, begun)
		f := seen.Failure
		again := f != nil && (f.Passing || f.Kind == string(engine.NotSent) || f.Kind == string(engine.Unknown))
		if seen.Effect == change.Happened || !again || now().Sub(begun) > r.UndoTime && !seen.Working {
			return seen
		}
		if !engine.Pause(ctx, undoPause) {
			return seen // the service ends: the next one goes on with it
		}
	}
}

// undoPause lies between two tries to take a step back.
const undoPause = 500 * time.Millisecond

// performOnce: Long: a step is done, and every way in which its answer can be missing is settled here.
func (r *Runner) performOnce(ctx context.Context, c *change.Change, act change.NextOp, stop *stopper, noted *intention,
	w *work, probing time.Time) change.Result {
	step := &c.Steps[act.Step]
	access, secrets, err := r.reach(ctx, *c, step.Step)
	if err != nil {
		return failed(act, err, false)
	}
	access = w.on(access)
	allowed := r.StepTime
	if step.Seconds > 0 {
		allowed = time.Duration(step.Seconds) * time.Second
	}
	if act.Op == change.Undo {
		ctx = context.WithoutCancel(ctx)
	}
	timed := newLimit(ctx, allowed)
	defer timed.stop()
	ctx = timed
	if secrets != nil {
		step.Secrets = secrets
		defer func() { step.Secrets = nil }()
	}
	announced := func(x change.Sending) (err error) {
		timed.halt(func() { err = ready(c, act, x, noted) })
		return err
	}
	switch act.Op {
	case change.Probe:
		if step.Kind == change.ClearSessions {
			return r.probeCleared(ctx, *step, access)
		}
		if seen, settled := r.settle(ctx, access, *step, probing); !settled {
			return seen
		}
		// A probe may have to carry on what it finds half done: that is announced too.
		step.Ready = announced
		took, err := access.Probe(ctx, step.Step)
		answered(step, err)
		switch {
		case err != nil:
			return change.Result{Effect: change.Unclear, Failure: engine.Failure(err)}
		case took:
			return change.Result{Effect: change.Happened}
		}
		return change.Result{Effect: change.NotHappened}
	case change.Undo:
		// What was sent before, to do it or to undo it, must be over first.
		if seen, settled := r.settle(ctx, access, *step, probing); !settled {
			return seen
		}
		step.Ready = announced
		rep, err := access.Undo(ctx, step.Step)
		answered(step, err)
		if err != nil {
			return change.Result{Effect: change.Unclear, Messages: rep.Messages, Failure: engine.Failure(err)}
		}
		return change.Result{Effect: change.Happened, Messages: rep.Messages}
	}
	if step.Kind == change.ClearSessions {
		return r.clear(ctx, c, act, access, stop, noted)
	}
	step.Ready = announced
	if id := step.Args[change.ArgScript]; id != "" && r.Scripts != nil {
		step.Script = func(ctx context.Context) (io.ReadCloser, error) { return r.Scripts.Open(ctx, id) }
		defer func() { step.Script = nil }()
	}
	if step.Kind == change.StepExport && r.Exports != nil {
		step.Keep = r.keeper(*c)
		defer func() { step.Keep = nil }()
	}
	ctx, over := r.working(ctx, c, step, stop)
	rep, err := access.Do(ctx, step.Step)
	over()
	answered(step, err)
	if len(rep.Learned) > 0 {
		step.Learn(rep.Learned)
		if key := step.Args["key"]; key != "" {
			c.ObjectKey = key
		}
	}
	if err != nil {
		seen := failed(act, err, rep.Applied)
		seen.Messages = rep.Messages
		if step.ReadOnly && unreached(err) {
			seen.Effect = change.Unclear // it is read again: that nobody got through says nothing
		}
		return seen
	}
	return change.Result{Effect: change.Happened, Messages: rep.Messages}
}

// keeper keeps what a step of a change exports.
func (r *Runner) keeper(c change.Change) change.Keeper {
	return func(ctx context.Context, x change.Export, write func(io.Writer) error,
		read func(io.Reader) ([]string, error)) (string, error) {
		x.Change = c.ID
		return r.Exports.Keep(ctx, c.RunBy, c.Intent.Server, c.Brief.Target, x, write, read)
	}
}

// answered forgets the session that sent a step when its answer came: it can do
// nothing of it any more.
func answered(step *change.StepRun, err error) {
	step.Ready = nil
	if e, is := errors.AsType[*engine.Error](err); !is || e.Kind != engine.Unknown {
		step.Sender = nil
	}
}

// unreached reports whether an error is that of a way which was not found or was
// lost, or of another instance that answers: of what may be over in a moment.
func unreached(err error) bool {
	if _, other := errors.AsType[*engine.IdentityError](err); other {
		return true
	}
	e, ok := errors.AsType[*engine.Error](err)
	return ok && (e.Kind == engine.NotSent || e.Kind == engine.Unknown) && (e.Err != nil || e.Passing)
}

// reach opens the server for a step, and the passwords that it needs. While
// Genarch's own records are away, it waits: that is no outcome of a step.
func (r *Runner) reach(ctx context.Context, c change.Change, step change.Step) (engine.Server, map[string]secret.Text,
	error) {
	for {
		access, secrets, err := r.reachOnce(ctx, c, step)
		if !errors.Is(err, record.ErrUnavailable) || !engine.Pause(ctx, storePause) {
			return access, secrets, err
		}
	}
}

func (r *Runner) reachOnce(ctx context.Context, c change.Change, step change.Step) (engine.Server,
	map[string]secret.Text, error) {
	ctx, cancel := context.WithTimeout(ctx, storeTime)
	defer cancel()
	_, _, access, err := r.Fleet.Open(ctx, c.Intent.Server)
	if err != nil || len(step.SecretsNeeded()) == 0 {
		return access, nil, err
	}
	kept, err := r.Store.Secrets(ctx, c.ID)
	secrets := make(map[string]secret.Text, len(kept))
	for _, k := range kept {
		secrets[k.Account] = k.Text
	}
	return access, secrets, err
}

// ready puts on record which session is about to send a step, and what undoing it
// needs. Nothing is sent when that fails: the change belongs to another service.
func ready(c *change.Change, act change.NextOp, x change.Sending, noted *intention) error {
	step := &c.Steps[act.Step]
	step.Sender = &x.Session
	step.Learn(x.Learned)
	if x.Undo != "" {
		step.Undo, step.Restores = x.Undo, true
	}
	if !noted.recordWith(*c) {
		return &engine.Error{Op: step.Title, Kind: engine.NotSent,
			Text: "this service may not go on with the change, so the statement was not sent"}
	}
	return nil
}

// settle makes sure that the session which sent a step is gone, before anybody
// looks what came of it: a server works on when its client is gone, and what lies
// unread before it can still be done later. It ends a session that does nothing,
// and one that works too long at what can be cut off.
func (r *Runner) settle(ctx context.Context, access engine.Server, step change.StepRun,
	probing time.Time) (change.Result,
	bool) {
	if step.Sender == nil {
		return change.Result{}, true
	}
	unclear := func(err error) change.Result {
		return change.Result{Effect: change.Unclear, Failure: engine.Failure(err)}
	}
	state, err := access.Sender(ctx, *step.Sender, false)
	if err != nil {
		return unclear(err), false
	}
	if state == engine.SenderGone {
		return change.Result{}, true
	}
	// What does nothing is ended at once; what works when it has had its time. What
	// must not be cut off is never ended while it works, and it may begin to work at
	// the moment when it is ended: so it is left alone for long even then.
	working := state == engine.SenderWorking
	waited := time.Duration(0)
	if !probing.IsZero() {
		waited = now().Sub(probing)
	}
	if !working && (!step.Uncut || waited > idleTime) || working && !step.Uncut && waited > settleTime {
		if _, err := access.Sender(ctx, *step.Sender, true); err != nil {
			return unclear(err), false
		}
	}
	seen := unclear(&engine.Error{Op: step.Title, Kind: engine.Unknown,
		Text: fmt.Sprintf("the statement is still running in session %d of the server", step.Sender.Number)})
	seen.Working = working
	return seen, false
}

// failed says what is known after an error: only one of kind unknown leaves
// open whether the action happened.
func failed(act change.NextOp, err error, took bool) change.Result {
	seen := change.Result{Effect: change.NotHappened, Failure: engine.Failure(err)}
	switch {
	case took:
		seen.Effect = change.Happened
	case act.Op != change.Do:
		seen.Effect = change.Unclear
	case seen.Failure.Kind == string(engine.Unknown):
		if _, ours := errors.AsType[*engine.Error](err); ours {
			seen.Effect = change.Unclear
		} else {
			// It did not come from the server: the way there was not found.
			seen.Failure.Kind = string(engine.NotSent)
		}
	}
	return seen
}

// save commits, trying again while the store is away: what happened on the
// server must not be lost. It gives up only when ctx ends.
func (r *Runner) save(ctx context.Context, c change.Change, holder string, news []journal.Entry) bool {
	return r.insist(ctx, c, func(ctx context.Context) error { return r.Store.SaveRunning(ctx, c, holder, news...) })
}

// finish commits the end of a change and tells everybody. It reports whether the
// records took it.
func (r *Runner) finish(ctx context.Context, c change.Change, holder string, news []journal.Entry) bool {
	detail := map[string]any{"state": c.State, "result": c.Result}
	if c.Failure != nil {
		detail["failure"] = c.Failure
	}
	news = append(news, entry(c, c.RunBy, "change."+string(c.State), detail))
	if c.State == change.Done && c.Intent.Kind == change.MarkServer {
		if err := r.Fleet.RefreshIdentity(ctx, c.RunBy, c.Intent.Server); err != nil {
			r.Log.Warn("the mark was written, but not noted", "server", c.Intent.Server, "error", err)
		}
	}
	if !r.insist(ctx, c, func(ctx context.Context) error { return r.Store.Finish(ctx, c, holder, news...) }) {
		return false
	}
	r.Log.Info("change ended", "change", c.ID, "target", c.Brief.Target, "state", c.State, "operator", c.RunBy, "took",
		c.Ended.Sub(c.Started))
	r.publish(c)
	r.tellWatch(c)
	r.dropScript(ctx, c)
	if (c.Intent.Database != nil || c.Intent.Holding != nil) && c.Brief.Outcome == change.Acts {
		r.Events.Publish(events.Event{Database: c.Brief.Target})
	}
	return true
}

// tellWatch tells of names that a change has taken away or given to something else.
func (r *Runner) tellWatch(c change.Change) {
	target, err := naming.ParseAddress(c.Brief.Target)
	if r.Watch == nil || err != nil || c.State != change.Done || c.Brief.Outcome != change.Acts {
		return
	}
	switch c.Intent.Kind {
	case change.DropDatabase:
		r.Watch.Gone(target.Server, catalog.Used{Database: target.Name})
	case change.SetAside:
		r.Watch.Renamed(target.Server, catalog.Used{Database: target.Name}, catalog.Used{Database: c.Brief.Held()})
	case change.SetAsideAccount:
		r.Watch.Renamed(target.Server, usedAccount(target.Name), usedAccount(c.Brief.Held()))
	case change.BringBack:
		r.Watch.Renamed(target.Server, heldUse(c, target.Name), heldUse(c, c.Brief.BackAs()))
	case change.Discard:
		r.Watch.Gone(target.Server, heldUse(c, target.Name))
	case change.DropAccount:
		r.Watch.Gone(target.Server, catalog.Used{Account: catalog.Principal{Name: target.Name, Host: target.Host,
			Database: target.Database}})
	case change.RenameDatabase:
		r.Watch.Renamed(target.Server, catalog.Used{Database: target.Name},
			catalog.Used{Database: c.Intent.Database.NewName})
	}
}

func usedAccount(name string) catalog.Used {
	return catalog.Used{Account: catalog.Principal{Name: name}}
}

// heldUse is what a change for a holding is about, under a name of it.
func heldUse(c change.Change, name string) catalog.Used {
	if c.Intent.Holding.Account {
		return usedAccount(name)
	}
	return catalog.Used{Database: name}
}

const (
	// storePause lies between two tries to reach the store, storeTime bounds one.
	storePause = 500 * time.Millisecond
	storeTime  = 30 * time.Second
)

func (r *Runner) insist(ctx context.Context, c change.Change, f func(context.Context) error) bool {
	for {
		try, cancel := context.WithTimeout(context.WithoutCancel(ctx), storeTime)
		err := f(try)
		cancel()
		switch {
		case err == nil:
			return true
		case errors.Is(err, record.ErrStale):
			r.Log.Error("a change is not as this service left it; it goes no further here", "change", c.ID)
			return false
		}
		r.Log.Error("the store does not take the state of a change; trying again", "change", c.ID, "error", err)
		if !engine.Pause(ctx, storePause) {
			return false
		}
	}
}

// handBack leaves a change to the next service: its state is committed and its
// lease ends now.
func (r *Runner) handBack(ctx context.Context, c change.Change, holder string, news []journal.Entry) {
	if !r.save(ctx, c, holder, news) {
		return
	}
	if err := r.Store.Renew(ctx, c.ID, holder, 0); err != nil {
		r.Log.Warn("the lease of a change could not be given back; it runs out by itself", "change", c.ID, "error", err)
	}
}

func (r *Runner) isClosing() bool {
	select {
	case <-r.closing:
		return true
	default:
		return false
	}
}

// watchOrphans takes over what a dead service left, at the start and then
// whenever a lease may have run out.
func (r *Runner) watchOrphans() {
	tick := time.NewTicker(r.Lease / 2)
	defer tick.Stop()
	swept := time.Time{}
	for {
		ctx, cancel := context.WithTimeout(r.base, r.PlanTime)
		// Only so many are taken over as can be gone on with at once: a lease that
		// is taken has to be renewed.
		free := r.reserve()
		holder := r.newHolder()
		left, err := r.Store.Orphans(ctx, holder, r.Lease, free)
		if err == nil && now().Sub(swept) > sweepEvery {
			swept = now()
			err = r.Store.ForgetSecrets(ctx)
		}
		cancel()
		if err != nil && r.base.Err() == nil {
			r.Log.Warn("looking for changes that were left behind", "error", err)
		}
		for _, c := range left {
			r.Log.Info("taking over a change that was left behind", "change", c.ID, "target", c.Brief.Target)
			if r.spawn(c, change.NextOp{}, holder, &work{}) == nil {
				free--
			}
		}
		for range free {
			<-r.slots
		}
		if len(left) > 0 && free == 0 {
			continue // there may be more
		}
		select {
		case <-r.closing:
			return
		case <-tick.C:
		}
	}
}

// reserve takes all slots that are free, but for a few that people may want, and
// says how many.
func (r *Runner) reserve() int {
	for n := 0; ; n++ {
		if n == maxRunning-keepFree {
			return n
		}
		select {
		case r.slots <- struct{}{}:
		default:
			return n
		}
	}
}

// keepFree is how many slots are left alone while looking for what was left behind.
const keepFree = 8

// sweepEvery is how often passwords that nobody asked for are forgotten.
const sweepEvery = 10 * time.Minute

// stepEntry is the journal entry of a action on a step.
func stepEntry(c change.Change, act change.NextOp, action string) journal.Entry {
	s := c.Steps[act.Step]
	detail := map[string]any{"step": act.Step + 1, "title": s.Title, "status": s.Status}
	switch {
	case act.Op == change.Undo && s.Undo != "":
		detail["statement"] = s.Undo
	case act.Op == change.Do && s.Statement != "":
		detail["statement"] = s.Statement
	}
	if s.Failure != nil {
		detail["failure"] = s.Failure
	}
	if p := s.Clearing; p != nil && act.Op == change.Do {
		detail["sessions"] = map[string]any{"found": p.Found, "ended": p.Ended, "left_by_themselves": p.Gone,
			"who_was_ended": p.EndedWho, "came_back": p.Returned, "remain": p.Who}
	}
	return entry(c, c.RunBy, "step."+action, detail)
}

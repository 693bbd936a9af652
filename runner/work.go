package runner

import (
	"context"
	"slices"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/engine"
)

// work is a server as one change works with it, from its decision to its end: what
// alters goes by a session of its own.
type work struct {
	access, own engine.Server
	done        func(settled bool)
}

// on is the server for this change. A registration that was altered meanwhile has
// another access.
func (w *work) on(access engine.Server) engine.Server {
	if access == nil {
		return nil
	}
	if w.access != access {
		w.end(false)
		w.access = access
		w.own, w.done = access.ForChange()
	}
	return w.own
}

// end gives the session back. settled: the records hold the outcome of all that was
// sent on it.
func (w *work) end(settled bool) {
	if w.done != nil {
		w.done(settled)
	}
	*w = work{}
}

// intention is what goes on record before a step may alter anything: that it is
// begun, and what came of the one before. One that alters takes its session along,
// in one commit; one that only reads need not wait for the disk at all, so it is
// written after a moment, or with what comes next.
type intention struct {
	save  func(change.Change, []journal.Entry) bool
	timer *time.Timer

	lock chan struct{} // held by whoever uses the fields below, while they are written too
	as   change.Change
	news []journal.Entry // not written yet
	bad  bool            // the records did not take it: this service goes no further
}

// writeAfter is how long a step may run before those who read the records are to
// know that it does.
const writeAfter = 20 * time.Millisecond

// intend prepares the intention of a change as it is now.
func (r *Runner) intend(ctx context.Context, c change.Change, holder string, news []journal.Entry) *intention {
	n := &intention{lock: make(chan struct{}, 1), as: copied(c), news: news}
	n.save = func(c change.Change, news []journal.Entry) bool { return r.save(ctx, c, holder, news) }
	if len(news) > 0 {
		n.timer = time.AfterFunc(writeAfter, func() { n.record() })
	}
	return n
}

// record has the intention written, if it is not yet, and says whether it is.
func (n *intention) record() bool {
	n.lock <- struct{}{}
	defer func() { <-n.lock }()
	if len(n.news) > 0 {
		n.bad = !n.save(n.as, n.news)
		n.news = nil
	}
	return !n.bad
}

// recordWith writes the change as it is now, with the intention if that is not
// written yet.
func (n *intention) recordWith(c change.Change) bool {
	n.lock <- struct{}{}
	defer func() { <-n.lock }()
	n.bad = n.bad || !n.save(copied(c), n.news)
	n.news = nil
	return !n.bad
}

// close ends the waiting: what was not written is given back, to be written with
// what comes next; ok is false if the records did not take what was.
func (n *intention) close() (left []journal.Entry, ok bool) {
	if n.timer != nil {
		n.timer.Stop()
	}
	n.lock <- struct{}{}
	defer func() { <-n.lock }()
	left, n.news = n.news, nil
	return left, !n.bad
}

// copied is a change whose steps nobody else writes.
func copied(c change.Change) change.Change {
	c.Steps = slices.Clone(c.Steps)
	return c
}

// Package watch samples, all the time, how many sessions the registered servers
// have: for the chart of the last hour, which it keeps in memory, to tell when a
// database or an account was last used, and for the history of sessions and sizes,
// of which no engine keeps a record. Those go into the records. All that it keeps is bounded.
package watch

import (
	"context"
	"log/slog"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/history"
	"example.com/genarch/engine"
)

// Fleet is what the watch needs of the servers.
type Fleet interface {
	List(ctx context.Context) ([]catalog.Server, error)
	Open(ctx context.Context, name string) (catalog.Server, engine.Engine, engine.Server, error)
}

const (
	// every lies between two samples.
	every = 10 * time.Second
	// kept is how many samples of a server are kept: an hour's.
	kept = int(time.Hour / every)
	// answerTime bounds one look at a server; looks is how many go on at once.
	answerTime = 5 * time.Second
	looks      = 8
)

// Watch keeps the samples. It may be used by many goroutines.
type Watch struct {
	fleet   Fleet
	records Records
	log     *slog.Logger

	mu      sync.Mutex // guards servers
	servers map[string]*seen

	cancel context.CancelFunc
	done   chan struct{}
}

// seen is what is known of one server.
type seen struct {
	samples []catalog.Sample
	uses    uses
	figures figures
}

// Start begins to sample; Stop ends it.
func Start(f Fleet, r Records, log *slog.Logger) *Watch {
	ctx, cancel := context.WithCancel(context.Background())
	w := &Watch{fleet: f, records: r, log: log, servers: map[string]*seen{}, cancel: cancel, done: make(chan struct{})}
	go func() {
		defer close(w.done)
		var loops sync.WaitGroup
		loops.Go(func() { w.run(ctx) })
		loops.Go(func() { w.keepHistory(ctx) })
		loops.Wait()
	}()
	return w
}

// Stop ends the sampling, and waits until what was seen is on record.
func (w *Watch) Stop() {
	w.cancel()
	<-w.done
}

func (w *Watch) run(ctx context.Context) {
	tick := time.NewTicker(every)
	defer tick.Stop()
	saved := time.Now()
	for {
		w.round(ctx)
		if time.Since(saved) >= saveEvery {
			saved = time.Now()
			w.save(ctx)
		}
		select {
		case <-ctx.Done():
			w.save(context.WithoutCancel(ctx))
			return
		case <-tick.C:
		}
	}
}

// round looks at every server once; one that hangs holds up nobody else for
// longer than its deadline.
func (w *Watch) round(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, every*3)
	defer cancel()
	list, err := w.fleet.List(ctx)
	if err != nil {
		w.log.DebugContext(ctx, "no samples: the servers cannot be listed", "error", err)
		return
	}
	w.forget(list)
	var group errgroup.Group
	group.SetLimit(looks)
	for _, srv := range list {
		group.Go(func() error {
			look, cancel := context.WithTimeout(ctx, answerTime)
			defer cancel()
			_, _, access, err := w.fleet.Open(look, srv.Name)
			var sessions catalog.SessionList
			if err == nil {
				sessions, err = access.Sessions(look, catalog.SessionQuery{Brief: true})
			}
			if ctx.Err() == nil { // else it was the watch that gave up
				w.note(ctx, srv, time.Now().UTC(), sessions.Sessions, err == nil)
			}
			return nil
		})
	}
	_ = group.Wait()
}

// forget drops what is kept of servers that are not registered any more.
func (w *Watch) forget(list []catalog.Server) {
	w.mu.Lock()
	defer w.mu.Unlock()
	known := map[string]bool{}
	for _, s := range list {
		known[s.Name] = true
	}
	for name := range w.servers {
		if !known[name] {
			delete(w.servers, name)
		}
	}
}

// note keeps one sample.
func (w *Watch) note(ctx context.Context, srv catalog.Server, now time.Time, list []catalog.Session, answered bool) {
	recalled := w.recall(ctx, srv, now)
	sample := catalog.Sample{At: now, Missing: !answered}
	w.mu.Lock()
	defer w.mu.Unlock()
	k := w.servers[srv.Name]
	if k == nil || k.figures.server != srv.ID {
		k = &seen{figures: figures{server: srv.ID, kept: map[string]history.Point{}}}
		w.servers[srv.Name] = k
	}
	if recalled != nil {
		k.uses = *recalled
	}
	if answered {
		k.uses.looked(now)
	}
	there := map[string]int{}
	for _, s := range list {
		switch clearing.Classify(s) {
		case clearing.Own, clearing.Engine:
			continue
		case clearing.Idle:
			sample.Idle++
		case clearing.InTransaction:
			sample.Open++
		case clearing.Written:
			if s.Activity == catalog.SessionActive {
				sample.Busy++
			} else {
				sample.Open++
			}
		default:
			sample.Busy++
		}
		if s.Wait != "" {
			sample.Waiting++
		}
		k.uses.saw(s, now)
		there[s.Database]++
	}
	if answered {
		k.figures.saw(now, there)
	}
	k.samples = append(k.samples, sample)
	if over := len(k.samples) - kept; over > 0 {
		k.samples = append(k.samples[:0], k.samples[over:]...)
	}
}

// History is the last hour's samples of a server, the oldest first.
func (w *Watch) History(server string) ([]catalog.Sample, time.Duration) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if k := w.servers[server]; k != nil {
		return append([]catalog.Sample(nil), k.samples...), every
	}
	return nil, every
}

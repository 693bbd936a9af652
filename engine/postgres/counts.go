package postgres

import (
	"context"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
)

// tableCounts remembers how many tables each database has. Counting needs a
// login to every single database (15 to 20 ms each), far too slow for a list,
// so the list shows the last count with its time and starts a new one when
// that is old. The zero value is not usable; see newTableCounts.
type tableCounts struct {
	ctx    context.Context
	cancel context.CancelFunc
	state  *countState
}

type countState struct {
	mu     sync.Mutex            // guards counts and busy
	counts map[string]tableCount // by oid
	busy   bool
	done   sync.WaitGroup
	// logins is held for reading by each count, and for writing while a
	// template is copied: nobody may be connected to it then, we included.
	logins sync.RWMutex
}

type tableCount struct {
	n  int
	at time.Time
}

// countsAge is how old a count may be before a list has it made anew.
const countsAge = 20 * time.Second

// maxCounted bounds the logins of one round.
const maxCounted = 500

func newTableCounts() tableCounts {
	ctx, cancel := context.WithCancel(context.Background())
	return tableCounts{ctx, cancel, &countState{counts: map[string]tableCount{}}}
}

// stop ends counting and waits for it.
func (t tableCounts) stop() {
	t.cancel()
	t.state.done.Wait()
}

func (t tableCounts) put(key string, n int) {
	t.state.mu.Lock()
	defer t.state.mu.Unlock()
	t.state.counts[key] = tableCount{n, time.Now().UTC()}
}

// fill sets what is known of each database's tables.
func (t tableCounts) fill(list []catalog.Database) {
	t.state.mu.Lock()
	defer t.state.mu.Unlock()
	for i := range list {
		if c, ok := t.state.counts[list[i].Key]; ok {
			list[i].Tables, list[i].TablesAt = &c.n, c.at
		}
	}
}

// refresh counts, in the background, the databases whose count is missing or
// old. One round runs at a time, two logins side by side.
func (t tableCounts) refresh(s *server, list []catalog.Database) {
	t.state.mu.Lock()
	defer t.state.mu.Unlock()
	if t.state.busy || t.ctx.Err() != nil {
		return
	}
	var old []catalog.Database
	keep := make(map[string]tableCount, len(list))
	for _, d := range list {
		c, known := t.state.counts[d.Key]
		if known {
			keep[d.Key] = c
		}
		if !d.Closed && (!known || time.Since(c.at) > countsAge) && len(old) < maxCounted {
			old = append(old, d)
		}
	}
	t.state.counts = keep
	if len(old) == 0 {
		return
	}
	t.state.busy = true
	t.state.done.Add(1)
	go func() {
		defer t.state.done.Done()
		ctx, cancel := context.WithTimeout(t.ctx, time.Minute)
		defer cancel()
		group, gctx := errgroup.WithContext(ctx)
		group.SetLimit(2)
		for _, d := range old {
			group.Go(func() error {
				if n, err := s.countTables(gctx, d); err == nil {
					t.put(d.Key, n)
				}
				return gctx.Err()
			})
		}
		_ = group.Wait()
		t.state.mu.Lock()
		t.state.busy = false
		t.state.mu.Unlock()
	}()
}

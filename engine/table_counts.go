package engine

import (
	"context"
	"errors"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
)

// TableCounts remembers how many tables each database has, for engines that tell it only inside each of them.
// That is far too slow for a list (on PostgreSQL a login each, 15 to 20 ms), so the list shows the last count with
// its time and starts a new one when that is old.
type TableCounts struct {
	ctx    context.Context
	cancel context.CancelFunc

	mu     sync.Mutex            // guards counts and busy
	counts map[string]tableCount // by key
	busy   bool
	done   sync.WaitGroup

	// Looking is held for reading by each count, and for writing while nobody may be in a database, Genarch
	// included.
	Looking sync.RWMutex
}

type tableCount struct {
	n  int
	at time.Time
}

const (
	// countsAge is how old a count may be before a list has it made anew.
	countsAge = 20 * time.Second
	// maxCounted bounds the databases of one round.
	maxCounted = 500
	// countingTime bounds one round.
	countingTime = time.Minute
)

// Counter counts the tables of one database.
type Counter func(context.Context, catalog.Database) (int, error)

// NewTableCounts has counted nothing so far.
func NewTableCounts() *TableCounts {
	ctx, cancel := context.WithCancel(context.Background())
	return &TableCounts{ctx: ctx, cancel: cancel, counts: map[string]tableCount{}}
}

// Stop ends counting and waits for it.
func (t *TableCounts) Stop() {
	t.cancel()
	t.done.Wait()
}

// errBusy: nobody may look into databases just now, and nothing is known from before.
var errBusy = errors.New("the tables cannot be counted at the moment")

// Count counts the tables of one database now, and remembers it. Where that would be in the way, it gives the last
// count.
func (t *TableCounts) Count(ctx context.Context, d catalog.Database, count Counter) (int, error) {
	if !t.Looking.TryRLock() {
		t.mu.Lock()
		defer t.mu.Unlock()
		if c, known := t.counts[d.Key]; known {
			return c.n, nil
		}
		return 0, errBusy
	}
	defer t.Looking.RUnlock()
	n, err := count(ctx, d)
	if err == nil {
		t.mu.Lock()
		defer t.mu.Unlock()
		t.counts[d.Key] = tableCount{n, time.Now().UTC()}
	}
	return n, err
}

// Fill sets what is known of each database's tables, and counts, in the background, where that is missing or
// old. One round runs at a time, two databases side by side.
func (t *TableCounts) Fill(list []catalog.Database, count Counter) {
	t.mu.Lock()
	defer t.mu.Unlock()
	var old []catalog.Database
	keep := make(map[string]tableCount, len(list))
	for i := range list {
		d := &list[i]
		c, known := t.counts[d.Key]
		if known {
			keep[d.Key] = c
			d.Tables, d.TablesAt = &c.n, c.at
		}
		if !d.Closed && (!known || time.Since(c.at) > countsAge) && len(old) < maxCounted {
			old = append(old, *d)
		}
	}
	if t.busy || t.ctx.Err() != nil {
		return
	}
	t.counts = keep
	if len(old) == 0 {
		return
	}
	t.busy = true
	t.done.Add(1)
	go func() {
		defer t.done.Done()
		ctx, cancel := context.WithTimeout(t.ctx, countingTime)
		defer cancel()
		group, gctx := errgroup.WithContext(ctx)
		group.SetLimit(2)
		for _, d := range old {
			group.Go(func() error {
				_, _ = t.Count(gctx, d, count)
				return gctx.Err()
			})
		}
		_ = group.Wait()
		t.mu.Lock()
		t.busy = false
		t.mu.Unlock()
	}()
}

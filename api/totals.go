package api

import (
	"context"
	"sync"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine"
)

// totalsTime is how long the sum over a server's databases is taken as good: the
// list is read for it, which costs much more than everything else that a page
// shows of a server. A database that Genarch makes or drops ends it at once.
const totalsTime = 15 * time.Second

// totals remembers what the list of databases of each server comes to.
type totals struct {
	mu sync.Mutex // guards of
	of map[string]total
}

type total struct {
	databases int   // without the system's own
	size      int64 // bytes
	held, due int   // set aside, and of those whose keeping time is over
	at        time.Time
	altered   uint64 // what the hub said when it was read
}

// note adds a list up that was just read.
func (t *totals) note(server string, list catalog.Listing, altered uint64) total {
	sum := total{at: time.Now(), altered: altered}
	for _, d := range list.Databases {
		if d.Size != nil {
			sum.size += *d.Size
		}
		if !d.System {
			sum.databases++
		}
	}
	sum.held = len(list.Held)
	count := func(h *catalog.Holding) {
		if h.Due(list.Read) && h.Hold == "" {
			sum.due++
		}
	}
	for _, d := range list.Held {
		count(d.Held)
	}
	for _, a := range list.HeldAccounts {
		count(a.Held)
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.of == nil {
		t.of = map[string]total{}
	}
	t.of[server] = sum
	return sum
}

func (t *totals) get(server string, altered uint64) (total, bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	sum, there := t.of[server]
	return sum, there && sum.altered == altered && time.Since(sum.at) < totalsTime
}

// databases lists the databases of a server, and remembers what they come to.
func (h *Handler) databases(ctx context.Context, name string, access engine.Server) (catalog.Listing, error) {
	altered := h.Events.Altered()
	list, err := access.Databases(ctx)
	if err == nil {
		h.totals.note(name, list, altered)
	}
	return list, err
}

// total is how many databases a server has, and how large they are.
func (h *Handler) total(ctx context.Context, name string, access engine.Server) (total, error) {
	altered := h.Events.Altered()
	if sum, good := h.totals.get(name, altered); good {
		return sum, nil
	}
	list, err := access.Databases(ctx)
	if err != nil {
		return total{}, err
	}
	return h.totals.note(name, list, altered), nil
}

package watch

import (
	"context"
	"errors"
	"maps"
	"slices"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/history"
	"example.com/genarch/core/record"
)

// Records is where the watch keeps what it saw of who uses what.
type Records interface {
	// Watched reads it back; ErrNotFound if there is nothing of this instance.
	Watched(ctx context.Context, server uint64, identity string) (catalog.Watched, error)
	// SaveWatched writes it, of the uses only those given; a zero time forgets one.
	SaveWatched(ctx context.Context, server uint64, w catalog.Watched) error
	// SaveHistory keeps points of a server by the names of its databases; an empty name is
	// the server itself. Of a point that is there for the time, the most sessions count.
	SaveHistory(ctx context.Context, server uint64, points map[string][]history.Point) error
	// RenameHistory keeps a database's points under another name; an empty one forgets them.
	RenameHistory(ctx context.Context, server uint64, from, to string) error
	// ThinHistory gathers and forgets what is old.
	ThinHistory(ctx context.Context, now time.Time) error
}

const (
	// saveEvery lies between two times that what was seen goes on record.
	saveEvery = time.Minute
	// saveTime bounds that for one server.
	saveTime = 10 * time.Second
	// unobservedAfter is how long no look may be answered before the time counts as not
	// watched.
	unobservedAfter = 6 * every
	// maxUses bounds what is remembered of one server.
	maxUses = 40000
)

// uses is what was seen of one server, and what of it is not on record yet.
type uses struct {
	server uint64
	catalog.Watched
	fresh map[catalog.Used]bool
}

// recall reads what is on record of a server that was not looked at before, or that is
// another instance now; nil: it is known already. While the records are away
// nothing is kept, or what they hold would be taken for unseen.
func (w *Watch) recall(ctx context.Context, srv catalog.Server, now time.Time) *uses {
	w.mu.Lock()
	k := w.servers[srv.Name]
	same := k != nil && k.uses.server == srv.ID && k.uses.Identity == srv.Identity.Key
	w.mu.Unlock()
	if same {
		return nil
	}
	u := &uses{server: srv.ID, fresh: map[catalog.Used]bool{}}
	ctx, cancel := context.WithTimeout(ctx, saveTime)
	defer cancel()
	var err error
	u.Watched, err = w.records.Watched(ctx, srv.ID, srv.Identity.Key)
	if errors.Is(err, record.ErrNotFound) {
		u.Watched, err = catalog.Watched{Identity: srv.Identity.Key, Since: now, Until: now,
			Uses: map[catalog.Used]time.Time{}}, nil
	}
	if err != nil {
		w.log.DebugContext(ctx, "when things were last used cannot be read", "server", srv.Name, "error", err)
		return nil
	}
	return u
}

// looked notes that the server answered.
func (u *uses) looked(now time.Time) {
	if u.fresh == nil {
		return // the records are away
	}
	if gap := now.Sub(u.Until); gap > unobservedAfter {
		u.Unobserved += gap
	}
	if now.After(u.Until) {
		u.Until = now
	}
}

// saw notes whom and what a session uses.
func (u *uses) saw(s catalog.Session, now time.Time) {
	if u.fresh == nil {
		return
	}
	note := func(x catalog.Used) {
		if _, known := u.Uses[x]; !known && len(u.Uses) >= maxUses {
			u.forgetOldest()
		}
		u.Uses[x], u.fresh[x] = now, true
	}
	if s.Account != (catalog.Principal{}) { // a background worker may have none
		note(catalog.Used{Account: s.Account})
	}
	for _, d := range append([]string{s.Database}, s.Uses...) {
		if d != "" {
			note(catalog.Used{Database: d})
		}
	}
}

// forgetOldest makes room: what was seen longest ago goes, a tenth of all, and of
// the time before that nothing is claimed any more.
func (u *uses) forgetOldest() {
	limit := slices.SortedFunc(maps.Values(u.Uses), time.Time.Compare)[len(u.Uses)/10]
	for x, at := range u.Uses {
		if !at.After(limit) {
			delete(u.Uses, x)
			u.fresh[x] = true
		}
	}
	if limit.After(u.Since) {
		u.Since = limit
		u.Unobserved = min(u.Unobserved, u.Until.Sub(limit))
	}
}

// save puts on record what is not there yet. What cannot be saved waits for the
// next time.
func (w *Watch) save(ctx context.Context) {
	for _, u := range w.unsaved() {
		try, cancel := context.WithTimeout(ctx, saveTime)
		err := w.records.SaveWatched(try, u.server, u.Watched)
		cancel()
		if err != nil {
			w.log.DebugContext(ctx, "when things were last used cannot be kept", "error", err)
			w.saveAgain(u)
		}
	}
}

// unsaved takes what is to be put on record.
func (w *Watch) unsaved() []uses {
	w.mu.Lock()
	defer w.mu.Unlock()
	var out []uses
	for _, k := range w.servers {
		if k.uses.fresh == nil {
			continue
		}
		u := k.uses
		u.Uses = make(map[catalog.Used]time.Time, len(u.fresh))
		for x := range u.fresh {
			u.Uses[x] = k.uses.Uses[x] // zero: forgotten
		}
		k.uses.fresh = map[catalog.Used]bool{}
		out = append(out, u)
	}
	return out
}

func (w *Watch) saveAgain(u uses) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, k := range w.servers {
		if k.uses.server == u.server && k.uses.Identity == u.Identity {
			for x := range u.fresh {
				k.uses.fresh[x] = true
			}
		}
	}
}

// Use is when somebody was last seen in a database or as an account of a server.
func (w *Watch) Use(server string, x catalog.Used) catalog.Use {
	w.mu.Lock()
	defer w.mu.Unlock()
	k := w.servers[server]
	if k == nil {
		return catalog.Use{}
	}
	use := k.uses.Use(x)
	if gap := time.Since(k.uses.Until); !use.Since.IsZero() && gap > unobservedAfter {
		use.Unobserved += gap // it does not answer just now
	}
	return use
}

// Gone forgets a database or an account that was dropped: another one of its name
// was not seen yet.
func (w *Watch) Gone(server string, x catalog.Used) {
	w.Renamed(server, x, catalog.Used{})
}

// Renamed keeps under another name when something was last used. What was known
// of that name, or with a zero one all, is forgotten.
func (w *Watch) Renamed(server string, from, to catalog.Used) {
	w.mu.Lock()
	defer w.mu.Unlock()
	k := w.servers[server]
	if k == nil {
		return
	}
	if from.Database != "" {
		k.figures.rename(from.Database, to.Database)
	}
	if k.uses.fresh == nil {
		return
	}
	last, known := k.uses.Uses[from]
	delete(k.uses.Uses, from)
	k.uses.fresh[from] = true
	if to == (catalog.Used{}) {
		return
	}
	delete(k.uses.Uses, to)
	if k.uses.fresh[to] = true; known {
		k.uses.Uses[to] = last
	}
}

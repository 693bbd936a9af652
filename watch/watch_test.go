package watch

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/history"
	"example.com/genarch/core/record"
	"example.com/genarch/engine"
)

// harbour is a fleet of one server that shows the sessions it is told to.
type harbour struct {
	engine.Server // whatever is not answered here is never asked

	mu       sync.Mutex // guards all below
	identity string
	sessions []catalog.Session
	sizes    map[string]int64
	down     bool
}

func (h *harbour) set(identity string, down bool, sessions ...catalog.Session) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.identity, h.down, h.sessions = identity, down, sessions
}

func (h *harbour) List(context.Context) ([]catalog.Server, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return []catalog.Server{{ID: 7, Name: "harbour", Identity: catalog.Identity{Key: h.identity}}}, nil
}

func (h *harbour) Open(context.Context, string) (catalog.Server, engine.Engine, engine.Server, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.down {
		return catalog.Server{}, nil, nil, errors.New("no answer")
	}
	return catalog.Server{}, nil, h, nil
}

func (h *harbour) Sessions(context.Context, catalog.SessionQuery) (catalog.SessionList, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	return catalog.SessionList{Sessions: h.sessions}, nil
}

func (h *harbour) Databases(context.Context) (catalog.Listing, error) {
	h.mu.Lock()
	defer h.mu.Unlock()
	var out catalog.Listing
	for name, size := range h.sizes {
		out.Databases = append(out.Databases, catalog.Database{Name: name, Size: &size})
	}
	return out, nil
}

func (h *harbour) resize(sizes map[string]int64) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.sizes = sizes
}

// shelf keeps what is put on record.
type shelf struct {
	mu   sync.Mutex // guards all below
	kept catalog.Watched
	away bool
	// points are what is kept of the history, by name and time.
	points map[string]map[time.Time]history.Point
}

func (s *shelf) goAway(away bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.away = away
}

// seen is when something was last seen, as far as is on record.
func (s *shelf) seen(x catalog.Used) time.Time {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.kept.Uses[x]
}

func (s *shelf) Watched(_ context.Context, server uint64, identity string) (catalog.Watched, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch {
	case s.away:
		return catalog.Watched{}, record.ErrUnavailable
	case server != 7 || s.kept.Identity != identity:
		return catalog.Watched{}, record.ErrNotFound
	}
	out := s.kept
	out.Uses = maps.Clone(s.kept.Uses)
	return out, nil
}

func (s *shelf) SaveWatched(_ context.Context, _ uint64, w catalog.Watched) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		return record.ErrUnavailable
	}
	uses := w.Uses
	if w.Uses = s.kept.Uses; s.kept.Identity != w.Identity || w.Uses == nil {
		w.Uses = map[catalog.Used]time.Time{}
	}
	for x, at := range uses {
		if w.Uses[x] = at; at.IsZero() {
			delete(w.Uses, x)
		}
	}
	s.kept = w
	return nil
}

var (
	tickets = catalog.Used{Database: "tickets_prod"}
	clerk   = catalog.Used{Account: catalog.Principal{Name: "clerk"}}
	report  = catalog.Session{ID: catalog.SessionID{Number: 1, Mark: "a"}, Kind: catalog.ClientSession,
		Database: "tickets_prod", Account: clerk.Account, Activity: catalog.SessionIdle}
)

// TestLastUse follows a server for days: what is seen, what is not, and what a
// service knows that was started anew. The time is synctest's: nobody waits for it.
func TestLastUse(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, s := &harbour{}, &shelf{}
		h.set("one", false, report)
		begun := time.Now()
		w := Start(h, s, slog.New(slog.DiscardHandler))
		time.Sleep(5*time.Minute + time.Second)
		seen := begun.Add(5 * time.Minute)
		check := func(what string, x catalog.Used, last time.Time, blind time.Duration) {
			t.Helper()
			if u := w.Use("harbour", x); !u.Last.Equal(last) || !u.Since.Equal(begun) ||
				u.Unobserved.Round(time.Minute) != blind {
				t.Errorf("%s: last %v, since %v, blind %v; want %v, %v, %v", what, u.Last.Sub(begun),
					u.Since.Sub(begun), u.Unobserved, last.Sub(begun), time.Duration(0), blind)
			}
		}
		check("in use", tickets, seen, 0)
		check("signed in", clerk, seen, 0)
		check("never", catalog.Used{Database: "tides_dev"}, time.Time{}, 0)
		h.set("one", false)
		time.Sleep(3 * time.Hour)
		check("nobody for hours", tickets, seen, 0)
		if list, every := w.History("harbour"); len(list) != 360 || every != 10*time.Second || list[359].Idle != 0 {
			t.Errorf("the samples of an hour: %d, every %v", len(list), every)
		}
		h.set("one", true)
		time.Sleep(2 * time.Hour)
		check("while it does not answer", tickets, seen, 2*time.Hour)
		h.set("one", false)
		time.Sleep(time.Minute)
		check("it answers again", tickets, seen, 2*time.Hour)
		w.Stop()
		time.Sleep(24 * time.Hour)
		w = Start(h, s, slog.New(slog.DiscardHandler))
		time.Sleep(time.Minute)
		check("another service goes on", tickets, seen, 26*time.Hour)
		check("and knows the account", clerk, seen, 26*time.Hour)
		fares := catalog.Used{Database: "fares_prod"}
		w.Renamed("harbour", tickets, fares)
		check("it has another name", fares, seen, 26*time.Hour)
		check("nothing has its old name", tickets, time.Time{}, 26*time.Hour)
		w.Renamed("harbour", fares, tickets)
		w.Gone("harbour", tickets)
		check("it was dropped", tickets, time.Time{}, 26*time.Hour)
		w.Stop()
		if !s.seen(tickets).IsZero() {
			t.Error("what was dropped is kept on record")
		}
		// Of another instance nothing is known.
		h.set("two", false)
		begun = time.Now()
		w = Start(h, s, slog.New(slog.DiscardHandler))
		time.Sleep(time.Minute)
		check("another instance", clerk, time.Time{}, 0)
		w.Stop()
	})
}

// TestRecordsAway: while the records cannot be read nothing is claimed, and what
// cannot be written waits.
func TestRecordsAway(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, s := &harbour{}, &shelf{away: true}
		h.set("one", false, report)
		w := Start(h, s, slog.New(slog.DiscardHandler))
		time.Sleep(time.Minute)
		if u := w.Use("harbour", tickets); u != (catalog.Use{}) {
			t.Errorf("without the records it claims %+v", u)
		}
		s.goAway(false)
		time.Sleep(2 * time.Minute)
		before := s.seen(tickets)
		if before.IsZero() {
			t.Fatal("nothing was kept")
		}
		s.goAway(true)
		time.Sleep(2 * time.Minute)
		h.set("one", false)
		s.goAway(false)
		time.Sleep(2 * time.Minute)
		if !s.seen(tickets).After(before.Add(time.Minute)) {
			t.Error("what could not be written is lost")
		}
		w.Stop()
	})
}

// TestFull: names without end push the oldest out, and nothing is claimed of the
// time before.
func TestFull(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, s := &harbour{}, &shelf{}
		w := Start(h, s, slog.New(slog.DiscardHandler))
		begun := time.Now()
		for round := range 9 {
			var list []catalog.Session
			for i := range maxUses / 8 {
				x := report
				x.Database = fmt.Sprintf("scratch_%d_%d", round, i)
				list = append(list, x)
			}
			h.set("one", false, list...)
			time.Sleep(2 * every)
		}
		w.Stop()
		s.mu.Lock()
		defer s.mu.Unlock()
		if n := len(s.kept.Uses); n > maxUses || n < maxUses/2 {
			t.Errorf("%d names are kept", n)
		}
		first := catalog.Used{Database: "scratch_0_0"}
		if u := s.kept.Use(first); !u.Last.IsZero() || !u.Since.After(begun) {
			t.Errorf("of what was pushed out it is claimed: %+v", u)
		}
		if s.kept.Use(catalog.Used{Database: "scratch_8_1"}).Last.IsZero() {
			t.Error("the last ones are not known")
		}
	})
}

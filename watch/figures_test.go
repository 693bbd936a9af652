package watch

import (
	"context"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/history"
	"example.com/genarch/core/record"
)

func (s *shelf) SaveHistory(_ context.Context, server uint64, points map[string][]history.Point) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		return record.ErrUnavailable
	}
	if s.points == nil {
		s.points = map[string]map[time.Time]history.Point{}
	}
	for name, list := range points {
		if s.points[name] == nil {
			s.points[name] = map[time.Time]history.Point{}
		}
		for _, p := range list {
			p.Sessions = max(p.Sessions, s.points[name][p.At].Sessions)
			s.points[name][p.At] = p
		}
	}
	return nil
}

func (s *shelf) RenameHistory(_ context.Context, _ uint64, from, to string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.away {
		return record.ErrUnavailable
	}
	move(s.points, from, to)
	return nil
}

func (s *shelf) ThinHistory(context.Context, time.Time) error { return nil }

// series writes what is on record of a database, or of the server, for so many stretches.
func (s *shelf) series(name string, from time.Time, stretches int) string {
	s.mu.Lock()
	defer s.mu.Unlock()
	var kept []history.Point
	var looked []time.Time
	for _, p := range s.points[name] {
		kept = append(kept, p)
	}
	for at := range s.points[""] {
		looked = append(looked, at)
	}
	var out []string
	until := from.Add(time.Duration(stretches) * history.Every)
	for _, p := range history.Series(kept, looked, from, until, history.Every) {
		switch {
		case p.Missing:
			out = append(out, ".")
		case p.Size == nil:
			out = append(out, fmt.Sprint(p.Sessions, "/-"))
		default:
			out = append(out, fmt.Sprint(p.Sessions, "/", *p.Size))
		}
	}
	return strings.Join(out, " ")
}

// TestHistory follows a server for two hours: a database grows, is used, is renamed and
// dropped; the server does not answer for a while, and neither do the records.
func TestHistory(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		h, s := &harbour{}, &shelf{}
		h.set("one", false, report)
		h.resize(map[string]int64{"tickets_prod": 100, "tides_dev": 7})
		time.Sleep(time.Until(time.Now().Truncate(history.Every).Add(history.Every)))
		begun := time.Now()
		stretch := func(n int) { time.Sleep(time.Until(begun.Add(time.Duration(n)*history.Every + time.Second))) }
		w := Start(h, s, slog.New(slog.DiscardHandler))
		stretch(2)
		h.resize(map[string]int64{"tickets_prod": 150, "tides_dev": 7})
		h.set("one", false, report, report, report)
		stretch(3)
		h.set("one", false)
		stretch(4)
		h.set("one", true)
		stretch(6)
		h.set("one", false, report)
		s.goAway(true)
		stretch(8)
		s.goAway(false)
		stretch(9)
		// A stretch that is under way is on record too, and a look at its first second counts.
		for name, want := range map[string]string{
			"tickets_prod": "1/100 1/100 3/150 3/150 0/150 . 1/150 1/150 1/150",
			"tides_dev":    "0/7 0/7 0/7 0/7 0/7 . 0/7 0/7 0/7",
			"":             "1/107 1/107 3/157 3/157 0/157 . 1/157 1/157 1/157",
		} {
			if got := s.series(name, begun, 9); got != want {
				t.Errorf("%q: %s; want %s", name, got, want)
			}
		}
		s.mu.Lock()
		if n := len(s.points["tides_dev"]); n != 1 {
			t.Errorf("of a database that never changed %d points are kept", n)
		}
		s.mu.Unlock()

		fares := catalog.Used{Database: "fares_prod"}
		w.Renamed("harbour", tickets, fares)
		h.resize(map[string]int64{"fares_prod": 150, "tides_dev": 7})
		h.set("one", false)
		stretch(11)
		if got := s.series("fares_prod", begun, 3); got != "1/100 1/100 3/150" {
			t.Errorf("renamed, it was %s", got)
		}
		if got := s.series("tickets_prod", begun, 3); got != ". . ." {
			t.Errorf("under its old name it was %s", got)
		}
		w.Gone("harbour", fares)
		h.resize(map[string]int64{}) // the other one was dropped by somebody else
		stretch(13)
		w.Stop()
		if got := s.series("fares_prod", begun, 12); strings.Contains(got, "150") {
			t.Errorf("of what was dropped it is kept: %s", got)
		}
		if got := s.series("tides_dev", begun.Add(10*history.Every), 3); got != "0/7 0/- 0/-" {
			t.Errorf("dropped by somebody else: %s", got)
		}
	})
}

package store

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/history"
	"example.com/genarch/core/secret"
)

func testHistory(t *testing.T, s *Store) {
	ctx := t.Context()
	srv, err := s.AddServer(ctx, catalog.Server{Name: "history", Engine: "postgresql", Host: "127.0.0.1", Port: 1,
		Admin: "genarch", TLS: catalog.TLSOff, Environment: catalog.Development}, secret.New("x"), entry)
	if err != nil {
		t.Fatal(err)
	}
	now := time.Date(2026, 11, 20, 12, 0, 0, 0, time.UTC)
	save := func(name string, at time.Time, sessions int, size int64) {
		t.Helper()
		p := history.Point{At: at, Sessions: sessions, Size: &size}
		if err := s.SaveHistory(ctx, srv.ID, points(name, p)); err != nil {
			t.Fatal(err)
		}
	}
	read := func(name string, from time.Time) string {
		t.Helper()
		list, err := s.History(ctx, srv.ID, name, from)
		if err != nil {
			t.Fatal(err)
		}
		var out []string
		for _, p := range list {
			size := int64(-1)
			if p.Size != nil {
				size = *p.Size
			}
			out = append(out, fmt.Sprintf("%s %d/%d", p.At.Format("02 15:04"), p.Sessions, size))
		}
		return strings.Join(out, ", ")
	}
	want := func(what, got, want string) {
		t.Helper()
		if got != want {
			t.Errorf("%s: %s; want %s", what, got, want)
		}
	}
	fresh := now.Add(-time.Hour)
	save("tide'; --", fresh, 1, 10)
	save("tide'; --", fresh, 2, 11)
	save("tide'; --", fresh.Add(10*time.Minute), 0, 12)
	save("Tide'; --", fresh, 9, 99)
	want("written over", read("tide'; --", fresh), "20 11:00 2/11, 20 11:10 0/12")
	want("from a time on, with what held before", read("tide'; --", fresh.Add(20*time.Minute)), "20 11:10 0/12")

	// Three days old: an hour in which there were most in the middle and few at the end.
	old := now.Add(-72 * time.Hour)
	save("ebb", old.Add(10*time.Minute), 3, 30)
	save("ebb", old.Add(20*time.Minute), 8, 20)
	save("ebb", old.Add(50*time.Minute), 1, 25)
	save("", old.Add(20*time.Minute), 8, 20)
	save("ebb", now.Add(-history.Kept-time.Hour), 5, 50)
	for range 2 { // what is thin already stays as it is
		if err := s.ThinHistory(ctx, now); err != nil {
			t.Fatal(err)
		}
		want("thinned", read("ebb", now.Add(-2*history.Kept)), "17 12:00 8/30, 17 13:00 1/25")
		want("the server itself", read("", old), "17 12:00 8/20")
		want("what is new stays", read("tide'; --", fresh), "20 11:00 2/11, 20 11:10 0/12")
	}
	if err := s.RenameHistory(ctx, srv.ID, "tide'; --", "ebb"); err != nil {
		t.Fatal(err)
	}
	want("renamed", read("ebb", now.Add(-2*history.Kept)), "20 11:00 2/11, 20 11:10 0/12")
	want("another of a like name", read("Tide'; --", fresh), "20 11:00 9/99")
	if err := s.RenameHistory(ctx, srv.ID, "ebb", ""); err != nil {
		t.Fatal(err)
	}
	want("forgotten", read("ebb", now.Add(-2*history.Kept)), "")
	if err := s.SaveHistory(ctx, srv.ID+1000, points("x", history.Point{At: now})); err != nil {
		t.Errorf("a server that is gone: %v", err)
	}
}

func points(name string, p history.Point) map[string][]history.Point {
	return map[string][]history.Point{name: {p}}
}

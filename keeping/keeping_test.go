package keeping

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
)

// shore is a fleet of one server, with changes that are decided on in memory.
type shore struct {
	engine.Server
	srv     catalog.Server
	held    []catalog.Database
	unread  error
	finding change.Finding // of each brief
	drafts  map[string]bool
	did     []string
}

func (s *shore) List(context.Context) ([]catalog.Server, error) { return []catalog.Server{s.srv}, nil }

func (s *shore) Open(context.Context, string) (catalog.Server, engine.Engine, engine.Server, error) {
	return s.srv, nil, s, nil
}

func (s *shore) Databases(context.Context) (catalog.Listing, error) {
	return catalog.Listing{Held: s.held}, s.unread
}

func (s *shore) Draft(_ context.Context, operator, key string, in change.Intent,
	_ map[string]secret.Text) (change.Change, error) {
	c := change.Change{ID: 1, State: change.Draft, Intent: in, Operator: operator}
	if s.drafts[key] {
		c.State = change.Done
		return c, nil
	}
	s.drafts[key] = true
	s.did = append(s.did, fmt.Sprintf("draft %s %s by %s", in.Kind, in.Holding.ID, operator))
	c.Brief = change.Brief{Fingerprint: "f", Confirm: "tickets", Findings: []change.Finding{s.finding}}
	return c, nil
}

func (s *shore) Run(_ context.Context, _ string, _ uint64, d change.Decision) (change.Change, error) {
	s.did = append(s.did, fmt.Sprintf("run %s %v", d.Confirm, d.Accepted))
	return change.Change{}, nil
}

func (s *shore) Wait(context.Context, uint64) (change.Change, error) { return change.Change{}, nil }

func (s *shore) Withdraw(context.Context, string, uint64) (change.Change, error) {
	s.did = append(s.did, "withdraw")
	return change.Change{}, nil
}

func TestLook(t *testing.T) {
	day := time.Date(2026, 11, 27, 0, 0, 0, 0, time.UTC)
	fit := catalog.Holding{Name: "tickets", Since: day.AddDate(0, -1, 0), Until: day.AddDate(0, 0, -1), Discard: true}
	const asked = "draft holding.discard genarch_held_1_tickets by genarch"
	for title, tt := range map[string]struct {
		alter func(*shore, *catalog.Holding)
		want  string
	}{
		"over":                           {nil, asked + "; run tickets []"},
		"kept until today":               {func(_ *shore, h *catalog.Holding) { h.Until = day }, ""},
		"a hold":                         {func(_ *shore, h *catalog.Holding) { h.Hold = "the audit" }, ""},
		"opened":                         {func(_ *shore, h *catalog.Holding) { h.Opened = true }, ""},
		"not said when it was set aside": {func(_ *shore, h *catalog.Holding) { h.Discard = false }, ""},
		"not the rule any more":          {func(s *shore, _ *catalog.Holding) { s.srv.Keeping.Discard = false }, ""},
		"the server does not answer":     {func(s *shore, _ *catalog.Holding) { s.unread = errors.New("away") }, ""},
		"a caution": {func(s *shore, _ *catalog.Holding) { s.finding.Level = change.Caution },
			asked + "; withdraw"},
		"a stop": {func(s *shore, _ *catalog.Holding) { s.finding.Level = change.Stop },
			asked + "; withdraw"},
	} {
		t.Run(title, func(t *testing.T) {
			h := fit
			s := &shore{srv: catalog.Server{Name: "harbour", Keeping: catalog.Keeping{Discard: true}},
				finding: change.Finding{Level: change.Note, Code: change.DropFinal}, drafts: map[string]bool{}}
			if tt.alter != nil {
				tt.alter(s, &h)
			}
			s.held = []catalog.Database{{Name: "genarch_held_1_tickets", Held: &h}}
			k := Keeper{Fleet: s, Changes: s, Log: slog.New(slog.DiscardHandler)}
			for range 2 { // what was asked for today is not asked for again
				k.Look(t.Context(), day.Add(9*time.Hour))
			}
			if got := strings.Join(s.did, "; "); got != tt.want {
				t.Errorf("did %q, want %q", got, tt.want)
			}
		})
	}
}

// One look discards only so much of one server.
func TestLookIsBounded(t *testing.T) {
	s := &shore{srv: catalog.Server{Name: "harbour", Keeping: catalog.Keeping{Discard: true}},
		drafts: map[string]bool{}}
	for i := range 2 * atOnce {
		s.held = append(s.held, catalog.Database{Name: fmt.Sprintf("genarch_held_%d_x", i),
			Held: &catalog.Holding{Discard: true}})
	}
	Keeper{Fleet: s, Changes: s, Log: slog.New(slog.DiscardHandler)}.Look(t.Context(), time.Now())
	s.did = slices.DeleteFunc(s.did, func(what string) bool { return !strings.HasPrefix(what, "run") })
	if len(s.did) != atOnce {
		t.Errorf("%d were discarded in one look", len(s.did))
	}
}

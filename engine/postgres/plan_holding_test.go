package postgres

import (
	"slices"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/planning"
)

// waiting is the name under which tickets_prod waits.
const waiting = "genarch_held_16384_tickets_prod"

// wait sets the database of a snapshot aside.
func wait(s *catalog.Snapshot) {
	tables := 3
	d := s.Target
	d.Held = &catalog.Holding{Name: d.Name, Since: day(2026, 11, 27), Until: day(2026, 12, 27), Open: true,
		Comment: d.Comment, Tables: &tables}
	d.Name, d.Closed, d.Comment = waiting, true, planning.WriteNote(*d.Held)
	s.Names = append(slices.DeleteFunc(s.Names, func(n string) bool { return n == d.Held.Name }), waiting)
	s.Instance.Read = day(2026, 11, 28)
	s.DropImpact.Objects, s.DropImpact.Rows = nil, nil
}

func day(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, time.UTC) }

func waits(k change.Kind, spec change.HoldingSpec) change.Intent {
	spec.ID = waiting
	return change.Intent{Kind: k, Holding: &spec}
}

func TestPlanHoldingFindings(t *testing.T) {
	aside := taking(change.SetAside, change.DatabaseSpec{}, nil)
	back, discard := waits(change.BringBack, change.HoldingSpec{}), waits(change.Discard, change.HoldingSpec{})
	also := func(alter func(*catalog.Snapshot)) func(*catalog.Snapshot) {
		return func(s *catalog.Snapshot) { wait(s); alter(s) }
	}
	slots := func(s *catalog.Snapshot, active bool) {
		s.DropImpact.Details = &dropDetails{
			Slots:         []slot{{Name: "exports", Active: active}},
			Subscriptions: []string{"fares"},
		}
	}
	for _, tt := range []struct {
		title string
		in    change.Intent
		alter func(*catalog.Snapshot)
		want  string // level:code … that must be among the findings
	}{
		{"set aside", aside, nil, "note:holding.kept note:holding.frees note:sessions.none"},
		{"what it takes with it", aside, func(s *catalog.Snapshot) { slots(s, false) }, "caution:holding.replication"},
		{"somebody receives from it", aside, func(s *catalog.Snapshot) { slots(s, true) }, "stop:replication.running"},
		{"not allowed to rename", aside, func(s *catalog.Snapshot) {
			s.Instance.Login.Superuser, s.Instance.Login.Abilities = false, nil
		}, "stop:rights.missing"},
		{"what waits is no target", taking(change.DropDatabase, change.DatabaseSpec{Name: waiting}, nil), wait,
			"stop:database.held"},
		{"what waits is not set aside twice", taking(change.SetAside, change.DatabaseSpec{Name: waiting}, nil), wait,
			"stop:database.held"},
		{"bring back", back, wait, "note:holding.back"},
		{"nothing waits there", back, nil, "stop:holding.absent"},
		{"its name is taken", back, also(func(s *catalog.Snapshot) { s.Names = append(s.Names, "tickets_prod") }),
			"stop:name.taken"},
		{"opened by somebody", back, also(func(s *catalog.Snapshot) { s.Target.Closed = false }),
			"caution:holding.opened"},
		{"discard", discard, wait, "note:drop.final caution:holding.early"},
		{"discard, when it is over", discard, also(func(s *catalog.Snapshot) { s.Instance.Read = day(2026, 12, 28) }),
			"note:drop.final"},
		{"discard, against a hold", discard, also(func(s *catalog.Snapshot) { s.Target.Held.Hold = "the audit" }),
			"stop:holding.hold caution:holding.early"},
		{"kept like that", waits(change.KeepHolding, change.HoldingSpec{Until: "2026-12-27"}), wait,
			"note:holding.as_asked"},
		{"kept until yesterday", waits(change.KeepHolding, change.HoldingSpec{Until: "2026-11-27"}), wait,
			"stop:option.invalid"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := doomed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := ask(t, tt.in, snap)
			got := enginetest.CheckFindings(t, b, tt.want, false)
			if early := slices.Contains(got, "caution:holding.early"); early != strings.Contains(tt.want, "early") {
				t.Errorf("early: %v", early)
			}
		})
	}
}

// A brief is made twice, and must come out the same although the clock went on.
func TestSetAsideAgain(t *testing.T) {
	snap := doomed()
	in := taking(change.SetAside, change.DatabaseSpec{}, nil)
	snap.Instance.Read = time.Date(2026, 11, 27, 9, 0, 0, 0, time.UTC)
	first := ask(t, in, snap)
	snap.Instance.Read = time.Date(2026, 11, 27, 21, 0, 0, 0, time.UTC)
	*snap.DropImpact.Rows++
	if second := ask(t, in, snap); second.Fingerprint != first.Fingerprint {
		t.Errorf("differs: %v", change.Compare(first, second))
	}
}

func TestHeldName(t *testing.T) {
	for _, name := range []string{"tickets_prod", strings.Repeat("n", 63), strings.Repeat("é", 31), `a"b`,
		"a\nb", "船" + strings.Repeat("x", 60)} {
		got := heldName(catalog.Database{Name: name, Key: "4294967295"})
		if len(got) > 63 || !utf8.ValidString(got) || !strings.HasPrefix(got, "genarch_held_4294967295_"+name[:1]) &&
			name[0] < utf8.RuneSelf {
			t.Errorf("heldName(%q) = %q", name, got)
		}
	}
}

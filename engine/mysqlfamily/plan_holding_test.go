package mysqlfamily

import (
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/planning"
)

// waiting is the name under which cargo_prod waits.
const waiting = "genarch_held_1_cargo_prod"

func day(y int, m time.Month, d int) time.Time { return time.Date(y, m, d, 0, 0, 0, 0, time.UTC) }

// filledObjects is something of each kind.
var filledObjects = objects{Tables: []string{"axles", "trailers"}, Views: []string{"heavy"},
	Triggers: []string{"weighed"}, Routines: []routine{{"function", "weigh"}, {"package", "desk"}},
	Events: []scheduled{{"nightly", "mate@10.%"}}}

// filled is a server where cargo_prod holds something of each kind.
func filled() catalog.Snapshot {
	snap := everything()
	snap.Instance.Read = day(2026, 11, 28)
	impact(&snap).Objects = filledObjects
	return snap
}

// wait sets the database of a snapshot aside.
func wait(s *catalog.Snapshot) {
	tables := 2
	has := impact(s)
	has.Saved = saved{Sealed: true, Grants: grantsOn("cargo_prod", *s.Access, s.Self), Events: has.Objects.Events,
		Definitions: []definition{
			{Kind: "function", Name: "weigh"}, {Kind: "package", Name: "desk"}, {Kind: "view", Name: "heavy"},
			{Kind: "trigger", Name: "weighed"}}}
	has.Objects = objects{Tables: []string{"axles", heldTable, "trailers"}, Events: has.Objects.Events}
	d := s.Target
	d.Held = &catalog.Holding{Name: d.Name, Since: day(2026, 11, 27), Until: day(2026, 12, 27), Open: true,
		Comment: d.Comment, Tables: &tables,
		Kept: map[string]string{"encoding": d.Encoding, "collation": d.Collation, "definitions": "abc"}}
	d.Name, d.Comment = waiting, heldComment
	s.Names = append(slices.DeleteFunc(s.Names, func(n string) bool { return n == d.Held.Name }), waiting)
	s.Access.Grants = slices.DeleteFunc(s.Access.Grants, func(g catalog.Grant) bool { return onName(g, "cargo_prod") })
}

func asked(k change.Kind, spec change.HoldingSpec) change.Intent {
	spec.ID = waiting
	return held(k, spec)
}

func TestPlanHoldingFindings(t *testing.T) {
	aside := asideOf("cargo_prod")
	back, discard := asked(change.BringBack, change.HoldingSpec{}), asked(change.Discard, change.HoldingSpec{})
	also := func(alter func(*catalog.Snapshot)) func(*catalog.Snapshot) {
		return func(s *catalog.Snapshot) { wait(s); alter(s) }
	}
	unable := func(s *catalog.Snapshot) {
		s.Instance.Login.Abilities = slices.DeleteFunc(s.Instance.Login.Abilities,
			func(a catalog.Ability) bool { return a.Code == "set_definers" })
	}
	for _, tt := range []struct {
		title string
		in    change.Intent
		alter func(*catalog.Snapshot)
		want  string // level:code … that must be among the findings
	}{
		{"set aside", aside, nil, "note:holding.kept note:holding.frees note:sessions.none"},
		{"keys from outside follow", aside, func(s *catalog.Snapshot) {
			impact(s).OutsideKeys = []string{"a.b to cargo_prod.trailers"}
		}, "caution:keys.outside"},
		{"a view that does not work", aside, func(s *catalog.Snapshot) {
			impact(s).Objects.Broken = []string{"heavy"}
		}, "stop:holding.broken"},
		{"a table of that name", aside, func(s *catalog.Snapshot) {
			impact(s).Objects.Tables = []string{strings.ToUpper(heldTable)}
		}, "stop:name.taken"},
		{"not allowed to set definers", aside, unable, "stop:rights.missing"},
		{"what waits is no target", dropping(change.DatabaseSpec{Name: waiting}, nil), wait, "stop:database.held"},
		{"bring back", back, wait, "note:holding.back"},
		{"under another name", asked(change.BringBack, change.HoldingSpec{NewName: "axles_prod"}), wait,
			"note:holding.back caution:holding.renamed"},
		{"nothing waits there", back, nil, "stop:holding.absent"},
		{"its name is taken", back, also(func(s *catalog.Snapshot) { s.Names = append(s.Names, "cargo_prod") }),
			"stop:name.taken"},
		{"not allowed to set definers again", back, also(unable), "stop:rights.missing"},
		{"written by somebody else", back, also(func(s *catalog.Snapshot) { impact(s).Saved.Sealed = false }),
			"caution:holding.unsealed"},
		{"somebody is gone", back, also(func(s *catalog.Snapshot) {
			s.Access.Accounts = slices.DeleteFunc(s.Access.Accounts,
				func(a catalog.Account) bool { return a.Principal == at("crew", "") })
		}), "caution:holding.grants"},
		{"discard", discard, wait, "note:drop.final caution:holding.early"},
		{"discard, against a hold", discard, also(func(s *catalog.Snapshot) { s.Target.Held.Hold = "the audit" }),
			"stop:holding.hold caution:holding.early"},
		{"discard, with keys from outside", discard, also(func(s *catalog.Snapshot) {
			impact(s).OutsideKeys = []string{"a.b to genarch_held_1_cargo_prod.trailers"}
		}), "stop:keys.outside caution:holding.early"},
		{"kept like that", asked(change.KeepHolding, change.HoldingSpec{Until: "2026-12-27"}), wait,
			"note:holding.as_asked"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := filled()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := plan(t, tt.in, snap)
			enginetest.CheckFindings(t, b, tt.want, false)
		})
	}
}

func TestPlanHoldingStatements(t *testing.T) {
	enginetest.Golden(t, *update, "set_aside", plan(t, asideOf("cargo_prod"), filled()))
	snap := filled()
	wait(&snap)
	enginetest.Golden(t, *update, "bring_back", plan(t, asked(change.BringBack, change.HoldingSpec{}), snap))
}

// What is noted while setting aside is read as it was.
func TestNoteOfHolding(t *testing.T) {
	h := catalog.Holding{Name: "cargo`\n", Since: day(2026, 11, 27), Until: day(2026, 12, 27),
		Kept: map[string]string{"collation": "utf8mb4_bin"}}
	if got := planning.ReadNote(waiting, planning.WriteNote(h)); got == nil || got.Name != h.Name ||
		got.Kept["collation"] != "utf8mb4_bin" {
		t.Errorf("read again: %+v", got)
	}
}

// Views that need each other are made in any order, and one that cannot be made is told.
func TestInOrder(t *testing.T) {
	list := []definition{{Kind: "trigger", Name: "t"}, {Kind: "view", Name: "a"}, {Kind: "view", Name: "b"},
		{Kind: "function", Name: "f"}, {Kind: savedEvent, Name: "e"}}
	var sent []string
	there := map[string]bool{}
	err := inOrder(list, func(d definition) error {
		sent = append(sent, d.Name)
		if d.Name == "a" && !there["b"] {
			return &engine.Error{Op: "make it", Kind: engine.Refused, Code: "1146", Text: "absent"}
		}
		there[d.Name] = true
		return nil
	})
	if got := strings.Join(sent, ""); err != nil || got != "fabat" {
		t.Errorf("sent %s, %v", got, err)
	}
	for kind, want := range map[string]int{"view": 2, "function": 1} {
		n := 0
		err := inOrder([]definition{{Kind: kind}, {Kind: kind}}, func(definition) error {
			n++
			return &engine.Error{Op: "make it", Kind: engine.Refused, Code: "1146", Text: "absent"}
		})
		if err == nil || n != want {
			t.Errorf("%s: %v after %d tries", kind, err, n)
		}
	}
}

// What a note says of character sets is a text that somebody else may have written.
func TestNotedWordsAreQuoted(t *testing.T) {
	snap := filled()
	wait(&snap)
	snap.Target.Held.Kept["collation"] = "utf8mb4_bin COMMENT 'x'"
	b := plan(t, asked(change.BringBack, change.HoldingSpec{}), snap)
	if text := step(t, b, stepCreate).Statement; !strings.Contains(text, "COLLATE 'utf8mb4_bin COMMENT ''x'''") {
		t.Error(text)
	}
}

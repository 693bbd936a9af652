package change

import (
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
)

// dropChange is a change as an engine plans a drop: gate, clearing, act, verify.
func dropChange() *Change {
	rules := clearing.Rules{Target: clearing.Target{Database: "d"}, AcceptLoss: true}
	c := &Change{Brief: Brief{Summary: "drop d", Outcome: Acts, Steps: []Step{
		{Kind: "gate", Title: "gate", Undo: "open", Repair: "open"},
		{Kind: ClearSessions, Title: "clear", Irreversible: true, Clear: &rules},
		{Kind: "drop", Title: "drop", Repair: "settings"}, {Kind: Verify, Title: "verify", ReadOnly: true}}}}
	c.Prepare()
	c.State = Running
	return c
}

// harbour is a server with one database.
type harbour struct {
	exists, open, settings bool
	sessions               []catalog.Session
	next                   int64
}

func (h *harbour) connect() {
	if h.exists && h.open {
		h.next++
		h.sessions = append(h.sessions,
			catalog.Session{ID: catalog.SessionID{Number: h.next, Mark: "m"}, Kind: catalog.ClientSession,
				Database: "d"})
	}
}

// TestClearThenAct plays whole drops with clients that come back all the time,
// with steps that fail, answers that are lost, services that die between any two
// steps and operators who say stop. In the end the database is gone, or it is
// there as it was with its gate open; else the change is stuck, and says so.
func TestClearThenAct(t *testing.T) {
	ends := map[State]int{}
	for seed := range uint64(6000) {
		rng := rand.New(rand.NewPCG(seed, 9))
		c, h := dropChange(), &harbour{exists: true, open: true, settings: true}
		faulty := rng.IntN(3) > 0
		now := time.Unix(0, 0)
		for turn := 0; ; turn++ {
			if turn > 60 {
				t.Fatalf("seed %d: no end: %+v", seed, c.Steps)
			}
			for range rng.IntN(3) {
				h.connect()
			}
			if rng.IntN(15) == 0 && c.Stoppable() {
				c.StopBy = "keeper"
			}
			act := c.Next()
			if act.Op == Finish {
				c.Close(act, now)
				break
			}
			c.Begin(act, now)
			kind := c.Steps[act.Step].Kind
			fails, lost := faulty && rng.IntN(5) == 0, faulty && rng.IntN(5) == 0
			took := false
			switch {
			case act.Op == Probe:
				took = map[string]bool{"gate": !h.open, ClearSessions: len(h.sessions) == 0, "drop": !h.exists,
					Verify: !h.exists}[kind]
				fails, lost = false, false
			case act.Op == Undo && kind == "gate":
				if took = !fails; took {
					h.open = true
				}
			case act.Op == Undo:
				h.settings, took = true, true
			case fails && kind == "drop":
				h.settings = false // a drop that fails has lost the settings
			case fails:
			case kind == "gate":
				h.open, took = false, true
			case kind == ClearSessions:
				took = clearBy(t, seed, rng, h, *c.Steps[act.Step].Clear, now)
			case kind == "drop":
				if len(h.sessions) > 0 {
					t.Fatalf("seed %d: a drop while %d are connected", seed, len(h.sessions))
				}
				h.exists, took = false, true
			default:
				took = !h.exists
			}
			seen := Result{Effect: NotHappened, Failure: &Failure{Text: "no"}}
			if took {
				seen = Result{Effect: Happened}
			}
			if lost { // the answer is lost, or the service dies: only the records are left
				seen = Result{Effect: Unclear, Failure: &Failure{Text: "lost"}}
				if act.Op == Undo {
					continue // its intention is on record: it is done again
				}
			}
			c.Record(act, seen, now)
		}
		ends[c.State]++
		switch {
		case c.State == Done && h.exists, c.State == Reverted && !(h.exists && h.open && h.settings):
			t.Fatalf("seed %d: %s, and the database is %+v", seed, c.State, h)
		case h.exists && !h.open && (c.State != Stuck || !strings.Contains(c.Result, "gate")):
			t.Fatalf("seed %d: the gate stays shut, and the change is %s: %s", seed, c.State, c.Result)
		case c.StopBy != "" && c.State == Reverted &&
			(c.Failure == nil || !strings.Contains(c.Result, "stopped by keeper")):
			t.Fatalf("seed %d: it does not say who stopped it: %q, %v", seed, c.Result, c.Failure)
		}
	}
	if ends[Done] < 500 || ends[Reverted] < 500 || ends[Stuck] == 0 {
		t.Errorf("the schedules are lopsided: %v", ends)
	}
}

// clearBy lets a machine clear the database, with sessions that take their time.
func clearBy(t *testing.T, seed uint64, rng *rand.Rand, h *harbour, r clearing.Rules, now time.Time) bool {
	m := clearing.New(r, now)
	for range 10000 {
		h.connect() // the gate keeps them out, or the machine sees them
		o := m.Saw(now, h.sessions)
		switch o.Phase {
		case clearing.Cleared:
			return true
		case clearing.GivenUp:
			return false
		}
		told := map[catalog.SessionID]bool{}
		for _, id := range o.End {
			told[id] = true
		}
		left := h.sessions[:0]
		for _, s := range h.sessions {
			if !told[s.ID] && rng.IntN(3) > 0 {
				left = append(left, s)
			}
		}
		h.sessions = left
		now = now.Add(o.Again)
	}
	t.Fatalf("seed %d: the clearing has no end", seed)
	return false
}

// TestHarmed: a step that failed and could not be put right makes the change
// stuck, and what came before it is rolled back all the same.
func TestHarmed(t *testing.T) {
	c := dropChange()
	for _, action := range []struct {
		want   Operation
		step   int
		effect Effect
	}{{Do, 0, Happened}, {Do, 1, Happened}, {Do, 2, NotHappened}, {Undo, 2, Unclear}, {Undo, 0, Happened}} {
		act := c.Next()
		if act.Op != action.want || act.Step != action.step {
			t.Fatalf("next is %+v; want %s of step %d", act, action.want, action.step)
		}
		c.Begin(act, time.Time{})
		seen := Result{Effect: action.effect}
		if action.effect != Happened {
			seen.Failure = &Failure{Text: "partially dropped"}
		}
		c.Record(act, seen, time.Time{})
	}
	act := c.Next()
	if c.Close(act, time.Time{}); c.State != Stuck || c.Steps[2].Status != PartiallyApplied ||
		c.Steps[0].Status != Undone ||
		!strings.Contains(c.Result, "drop: failed, and left something altered") {
		t.Errorf("%s: %s, steps %+v", c.State, c.Result, c.Steps)
	}
}

// TestWorse: whoever came or began to write since makes a brief another one, who
// has left does not; and none of it is in the fingerprint.
func TestWorse(t *testing.T) {
	quiet := Brief{Summary: "s"}
	quiet.Find(Note, SessionsNone, "", "nobody").Passing = true
	written := Brief{Summary: "s"}
	written.Find(Caution, WorkLost, "", "session 7").Passing = true
	written.Affect([]catalog.Session{{ID: catalog.SessionID{Number: 7, Mark: "m"},
		Statement: strings.Repeat("x", 1000)}})
	if quiet.Seal().Fingerprint != written.Seal().Fingerprint {
		t.Error("who is connected is part of the fingerprint")
	}
	if !quiet.Worse(written) || written.Worse(quiet) || written.Worse(written) {
		t.Errorf("worse: %v %v %v; want true, false, false", quiet.Worse(written), written.Worse(quiet),
			written.Worse(written))
	}
	if len([]rune(written.Affected[0].Session.Statement)) > maxStatement+2 {
		t.Error("a brief keeps whole statements")
	}
}

func TestClearingSpec(t *testing.T) {
	for _, s := range []ClearingSpec{{Grace: -1}, {Grace: MaxGrace + 1}, {WhenEmpty: MaxWhenEmpty + 1},
		{Grace: 1, WhenEmpty: 1}} {
		in := Intent{Kind: DropDatabase, Server: "harbour", Database: &DatabaseSpec{Name: "d"}, Clearing: &s}
		if in.Check() == nil {
			t.Errorf("%+v passes", s)
		}
	}
	for text, s := range map[string]*ClearingSpec{"ended at once": nil,
		"10m for work to finish, then ended":    {Grace: 600},
		"waited for, up to 1h; nobody is ended": {WhenEmpty: 3600}} {
		if got := s.SettingText(); got != text {
			t.Errorf("%+v says %q; want %q", s, got, text)
		}
	}
	one := catalog.SessionID{Number: 7, Mark: "m"}
	for _, in := range []Intent{{Kind: DropDatabase}, {Kind: DropDatabase, Database: &DatabaseSpec{}},
		{Kind: RenameDatabase, Database: &DatabaseSpec{Name: "a"}},
		{Kind: RenameDatabase, Database: &DatabaseSpec{Name: "a", NewName: "a"}},
		{Kind: AlterDatabase, Database: &DatabaseSpec{Name: "a"}}, {Kind: EndSessions},
		{Kind: EndSessions, Sessions: &SessionsSpec{}},
		{Kind: EndSessions, Sessions: &SessionsSpec{IDs: []catalog.SessionID{one},
			Filter: clearing.Filter{Account: "x"}}},
		{Kind: EndSessions, Sessions: &SessionsSpec{Filter: clearing.Filter{Class: "sleepy"}}}} {
		if in.Server = "harbour"; in.Check() == nil {
			t.Errorf("%+v passes", in)
		}
	}
	in := Intent{Kind: EndSessions, Server: "harbour", Sessions: &SessionsSpec{IDs: []catalog.SessionID{one}}}
	if err := in.Check(); err != nil || in.Target().String() != "harbour/session:7-m" {
		t.Errorf("%v, target %s", err, in.Target())
	}
}

// TestAffectedOrder: whoever loses most is shown first, and is never among those
// that are only counted.
func TestAffectedOrder(t *testing.T) {
	var list []catalog.Session
	for i := range 3 * MaxAffected {
		s := catalog.Session{ID: catalog.SessionID{Number: int64(i + 1), Mark: "m"}, Kind: catalog.ClientSession,
			Activity: catalog.SessionIdle}
		if s.Written = i%200 == 199; s.Written {
			s.Transaction = time.Unix(int64(i), 0)
		}
		if i == 1 {
			s.Activity = catalog.SessionEnding // has nothing more to lose than its connection
		}
		list = append(list, s)
	}
	var b Brief
	b.Affect(list)
	if b.AffectedCount != len(list) || len(b.Affected) != MaxAffected {
		t.Fatalf("%d of %d are shown", len(b.Affected), b.AffectedCount)
	}
	for i, want := range []int64{200, 400, 600, 2, 1} {
		if got := b.Affected[i].Session.ID.Number; got != want {
			t.Errorf("in place %d stands session %d, want %d", i, got, want)
		}
	}
	if list[0].ID.Number != 1 {
		t.Error("the list that was given was put in another order")
	}
}

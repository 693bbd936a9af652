package clearing

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
)

var noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// session makes one in tickets_prod from a word: idle, busy, open, written, …
func session(n int64, what string) catalog.Session {
	s := catalog.Session{ID: catalog.SessionID{Number: n, Mark: "m"}, Kind: catalog.ClientSession,
		Database: "tickets_prod", Account: catalog.Principal{Name: "tickets_app"},
		Application: "booking-desk", Client: "10.0.0.3:4711", Activity: catalog.SessionIdle,
		StateSince: noon.Add(-time.Minute)}
	switch what {
	case "busy":
		s.Activity = catalog.SessionActive
	case "open":
		s.Activity, s.Transaction = catalog.SessionInTransaction, noon.Add(-time.Minute)
	case "written":
		s.Activity, s.Transaction, s.Written = catalog.SessionInTransaction, noon.Add(-time.Minute), true
	case "ending":
		s.Activity, s.Progress = catalog.SessionEnding, "9 rows to go"
	case "hidden":
		s.Hidden = true
	case "own":
		s.Kind = catalog.OwnSession
	case "engine":
		s.Kind = catalog.EngineSession
	case "backup":
		s.Kind = catalog.BackupSession
	case "replication":
		s.Kind = catalog.ReplicationSession
	case "worker":
		s.Kind = catalog.WorkerSession
	case "elsewhere":
		s.Database = "ledger_prod"
	case "using":
		s.Database, s.Uses = "ledger_prod", []string{"tickets_prod"}
	case "parallel":
		s.Activity, s.Leader = catalog.SessionActive, 1
	}
	return s
}

// crowd makes sessions numbered from 1 on.
func crowd(words string) []catalog.Session {
	var out []catalog.Session
	for i, w := range strings.Fields(words) {
		out = append(out, session(int64(i+1), w))
	}
	return out
}

func TestClassify(t *testing.T) {
	for word, want := range map[string]Class{"idle": Idle, "busy": Busy, "open": InTransaction, "written": Written,
		"ending": Ending, "hidden": Hidden,
		"own": Own, "engine": Engine, "backup": Backup, "replication": Replication, "worker": Worker} {
		s := session(1, word)
		if got := Classify(s); got != want {
			t.Errorf("Classify(%s) = %q; want %q", word, got, want)
		}
		if Loss(s) == "" || want.Endable() == strings.Contains(Loss(s), "never ended") {
			t.Errorf("%s loses %q, endable %v", word, Loss(s), want.Endable())
		}
	}
	rows := int64(12)
	s := session(1, "written")
	if s.Rows = &rows; !strings.Contains(Loss(s), "12 rows") {
		t.Errorf("loss %q", Loss(s))
	}
}

// TestMachine plays looks one after the other: at each the sessions that are
// there, the seconds since the beginning, and the order that is expected, as the
// phase and the numbers to be ended.
func TestMachine(t *testing.T) {
	type look struct {
		at   int
		see  string
		want string
	}
	tickets := Target{Database: "tickets_prod"}
	for _, tt := range []struct {
		name  string
		rules Rules
		looks []look
		why   string
	}{
		{"nobody", Rules{Target: tickets}, []look{{0, "", "cleared"}}, ""},
		{"only others", Rules{Target: tickets}, []look{{0, "elsewhere own engine", "cleared"}}, ""},
		{"idle ones at once", Rules{Target: tickets}, []look{{0, "idle idle", "ending 1 2"}, {1, "", "cleared"}}, ""},
		{"one that only uses it", Rules{Target: tickets}, []look{{0, "using", "ending 1"}, {1, "", "cleared"}}, ""},
		{"each only once", Rules{Target: tickets},
			[]look{{0, "idle busy", "ending 1 2"}, {1, "idle busy", "ending"}, {2, "", "cleared"}}, ""},
		{"a newcomer too", Rules{Target: tickets},
			[]look{{0, "idle", "ending 1"}, {1, "elsewhere idle", "ending 2"}, {2, "", "cleared"}}, ""},
		{"grace lets work finish", Rules{Target: tickets, Grace: 10 * time.Second},
			[]look{{0, "busy", "waiting"}, {5, "busy", "waiting"}, {6, "", "cleared"}}, ""},
		{"grace is over", Rules{Target: tickets, Grace: 10 * time.Second},
			[]look{{0, "busy idle", "waiting"}, {10, "busy idle", "ending 1 2"}, {11, "", "cleared"}}, ""},
		{"nobody works any more", Rules{Target: tickets, Grace: 10 * time.Second},
			[]look{{0, "busy idle", "waiting"}, {2, "idle idle", "ending 1 2"}}, ""},
		{"when empty ends nobody", Rules{Target: tickets, WhenEmpty: time.Minute},
			[]look{{0, "idle", "waiting"}, {59, "idle", "waiting"}, {60, "idle", "given_up"}},
			"somebody was still connected: session 1"},
		{"when empty, and it is", Rules{Target: tickets, WhenEmpty: time.Minute},
			[]look{{0, "idle backup", "waiting"}, {30, "", "cleared"}}, ""},
		{"written work is not ended", Rules{Target: tickets}, []look{{0, "idle written", "given_up"}},
			"written work would be lost"},
		{"what cannot be seen counts as written", Rules{Target: tickets}, []look{{0, "hidden", "given_up"}},
			"written work would be lost"},
		{"written work accepted", Rules{Target: tickets, AcceptLoss: true},
			[]look{{0, "idle written", "ending 1 2"}, {1, "", "cleared"}}, ""},
		{"written work may be finished", Rules{Target: tickets, Grace: 10 * time.Second},
			[]look{{0, "written", "waiting"}, {3, "idle", "ending 1"}, {4, "", "cleared"}}, ""},
		{"a backup is never ended", Rules{Target: tickets, AcceptLoss: true}, []look{{0, "idle backup", "given_up"}},
			"never ended by itself"},
		{"replication is never ended", Rules{Target: tickets}, []look{{0, "replication", "given_up"}},
			"never ended by itself"},
		{"a worker is never ended", Rules{Target: tickets}, []look{{0, "worker", "given_up"}}, "never ended by itself"},
		{"a backup by its identity is", Rules{Target: Target{IDs: []catalog.SessionID{{Number: 1, Mark: "m"}}}},
			[]look{{0, "backup idle", "ending 1"}, {1, "elsewhere idle", "ending"}, {2, "", "cleared"}}, ""},
		{"one that does not go", Rules{Target: tickets},
			[]look{{0, "idle", "ending 1"}, {20, "idle", "ending"}, {21, "idle", "given_up"}}, "somebody did not go"},
		{"others that come again and again", Rules{Target: tickets, GateIncomplete: true},
			[]look{{0, "idle", "ending 1"}, {10, "elsewhere busy", "ending 2"},
				{21, "elsewhere elsewhere busy", "given_up"}}, "others came as fast as they were ended"},
		{"one that rolls its work back", Rules{Target: tickets, AcceptLoss: true},
			[]look{{0, "written", "ending 1"}, {30, "ending", "ending"}, {800, "ending", "ending"},
				{901, "ending", "given_up"}}, "still rolling its work back"},
		{"a parallel worker goes with its leader", Rules{Target: tickets},
			[]look{{0, "busy parallel", "ending 1"}, {1, "", "cleared"}}, ""},
		{"a leaky gate", Rules{Target: tickets, GateIncomplete: true},
			[]look{{0, "idle", "ending 1"}, {1, "elsewhere idle", "ending 2"},
				{2, "elsewhere elsewhere idle", "ending 3"}, {3, "elsewhere elsewhere elsewhere idle", "cleared"}}, ""},
		{"a leaky gate, and work", Rules{Target: tickets, GateIncomplete: true},
			[]look{{0, "idle", "ending 1"}, {1, "elsewhere idle", "ending 2"},
				{2, "elsewhere elsewhere idle", "ending 3"}, {3, "elsewhere elsewhere elsewhere busy", "ending 4"}},
			""},
		{"statements only", Rules{Target: Target{IDs: []catalog.SessionID{{Number: 1, Mark: "m"}}},
			How: catalog.EndStatement}, []look{{0, "busy busy", "ending 1"}, {1, "busy busy", "ending"},
			{2, "idle busy", "cleared"}}, ""},
		{"statements of written work",
			Rules{Target: Target{IDs: []catalog.SessionID{{Number: 1, Mark: "m"}}}, How: catalog.EndStatement},
			[]look{{0, "written", "cleared"}}, ""},
	} {
		t.Run(tt.name, func(t *testing.T) {
			m := New(tt.rules, noon)
			var o Order
			for _, l := range tt.looks {
				o = m.Saw(noon.Add(time.Duration(l.at)*time.Second), crowd(l.see))
				got := string(o.Phase)
				for _, id := range o.End {
					got += fmt.Sprintf(" %d", id.Number)
				}
				if got != l.want {
					t.Fatalf("at %d s, seeing %q: %q (%s); want %q", l.at, l.see, got, o.Why, l.want)
				}
				if (o.Phase == Waiting || o.Phase == Closing) && o.Again <= 0 {
					t.Errorf("at %d s it is to look again after %s", l.at, o.Again)
				}
			}
			if tt.why != "" && !strings.Contains(o.Why, tt.why) || tt.why == "" && o.Why != "" {
				t.Errorf("why %q; want %q", o.Why, tt.why)
			}
		})
	}
}

func TestMachineStopsAndRefusals(t *testing.T) {
	m := New(Rules{Target: Target{Database: "tickets_prod"}, Grace: time.Minute}, noon)
	m.Saw(noon, crowd("busy"))
	m.Stop("it was stopped by keeper")
	if o := m.Saw(noon.Add(time.Second), crowd("busy")); o.Phase != GivenUp || len(o.End) > 0 ||
		!strings.Contains(o.Why, "keeper") {
		t.Errorf("stopped: %+v", o)
	}
	if o := m.Saw(noon.Add(2*time.Second), nil); o.Phase != Cleared {
		t.Errorf("stopped, but nobody is left anyway: %+v", o)
	}
	m = New(Rules{Target: Target{Database: "tickets_prod"}}, noon)
	o := m.Saw(noon, crowd("idle idle"))
	m.Unacknowledged(o.End[:1])
	m.Refused(o.End[1], "permission denied")
	if o = m.Saw(noon, crowd("idle")); len(o.End) != 1 {
		t.Errorf("an order that was not heard is not given again: %+v", o)
	}
	if o = m.Saw(noon, crowd("idle idle")); o.Phase != GivenUp || !strings.Contains(o.Why, "permission denied") {
		t.Errorf("refused: %+v", o)
	}
	if p := m.Progress(); p.Ended != 2 || len(p.EndedWho) != 2 || p.Found != 2 {
		t.Errorf("progress %+v", p)
	}
}

// TestRandomSchedules lets sessions come, go, write, hang and come back while a
// machine clears one database among others. Whatever happens: nobody outside the
// target is ever ended, nobody is ended twice, no written work is lost that was
// not accepted, what bars is left alone, and it comes to an end in time.
func TestRandomSchedules(t *testing.T) {
	words := strings.Fields("idle idle idle busy open written ending hidden own engine backup replication worker elsewhere using parallel")
	ends := map[Phase]int{}
	for seed := range uint64(4000) {
		rng := rand.New(rand.NewPCG(seed, 4))
		r := Rules{Target: Target{Database: "tickets_prod"}, AcceptLoss: rng.IntN(2) == 0,
			GateIncomplete: rng.IntN(3) == 0}
		switch rng.IntN(3) {
		case 0:
			r.Grace = time.Duration(rng.IntN(20)) * time.Second
		case 1:
			r.WhenEmpty = time.Duration(1+rng.IntN(60)) * time.Second
		}
		calm := rng.IntN(2) == 0 // nobody bars, most go when told
		var there []catalog.Session
		next := int64(0)
		come := func() {
			next++
			word := words[rng.IntN(len(words))]
			if calm {
				word = words[rng.IntN(5)]
			}
			there = append(there, session(next, word))
		}
		for range rng.IntN(12) {
			come()
		}
		m, now := New(r, noon), noon
		told := map[int64]bool{}
		var o Order
		for {
			o = m.Saw(now, there)
			for _, id := range o.End {
				i := slices.IndexFunc(there, func(s catalog.Session) bool { return s.ID == id })
				if i < 0 || !r.Target.Has(there[i]) || !Classify(there[i]).Endable() {
					t.Fatalf("seed %d: it ends %v, which is not in the target", seed, id)
				}
				if told[id.Number] {
					t.Fatalf("seed %d: it ends %v twice", seed, id)
				}
				told[id.Number] = true
				if c := Classify(there[i]); (c == Written || c == Hidden) && !r.AcceptLoss || r.WhenEmpty > 0 {
					t.Fatalf("seed %d: it ends %v, %s, with %+v", seed, id, c, r)
				}
			}
			if o.Phase == Cleared || o.Phase == GivenUp {
				break
			}
			if now.Sub(noon) > r.Limit() {
				t.Fatalf("seed %d: no end after %s: %+v", seed, now.Sub(noon), r)
			}
			now = now.Add(max(o.Again, time.Duration(rng.IntN(1500))*time.Millisecond))
			there = slices.DeleteFunc(there, func(s catalog.Session) bool {
				return told[s.ID.Number] && (calm || rng.IntN(4) > 0) || rng.IntN(30) == 0
			})
			for i := range there {
				if rng.IntN(12) == 0 && there[i].Kind == catalog.ClientSession {
					there[i] = session(there[i].ID.Number, words[rng.IntN(6)])
				}
			}
			if rng.IntN(6) == 0 && (o.Phase == Waiting || r.GateIncomplete) {
				come()
			}
		}
		ends[o.Phase]++
		left := r.Target.Of(there)
		if o.Phase == Cleared && slices.ContainsFunc(left,
			func(s catalog.Session) bool { return !r.GateIncomplete || Classify(s) != Idle }) {
			t.Fatalf("seed %d: cleared, and these are left: %+v", seed, left)
		}
		if (o.Phase == GivenUp) != (o.Why != "") || o.Phase == GivenUp && len(left) == 0 {
			t.Fatalf("seed %d: %s, why %q, left %d", seed, o.Phase, o.Why, len(left))
		}
		if p := m.Progress(); p.Ended != len(told) || p.Left != len(left) || len(p.Series) > MaxSeries+1 ||
			len(p.Who) > MaxShown {
			t.Fatalf("seed %d: progress %+v, told %d, left %d", seed, p, len(told), len(left))
		}
	}
	if ends[Cleared] < 500 || ends[GivenUp] < 500 {
		t.Errorf("the schedules are lopsided: %v", ends)
	}
}

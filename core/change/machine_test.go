package change

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"
	"time"
)

func TestMove(t *testing.T) {
	for _, tt := range []struct {
		from, to State
		ok       bool
	}{
		{Draft, Ready, true}, {Draft, Running, false}, {Ready, Running, true}, {Running, Done, true},
		{Running, Withdrawn, false}, {Done, Running, false}, {Withdrawn, Draft, false}, {Waiting, Declined, true},
	} {
		if err := tt.from.Move(tt.to); (err == nil) != tt.ok || err != nil && !errors.Is(err, ErrState) {
			t.Errorf("%s to %s: %v", tt.from, tt.to, err)
		}
	}
	for _, s := range States {
		if want := strings.Contains("done reverted stuck declined withdrawn expired", string(s)); s.Ended() != want {
			t.Errorf("%s.Ended() = %v", s, !want)
		}
	}
}

func TestStart(t *testing.T) {
	for _, tt := range []struct {
		title    string
		state    State
		level    Level
		accepted []string
		want     error
	}{
		{"a draft", Draft, Note, nil, nil}, {"a ready one", Ready, Note, nil, nil},
		{"an accepted caution", Draft, Caution, []string{"c"}, nil},
		{"a running one", Running, Note, nil, ErrState}, {"an ended one", Done, Note, nil, ErrState},
		{"a stop", Draft, Stop, []string{"c"}, ErrStopped},
	} {
		c := threeSteps()
		c.State = tt.state
		c.Brief.Find(tt.level, "c", "", "x")
		act, err := c.Start("keeper", Decision{Accepted: tt.accepted}, time.Unix(1, 0))
		if !errors.Is(err, tt.want) ||
			(err == nil) != (c.State == Running && c.Steps[0].Status == Begun && act.Op == Do) &&
				tt.state != Running {
			t.Errorf("%s: %v, then it is %s with its first step %s", tt.title, err, c.State, c.Steps[0].Status)
		}
	}
	c := threeSteps()
	c.State = Draft
	c.Brief.Find(Caution, "c", "", "x")
	_, err := c.Start("keeper", Decision{Accepted: []string{"d"}}, time.Time{})
	if u, ok := errors.AsType[*Unaccepted](err); !ok || len(u.Codes) != 1 || c.State != Draft || c.RunBy != "" {
		t.Errorf("a caution that was not accepted: %v, then it is %s", err, c.State)
	}
}

// world is a server in miniature: which steps are in effect.
type world struct{ on []bool }

// play carries a change out against a world; fate says what becomes of each
// action. It returns the actions as text.
func play(c *Change, w *world, fate func(NextOp) (happens bool, told Effect)) string {
	var trace []string
	c.State = Running
	for range 100 {
		act := c.Next()
		if act.Op == Finish {
			c.Close(act, time.Time{})
			return strings.Join(trace, " ")
		}
		trace = append(trace, fmt.Sprintf("%s%d", act.Op, act.Step))
		c.Begin(act, time.Time{})
		happens, told := fate(act)
		if act.Op == Probe && told != Unclear {
			told = NotHappened
			if w.on[act.Step] {
				told = Happened
			}
		}
		if happens && act.Op != Probe {
			w.on[act.Step] = act.Op == Do
		}
		seen := Result{Effect: told}
		if told != Happened {
			seen.Failure = &Failure{Text: "it went wrong"}
		}
		c.Record(act, seen, time.Time{})
	}
	return strings.Join(trace, " ") + " …"
}

func threeSteps() *Change {
	c := &Change{Brief: Brief{Summary: "x", Outcome: Acts,
		Steps: []Step{{Title: "one", Undo: "u1"}, {Title: "two", Undo: "u2"}, {Title: "three", ReadOnly: true}}}}
	c.Prepare()
	return c
}

func TestMachine(t *testing.T) {
	fine := func(NextOp) (bool, Effect) { return true, Happened }
	at := func(action Operation, step int, happens bool, told Effect) func(NextOp) (bool, Effect) {
		return func(a NextOp) (bool, Effect) {
			if a.Op == action && a.Step == step {
				return happens, told
			}
			return true, Happened
		}
	}
	for _, tt := range []struct {
		title string
		fate  func(NextOp) (bool, Effect)
		trace string
		end   State
	}{
		{"all well", fine, "do0 do1 do2", Done},
		{"first refused", at(Do, 0, false, NotHappened), "do0", Reverted},
		{"second refused", at(Do, 1, false, NotHappened), "do0 do1 undo0", Reverted},
		{"verify fails", at(Do, 2, true, NotHappened), "do0 do1 do2 undo1 undo0", Reverted},
		{"cut, but it happened", at(Do, 0, true, Unclear), "do0 probe0 do1 do2", Done},
		{"cut before it happened", at(Do, 1, false, Unclear), "do0 do1 probe1 undo0", Reverted},
		{"cannot be rolled back", func(a NextOp) (bool, Effect) {
			switch {
			case a.Op == Do && a.Step == 2:
				return false, NotHappened
			case a.Op == Undo && a.Step == 1:
				return false, Unclear
			}
			return true, Happened
		}, "do0 do1 do2 undo1", Stuck},
	} {
		t.Run(tt.title, func(t *testing.T) {
			c, w := threeSteps(), &world{on: make([]bool, 3)}
			if got := play(c, w, tt.fate); got != tt.trace || c.State != tt.end {
				t.Errorf("played %q to %s; want %q to %s", got, c.State, tt.trace, tt.end)
			}
			if (c.State == Done) != (c.Failure == nil) {
				t.Errorf("state %s with failure %v", c.State, c.Failure)
			}
		})
	}
}

// A step that took effect with a warning that is an error is rolled back.
func TestMachineTookWithFailure(t *testing.T) {
	c := threeSteps()
	c.State = Running
	act := c.Next()
	c.Begin(act, time.Time{})
	c.Record(act, Result{Effect: Happened, Failure: &Failure{Text: "unknown language"}}, time.Time{})
	if next := c.Next(); next.Op != Undo || next.Step != 0 || c.Failure == nil {
		t.Errorf("after it: %+v, failure %v", next, c.Failure)
	}
}

// Whatever happens, and wherever the service is killed and goes on from its
// records, the end is told as it is: done means all in effect, reverted means
// nothing in effect; and no step is ever done twice.
func TestMachineRandom(t *testing.T) {
	for seed := range uint64(3000) {
		rng := rand.New(rand.NewPCG(seed, 1))
		c, w := threeSteps(), &world{on: make([]bool, 3)}
		did := map[int]int{}
		trace := play(c, w, func(a NextOp) (bool, Effect) {
			if a.Op == Do {
				did[a.Step]++
			}
			happens := rng.IntN(4) > 0
			if a.Op == Probe {
				return false, []Effect{Happened, Happened, Unclear}[rng.IntN(3)]
			}
			if rng.IntN(4) == 0 {
				return happens, Unclear
			}
			if happens {
				return true, Happened
			}
			if a.Op == Undo {
				return false, Unclear
			}
			return false, NotHappened
		})
		changing := w.on[:2] // the third only reads
		for step, n := range did {
			if n > 1 {
				t.Fatalf("seed %d: step %d was done %d times: %s", seed, step, n, trace)
			}
		}
		switch c.State {
		case Done:
			if !changing[0] || !changing[1] {
				t.Fatalf("seed %d: done, but in effect is %v: %s", seed, w.on, trace)
			}
		case Reverted:
			if changing[0] || changing[1] {
				t.Fatalf("seed %d: reverted, but in effect is %v: %s", seed, w.on, trace)
			}
		case Stuck:
			if !strings.Contains(c.Result, "could not be rolled back") {
				t.Fatalf("seed %d: stuck without saying where: %q: %s", seed, c.Result, trace)
			}
		default:
			t.Fatalf("seed %d: no end: %s", seed, trace)
		}
	}
}

func TestFingerprint(t *testing.T) {
	base := func() Brief {
		return Brief{Target: "harbour/x", Summary: "s",
			Findings: []Finding{{Code: "a", Level: Note, Text: "n"}, {Code: "b", Level: Caution}},
			Settings: []Setting{{Name: "owner", Value: "crew"}}, Steps: []Step{{Kind: "create", Statement: "CREATE"}}}
	}
	first := base().Seal()
	if first.Findings[0].Level != Caution {
		t.Error("findings are not in the order of their weight")
	}
	later := base()
	later.Read = time.Now()
	rows := int64(7)
	later.Impact = &Impact{Rows: &rows, Final: true} // which drifts
	if later.Seal().Fingerprint != first.Fingerprint {
		t.Error("the time of reading changes the fingerprint")
	}
	for what, alter := range map[string]func(*Brief){
		"identity":  func(b *Brief) { b.Identity = "another" },
		"setting":   func(b *Brief) { b.Settings[0].Value = "deck" },
		"statement": func(b *Brief) { b.Steps[0].Statement = "CREATE 2" },
		"finding":   func(b *Brief) { b.Find(Caution, "c", "", "new") },
		"outcome":   func(b *Brief) { b.Outcome = Nothing },
	} {
		b := base()
		alter(&b)
		b = b.Seal()
		if b.Fingerprint == first.Fingerprint {
			t.Errorf("another %s gives the same fingerprint", what)
		}
		if len(Compare(first, b)) == 0 {
			t.Errorf("another %s is not told in words", what)
		}
	}
	stopped := base()
	stopped.Find(Stop, "d", "", "no")
	if got := stopped.Seal(); len(got.Steps) != 0 || !got.Stopped() {
		t.Error("a stopped brief has steps")
	}
}

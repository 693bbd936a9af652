package runner

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// clearingRig makes a database with clients in it and drafts its drop.
func (g *rig) clearingRig(t *testing.T, r *Runner, name string, spec *change.ClearingSpec,
	clients ...int64) change.Change {
	t.Helper()
	g.fake.Put(name, "crew")
	for _, n := range clients {
		g.fake.Connect(n, name, false, false)
		t.Cleanup(func() { g.fake.Disconnect(n) })
	}
	c, err := r.Draft(t.Context(), "dispatcher", "",
		change.Intent{Kind: change.DropDatabase, Server: "harbour", Database: &change.DatabaseSpec{Name: name},
			Clearing: spec}, nil)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

func run(t *testing.T, r *Runner, c change.Change) {
	t.Helper()
	if _, err := r.Run(t.Context(), "keeper", c.ID,
		change.Decision{Fingerprint: c.Brief.Fingerprint, Confirm: c.Brief.Confirm,
			Accepted: c.Brief.Codes(change.Caution)}); err != nil {
		t.Fatal(err)
	}
}

func waited(t *testing.T, r *Runner, id uint64) change.Change {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	c, err := r.Wait(ctx, id)
	if err != nil || !c.State.Ended() {
		t.Fatalf("waited for the end: %s, %v", c.State, err)
	}
	return c
}

// waiting is a drop that waits for its clients, with the gate closed.
func (g *rig) waiting(t *testing.T, r *Runner, name string) change.Change {
	t.Helper()
	c := g.clearingRig(t, r, name, &change.ClearingSpec{WhenEmpty: 600}, int64(len(name)*100))
	run(t, r, c)
	testutil.Wait(t, "the clearing to wait behind its gate", func() bool {
		kept, err := g.store.Change(t.Context(), c.ID)
		return err == nil && kept.Steps[1].Status == change.Begun && !g.fake.GateOpen(name)
	})
	return c
}

func TestClearing(t *testing.T) {
	g := newRig(t)
	for _, part := range []struct {
		name string
		f    func(*testing.T, *rig)
	}{{"ends them and drops", testEnds}, {"written work", testWritten}, {"stop", testStop},
		{"too late to stop", testTooLate}, {"the service stops", testClearShutdown},
		{"the service dies", testClearCrash},
		{"the server is away", testAway}, {"the gate opens in the end", testUndoInsists},
		{"another service is told", testStopElsewhere}} {
		if !t.Run(part.name, func(t *testing.T) { part.f(t, g) }) {
			return
		}
	}
}

func testEnds(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.clearingRig(t, r, "ends_dev", nil, 1, 2, 3)
	g.fake.Connect(99, "other_dev", false, false)
	defer g.fake.Disconnect(99)
	if c.Brief.AffectedCount != 3 {
		t.Errorf("the brief shows %d sessions: %+v", c.Brief.AffectedCount, c.Brief.Findings)
	}
	sub := g.hub.Subscribe()
	defer sub.Close()
	run(t, r, c)
	c = waited(t, r, c.ID)
	if c.State != change.Done || slices.Contains(g.fake.Names(), "ends_dev") ||
		!slices.Contains(g.fake.Names(), "lobby") {
		t.Fatalf("ended %s: %s; there are %v", c.State, c.Result, g.fake.Names())
	}
	kept, err := g.store.Change(t.Context(), c.ID)
	if p := kept.Steps[1].Clearing; err != nil || p == nil || p.Ended != 3 || p.Left != 0 || len(p.EndedWho) != 3 {
		t.Errorf("kept of the clearing: %+v, %v", kept.Steps[1].Clearing, err)
	}
	entries, err := g.store.Journal(t.Context(), journal.Filter{Change: c.ID, Limit: 50})
	if err != nil || !slices.ContainsFunc(entries, func(e journal.Entry) bool {
		return e.Action == "step.do.happened" && strings.Contains(e.Detail, "session 2 (desk, app)")
	}) {
		t.Errorf("the journal does not tell who was ended: %+v, %v", entries, err)
	}
	told := false
	for len(sub.C) > 0 {
		e := <-sub.C
		told = told || e.Change != nil && e.Change.ID == c.ID && e.Change.Steps[1].Clearing != nil &&
			e.Change.Steps[1].Clearing.Found == 3
	}
	if !told {
		t.Error("those who watch were not told how the clearing goes")
	}
}

// testWritten: somebody begins to write between the brief and the run. Nothing
// runs; the new brief has the caution.
func testWritten(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.clearingRig(t, r, "writes_dev", nil, 11)
	g.fake.Connect(12, "writes_dev", true, false)
	defer g.fake.Disconnect(12)
	_, err := r.Run(t.Context(), "keeper", c.ID,
		change.Decision{Fingerprint: c.Brief.Fingerprint, Confirm: "writes_dev"})
	o, ok := errors.AsType[*change.Outdated](err)
	if !ok || !slices.Contains(o.Change.Brief.Codes(change.Caution), change.WorkLost) ||
		!g.fake.GateOpen("writes_dev") {
		t.Fatalf("run: %v", err)
	}
	if _, err := r.Run(t.Context(), "keeper", o.Change.ID, change.Decision{Confirm: "writes_dev"}); err == nil {
		t.Error("it runs without the caution being accepted")
	}
	g.fake.Disconnect(12) // whoever has left makes no brief outdated
	run(t, r, o.Change)
	if c := waited(t, r, o.Change.ID); c.State != change.Done {
		t.Errorf("ended %s: %s", c.State, c.Result)
	}
}

func testStop(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.waiting(t, r, "stopped_dev")
	testutil.Wait(t, "the clearing to be seen by who comes late", func() bool {
		live, ok := r.Live(c.ID)
		return ok && live.Steps[1].Clearing != nil && live.Steps[1].Clearing.Left == 1
	})
	if _, err := r.Stop(t.Context(), "mate", c.ID); err != nil {
		t.Fatal(err)
	}
	c = waited(t, r, c.ID)
	if c.State != change.Reverted || !strings.Contains(c.Result, "stopped by mate") || c.StopBy != "mate" ||
		!g.fake.GateOpen("stopped_dev") {
		t.Errorf("ended %s: %q, stopped by %q, gate open %v", c.State, c.Result, c.StopBy,
			g.fake.GateOpen("stopped_dev"))
	}
	if _, err := r.Stop(t.Context(), "mate", c.ID); !errors.Is(err, change.ErrState) {
		t.Errorf("stopping it again: %v", err)
	}
	if _, ok := r.Live(c.ID); ok {
		t.Error("a change that has ended is said to run")
	}
}

func testTooLate(t *testing.T, g *rig) {
	r := g.fresh(t, func(c *Config) { c.StepTime = 2 * time.Second })
	c := g.clearingRig(t, r, "late_dev", nil)
	g.fake.Fail("do drop_database", enginetest.Hang)
	run(t, r, c)
	testutil.Wait(t, "the drop to be under way", func() bool {
		kept, err := g.store.Change(t.Context(), c.ID)
		return err == nil && kept.Steps[2].Status == change.Begun
	})
	if _, err := r.Stop(t.Context(), "mate", c.ID); !errors.Is(err, change.ErrTooLate) {
		t.Errorf("Stop: %v", err)
	}
	// The drop hung and took no effect: mended, and the gate is open.
	if c := waited(t, r, c.ID); c.State != change.Reverted || !g.fake.GateOpen("late_dev") ||
		!slices.Contains(g.fake.Did(), "undo drop_database") {
		t.Errorf("ended %s: %s", c.State, c.Result)
	}
}

func testClearShutdown(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.waiting(t, r, "shutdown_dev")
	r.Shutdown(t.Context())
	if kept, err := g.store.Change(t.Context(), c.ID); err != nil || !g.fake.GateOpen("shutdown_dev") {
		t.Errorf("after an orderly stop the gate is open %v, the change %s, %v", g.fake.GateOpen("shutdown_dev"),
			kept.State, err)
	}
	if c := waited(t, g.fresh(t), c.ID); c.State != change.Reverted {
		t.Errorf("ended %s: %s", c.State, c.Result)
	}
}

// testClearCrash: a service that died behind its closed gate, and one whose
// clients had all gone by then.
func testClearCrash(t *testing.T, g *rig) {
	for name, gone := range map[string]bool{"died_dev": false, "died_clear_dev": true} {
		drafter := g.fresh(t)
		c := g.clearingRig(t, drafter, name, nil, 41)
		drafter.Shutdown(t.Context())
		c.State, c.RunBy = change.Running, "keeper"
		c.Steps[0].Status, c.Steps[1].Status = change.Applied, change.Begun
		g.fake.CloseGate(name)
		if gone {
			g.fake.Disconnect(41)
		}
		if err := g.store.Claim(t.Context(), c, change.Draft, time.Now(), "a dead service", -time.Second); err != nil {
			t.Fatal(err)
		}
		c = waited(t, g.fresh(t), c.ID)
		if want := map[bool]change.State{false: change.Reverted, true: change.Done}[gone]; c.State != want ||
			!gone && !g.fake.GateOpen(name) {
			t.Errorf("%s ended %s: %s; want %s", name, c.State, c.Result, want)
		}
		g.fake.Disconnect(41)
	}
}

// testAway: the server gives no answer for a moment in the middle of it.
func testAway(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.waiting(t, r, "away_dev")
	before := len(g.fake.Did())
	g.fake.Fail("look", enginetest.CutBefore)
	testutil.Wait(t, "some looks to fail", func() bool { return len(g.fake.Did()) > before+2 })
	g.fake.Heal()
	g.fake.Disconnect(int64(len("away_dev") * 100))
	if c := waited(t, r, c.ID); c.State != change.Done {
		t.Errorf("ended %s: %s", c.State, c.Result)
	}
}

// testUndoInsists: the server is away just when the gate is to be opened.
func testUndoInsists(t *testing.T, g *rig) {
	r := g.fresh(t, func(c *Config) { c.UndoTime = time.Minute })
	c := g.waiting(t, r, "insists_dev")
	g.fake.Fail("undo close_gate", enginetest.CutBefore)
	before := len(g.fake.Did())
	if _, err := r.Stop(t.Context(), "mate", c.ID); err != nil {
		t.Fatal(err)
	}
	testutil.Wait(t, "it to be tried again", func() bool {
		n := 0
		for _, d := range g.fake.Did()[before:] {
			if d == "undo close_gate" {
				n++
			}
		}
		return n > 1
	})
	g.fake.Heal()
	if c := waited(t, r, c.ID); c.State != change.Reverted || !g.fake.GateOpen("insists_dev") {
		t.Errorf("ended %s: %s", c.State, c.Result)
	}
}

// testStopElsewhere: the wish to stop reaches the service that runs the change
// through the records.
func testStopElsewhere(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.waiting(t, r, "elsewhere_dev")
	other := g.fresh(t)
	if _, err := other.Stop(t.Context(), "mate", c.ID); err != nil {
		t.Fatal(err)
	}
	if c := waited(t, other, c.ID); c.State != change.Reverted || !strings.Contains(c.Result, "stopped by mate") {
		t.Errorf("ended %s: %s", c.State, c.Result)
	}
}

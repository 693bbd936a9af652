package runner

import (
	"context"
	"errors"
	"log/slog"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/events"
	"example.com/genarch/fleet"
	"example.com/genarch/store"
	"example.com/genarch/testutil"
)

// rig is a runner on a real store and a fake engine.
type rig struct {
	t     *testing.T
	store *store.Store
	fake  *enginetest.Fake
	fleet *fleet.Fleet
	hub   *events.Hub
}

func newRig(t *testing.T) *rig {
	s, err := store.Open(t.Context(),
		store.Config{DSN: testutil.MariaDB(t).DSN("records"), KeyFile: filepath.Join(t.TempDir(), "key")})
	if err != nil {
		t.Fatal(err)
	}
	g := &rig{t: t, store: s, fake: enginetest.NewFake(), hub: &events.Hub{}}
	g.fleet = fleet.New(s, g.fake)
	t.Cleanup(func() {
		g.fleet.Close()
		n, broken, err := s.VerifyJournal(context.Background(), "")
		if broken != nil || err != nil || n == 0 {
			t.Errorf("the journal after the test: %d entries, %v, %v", n, broken, err)
		}
		s.Close()
	})
	if _, _, err := g.fleet.Add(t.Context(), "test",
		catalog.Server{Name: "harbour", Engine: "fake", Host: "127.0.0.1", Admin: "keeper",
			Environment: catalog.Production}, secret.New("x")); err != nil {
		t.Fatal(err)
	}
	return g
}

// fresh heals the fake and starts a runner that is shut down after the test.
func (g *rig) fresh(t *testing.T, alter ...func(*Config)) *Runner {
	g.fake.Heal()
	cfg := Config{Store: g.store, Fleet: g.fleet, Events: g.hub, StepTime: 300 * time.Millisecond,
		ProbeTime: 5 * time.Second, PlanTime: 2 * time.Second, UndoTime: 600 * time.Millisecond,
		Lease: 2 * time.Second, Log: slog.New(slog.DiscardHandler)}
	for _, f := range alter {
		f(&cfg)
	}
	r := New(cfg)
	t.Cleanup(func() { r.Shutdown(context.Background()) })
	return r
}

func create(name string) change.Intent {
	return change.Intent{Kind: change.CreateDatabase, Server: "harbour",
		Database: &change.DatabaseSpec{Name: name, Options: catalog.Values{"comment": "made by a test"}}}
}

func (g *rig) draft(t *testing.T, r *Runner, name string) change.Change {
	t.Helper()
	c, err := r.Draft(t.Context(), "dispatcher", "", create(name), nil)
	if err != nil {
		t.Fatal(err)
	}
	return c
}

// end runs a draft and waits for its end.
func (g *rig) end(t *testing.T, r *Runner, c change.Change) change.Change {
	t.Helper()
	if _, err := r.Run(t.Context(), "deckhand", c.ID, change.Decision{Fingerprint: c.Brief.Fingerprint}); err != nil {
		t.Fatal(err)
	}
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	c, err := r.Wait(ctx, c.ID)
	if err != nil || !c.State.Ended() {
		t.Fatalf("waited for the end: %s, %v", c.State, err)
	}
	recorded, err := g.store.Change(t.Context(), c.ID)
	if err != nil || recorded.State != c.State || recorded.Result != c.Result {
		t.Errorf("on record: %s %q, %v; told: %s %q", recorded.State, recorded.Result, err, c.State, c.Result)
	}
	return recorded
}

func TestRunner(t *testing.T) {
	g := newRig(t)
	for name, f := range map[string]func(*testing.T, *rig){
		"faults at every step": testFaults, "fingerprint": testFingerprint, "two at once": testTwo,
		"idempotency":         testIdempotency,
		"crash between steps": testCrash, "shutdown": testShutdown, "store away": testStoreAway,
		"another instance": testAnother,
		"a hanging server": testHanging, "events": testEvents,
	} {
		if !t.Run(name, func(t *testing.T) { f(t, g) }) {
			return
		}
	}
}

func testFaults(t *testing.T, g *rig) {
	for i, tt := range []struct {
		faults string // "action kind=fault"
		end    change.State
		there  bool
		says   string
	}{
		{"", change.Done, true, "read back as asked"},
		{"do create_database=refuse", change.Reverted, false, "before anything was altered"},
		{"do create_database=cut_before", change.Reverted, false, "before anything was altered"},
		{"do create_database=cut_after", change.Done, true, "read back as asked"},
		{"do create_database=hang", change.Reverted, false, "before anything was altered"},
		{"do comment=refuse", change.Reverted, false, "rolled back"},
		{"do comment=cut_before", change.Reverted, false, "rolled back"},
		{"do comment=cut_after", change.Done, true, "read back as asked"},
		{"do verify=refuse", change.Reverted, false, "rolled back"},
		{"do comment=refuse undo create_database=refuse", change.Stuck, true,
			"create it: in effect, could not be rolled back"},
		{"do verify=refuse undo comment=cut_after", change.Stuck, true,
			"comment it: in effect, could not be rolled back"},
		{"do create_database=cut_after probe create_database=refuse", change.Stuck, true, "create it: not known"},
	} {
		t.Run(tt.faults, func(t *testing.T) {
			r := g.fresh(t, func(c *Config) { c.ProbeTime = 50 * time.Millisecond })
			words := strings.Fields(tt.faults)
			name := "faults_" + string(rune('a'+i))
			c := g.draft(t, r, name)
			for j := 0; j+1 < len(words); j += 2 {
				kind, fault, _ := strings.Cut(words[j+1], "=")
				g.fake.Fail(words[j]+" "+kind, enginetest.Fault(fault))
			}
			c = g.end(t, r, c)
			if c.State != tt.end || !strings.Contains(c.Result, tt.says) {
				t.Errorf("ended %s: %q; want %s with %q", c.State, c.Result, tt.end, tt.says)
			}
			if there := slices.Contains(g.fake.Names(), name); there != tt.there {
				t.Errorf("the database is there: %v; want %v", there, tt.there)
			}
			if c.State != change.Done && c.Failure == nil {
				t.Error("nothing says why it failed")
			}
			entries, err := g.store.Journal(t.Context(), journal.Filter{Change: c.ID, Limit: 50})
			if err != nil || len(entries) < 4 || entries[0].Action != "change."+string(c.State) {
				t.Errorf("journal of the change: %d entries, %v", len(entries), err)
			}
			begun := 0 // each step that was begun has its intention in the journal
			for _, s := range c.Steps {
				if !s.Begun.IsZero() {
					begun++
				}
			}
			told := 0
			for _, e := range entries {
				if e.Action == "step.do.begin" {
					told++
				}
			}
			if begun != told {
				t.Errorf("%d steps were begun, the journal tells of %d", begun, told)
			}
		})
	}
}

func testFingerprint(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.draft(t, r, "berths")
	g.fake.Put("berths", "somebody")
	_, err := r.Run(t.Context(), "deckhand", c.ID, change.Decision{Fingerprint: c.Brief.Fingerprint})
	out, ok := errors.AsType[*change.Outdated](err)
	if !ok || !out.Change.Brief.Stopped() || len(out.Differences) == 0 ||
		!strings.Contains(out.Differences[0], change.NameTaken) {
		t.Fatalf("a name that was taken meanwhile: %v", err)
	}
	if old, _ := g.store.Change(t.Context(), c.ID); old.State != change.Withdrawn {
		t.Errorf("the outdated change is %s", old.State)
	}
	if _, err := r.Run(t.Context(), "deckhand", out.Change.ID, change.Decision{}); !errors.Is(err, change.ErrStopped) {
		t.Errorf("a stopped brief ran: %v", err)
	}
	like := g.draft(t, r, "berth5")
	if _, err := r.Run(t.Context(), "deckhand", like.ID, change.Decision{Fingerprint: "not what I saw"}); err == nil {
		t.Error("a brief that the person had not seen ran")
	}
	looks := g.draft(t, r, "b3rths")
	if looks.Brief.Stopped() {
		t.Fatal(looks.Brief.Findings)
	}
	caution := g.draft(t, r, "berths_")
	_, err = r.Run(t.Context(), "deckhand", caution.ID, change.Decision{})
	if u, ok := errors.AsType[*change.Unaccepted](err); !ok || !slices.Equal(u.Codes, []string{change.NameLookalike}) {
		t.Errorf("a caution that nobody accepted: %v", err)
	}
	if _, err := r.Run(t.Context(), "deckhand", caution.ID,
		change.Decision{Fingerprint: "", Accepted: []string{change.NameLookalike}}); err != nil {
		t.Errorf("accepted: %v", err)
	}
	if w, err := r.Withdraw(t.Context(), "dispatcher", looks.ID); err != nil || w.State != change.Withdrawn {
		t.Errorf("withdrawn: %s, %v", w.State, err)
	}
	if _, err := r.Run(t.Context(), "deckhand", looks.ID, change.Decision{}); !errors.Is(err, change.ErrState) {
		t.Errorf("a withdrawn change ran: %v", err)
	}
	r.Wait(t.Context(), caution.ID)
}

func testTwo(t *testing.T, g *rig) {
	r := g.fresh(t)
	var ids []uint64
	for range 6 {
		ids = append(ids, g.draft(t, r, "manifests").ID)
	}
	var wg sync.WaitGroup
	var mu sync.Mutex
	won := 0
	for _, id := range ids {
		wg.Go(func() {
			_, err := r.Run(t.Context(), "deckhand", id, change.Decision{})
			mu.Lock()
			defer mu.Unlock()
			busy, isBusy := errors.AsType[*record.Busy](err)
			outdated, isOutdated := errors.AsType[*change.Outdated](err)
			switch {
			case err == nil:
				won++
			case isBusy && busy.Operator == "deckhand" && !busy.Since.IsZero():
			case isOutdated && strings.Contains(strings.Join(outdated.Differences, " "),
				"it was made by deckhand with change"):
			case isOutdated: // made, but its change has not ended yet
			default:
				t.Errorf("a loser got %v", err)
			}
		})
	}
	wg.Wait()
	if won != 1 {
		t.Errorf("%d of 6 won", won)
	}
	testutil.Wait(t, "the claim to be given back", func() bool {
		late := g.draft(t, r, "manifests")
		return slices.Contains(late.Brief.Codes(change.Note), change.MadeMeanwhile)
	})
}

func testIdempotency(t *testing.T, g *rig) {
	r := g.fresh(t)
	var wg sync.WaitGroup
	ids := make([]uint64, 8)
	for i := range ids {
		wg.Go(func() {
			c, err := r.Draft(t.Context(), "dispatcher", "pipeline 7", create("idem"), nil)
			if err != nil {
				t.Error(err)
			}
			ids[i] = c.ID
		})
	}
	wg.Wait()
	if _, err := r.Draft(t.Context(), "dispatcher", "pipeline 7", create("something_else"), nil); !errors.Is(err,
		change.ErrKeyReused) {
		t.Errorf("a key used again for another request: %v", err)
	}
	slices.Sort(ids)
	if ids[0] != ids[7] || ids[0] == 0 {
		t.Errorf("the same key gave changes %v", ids)
	}
}

// testCrash leaves a change as a service that was killed does: running, its
// lease run out, at each possible point.
func testCrash(t *testing.T, g *rig) {
	for i, tt := range []struct {
		at    string
		did   bool // the begun step took effect
		steps []change.Status
		end   change.State
		there bool
	}{
		{"before anything", false, []change.Status{change.Planned, change.Planned, change.Planned}, change.Done, true},
		{"first begun, not sent", false, []change.Status{change.Begun, change.Planned, change.Planned}, change.Reverted,
			false},
		{"first begun, took effect", true, []change.Status{change.Begun, change.Planned, change.Planned}, change.Done,
			true},
		{"second begun, not sent", true, []change.Status{change.Applied, change.Begun, change.Planned}, change.Reverted,
			false},
		{"undo begun", true, []change.Status{change.Undoing, change.Failed, change.Planned}, change.Reverted, false},
	} {
		t.Run(tt.at, func(t *testing.T) {
			g.fake.Heal()
			name := "crash_" + string(rune('a'+i))
			drafter := g.fresh(t)
			c := g.draft(t, drafter, name)
			drafter.Shutdown(t.Context())
			c.State, c.RunBy = change.Running, "deckhand"
			for j, s := range tt.steps {
				c.Steps[j].Status = s
			}
			if tt.did {
				g.fake.Put(name, "")
			}
			if err := g.store.Claim(t.Context(), c, change.Draft, time.Now(), "a dead service",
				-time.Second); err != nil {
				t.Fatal(err)
			}
			r := g.fresh(t)
			c, err := r.Wait(t.Context(), c.ID)
			if err != nil || c.State != tt.end {
				t.Errorf("ended %s (%s), %v; want %s", c.State, c.Result, err, tt.end)
			}
			if there := slices.Contains(g.fake.Names(), name); there != tt.there {
				t.Errorf("the database is there: %v; want %v", there, tt.there)
			}
		})
	}
}

// testShutdown stops the service while a step hangs; the next one goes on.
func testShutdown(t *testing.T, g *rig) {
	r := g.fresh(t, func(c *Config) { c.StepTime = time.Minute })
	c := g.draft(t, r, "night_shift")
	g.fake.Fail("do comment", enginetest.Hang)
	before := len(g.fake.Did())
	if _, err := r.Run(t.Context(), "deckhand", c.ID, change.Decision{}); err != nil {
		t.Fatal(err)
	}
	testutil.Wait(t, "the step to hang", func() bool { return slices.Contains(g.fake.Did()[before:], "do comment") })
	ctx, cancel := context.WithTimeout(t.Context(), 50*time.Millisecond)
	defer cancel()
	r.Shutdown(ctx)
	if _, err := r.Run(t.Context(), "deckhand", g.draft(t, r, "too_late").ID, change.Decision{}); !errors.Is(err,
		change.ErrClosing) {
		t.Errorf("a run after shutdown: %v", err)
	}
	next := g.fresh(t)
	if c, err := next.Wait(t.Context(), c.ID); err != nil || c.State != change.Reverted {
		t.Errorf("the next service ended it %s, %v", c.State, err)
	}
}

// flakyStore loses the first tries of every save.
type flakyStore struct {
	*store.Store
	mu   sync.Mutex
	lost int
}

func (f *flakyStore) SaveRunning(ctx context.Context, c change.Change, holder string, e ...journal.Entry) error {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.lost++; f.lost%2 == 1 {
		return record.ErrUnavailable
	}
	return f.Store.SaveRunning(ctx, c, holder, e...)
}

func testStoreAway(t *testing.T, g *rig) {
	flaky := &flakyStore{Store: g.store}
	r := g.fresh(t, func(c *Config) { c.Store = flaky })
	if c := g.end(t, r, g.draft(t, r, "store_away")); c.State != change.Done || flaky.lost < 2 {
		t.Errorf("with a store that comes and goes: %s, %d saves lost", c.State, flaky.lost)
	}
}

func testAnother(t *testing.T, g *rig) {
	r := g.fresh(t)
	c := g.draft(t, r, "wrong_ship")
	g.fake.BecomeAnother()
	_, err := r.Run(t.Context(), "deckhand", c.ID, change.Decision{})
	ie, ok := errors.AsType[*engine.IdentityError](err)
	if !ok || ie.Known.Key == ie.Found.Key {
		t.Fatalf("another instance answers: %v", err)
	}
	if _, err := g.fleet.Accept(t.Context(), "test", "harbour", "not what I saw"); !errors.Is(err, record.ErrInvalid) {
		t.Errorf("accepted blindly: %v", err)
	}
	if _, err := g.fleet.Accept(t.Context(), "test", "harbour", ie.Found.Key); err != nil {
		t.Fatal(err)
	}
	if _, ok := errors.AsType[*change.Outdated](g.run(r, c.ID)); !ok {
		t.Error("the brief made of the old instance ran on the new one")
	}
}

func (g *rig) run(r *Runner, id uint64) error {
	_, err := r.Run(context.Background(), "deckhand", id, change.Decision{})
	return err
}

func testHanging(t *testing.T, g *rig) {
	r := g.fresh(t, func(c *Config) { c.PlanTime = 100 * time.Millisecond })
	g.fake.HangAll()
	defer g.fake.Heal()
	_, err := r.Draft(t.Context(), "dispatcher", "", create("never"), nil)
	if ee, ok := errors.AsType[*engine.Error](err); !ok || ee.Next == "" {
		t.Errorf("a server that hangs: %v", err)
	}
}

func testEvents(t *testing.T, g *rig) {
	r := g.fresh(t)
	slow, sub := g.hub.Subscribe(), g.hub.Subscribe()
	defer slow.Close()
	c := g.end(t, r, g.draft(t, r, "watched"))
	var seen []string
	for len(seen) == 0 || seen[len(seen)-1] != "harbour/watched" {
		e := <-sub.C
		if e.Change != nil && e.Change.ID == c.ID {
			seen = append(seen, string(e.Change.State))
		}
		if e.Database != "" {
			seen = append(seen, e.Database)
		}
	}
	if want := "draft running running running running done harbour/watched"; strings.Join(seen, " ") != want {
		t.Errorf("events %v; want %s", seen, want)
	}
	for range 200 { // a subscriber that never reads is let go, not waited for
		g.hub.Publish(events.Event{Server: "harbour"})
	}
	sub.Close()
	if n := g.hub.Subscribers(); n != 0 {
		t.Errorf("%d subscribers are left", n)
	}
}

package runner

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"hash/fnv"
	"log/slog"
	"maps"
	"os"
	"slices"
	"strings"
	"sync"
	"testing"
	"testing/synctest"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/record"
	"example.com/genarch/engine"
	"example.com/genarch/events"
)

var (
	seeds     = flag.Int("seeds", 400, "how many schedules TestSimulation plays")
	firstSeed = flag.Uint64("first-seed", 1, "the first of them")
	oneSeed   = flag.Uint64("seed", 0, "play this one alone, and tell what happens")
)

// faults are how often things go wrong, out of one.
type faults struct {
	never, refused, later, unread, after float64 // of statements
	read                                 float64 // of readings
	storeSlow, storeAway                 float64 // of calls of the records
}

// sim is one schedule: everything that happens in it follows from its seed.
// Virtual time orders it: each thing takes a time of its own.
type sim struct {
	t      *testing.T
	seed   uint64
	faults faults
	heals  time.Time // from then on nothing goes wrong any more
	store  *simStore
	server *simServer

	mu       sync.Mutex // guards counts and failures
	counts   map[string]int
	failures []string
}

// simService is one service; it can die between any two things that it does.
type simService struct {
	sim    *sim
	name   string
	runner *Runner
	dead   chan struct{}
	once   sync.Once
	spare  int64 // a session that a settled change gave back; guarded by the server's mu
}

func (s *simService) isDead() bool {
	select {
	case <-s.dead:
		return true
	default:
		return false
	}
}

// kill ends the service as kill -9 does: nothing of it reaches records or server
// any more. What the server has begun, it goes on with.
func (s *simService) kill() {
	s.once.Do(func() { close(s.dead) })
	s.runner.cancel()
	s.runner.mu.Lock()
	if !s.runner.closed {
		s.runner.closed = true
		close(s.runner.closing)
	}
	s.runner.mu.Unlock()
}

// pause waits, unless ctx ends or the service dies first.
func (s *simService) pause(ctx context.Context, d time.Duration) bool {
	timer := time.NewTimer(d)
	defer timer.Stop()
	select {
	case <-timer.C:
		return ctx.Err() == nil
	case <-ctx.Done():
		return false
	case <-s.dead:
		return false
	}
}

// cut is what comes of a call whose time is over, or whose service has died.
func (s *simService) cut(ctx context.Context, what string) error {
	if s.isDead() {
		return errDead
	}
	return engine.Classify(what, ctx.Err(), true)
}

// roll is a number from 0 to 1 that depends on the seed and on what it is for.
func (s *sim) roll(what ...any) float64 {
	h := fnv.New64a()
	fmt.Fprint(h, s.seed)
	fmt.Fprintln(h, what...)
	x := h.Sum64()
	x ^= x >> 33
	x *= 0xff51afd7ed558ccd
	x ^= x >> 33
	x *= 0xc4ceb9fe1a85ec53
	x ^= x >> 33
	return float64(x>>11) / (1 << 53)
}

// count numbers things of a kind.
func (s *sim) count(what ...any) int {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := fmt.Sprintln(what...)
	s.counts[key]++
	return s.counts[key]
}

// latency is how long something takes: never the same, so that nothing happens at
// the same time as something else.
func (s *sim) latency(what ...any) time.Duration {
	n := s.count(append([]any{"latency"}, what...)...)
	return time.Duration(1e6 + s.roll(append([]any{"latency", n}, what...)...)*15e6)
}

func (s *sim) faulty() bool { return time.Now().Before(s.heals) }

func (s *sim) fail(format string, args ...any) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.failures) < 10 {
		s.failures = append(s.failures, fmt.Sprintf(format, args...))
	}
}

func (s *sim) start(name string) *simService {
	svc := &simService{sim: s, name: name, dead: make(chan struct{})}
	log := slog.New(slog.DiscardHandler)
	if *oneSeed != 0 {
		log = slog.New(slog.NewTextHandler(os.Stderr, nil)).With("service", name)
	}
	svc.runner = New(Config{Store: simRecords{svc}, Fleet: simFleet{svc}, Events: &events.Hub{}, Log: log})
	return svc
}

// wish is what somebody asks for in a schedule.
type wish struct {
	in   change.Intent
	at   time.Duration
	stop time.Duration // when it is asked to be stopped; 0: never
	id   uint64
}

// newSim draws a schedule from its seed.
func newSim(t *testing.T, seed uint64) *sim {
	s := &sim{t: t, seed: seed, counts: map[string]int{}, heals: time.Now().Add(45 * time.Second),
		store: &simStore{changes: map[uint64]change.Change{}, claims: map[string]simClaim{},
			stops: map[uint64]string{}}}
	s.server = &simServer{sim: s, databases: map[string]*simDatabase{}, accounts: map[string]*simAccount{},
		clients: map[string][]catalog.Session{}, sessions: map[int64]*simSession{}, identity: "one"}
	rate := func(what string, most float64) float64 {
		if s.roll("has", what) < 0.5 {
			return 0
		}
		return s.roll("rate", what) * most
	}
	s.faults = faults{never: rate("never", 0.25), refused: rate("refused", 0.15), later: rate("later", 0.35),
		unread: rate("unread", 0.25), after: rate("after", 0.25),
		read: rate("read", 0.15), storeSlow: rate("slow", 0.02), storeAway: rate("away", 0.3)}
	return s
}

// wishes are what people ask for, some of it on the same names at the same time.
func (s *sim) wishes() []*wish {
	var out []*wish
	n := 1 + int(s.roll("wishes")*3)
	for i := range n {
		name := fmt.Sprintf("tides_%d", i)
		w := &wish{at: time.Duration(s.roll("at", i)*1500) * time.Millisecond}
		server := func(k change.Kind) change.Intent { return change.Intent{Kind: k, Server: "harbour"} }
		kind := s.roll("kind", i)
		switch {
		case kind < 0.3:
			w.in = server(change.CreateDatabase)
			w.in.Database = &change.DatabaseSpec{Name: name, Options: catalog.Values{"comment": "made"}}
		case kind < 0.8:
			s.server.keys++
			s.server.databases[name] = &simDatabase{key: s.server.keys, open: true}
			for c := range int(s.roll("clients", i) * 3) {
				s.server.clients[name] = append(s.server.clients[name],
					catalog.Session{ID: catalog.SessionID{Number: int64(1000*i + c + 1), Mark: "c"},
						Kind:     catalog.ClientSession,
						Database: name, Activity: catalog.SessionIdle})
			}
			w.in = server(change.DropDatabase)
			w.in.Database = &change.DatabaseSpec{Name: name}
			if kind > 0.55 {
				w.in = server(change.RenameDatabase)
				w.in.Database = &change.DatabaseSpec{Name: name, NewName: name + "_new"}
			}
			if s.roll("rival", i) < 0.25 {
				rival := *w
				rival.at += time.Duration(s.roll("rival at", i)*800) * time.Millisecond
				out = append(out, &rival)
			}
		default:
			s.server.accounts[name] = &simAccount{there: true, holds: true}
			w.in = server(change.DropAccount)
			w.in.Account = &change.AccountSpec{Name: name}
		}
		if s.roll("stops", i) < 0.25 {
			w.stop = w.at + time.Duration(s.roll("stop at", i)*1500)*time.Millisecond
		}
		out = append(out, w)
	}
	return out
}

// play plays the schedule to its end.
func (s *sim) play() {
	begun := time.Now()
	wishes := s.wishes()
	services := []*simService{s.start("first")}
	if s.roll("two services") < 0.4 {
		services = append(services, s.start("second"))
	}
	var all sync.WaitGroup
	alive := func(i int) *simService { return services[i%len(services)] }
	var mu sync.Mutex // guards services
	for i, w := range wishes {
		all.Go(func() {
			time.Sleep(w.at)
			mu.Lock()
			svc := alive(i)
			mu.Unlock()
			s.ask(svc, w)
		})
		if w.stop > 0 {
			all.Go(func() {
				time.Sleep(w.stop)
				s.mu.Lock()
				id := w.id
				s.mu.Unlock()
				mu.Lock()
				svc := alive(i + 1)
				mu.Unlock()
				if id != 0 {
					_, _ = svc.runner.Stop(context.Background(), "mate", id)
				}
			})
		}
	}
	// Services die and others begin, between any two things.
	kills := int(s.roll("kills") * 4)
	all.Go(func() {
		for k := range kills {
			time.Sleep(time.Duration(s.roll("kill at", k)*2500) * time.Millisecond)
			mu.Lock()
			victim := services[k%len(services)]
			victim.kill()
			mu.Unlock()
			time.Sleep(time.Duration(s.roll("start at", k)*6000) * time.Millisecond)
			fresh := s.start(fmt.Sprintf("after kill %d", k+1))
			mu.Lock()
			services[k%len(services)] = fresh
			mu.Unlock()
		}
	})
	all.Go(func() {
		time.Sleep(time.Duration(s.roll("trouble at")*4000) * time.Millisecond)
		away := time.Duration(200+s.roll("trouble for")*9000) * time.Millisecond
		switch trouble := s.roll("trouble"); {
		case trouble < 0.15:
			s.server.restart(away)
		case trouble < 0.25:
			s.server.replace(away)
		}
	})
	all.Wait()
	for time.Since(begun) < 20*time.Minute {
		time.Sleep(5 * time.Second)
		s.store.mu.Lock()
		running := false
		for _, c := range s.store.changes {
			running = running || c.State == change.Running
		}
		s.store.mu.Unlock()
		if !running && !s.faulty() {
			break
		}
	}
	for _, svc := range services {
		svc.kill()
	}
	s.server.working.Wait()
	s.check(wishes)
}

// ask asks for a wish and lets it run, as people do: again when they are told to.
func (s *sim) ask(svc *simService, w *wish) {
	ctx := context.Background()
	for try := range 8 {
		c, err := svc.runner.Draft(ctx, "dispatcher", "", w.in, nil)
		if svc.isDead() {
			return
		}
		if err == nil {
			s.mu.Lock()
			w.id = c.ID
			s.mu.Unlock()
			_, err = svc.runner.Run(ctx, "dispatcher", c.ID,
				change.Decision{Fingerprint: c.Brief.Fingerprint, Confirm: c.Brief.Confirm,
					Accepted: c.Brief.Codes(change.Caution)})
		}
		if err == nil || errors.Is(err, change.ErrStopped) || svc.isDead() {
			return
		}
		if _, busy := errors.AsType[*record.Busy](err); busy {
			return
		}
		time.Sleep(time.Duration(200*(try+1)) * time.Millisecond)
	}
}

// check holds the schedule against what must be so whatever happens.
func (s *sim) check(wishes []*wish) {
	for _, id := range slices.Sorted(maps.Keys(s.store.changes)) {
		c := s.store.changes[id]
		if c.State == change.Running {
			s.fail("change %d (%s) never ended: %s", id, c.Intent.Kind, statuses(c))
		}
		if c.State == change.Stuck {
			s.fail("change %d (%s) is stuck though everything can be reached: %s; %s", id, c.Intent.Kind, c.Result,
				statuses(c))
		}
	}
	if len(s.store.claims) > 0 && len(s.failures) == 0 {
		s.fail("claims are left: %v", s.store.claims)
	}
	s.checkServer(wishes)
	s.checkJournal()
}

// checkServer compares what the changes say, in the order in which they ended,
// with what is on the server.
func (s *sim) checkServer(wishes []*wish) {
	type state struct{ there, open, fresh bool }
	want := map[string]state{}
	for _, w := range wishes {
		switch w.in.Kind {
		case change.DropDatabase, change.RenameDatabase:
			want[w.in.Database.Name] = state{true, true, false}
		case change.DropAccount:
			want["account "+w.in.Account.Name] = state{there: true}
		}
	}
	ended := slices.SortedFunc(maps.Values(s.store.changes),
		func(a, b change.Change) int { return a.Ended.Compare(b.Ended) })
	for _, c := range ended {
		if c.State != change.Done || c.Brief.Outcome != change.Acts {
			continue
		}
		switch c.Intent.Kind {
		case change.CreateDatabase:
			want[c.Intent.Database.Name] = state{true, true, true}
		case change.DropDatabase:
			want[c.Intent.Database.Name] = state{}
		case change.RenameDatabase:
			want[c.Intent.Database.Name] = state{}
			want[c.Intent.Database.NewName] = state{true, true, false}
		case change.DropAccount:
			want["account "+c.Intent.Account.Name] = state{}
		}
	}
	x := s.server
	for _, name := range slices.Sorted(maps.Keys(want)) {
		w := want[name]
		if account, is := strings.CutPrefix(name, "account "); is {
			a := x.accounts[account]
			if a.there != w.there || w.there && (a.locked || !a.holds) {
				s.fail("account %s: there %v (want %v), locked %v, holds what it held %v", account, a.there, w.there,
					a.locked, a.holds)
			}
			continue
		}
		d := x.databases[name]
		switch {
		case (d != nil) != w.there:
			s.fail("database %s: there %v, and the changes say %v", name, d != nil, w.there)
		case d == nil:
		case d.open != w.open:
			s.fail("the gate of database %s is open: %v", name, d.open)
		case w.fresh && d.comment != "made":
			s.fail("database %s is there and not as asked", name)
		}
	}
	for name, d := range x.databases {
		if _, known := want[name]; !known {
			s.fail("database %s is left over", name)
		}
		if d.made > 1 || d.dropped > 0 {
			s.fail("database %s was made %d times and dropped %d times", name, d.made, d.dropped)
		}
	}
}

// checkJournal: it tells of each change from its draft to its end, once.
func (s *sim) checkJournal() {
	ends := map[uint64][]string{}
	drafted := map[uint64]bool{}
	for _, e := range s.store.journal {
		drafted[e.Change] = drafted[e.Change] || e.Action == "change.draft"
		if state, is := strings.CutPrefix(e.Action, "change."); is && change.State(state).Ended() &&
			slices.Contains(change.States, change.State(state)) {
			ends[e.Change] = append(ends[e.Change], state)
		}
	}
	for id, c := range s.store.changes {
		if !drafted[id] {
			s.fail("the journal does not know change %d", id)
		}
		if c.State.Ended() && c.Brief.Outcome == change.Acts && !c.Started.IsZero() &&
			(len(ends[id]) != 1 || ends[id][0] != string(c.State)) {
			s.fail("change %d is %s, and the journal tells of %v", id, c.State, ends[id])
		}
	}
}

func statuses(c change.Change) string {
	var out []string
	for _, st := range c.Steps {
		text := st.Kind + "=" + string(st.Status)
		if st.Failure != nil {
			text += "(" + st.Failure.Kind + " " + st.Failure.Text + ")"
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}

// playSeed plays one schedule and returns what was wrong in it.
func playSeed(t *testing.T, seed uint64) (failures []string) {
	synctest.Test(t, func(t *testing.T) {
		s := newSim(t, seed)
		s.play()
		failures = s.failures
	})
	return failures
}

// keptSeeds are schedules that failed once.
var keptSeeds = []uint64{
	4878,  // a service took its own change over, and ended a session that it used for other work
	2029,  // the service did not stop while it took a step back and the records were away
	26290, // a service took over a change that it was working on itself
	13851, // a session that began to work at what must not be cut off was ended as idle
}

// TestSimulation plays schedules in which nearly everything that can go wrong does:
// answers lost with the effect before, later or never, services killed between any
// two writes, two services, leases lost, records that are slow or away, people who
// stop and drop at the same moment. A failing seed is printed, and plays the same
// again with -seed.
func TestSimulation(t *testing.T) {
	if *oneSeed != 0 {
		for _, f := range playSeed(t, *oneSeed) {
			t.Error(f)
		}
		return
	}
	for _, seed := range keptSeeds {
		for _, f := range playSeed(t, seed) {
			t.Errorf("seed %d, kept: %s", seed, f)
		}
	}
	failed := 0
	for seed := *firstSeed; seed < *firstSeed+uint64(*seeds); seed++ {
		if wrong := playSeed(t, seed); len(wrong) > 0 {
			t.Errorf("seed %d: %s", seed, strings.Join(wrong, "; "))
			if failed++; failed >= 10 {
				t.Fatal("ten schedules failed; go test ./runner -run TestSimulation -seed N plays one again")
			}
		}
	}
}

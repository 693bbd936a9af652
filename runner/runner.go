// Package runner carries changes out: it briefs intents, lets a decided change
// run step by step with every intention and outcome committed before and after,
// probes what is unknown, undoes what failed, and takes over what a service
// that died has left.
package runner

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"slices"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
	"example.com/genarch/core/remedy"
	"example.com/genarch/core/script"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/events"
)

// Store is what the runner needs of the records.
type Store interface {
	AddChange(ctx context.Context, c change.Change, key string, e journal.Entry) (change.Change, error)
	ChangeByKey(ctx context.Context, operator, key string) (change.Change, error)
	Change(ctx context.Context, id uint64) (change.Change, error)
	Changes(ctx context.Context, f change.Filter) ([]change.Change, error)
	SaveChange(ctx context.Context, c change.Change, from change.State, e ...journal.Entry) error
	SaveRunning(ctx context.Context, c change.Change, holder string, e ...journal.Entry) error
	Claim(ctx context.Context, c change.Change, from change.State, read time.Time, holder string, lease time.Duration,
		e ...journal.Entry) error
	Renew(ctx context.Context, id uint64, holder string, lease time.Duration) error
	Finish(ctx context.Context, c change.Change, holder string, e ...journal.Entry) error
	Secrets(ctx context.Context, id uint64) ([]change.Secret, error)
	TakeSecrets(ctx context.Context, id uint64, e journal.Entry) ([]change.Secret, error)
	ForgetSecrets(ctx context.Context) error
	AskStop(ctx context.Context, id uint64, operator string, e journal.Entry) error
	StopAsked(ctx context.Context, id uint64) (operator string, err error)
	Orphans(ctx context.Context, holder string, lease time.Duration, most int) ([]change.Change, error)
}

// Fleet is what the runner needs of the servers.
type Fleet interface {
	Open(ctx context.Context, name string) (catalog.Server, engine.Engine, engine.Server, error)
	RefreshIdentity(ctx context.Context, operator, name string) error
}

// Watch is what the runner needs of whoever watches the servers.
type Watch interface {
	// Use is when somebody was last seen in a database or as an account.
	Use(server string, x catalog.Used) catalog.Use
	// Gone tells that a database or an account was dropped.
	Gone(server string, x catalog.Used)
	// Renamed tells that what was used under one name has another.
	Renamed(server string, from, to catalog.Used)
}

// Scripts is what the runner needs of whoever keeps scripts.
type Scripts interface {
	// Script is what is known of one; [record.ErrNotFound] if there is none.
	Script(ctx context.Context, id string) (script.Kept, error)
	Open(ctx context.Context, id string) (io.ReadCloser, error)
	Remove(ctx context.Context, id string) error
}

// Exports is what the runner needs of whoever keeps exports.
type Exports interface {
	Keep(ctx context.Context, operator, server, subject string, of change.Export, write func(io.Writer) error,
		read func(io.Reader) ([]string, error)) (string, error)
}

// Config is what a runner is made of. Zero durations take the defaults.
type Config struct {
	Store  Store
	Fleet  Fleet
	Events *events.Hub
	Log    *slog.Logger
	// Watch tells when a database or an account was last used; nil: nobody watches.
	Watch Watch
	// Scripts keeps the scripts by which databases are filled; nil: there are none.
	Scripts Scripts
	// Exports keeps databases that are exported before they are dropped; nil: nobody does.
	Exports Exports
	// PlanTime bounds reading and planning (default 20 s), StepTime a step
	// that does not say otherwise (30 s), ProbeTime the search for an unknown
	// outcome (2 min), UndoTime the tries to take a step back while the server
	// cannot be reached (10 min): a gate must not stay shut. Lease is how long a
	// claim outlives its service (15 s).
	PlanTime, StepTime, ProbeTime, UndoTime, Lease time.Duration
}

// maxRunning bounds the changes that run at once.
const maxRunning = 64

// Runner carries changes out. It may be used by many goroutines.
type Runner struct {
	Config
	name  string // of this service, made up at its start
	holds atomic.Uint64
	slots chan struct{}

	base   context.Context // ends when steps in hand must end at once
	cancel context.CancelFunc
	mu     sync.Mutex // guards closed and stops
	// stops are the running changes of this service, each to be told to stop.
	stops map[uint64]*stopper
	// closing is closed when no further step is to begin.
	closing chan struct{}
	closed  bool
	running sync.WaitGroup
}

// New makes a runner and starts looking for changes that a dead service left.
// Shutdown ends it.
func New(cfg Config) *Runner {
	def := func(d *time.Duration, to time.Duration) {
		if *d == 0 {
			*d = to
		}
	}
	def(&cfg.PlanTime, 20*time.Second)
	def(&cfg.StepTime, 30*time.Second)
	def(&cfg.ProbeTime, 2*time.Minute)
	def(&cfg.UndoTime, 10*time.Minute)
	def(&cfg.Lease, 15*time.Second)
	if cfg.Log == nil {
		cfg.Log = slog.New(slog.DiscardHandler)
	}
	r := &Runner{Config: cfg, name: rand.Text(), slots: make(chan struct{}, maxRunning), closing: make(chan struct{}),
		stops: map[uint64]*stopper{}}
	r.base, r.cancel = context.WithCancel(context.Background())
	r.running.Go(r.watchOrphans)
	return r
}

// newHolder is a name by which a claim is held that no claim was held by before.
func (r *Runner) newHolder() string { return fmt.Sprintf("%s-%d", r.name, r.holds.Add(1)) }

// Shutdown lets the step in hand of every change end, and leaves the rest to
// the next service. When ctx ends first, steps are cut off: their outcome is
// unknown then, and will be probed.
func (r *Runner) Shutdown(ctx context.Context) {
	r.mu.Lock()
	if !r.closed {
		r.closed = true
		close(r.closing)
	}
	r.mu.Unlock()
	done := make(chan struct{})
	go func() {
		r.running.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-ctx.Done():
	}
	r.cancel()
	<-done
}

// Draft briefs an intent. Nothing on the server is altered. With an idempotency
// key that the operator used before, the change made then comes back. given are
// the passwords that the operator chose, by account; the others are generated.
func (r *Runner) Draft(ctx context.Context, operator, key string, in change.Intent,
	given map[string]secret.Text) (change.Change, error) {
	if key != "" {
		if c, err := r.byKey(ctx, operator, key, in); !errors.Is(err, record.ErrNotFound) {
			return c, err
		}
	}
	in, err := r.checked(ctx, in)
	if err != nil {
		return change.Change{}, err
	}
	brief, err := r.Brief(ctx, in)
	if err != nil {
		return change.Change{}, err
	}
	c := change.Change{Intent: in, Brief: brief, State: change.Draft, Operator: operator, Created: now()}
	c.Prepare()
	if c.Secrets, err = secretsFor(in, given); err != nil {
		return change.Change{}, err
	}
	if brief.Outcome == change.Nothing && !brief.Stopped() {
		// What was asked for is there: nobody has to decide anything.
		c.Started = c.Created
		c.Close(change.NextOp{Op: change.Finish, End: change.Done}, c.Created)
		c.Secrets = nil
	}
	c, err = r.Store.AddChange(ctx, c, key, entry(c, operator, "change.draft", map[string]any{
		"intent": in, "fingerprint": brief.Fingerprint, "stops": brief.Codes(change.Stop),
		"cautions": brief.Codes(change.Caution)}))
	if errors.Is(err, record.ErrExists) && key != "" {
		return r.byKey(ctx, operator, key, in)
	}
	if err == nil {
		r.publish(c)
	}
	return c, err
}

// secretsFor gathers the passwords that an intent needs.
func secretsFor(in change.Intent, given map[string]secret.Text) ([]change.Secret, error) {
	var out []change.Secret
	for _, need := range in.Secrets() {
		k := change.Secret{Account: need.Account.Name, Given: need.Given}
		if need.Given {
			text, ok := given[need.Account.Name]
			if !ok {
				return nil, fmt.Errorf("%w: the password of %s is missing", change.ErrIntent, need.Account)
			}
			k.Text = text
		} else {
			text, err := policy.AccountPasswords.Generate(rand.Reader)
			if err != nil {
				return nil, err
			}
			k.Text = secret.New(text)
		}
		out = append(out, k)
	}
	return out, nil
}

// byKey finds the change that an operator made with a key, if it asked for the
// same: a key that is used again for something else is a mistake of the caller.
func (r *Runner) byKey(ctx context.Context, operator, key string, in change.Intent) (change.Change, error) {
	c, err := r.Store.ChangeByKey(ctx, operator, key)
	if err == nil {
		in = r.sameScript(ctx, in, c)
	}
	if err == nil && !c.Intent.Same(in) {
		return c, fmt.Errorf("%w: it stands for change %d, %s", change.ErrKeyReused, c.ID, c.Brief.Target)
	}
	return c, err
}

// Brief reads the server and plans, and keeps nothing: a look before asking.
func (r *Runner) Brief(ctx context.Context, in change.Intent) (change.Brief, error) {
	return r.brief(ctx, in, func(s engine.Server) engine.Server { return s })
}

// checked is an intent as the engine of its server takes it: with every option known
// to it, and its value written as its type says.
func (r *Runner) checked(ctx context.Context, in change.Intent) (change.Intent, error) {
	if err := in.Check(); err != nil {
		return in, err
	}
	_, eng, _, err := r.Fleet.Open(ctx, in.Server)
	if err != nil {
		return in, err
	}
	return engine.CheckIntent(in, eng.Describe())
}

// brief reads by the connections that which picks: a change that was decided on
// must not wait behind those who only look.
func (r *Runner) brief(ctx context.Context, in change.Intent, which func(engine.Server) engine.Server) (change.Brief,
	error) {
	ctx, cancel := context.WithTimeout(ctx, r.PlanTime)
	defer cancel()
	_, eng, access, err := r.Fleet.Open(ctx, in.Server)
	if err != nil {
		return change.Brief{}, err
	}
	if in, err = engine.CheckIntent(in, eng.Describe()); err != nil {
		return change.Brief{}, err
	}
	snap, err := which(access).Snapshot(ctx, in)
	if err != nil {
		return change.Brief{}, err
	}
	if in.Kind == change.FillDatabase && r.Scripts != nil {
		k, err := r.Scripts.Script(ctx, in.Database.Script)
		switch {
		case err == nil && k.Server == in.Server:
			snap.Script = &k
		case err != nil && !errors.Is(err, record.ErrNotFound):
			return change.Brief{}, err
		}
	}
	if x, any := used(in, snap); any && r.Watch != nil {
		snap.Use = r.Watch.Use(in.Server, x)
	}
	b, err := eng.Plan(in, snap)
	if err == nil && slices.Contains(b.Codes(change.Stop), change.NameTaken) {
		b = r.tellMaker(ctx, b)
	}
	return b, err
}

// used is what an intent would drop, as it was found.
func used(in change.Intent, snap catalog.Snapshot) (catalog.Used, bool) {
	switch in.Kind {
	case change.DropDatabase, change.SetAside, change.BringBack:
		if snap.Target != nil {
			return catalog.Used{Database: snap.Target.Name}, true
		}
	case change.DropAccount, change.SetAsideAccount:
		if snap.Access == nil {
			break
		}
		if found := catalog.Candidates(snap.Access.Accounts, in.Account.Principal()); len(found) == 1 {
			return catalog.Used{Account: found[0].Principal}, true
		}
	}
	return catalog.Used{}, false
}

// tellMaker adds who made the thing that is in the way, if a change did.
func (r *Runner) tellMaker(ctx context.Context, b change.Brief) change.Brief {
	ended, err := r.Store.Changes(ctx, change.Filter{Target: b.Target, State: change.Done, Limit: change.MakerLimit})
	m, found := change.CreatedBy(ended, "")
	if err != nil || !found {
		return b
	}
	b.Find(change.Note, change.MadeMeanwhile, "Look at that change.",
		"%s was created by %s with change %d, at %s.", b.Target,
		m.RunBy, m.ID, m.Ended.UTC().Format("2006-01-02 15:04:05 UTC")).
		Offer(remedy.Command("change.show", strconv.FormatUint(m.ID, 10)))
	return b.Seal()
}

// Run decides that a change is to run. It
// comes back as soon as the change is running; Wait waits for its end.
func (r *Runner) Run(ctx context.Context, operator string, id uint64, d change.Decision) (change.Change, error) {
	for {
		c, err := r.run(ctx, operator, id, d)
		if !errors.Is(err, record.ErrMoved) || ctx.Err() != nil {
			return c, err
		}
		// Another change of this target ended while we read: read again.
	}
}

func (r *Runner) run(ctx context.Context, operator string, id uint64, d change.Decision) (change.Change, error) {
	c, err := r.Store.Change(ctx, id)
	if err != nil {
		return c, err
	}
	from := c.State
	if err := r.decidable(ctx, &c, operator); err != nil {
		return c, err
	}
	read := now()
	w := &work{}
	begins := false
	defer func() {
		if !begins {
			w.end(true)
		}
	}()
	latest, err := r.brief(ctx, c.Intent, w.on)
	if err != nil {
		return c, err
	}
	if latest.Fingerprint != c.Brief.Fingerprint || c.Brief.Worse(latest) ||
		d.Fingerprint != "" && d.Fingerprint != c.Brief.Fingerprint {
		return c, r.rebrief(ctx, c, operator, latest)
	}
	begun, err := c.Start(operator, d, now())
	if err != nil {
		return c, err
	}
	if r.isClosing() {
		return c, change.ErrClosing
	}
	select {
	case r.slots <- struct{}{}:
	default:
		return c, change.ErrFull
	}
	news := []journal.Entry{entry(c, operator, "change.run",
		map[string]any{"accepted": c.Accepted, "fingerprint": c.Brief.Fingerprint})}
	if begun.Op == change.Do {
		news = append(news, stepEntry(c, begun, "do.begin"))
	}
	holder := r.newHolder()
	err = r.Store.Claim(ctx, c, from, read, holder, r.Lease, news...)
	if err != nil {
		<-r.slots
		return c, err
	}
	r.publish(c)
	// The caller keeps c, the goroutine gets steps of its own.
	if begins = r.spawn(copied(c), begun, holder, w) == nil; !begins {
		// The service began to stop in between: the change is decided and
		// claimed, and the next service takes it over.
		<-r.slots
	}
	return c, nil
}

// decidable checks that a change can still be let run.
func (r *Runner) decidable(ctx context.Context, c *change.Change, operator string) error {
	switch c.State {
	case change.Draft, change.Waiting, change.Ready:
	default:
		return fmt.Errorf("%w: change %d is %s", change.ErrState, c.ID, c.State)
	}
	life := policy.DraftLife
	if c.State == change.Waiting {
		life = policy.WaitLife
	}
	if now().Sub(c.Created) > life {
		from := c.State
		c.State, c.Ended, c.Result = change.Expired, now(), "not run in time"
		if err := r.Store.SaveChange(ctx, *c, from, entry(*c, operator, "change.expire", nil)); err != nil {
			return err
		}
		r.publish(*c)
		r.dropScript(ctx, *c)
		return change.ErrExpired
	}
	return nil
}

// rebrief gives a change its new brief, under a new number, and withdraws the
// old one: what was decided on is never rewritten.
func (r *Runner) rebrief(ctx context.Context, c change.Change, operator string, b change.Brief) error {
	differences := change.Compare(c.Brief, b)
	if len(differences) == 0 {
		differences = []string{"the brief that was decided on is not the one on record"}
	}
	fresh := change.Change{Intent: c.Intent, Brief: b, State: change.Draft, Operator: c.Operator, Created: now()}
	if c.State == change.Waiting {
		fresh.State = change.Waiting
	}
	fresh.Prepare()
	kept, err := r.Store.Secrets(ctx, c.ID)
	if err != nil {
		return err
	}
	fresh.Secrets = kept
	fresh, err = r.Store.AddChange(ctx, fresh, "",
		entry(fresh, operator, "change.draft",
			map[string]any{"instead_of": c.ID, "fingerprint": b.Fingerprint, "differences": differences}))
	if err != nil {
		return err
	}
	from := c.State
	c.State, c.Ended = change.Withdrawn, now()
	c.Result = fmt.Sprintf("outdated: replaced by change %d", fresh.ID)
	if err := r.Store.SaveChange(ctx, c, from,
		entry(c, operator, "change.outdated", map[string]any{"instead": fresh.ID})); err != nil {
		return err
	}
	r.publish(c)
	r.publish(fresh)
	return &change.Outdated{Change: fresh, Differences: differences}
}

// Submit asks others to let a change run: from then on it waits for them.
func (r *Runner) Submit(ctx context.Context, operator string, id uint64) (change.Change, error) {
	c, err := r.Store.Change(ctx, id)
	if err != nil {
		return c, err
	}
	if c.Brief.Stopped() {
		return c, change.ErrStopped
	}
	return r.move(ctx, c, change.Waiting, "",
		entry(c, operator, "change.submit", map[string]any{"fingerprint": c.Brief.Fingerprint}))
}

// Decline ends a change that waits, with the reason why.
func (r *Runner) Decline(ctx context.Context, operator string, id uint64, reason string) (change.Change, error) {
	c, err := r.Store.Change(ctx, id)
	if err != nil {
		return c, err
	}
	return r.move(ctx, c, change.Declined, "declined by "+operator+": "+reason,
		entry(c, operator, "change.decline", map[string]any{"reason": reason}))
}

// move takes a change that has not begun to another state.
func (r *Runner) move(ctx context.Context, c change.Change, to change.State, result string,
	e journal.Entry) (change.Change, error) {
	from := c.State
	if err := from.Move(to); err != nil {
		return c, err
	}
	if c.State, c.Result = to, result; to.Ended() {
		c.Ended = now()
	}
	if err := r.Store.SaveChange(ctx, c, from, e); err != nil {
		return c, err
	}
	r.publish(c)
	if to.Ended() {
		r.dropScript(ctx, c)
	}
	return c, nil
}

// Reveal shows the generated passwords of a change that is done, once, to the
// operator who asked for it.
func (r *Runner) Reveal(ctx context.Context, operator string, id uint64) ([]change.Secret, error) {
	c, err := r.Store.Change(ctx, id)
	switch {
	case err != nil:
		return nil, err
	case c.Operator != operator:
		return nil, &change.NotYours{Change: id, Operator: c.Operator}
	case c.State != change.Done:
		return nil, fmt.Errorf("%w: change %d is %s, and passwords are shown when it is done", change.ErrState, id,
			c.State)
	}
	return r.Store.TakeSecrets(ctx, id, entry(c, operator, "change.reveal", nil))
}

// Withdraw ends a change that has not begun to run.
func (r *Runner) Withdraw(ctx context.Context, operator string, id uint64) (change.Change, error) {
	c, err := r.Store.Change(ctx, id)
	if err != nil {
		return c, err
	}
	return r.move(ctx, c, change.Withdrawn, "withdrawn by "+operator, entry(c, operator, "change.withdraw", nil))
}

// Wait waits until a change has ended, or ctx ends, and returns it as it is.
func (r *Runner) Wait(ctx context.Context, id uint64) (change.Change, error) {
	sub := r.Events.Subscribe()
	defer sub.Close()
	told := sub.C
	// Another service may run it, of which no events come, and the events end
	// when this one stops: look now and then.
	look := time.NewTicker(2 * time.Second)
	defer look.Stop()
	for {
		c, err := r.Store.Change(context.WithoutCancel(ctx), id)
		if err != nil || c.State.Ended() || ctx.Err() != nil {
			return c, err
		}
		for again := false; !again; {
			select {
			case e, open := <-told:
				if !open {
					told = nil // only looking is left
				}
				if e.Change != nil && e.Change.ID == id && e.Change.State.Ended() {
					return *e.Change, nil
				}
			case <-look.C:
				again = true
			case <-ctx.Done():
				return c, nil
			}
		}
	}
}

func (r *Runner) publish(c change.Change) {
	c = copied(c)
	r.mu.Lock()
	if s, here := r.stops[c.ID]; here {
		s.mu.Lock()
		s.last = c
		s.mu.Unlock()
	}
	r.mu.Unlock()
	r.Events.Publish(events.Event{Change: &c})
}

// now is the clock of the records: UTC, whole microseconds.
func now() time.Time { return time.Now().UTC().Truncate(time.Microsecond) }

// entry is a journal entry about a change.
func entry(c change.Change, operator, action string, detail map[string]any) journal.Entry {
	e := journal.Entry{At: now(), Operator: operator, Action: action, Subject: c.Brief.Target, Change: c.ID}
	if detail != nil {
		if text, err := json.Marshal(detail); err == nil {
			e.Detail = string(text)
		}
	}
	return e
}

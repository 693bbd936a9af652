package enginetest

import (
	"context"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/handover"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// Fault is what a fake server does wrong at a step.
type Fault string

// The faults.
const (
	// Refuse: the server answers with an error, nothing took effect.
	Refuse Fault = "refuse"
	// CutBefore: the line is cut before the statement arrives.
	CutBefore Fault = "cut_before"
	// CutAfter: the line is cut after the statement took effect.
	CutAfter Fault = "cut_after"
	// Hang: no answer until the caller gives up; nothing took effect.
	Hang Fault = "hang"
)

// Fake is an engine in memory that can be told to go wrong. It has databases
// with a name, an owner and a comment, and three steps to make one.
type Fake struct {
	mu        sync.Mutex // guards all below
	databases map[string]catalog.Database
	nextKey   uint64
	faults    map[string]Fault // by "do kind", "undo kind", "probe kind"
	identity  string
	hung      bool
	sessions  []catalog.Session
	// stubborn sessions do not go when they are ended.
	stubborn map[int64]bool
	// Did lists every action: "do create_database", "probe …", "undo …".
	did []string
}

// NewFake makes a fake with a database of its own.
func NewFake() *Fake {
	f := &Fake{databases: map[string]catalog.Database{}, faults: map[string]Fault{}, identity: "fake 1",
		stubborn: map[int64]bool{}}
	f.Put("lobby", "admin")
	return f
}

// Put makes a database behind Genarch's back.
func (f *Fake) Put(name, owner string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.put(name, owner, "")
}

func (f *Fake) put(name, owner, comment string) catalog.Database {
	f.nextKey++
	none, zero := 0, int64(0)
	d := catalog.Database{Name: name, Owner: owner, Comment: comment, Encoding: "UTF8", Collation: "C",
		Key: fmt.Sprint("made ", f.nextKey), Tables: &none, Sessions: &none, Size: &zero}
	f.databases[name] = d
	return d
}

// Connect puts a client's session into a database; a stubborn one does not go
// when it is ended.
func (f *Fake) Connect(number int64, database string, written, stubborn bool) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sessions = append(f.sessions,
		catalog.Session{ID: catalog.SessionID{Number: number, Mark: "a"}, Kind: catalog.ClientSession,
			Database: database,
			Account:  catalog.Principal{Name: "app"}, Application: "desk", Activity: catalog.SessionIdle,
			Written:    written,
			StateSince: time.Now()})
	if stubborn {
		f.stubborn[number] = true
	}
}

// Disconnect lets a session leave by itself.
func (f *Fake) Disconnect(number int64) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.sessions = slices.DeleteFunc(f.sessions, func(s catalog.Session) bool { return s.ID.Number == number })
}

// CloseGate closes the gate of a database, as a service that died has left it.
func (f *Fake) CloseGate(name string) {
	f.mu.Lock()
	defer f.mu.Unlock()
	d := f.databases[name]
	d.Closed = true
	f.databases[name] = d
}

// GateOpen reports whether a database is there and lets people in.
func (f *Fake) GateOpen(name string) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	d, there := f.databases[name]
	return there && !d.Closed
}

// Fail makes every later "do KIND", "probe KIND" or "undo KIND" go wrong.
func (f *Fake) Fail(action string, fault Fault) {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.faults[action] = fault
}

// Heal takes all faults away.
func (f *Fake) Heal() {
	f.mu.Lock()
	defer f.mu.Unlock()
	clear(f.faults)
	f.hung = false
}

// HangAll makes the server accept everything and answer nothing.
func (f *Fake) HangAll() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.hung = true
}

// BecomeAnother gives the server another identity, as if it had been replaced.
func (f *Fake) BecomeAnother() {
	f.mu.Lock()
	defer f.mu.Unlock()
	f.identity += "'"
}

// Did lists what was done, in order.
func (f *Fake) Did() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Clone(f.did)
}

// Names lists the databases, sorted.
func (f *Fake) Names() []string {
	f.mu.Lock()
	defer f.mu.Unlock()
	return slices.Sorted(maps.Keys(f.databases))
}

// Describe says that the fake passes for PostgreSQL, and knows two options.
func (f *Fake) Describe() *engine.Description { return &fakeDescription }

var fakeDescription = engine.Description{ID: "fake", Title: "Fake", Port: 1,
	Names: naming.Limits{MaxLength: 63, Counted: naming.Bytes},
	Fields: map[change.Part][]engine.Field{change.PartDatabase: {
		{Name: "owner", Title: "Owner", Type: engine.Text, In: engine.AtCreate},
		{Name: "comment", Title: "Comment", Type: engine.Text, In: engine.AtCreate}}}}

// Rules: nobody holds anything on a fake.
func (f *Fake) Rules(*access.Graph) access.Rules { return nil }

// Prepare: a fake has one login.
func (f *Fake) Prepare(catalog.Principal) []engine.Right { return nil }

// Script: there are none.
func (f *Fake) Script(io.Reader) script.Splitter { return script.None{} }

// Connections: nobody connects to a fake.
func (f *Fake) Connections(handover.Login) []handover.Form { return nil }

// Open gives access; the fake has nothing to connect to.
func (f *Fake) Open(t engine.Target) (engine.Server, error) { return &fakeServer{f, t}, nil }

// Plan briefs the making of a database.
func (f *Fake) Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error) {
	if err := in.Check(); err != nil {
		return change.Brief{}, err
	}
	b := planning.NewBrief(in, snap)
	if in.Database == nil {
		b.Find(change.Stop, change.ServerHasIdentity, "", "A fake needs no mark.")
		return b.Seal(), nil
	}
	spec := *in.Database
	if in.Kind == change.DropDatabase {
		b.Summary, b.Confirm = "drop database "+spec.Name, spec.Name
		args := map[string]string{"name": spec.Name}
		clear := planning.Clearing(&b, snap, in.Clearing.Rules(clearing.Target{Database: spec.Name}), spec.Name, "END")
		b.Steps = []change.Step{
			{Kind: "close_gate", Title: "close the gate", Statement: "CLOSE " + spec.Name, Undo: "OPEN " + spec.Name,
				Args: args},
			clear,
			{Kind: "drop_database", Title: "drop it", Statement: "DROP " + spec.Name, Repair: "MEND " + spec.Name,
				Args: args},
			{Kind: "verify_gone", Title: "read back", ReadOnly: true, Args: args},
		}
		return b.Seal(), nil
	}
	b.Summary = "create database " + spec.Name
	if planning.Name(&b, spec, snap, f.Describe().Names) {
		b.Outcome = change.Nothing
		return b.Seal(), nil
	}
	args := map[string]string{"name": spec.Name, "owner": spec.Options.Text("owner"),
		"comment": spec.Options.Text("comment")}
	b.Steps = []change.Step{
		{Kind: "create_database", Title: "create it", Statement: "CREATE " + spec.Name, Undo: "DROP " + spec.Name,
			Args: args},
		{Kind: "comment", Title: "comment it", Statement: "COMMENT " + spec.Name, Undo: "UNCOMMENT " + spec.Name,
			Args: args},
		{Kind: change.Verify, Title: "read back", ReadOnly: true, Args: args},
	}
	return b.Seal(), nil
}

type fakeServer struct {
	f      *Fake
	target engine.Target
}

func (s *fakeServer) Close() {}

// ForChange: the fake has no connections.
func (s *fakeServer) ForChange() (engine.Server, func(bool)) { return s, func(bool) {} }

// Sender: whatever the fake does, it has done when it answers or cuts the line.
func (s *fakeServer) Sender(ctx context.Context, _ catalog.SessionID, _ bool) (engine.SenderState, error) {
	_, err := s.enter(ctx, "")
	return engine.SenderGone, err
}

// enter waits while the server hangs, checks the identity, and notes the action.
func (s *fakeServer) enter(ctx context.Context, action string) (Fault, error) {
	s.f.mu.Lock()
	hung, id := s.f.hung, s.f.identity
	fault := s.f.faults[action]
	if action != "" {
		s.f.did = append(s.f.did, action)
	}
	s.f.mu.Unlock()
	if hung || fault == Hang {
		<-ctx.Done()
		return fault, engine.Classify(action, ctx.Err(), true)
	}
	known := s.target.Server.Identity
	if found := (catalog.Identity{Key: id}); !s.target.SkipIdentityCheck && known.Known() &&
		len(known.Differences(found)) > 0 {
		return fault, &engine.IdentityError{Server: s.target.Server.Name, Known: known, Found: found}
	}
	return fault, ctx.Err()
}

func (s *fakeServer) Inspect(ctx context.Context) (catalog.Instance, error) {
	if _, err := s.enter(ctx, ""); err != nil {
		return catalog.Instance{}, err
	}
	s.f.mu.Lock()
	defer s.f.mu.Unlock()
	return catalog.Instance{Engine: "fake", Version: "1.0", Number: 10000,
		Identity: catalog.Identity{Key: s.f.identity},
		Read:     time.Now().UTC(), Encoding: "UTF8", Collation: "C", Sessions: catalog.Headroom{Open: 1, Allowed: 10},
		Login: catalog.Login{Name: "admin", Superuser: true,
			Abilities: []catalog.Ability{{Code: "create_database", Title: "create databases", Allowed: true},
				{Code: "see_sessions", Title: "see sessions", Allowed: true},
				{Code: "end_sessions", Title: "end sessions", Allowed: true}}}}, nil
}

func (s *fakeServer) Databases(ctx context.Context) (catalog.Listing, error) {
	if _, err := s.enter(ctx, ""); err != nil {
		return catalog.Listing{}, err
	}
	s.f.mu.Lock()
	defer s.f.mu.Unlock()
	return catalog.Listing{Read: time.Now().UTC(), Databases: slices.SortedFunc(maps.Values(s.f.databases),
		func(a, b catalog.Database) int { return strings.Compare(a.Name, b.Name) })}, nil
}

func (s *fakeServer) Database(ctx context.Context, name string) (catalog.Database, error) {
	if _, err := s.enter(ctx, ""); err != nil {
		return catalog.Database{}, err
	}
	s.f.mu.Lock()
	defer s.f.mu.Unlock()
	d, found := s.f.databases[name]
	if !found {
		return d, fmt.Errorf("database %s: %w", name, engine.ErrNotFound)
	}
	return d, nil
}

func (s *fakeServer) Choices(ctx context.Context, _ ...string) (catalog.Choices, error) {
	_, err := s.enter(ctx, "")
	return catalog.Choices{"encodings": {{Name: "UTF8", Default: true}}, "collations": {{Name: "C", Default: true}}},
		err
}

// Access shows one administrator, who owns everything.
func (s *fakeServer) Access(ctx context.Context, _ catalog.AccessQuery) (catalog.Access, error) {
	a := catalog.Access{Accounts: []catalog.Account{{Principal: catalog.Principal{Name: "admin"}, Login: true,
		Super: true, ConnectionLimit: -1}}, Read: time.Now().UTC()}
	list, err := s.Databases(ctx)
	for _, d := range list.Databases {
		a.Databases = append(a.Databases,
			catalog.AccessDatabase{Name: d.Name, Owner: d.Owner, Interior: &catalog.ObjectGrants{Read: a.Read}})
	}
	return a, err
}

func (s *fakeServer) Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server}
	var err error
	if snap.Instance, err = s.Inspect(ctx); err != nil || in.Database == nil {
		return snap, err
	}
	snap.Names = s.f.Names()
	if d, err := s.Database(ctx, in.Database.Name); err == nil {
		snap.Target = &d
	}
	list, err := s.Sessions(ctx, catalog.SessionQuery{})
	snap.Connected = list.Sessions
	return snap, err
}

// Sessions lists those that the test has connected.
func (s *fakeServer) Sessions(ctx context.Context, _ catalog.SessionQuery) (catalog.SessionList, error) {
	fault, err := s.enter(ctx, "look")
	if err == nil && fault == CutBefore {
		err = &engine.Error{Op: "look", Kind: engine.Unknown, Text: "the line was cut"}
	}
	s.f.mu.Lock()
	defer s.f.mu.Unlock()
	return catalog.SessionList{Sessions: slices.Clone(s.f.sessions), Read: time.Now().UTC()}, err
}

// End ends sessions, except the stubborn ones.
func (s *fakeServer) End(ctx context.Context, ids []catalog.SessionID, _ catalog.Ending) (map[catalog.SessionID]string,
	error) {
	return nil, s.act(ctx, "end", func() error {
		s.f.sessions = slices.DeleteFunc(s.f.sessions,
			func(x catalog.Session) bool { return slices.Contains(ids, x.ID) && !s.f.stubborn[x.ID.Number] })
		return nil
	})
}

// act does f unless a fault says otherwise.
func (s *fakeServer) act(ctx context.Context, action string, f func() error) error {
	fault, err := s.enter(ctx, action)
	if err != nil {
		return err
	}
	s.f.mu.Lock()
	defer s.f.mu.Unlock()
	switch fault {
	case Refuse:
		return &engine.Error{Op: action, Kind: engine.Refused, Code: "F0001", Text: "the fake refuses"}
	case CutBefore:
		return &engine.Error{Op: action, Kind: engine.Unknown, Text: "the line was cut"}
	}
	if err := f(); err != nil {
		return err
	}
	if fault == CutAfter {
		return &engine.Error{Op: action, Kind: engine.Unknown, Text: "the line was cut"}
	}
	return nil
}

func (s *fakeServer) Do(ctx context.Context, step change.Step) (engine.Report, error) {
	var rep engine.Report
	name := step.Args["name"]
	if !step.ReadOnly {
		if err := step.Announce(change.Sending{Session: catalog.SessionID{Number: 7, Mark: "f"}}); err != nil {
			return rep, err
		}
	}
	err := s.act(ctx, "do "+step.Kind, func() error {
		d, found := s.f.databases[name]
		switch {
		case step.Kind == "create_database" && found:
			return &engine.Error{Op: "create", Kind: engine.Refused, Code: "42P04", Text: "it exists"}
		case step.Kind == "create_database":
			made := s.f.put(name, step.Args["owner"], "")
			rep.Learned = map[string]string{"key": made.Key}
		case step.Kind == "verify_gone" && !found:
		case !found:
			return &engine.Error{Op: step.Kind, Kind: engine.Differs, Text: "it is not there"}
		case step.Kind == "comment":
			d.Comment = step.Args["comment"]
			s.f.databases[name] = d
			rep.Messages = []change.Message{{Severity: "NOTICE", Text: "commented"}}
		case step.Kind == "close_gate":
			d.Closed = true
			s.f.databases[name] = d
		case step.Kind == "drop_database":
			delete(s.f.databases, name)
		case step.Kind == "verify_gone":
			return &engine.Error{Op: "verify", Kind: engine.Differs, Text: "it is still there"}
		case d.Comment != step.Args["comment"]:
			return &engine.Error{Op: "verify", Kind: engine.Differs, Text: "the comment differs"}
		}
		return nil
	})
	return rep, err
}

func (s *fakeServer) Probe(ctx context.Context, step change.Step) (took bool, err error) {
	err = s.act(ctx, "probe "+step.Kind, func() error {
		d, found := s.f.databases[step.Args["name"]]
		switch step.Kind {
		case "close_gate":
			took = found && d.Closed
			return nil
		case "drop_database", "verify_gone":
			took = !found
			return nil
		}
		took = found && (step.Kind == "create_database" || d.Comment == step.Args["comment"])
		return nil
	})
	return took, err
}

func (s *fakeServer) Undo(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.act(ctx, "undo "+step.Kind, func() error {
		name := step.Args["name"]
		d, found := s.f.databases[name]
		if step.Kind == "create_database" {
			delete(s.f.databases, name)
		} else if step.Kind == "drop_database" {
			// mended: a fake has lost nothing
		} else if step.Kind == "close_gate" && found {
			d.Closed = false
			s.f.databases[name] = d
		} else if found {
			d.Comment = ""
			s.f.databases[name] = d
		}
		return nil
	})
}

package runner

import (
	"context"
	"fmt"
	"sync"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// simDatabase is a database of the simulated server.
type simDatabase struct {
	key           int
	open          bool
	comment       string
	made, dropped int
}

// simAccount is an account of it: what it holds can be given away and back.
type simAccount struct {
	there, locked, holds bool
}

// simSession is a session of Genarch's that sends statements: one, or those of one
// change, one after the other.
type simSession struct {
	state   engine.SenderState
	uncut   bool
	kept    bool // its client sends more by it
	busy    bool // something was sent that it is not through with
	cancel  bool // it was ended before its effect
	answers chan error
}

// simServer is the database server. Statements take time, and go on when whoever
// sent them is gone.
type simServer struct {
	sim *sim

	mu        sync.Mutex // guards all below
	databases map[string]*simDatabase
	accounts  map[string]*simAccount
	clients   map[string][]catalog.Session
	sessions  map[int64]*simSession
	next      int64
	keys      int
	identity  string
	// down: it cannot be reached; replaced: another one can.
	down, replaced bool
	working        sync.WaitGroup
}

// simFleet is how one service reaches the server.
type simFleet struct {
	service *simService
}

func (f simFleet) RefreshIdentity(context.Context, string, string) error { return nil }

// Open reads the registration, which is kept with the records.
func (f simFleet) Open(ctx context.Context, name string) (catalog.Server, engine.Engine, engine.Server, error) {
	if err := f.service.record(ctx, "open"); err != nil {
		return catalog.Server{}, nil, nil, fmt.Errorf("server %s: %w", name, err)
	}
	return catalog.Server{Name: name}, simEngine{}, simAccess{service: f.service}, nil
}

type simEngine struct{ engine.Engine }

func (simEngine) Describe() *engine.Description { return &simDescription }

var simDescription = engine.Description{ID: "fake", Fields: map[change.Part][]engine.Field{
	change.PartDatabase: {{Name: "comment", Type: engine.Text, In: engine.AtCreate}}}}

// Plan lays out the same steps as the real engines do.
func (simEngine) Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error) {
	b := change.Brief{Target: in.Target().String(), Summary: string(in.Kind), Identity: snap.Instance.Identity.Key}
	step := func(kind string, args map[string]string, alter func(*change.Step)) {
		s := change.Step{Kind: kind, Title: kind, Statement: kind, Args: args}
		if alter != nil {
			alter(&s)
		}
		b.Steps = append(b.Steps, s)
	}
	undo := func(s *change.Step) { s.Undo = "undo " + s.Kind }
	reads := func(s *change.Step) { s.ReadOnly = true }
	clear := func(name string) {
		rules := in.Clearing.Rules(clearing.Target{Database: name})
		step(change.ClearSessions, nil, func(s *change.Step) { s.Clear, s.Irreversible = &rules, true })
	}
	switch in.Kind {
	case change.CreateDatabase:
		if snap.Target != nil {
			b.Find(change.Stop, change.NameTaken, "", "it is there")
		}
		args := map[string]string{"name": in.Database.Name, "comment": in.Database.Options.Text("comment")}
		step("create", args, undo)
		step("comment", args, undo)
		step("verify_create", args, reads)
	case change.DropDatabase, change.RenameDatabase:
		if snap.Target == nil {
			b.Find(change.Stop, change.DatabaseAbsent, "", "it is not there")
			break
		}
		args := map[string]string{"name": in.Database.Name, "key": fmt.Sprint(snap.Target.Key),
			"new": in.Database.NewName}
		step("gate", args, undo)
		clear(in.Database.Name)
		if in.Kind == change.DropDatabase {
			step("drop", args, func(s *change.Step) { s.Uncut, s.Repair = true, "mend" })
			step("verify_drop", args, reads)
			break
		}
		step("rename", args, undo)
		step("open", args, func(s *change.Step) { s.Irreversible = true })
		step("verify_rename", args, reads)
	case change.DropAccount:
		args := map[string]string{"name": in.Account.Name}
		step("lock", args, undo)
		step("hand_over", args, undo)
		step("drop_role", args, nil)
		step("verify_role", args, reads)
	}
	return b.Seal(), nil
}

// simAccess is the server as one service sees it.
type simAccess struct {
	service *simService
	own     *int64 // the session by which this change alters; nil: each step by another one
}

// ForChange gives some changes a session of their own.
func (a simAccess) ForChange() (engine.Server, func(bool)) {
	sim := a.service.sim
	if sim.roll("own session", sim.count("own session")) < 0.3 {
		return a, func(bool) {}
	}
	x := a.server()
	x.mu.Lock()
	defer x.mu.Unlock()
	a.own = new(int64)
	*a.own, a.service.spare = a.service.spare, 0
	return a, func(settled bool) {
		x.mu.Lock()
		defer x.mu.Unlock()
		s := x.sessions[*a.own]
		switch {
		case s == nil || !s.kept:
		case settled && a.service.spare == 0:
			a.service.spare = *a.own
		case !s.busy:
			s.state = engine.SenderGone
		}
	}
}

func (a simAccess) server() *simServer { return a.service.sim.server }

func (a simAccess) Close()                                                      {}
func (a simAccess) Databases(context.Context) (catalog.Listing, error)          { panic("not asked") }
func (a simAccess) Choices(context.Context, ...string) (catalog.Choices, error) { panic("not asked") }
func (a simAccess) Inspect(context.Context) (catalog.Instance, error)           { panic("not asked") }
func (a simAccess) Database(context.Context, string) (catalog.Database, error) {
	panic("not asked")
}
func (a simAccess) Access(context.Context, catalog.AccessQuery) (catalog.Access, error) {
	panic("not asked")
}

// read takes the time of one reading, which may fail.
func (a simAccess) read(ctx context.Context, what string) error {
	s := a.service.sim
	if !a.service.pause(ctx, s.latency("read", what)) {
		return a.service.cut(ctx, what)
	}
	if err := a.server().reachable(what); err != nil {
		return err
	}
	if s.faulty() && s.roll("read fails", what) < s.faults.read {
		return &engine.Error{Op: what, Kind: engine.Unknown, Text: "the line was cut", Passing: true}
	}
	return nil
}

func (a simAccess) Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	if err := a.read(ctx, "snapshot "+string(in.Kind)); err != nil {
		return catalog.Snapshot{}, err
	}
	x := a.server()
	x.mu.Lock()
	defer x.mu.Unlock()
	snap := catalog.Snapshot{Instance: catalog.Instance{Identity: catalog.Identity{Key: x.identity}}}
	if in.Database != nil {
		if d := x.databases[in.Database.Name]; d != nil {
			snap.Target = &catalog.Database{Name: in.Database.Name, Key: fmt.Sprint(d.key)}
		}
	}
	return snap, nil
}

func (a simAccess) Sessions(ctx context.Context, q catalog.SessionQuery) (catalog.SessionList, error) {
	if err := a.read(ctx, "sessions"); err != nil {
		return catalog.SessionList{}, err
	}
	x := a.server()
	x.mu.Lock()
	defer x.mu.Unlock()
	return catalog.SessionList{Sessions: append([]catalog.Session{}, x.clients[q.Database]...), Read: time.Now()}, nil
}

func (a simAccess) End(ctx context.Context, ids []catalog.SessionID, _ catalog.Ending) (map[catalog.SessionID]string,
	error) {
	err := a.read(ctx, "end")
	x := a.server()
	x.mu.Lock()
	defer x.mu.Unlock()
	for name, list := range x.clients {
		var left []catalog.Session
		for _, c := range list {
			ended := false
			for _, id := range ids {
				ended = ended || id == c.ID
			}
			if !ended {
				left = append(left, c)
			}
		}
		x.clients[name] = left
	}
	return nil, err
}

// Sender looks for a session, and ends it when asked: what it has not begun does
// not happen then, what it works at may or may not.
func (a simAccess) Sender(ctx context.Context, id catalog.SessionID, end bool) (engine.SenderState, error) {
	if err := a.read(ctx, "sender"); err != nil {
		return "", err
	}
	x := a.server()
	x.mu.Lock()
	defer x.mu.Unlock()
	s := x.sessions[id.Number]
	if s == nil || s.state == engine.SenderGone {
		return engine.SenderGone, nil
	}
	if end {
		if s.state == engine.SenderWorking && s.uncut {
			x.sim.fail("a session was ended in the middle of what must not be cut off")
		}
		s.cancel = s.state == engine.SenderIdle || x.sim.roll("ended in time", id.Number) < 0.5
		if !s.busy { // nothing lies unread before it
			s.state = engine.SenderGone
			return engine.SenderIdle, nil
		}
	}
	return s.state, nil
}

// send has the server do something. What becomes of the answer, and when the
// server does it, is up to the seed.
func (a simAccess) send(ctx context.Context, step change.Step, action string, sending change.Sending,
	effect func(x *simServer) error) error {
	sim, x := a.service.sim, a.server()
	if !a.service.pause(ctx, sim.latency("connect", action, step.Title)) {
		return engine.NeverSent(a.service.cut(ctx, action))
	}
	if err := x.reachable(action); err != nil {
		return err
	}
	id, session := a.session(step.Uncut && action == "do")
	sending.Session = catalog.SessionID{Number: id, Mark: "m"}
	if err := step.Announce(sending); err != nil {
		x.leave(session)
		return err
	}
	if a.service.isDead() {
		x.leave(session)
		return &engine.Error{Op: action, Kind: engine.NotSent, Text: "the service is dead"}
	}
	if x.ended(session) { // by whoever took the change over
		return &engine.Error{Op: action, Kind: engine.Unknown, Text: "the line was cut"}
	}
	roll := 2.0 // nothing goes wrong
	if sim.faulty() {
		roll = sim.roll("send", action, step.Title, step.Args["name"],
			sim.count("send", action, step.Title, step.Args["name"]))
	}
	f := sim.faults
	idle, work := time.Duration(0), sim.latency("work", id)
	lost := false
	switch {
	case roll < f.never: // the line is cut before anything arrives
		x.leave(session)
		return &engine.Error{Op: action, Kind: engine.Unknown, Text: "the line was cut"}
	case roll < f.never+f.refused:
		x.leave(session)
		return &engine.Error{Op: action, Kind: engine.Refused, Code: "F1", Text: "the server refuses",
			Passing: sim.roll("passing", id) < 0.7 || action == "undo"}
	case roll < f.never+f.refused+f.later: // and done later, by a server that still works
		lost, work = true, time.Duration(sim.roll("later", id)*8000)*time.Millisecond
	case roll < f.never+f.refused+f.later+f.unread: // or not even read yet
		lost, idle = true, time.Duration(sim.roll("unread", id)*6000)*time.Millisecond
	case roll < f.never+f.refused+f.later+f.unread+f.after: // or done at once
		lost = true
	}
	if *oneSeed != 0 {
		fmt.Println(time.Now().Format("05.000"), a.service.name, action, step.Title, step.Args["name"], "session", id,
			"roll", roll, "lost", lost, "idle", idle, "work", work)
	}
	x.working.Go(func() { x.carry(session, idle, work, effect) })
	if lost {
		x.forsake(session)
		return &engine.Error{Op: action, Kind: engine.Unknown, Text: "the line was cut"}
	}
	select {
	case err := <-session.answers:
		return err
	case <-ctx.Done():
		x.forsake(session)
		return engine.Classify(action, ctx.Err(), true)
	case <-a.service.dead:
		x.forsake(session)
		return &engine.Error{Op: action, Kind: engine.Unknown, Text: "the service is dead"}
	}
}

// session is the one by which a statement is sent: the change's own, unless that is
// gone, or a new one.
func (a simAccess) session(uncut bool) (int64, *simSession) {
	x := a.server()
	x.mu.Lock()
	defer x.mu.Unlock()
	if a.own != nil {
		if s := x.sessions[*a.own]; s != nil && s.kept && s.state == engine.SenderIdle && !s.cancel {
			s.uncut = uncut
			return *a.own, s
		}
	}
	x.next++
	s := &simSession{state: engine.SenderIdle, uncut: uncut, kept: a.own != nil, answers: make(chan error, 1)}
	x.sessions[x.next] = s
	if a.own != nil {
		*a.own = x.next
	}
	return x.next, s
}

// ended reports whether somebody ended a session while its client did nothing;
// otherwise it is busy from now on.
func (x *simServer) ended(s *simSession) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if s.cancel || s.state == engine.SenderGone {
		s.state = engine.SenderGone
		return true
	}
	s.busy = true
	return false
}

// forsake is what becomes of a session whose client is gone: it is, too, when it is
// through with what was sent.
func (x *simServer) forsake(s *simSession) {
	x.mu.Lock()
	defer x.mu.Unlock()
	s.kept = false
	if !s.busy {
		s.state = engine.SenderGone
	}
}

// reachable says why nobody gets through to the server just now: it is down, or
// another one answers in its place.
func (x *simServer) reachable(what string) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.down {
		return &engine.Error{Op: what, Kind: engine.NotSent, Text: "cannot connect", Passing: true}
	}
	if x.replaced {
		return &engine.IdentityError{Server: "harbour", Known: catalog.Identity{Key: "one"},
			Found: catalog.Identity{Key: "two"}}
	}
	return nil
}

// restart stops the server for a while: whatever its sessions were at has not
// happened then, and clients have left.
func (x *simServer) restart(away time.Duration) {
	x.mu.Lock()
	x.down = true
	for _, s := range x.sessions {
		s.cancel = true
	}
	clear(x.clients)
	x.mu.Unlock()
	time.Sleep(away)
	x.mu.Lock()
	defer x.mu.Unlock()
	x.down = false
}

// replace has another server answer for a while.
func (x *simServer) replace(away time.Duration) {
	for _, now := range []bool{true, false} {
		x.mu.Lock()
		x.replaced = now
		x.mu.Unlock()
		if now {
			time.Sleep(away)
		}
	}
}

// carry is what the server does with a statement.
func (x *simServer) carry(s *simSession, idle, work time.Duration, effect func(x *simServer) error) {
	time.Sleep(idle)
	x.mu.Lock()
	if s.cancel {
		s.state, s.busy = engine.SenderGone, false
		x.mu.Unlock()
		return
	}
	s.state = engine.SenderWorking
	x.mu.Unlock()
	time.Sleep(work)
	x.mu.Lock()
	defer x.mu.Unlock()
	s.state, s.busy = engine.SenderGone, false
	if s.cancel {
		s.answers <- &engine.Error{Kind: engine.Unknown, Text: "the session was ended"}
		return
	}
	if s.kept {
		s.state = engine.SenderIdle
	}
	s.answers <- effect(x)
}

func (x *simServer) leave(s *simSession) {
	x.mu.Lock()
	defer x.mu.Unlock()
	s.state = engine.SenderGone
}

func refused(code, text string) error {
	return &engine.Error{Kind: engine.Refused, Code: code, Text: text}
}

func differs(text string) error { return &engine.Error{Kind: engine.Differs, Text: text} }

// byKey finds a database by its number, whatever it is called.
func (x *simServer) byKey(args map[string]string) (string, *simDatabase) {
	for name, d := range x.databases {
		if fmt.Sprint(d.key) == args["key"] {
			return name, d
		}
	}
	return "", nil
}

func (a simAccess) Do(ctx context.Context, step change.Step) (engine.Report, error) {
	var rep engine.Report
	name := step.Args["name"]
	if step.ReadOnly {
		if err := a.read(ctx, step.Kind); err != nil {
			return rep, err
		}
		took, err := a.holds(step)
		if err == nil && !took {
			err = differs("it is not as asked")
		}
		return rep, err
	}
	sending := change.Sending{}
	if step.Kind == "hand_over" {
		sending.Learned = map[string]string{"restore": "noted"}
	}
	learned := map[string]string{} // by the server, whose answer may be lost
	err := a.send(ctx, step, "do", sending, func(x *simServer) error {
		key, d := x.byKey(step.Args)
		switch step.Kind {
		case "create":
			if x.databases[name] != nil {
				return refused("42P04", "it exists")
			}
			x.keys++
			x.databases[name] = &simDatabase{key: x.keys, open: true, made: 1}
			learned["key"] = fmt.Sprint(x.keys)
		case "comment":
			if x.databases[name] == nil {
				return refused("3D000", "it is not there")
			}
			x.databases[name].comment = step.Args["comment"]
		case "gate", "open":
			if d == nil {
				return refused("3D000", "it is not there")
			}
			d.open = step.Kind == "open"
		case "drop":
			if d == nil {
				return refused("3D000", "it is not there")
			}
			if d.open {
				x.sim.fail("a database is dropped whose gate is open")
			}
			d.dropped++
			delete(x.databases, key)
		case "rename":
			if d == nil || x.databases[step.Args["new"]] != nil {
				return refused("42P04", "it cannot be renamed")
			}
			delete(x.databases, key)
			x.databases[step.Args["new"]] = d
		default:
			return x.account(step)
		}
		return nil
	})
	if err == nil {
		rep.Learned = learned
	}
	return rep, err
}

// account does a step on an account.
func (x *simServer) account(step change.Step) error {
	acc := x.accounts[step.Args["name"]]
	if !acc.there {
		return refused("42704", "it is not there")
	}
	switch step.Kind {
	case "lock":
		acc.locked = true
	case "hand_over":
		acc.holds = false
	case "drop_role":
		if acc.holds {
			return refused("2BP01", "it still holds something")
		}
		acc.there = false
	}
	return nil
}

// holds reports whether what a step was to bring about is so.
func (a simAccess) holds(step change.Step) (bool, error) {
	x := a.server()
	x.mu.Lock()
	defer x.mu.Unlock()
	name := step.Args["name"]
	key, d := x.byKey(step.Args)
	acc := x.accounts[name]
	switch step.Kind {
	case "create":
		return x.databases[name] != nil, nil
	case "comment", "verify_create":
		return x.databases[name] != nil && x.databases[name].comment == step.Args["comment"], nil
	case "gate":
		return d != nil && !d.open, nil
	case "open":
		return d != nil && d.open, nil
	case "drop", "verify_drop":
		return d == nil, nil
	case "rename":
		return d != nil && key == step.Args["new"], nil
	case "verify_rename":
		return d != nil && key == step.Args["new"] && d.open, nil
	case "lock":
		return acc.there && acc.locked, nil
	case "hand_over":
		return acc.there && !acc.holds, nil
	case "drop_role", "verify_role":
		return !acc.there, nil
	}
	return false, fmt.Errorf("no step %s", step.Kind)
}

func (a simAccess) Probe(ctx context.Context, step change.Step) (bool, error) {
	if err := a.read(ctx, "probe "+step.Kind); err != nil {
		return false, err
	}
	took, err := a.holds(step)
	if step.Kind == "gate" && took {
		// What shows in no catalogue is looked at by doing it again.
		err = a.send(ctx, step, "probe", change.Sending{}, func(x *simServer) error {
			if _, d := x.byKey(step.Args); d != nil {
				d.open = false
			}
			return nil
		})
	}
	return took && err == nil, err
}

func (a simAccess) Undo(ctx context.Context, step change.Step) (engine.Report, error) {
	name := step.Args["name"]
	return engine.Report{}, a.send(ctx, step, "undo", change.Sending{}, func(x *simServer) error {
		key, d := x.byKey(step.Args)
		acc := x.accounts[name]
		switch step.Kind {
		case "create":
			if there := x.databases[name]; there != nil {
				there.dropped++
				delete(x.databases, name)
			}
		case "comment":
			if there := x.databases[name]; there != nil {
				there.comment = ""
			}
		case "gate":
			if d != nil {
				d.open = true
			}
		case "rename":
			if d != nil && key == step.Args["new"] {
				delete(x.databases, key)
				x.databases[name] = d
			}
		case "lock":
			acc.locked = false
		case "hand_over":
			if step.Args["restore"] == "" {
				return refused("X", "what was there is not on record")
			}
			acc.holds = true
		}
		return nil
	})
}

var _ = naming.Address{}

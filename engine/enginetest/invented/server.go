package invented

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"net"
	"slices"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// program is how Genarch's own visits call themselves.
const program = "genarch"

type server struct{ target engine.Target }

// line is one connection that is signed in.
type line struct {
	net.Conn
	answers *bufio.Scanner
	id      catalog.SessionID
}

// ask sends a command and reads what comes back.
func (l *line) ask(op string, r request) (answer, error) {
	var out answer
	if _, err := fmt.Fprintln(l, r.text()); err != nil {
		return out, engine.Classify(op, err, true)
	}
	if !l.answers.Scan() {
		err := l.answers.Err()
		if err == nil {
			err = fmt.Errorf("the line is closed")
		}
		return out, engine.Classify(op, err, true)
	}
	if err := json.Unmarshal(l.answers.Bytes(), &out); err != nil {
		return out, engine.Classify(op, err, true)
	}
	if out.Code != "" {
		return out, &engine.Error{Op: op, Kind: engine.Refused, Code: out.Code, Text: out.Text}
	}
	return out, nil
}

// enter signs in, and looks whether it is the known instance. Nothing that alters was
// sent when it fails.
func (s *server) enter(ctx context.Context, op string) (*line, *reading, error) {
	if s.target.Server.TLS != catalog.TLSOff {
		return nil, nil, &engine.Error{Op: op, Kind: engine.NotSent, Text: "a warehouse has no TLS",
			Next: "Use --tls off"}
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp",
		net.JoinHostPort(s.target.Server.Host, strconv.Itoa(s.target.Server.Port)))
	if err != nil {
		return nil, nil, engine.Classify(op, err, false)
	}
	if until, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(until)
	}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	l := &line{Conn: conn, answers: bufio.NewScanner(conn)}
	l.answers.Buffer(nil, 8<<20)
	in, err := l.ask(op, request{Do: "sign in", Clerk: s.target.Server.Admin, Password: s.target.Password.Reveal(),
		Program: program})
	var look answer
	if err == nil {
		l.id = catalog.SessionID{Number: in.Visit, Mark: in.Mark}
		look, err = l.ask(op, request{Do: "look"})
	}
	if err == nil {
		err = s.known(look.State)
	}
	if e, refused := err.(*engine.Error); refused && e.Code == "W02" {
		e.Next = "Check the login and its password."
	}
	if err != nil {
		stop()
		conn.Close()
		if ctx.Err() != nil {
			err = engine.Classify(op, ctx.Err(), false)
		}
		return nil, nil, engine.NeverSent(err)
	}
	return l, look.State, nil
}

func (s *server) known(now *reading) error {
	known, found := s.target.Server.Identity, catalog.Identity{Key: now.Identity}
	if s.target.SkipIdentityCheck || !known.Known() || len(known.Differences(found)) == 0 {
		return nil
	}
	return &engine.IdentityError{Server: s.target.Server.Name, Known: known, Found: found}
}

// look reads everything.
func (s *server) look(ctx context.Context, op string) (*reading, error) {
	l, state, err := s.enter(ctx, op)
	if err != nil {
		return nil, err
	}
	l.Close()
	return state, nil
}

func (s *server) Close() {}

func (s *server) ForChange() (engine.Server, func(bool)) { return s, func(bool) {} }

func (s *server) Inspect(ctx context.Context) (catalog.Instance, error) {
	state, err := s.look(ctx, "look")
	if err != nil {
		return catalog.Instance{}, err
	}
	login := catalog.Login{Name: s.target.Server.Admin, Superuser: true}
	for _, a := range [][2]string{{"create_database", "make vaults"}, {"see_sessions", "see visits"},
		{"end_sessions", "end visits"}, {"manage_accounts", "admit clerks"}} {
		login.Abilities = append(login.Abilities, catalog.Ability{Code: a[0], Title: a[1], Allowed: true})
	}
	return catalog.Instance{Engine: ID, Version: Version, Number: description.Releases["2"] + 1,
		Identity: catalog.Identity{Key: state.Identity},
		Sessions: catalog.Headroom{Open: len(state.Visits), Allowed: 100}, Login: login, Read: time.Now().UTC()}, nil
}

// database is a vault as every engine's are shown.
func database(v vault, state *reading) catalog.Database {
	boxes, visits := len(v.Boxes), 0
	for _, x := range state.Visits {
		if x.Vault == v.Name {
			visits++
		}
	}
	size := int64(boxes) << 10
	settings, _ := catalog.ValuesOf(v.Settings)
	d := catalog.Database{Name: v.Name, Key: v.Key, Comment: settings.Text("comment"), Tables: &boxes, Size: &size,
		Sessions: &visits, Properties: catalog.Values{"retention": "forever", "sealed": false}}
	for _, name := range settings.Names() {
		if name != "comment" {
			d.Properties[name] = settings[name]
		}
	}
	if !v.Built {
		d.Closed, d.Broken, d.Trouble = true, true, "It was reserved and never built."
	}
	return d
}

func (s *server) Databases(ctx context.Context) (catalog.Listing, error) {
	state, err := s.look(ctx, "list vaults")
	out := catalog.Listing{Read: time.Now().UTC()}
	if err != nil {
		return out, err
	}
	for _, v := range state.Vaults {
		out.Databases = append(out.Databases, database(v, state))
	}
	return out, nil
}

func (s *server) Database(ctx context.Context, name string) (catalog.Database, error) {
	state, err := s.look(ctx, "read a vault")
	if err != nil {
		return catalog.Database{}, err
	}
	if i := find(state, name); i >= 0 {
		return database(state.Vaults[i], state), nil
	}
	return catalog.Database{}, fmt.Errorf("vault %q: %w", name, engine.ErrNotFound)
}

func find(state *reading, name string) int {
	return slices.IndexFunc(state.Vaults, func(v vault) bool { return v.Name == name })
}

func (s *server) Choices(ctx context.Context, keys ...string) (catalog.Choices, error) {
	_, err := s.look(ctx, "read regions")
	out := catalog.Choices{}
	if slices.Contains(keys, "regions") {
		out["regions"] = []catalog.Choice{{Name: "north", Default: true}, {Name: "south", Title: "south, by the sea"},
			{Name: "moon", Why: "nobody works there yet"}}
	}
	return out, err
}

func (s *server) Access(ctx context.Context, _ catalog.AccessQuery) (catalog.Access, error) {
	state, err := s.look(ctx, "read who may do what")
	if err != nil {
		return catalog.Access{}, err
	}
	return accessOf(state, s.target.Server.Admin), nil
}

func accessOf(state *reading, admin string) catalog.Access {
	a := catalog.Access{Number: description.Releases["2"] + 1, Read: time.Now().UTC()}
	yes := true
	a.Accounts = append(a.Accounts,
		catalog.Account{Principal: catalog.Principal{Name: admin}, Login: true, Super: true, Password: &yes,
			ConnectionLimit: -1, System: true})
	for _, c := range state.Clerks {
		acc := catalog.Account{Principal: catalog.Principal{Name: c.Name, Database: c.Vault}, Login: true,
			Password: &yes, ConnectionLimit: -1}
		if c.Badge != "" {
			acc.Properties = catalog.Values{"badge": c.Badge}
		}
		a.Accounts = append(a.Accounts, acc)
	}
	for _, v := range state.Vaults {
		a.Databases = append(a.Databases, catalog.AccessDatabase{Name: v.Name})
	}
	for _, p := range state.Permits {
		o := catalog.Object{Scope: catalog.ScopeDatabase, Database: p.Vault, Name: p.Box}
		if p.Box != "" {
			o.Scope = catalog.ScopeTable
		}
		a.Grants = append(a.Grants, catalog.Grant{Object: o,
			Entry: catalog.Entry{Grantee: catalog.Principal{Name: p.Clerk, Database: p.Vault},
				Privileges: table.Of(p.May...), Denied: table.Of(p.Denied...)}})
	}
	return a
}

func (s *server) Sessions(ctx context.Context, q catalog.SessionQuery) (catalog.SessionList, error) {
	state, err := s.look(ctx, "list visits")
	if err != nil {
		return catalog.SessionList{}, err
	}
	return catalog.SessionList{Sessions: visitsOf(state, q.Database), Allowed: 100, Read: time.Now().UTC()}, nil
}

func visitsOf(state *reading, vault string) []catalog.Session {
	var out []catalog.Session
	for _, v := range state.Visits {
		if vault != "" && v.Vault != vault {
			continue
		}
		x := catalog.Session{ID: catalog.SessionID{Number: v.Number, Mark: v.Mark}, Kind: catalog.ClientSession,
			Database: v.Vault, Activity: catalog.SessionIdle,
			Account: catalog.Principal{Name: v.Clerk}, Application: v.Program, Started: v.Since, StateSince: v.Since}
		if v.Program == program {
			x.Kind = catalog.OwnSession
		} else if v.Clerk != "warden" {
			x.Account.Database = v.Vault
		}
		out = append(out, x)
	}
	return out
}

func (s *server) End(ctx context.Context, ids []catalog.SessionID, how catalog.Ending) (map[catalog.SessionID]string,
	error) {
	if how == catalog.EndStatement {
		refused := map[catalog.SessionID]string{}
		for _, id := range ids {
			refused[id] = description.Endings[how].Why
		}
		return refused, nil
	}
	l, _, err := s.enter(ctx, "end visits")
	if err != nil {
		return nil, err
	}
	defer l.Close()
	for _, id := range ids {
		if _, err := l.ask("end a visit", request{Do: "end", Visit: id.Number, Mark: id.Mark}); err != nil {
			return nil, err
		}
	}
	return nil, nil
}

func (s *server) Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server, Self: catalog.Principal{Name: s.target.Server.Admin}}
	state, err := s.look(ctx, "look")
	if err != nil {
		return snap, err
	}
	if snap.Instance, err = s.Inspect(ctx); err != nil {
		return snap, err
	}
	for _, v := range state.Vaults {
		snap.Names = append(snap.Names, v.Name)
	}
	if in.Database != nil {
		if i := find(state, in.Database.Name); i >= 0 {
			d := database(state.Vaults[i], state)
			snap.Target = &d
			snap.DropImpact = &catalog.DropImpact{MayDrop: true,
				Objects: []catalog.Count{{What: "boxes", N: len(state.Vaults[i].Boxes)}}}
		}
		if snap.Choices, err = s.Choices(ctx, "regions"); err != nil {
			return snap, err
		}
	}
	a := accessOf(state, s.target.Server.Admin)
	snap.Access = &a
	if q, ok := planning.Clears(in, nil); ok {
		snap.Connected = visitsOf(state, q.Database)
	}
	return snap, nil
}

func (s *server) Sender(ctx context.Context, id catalog.SessionID, end bool) (engine.SenderState, error) {
	state, err := s.look(ctx, "look for the sender")
	if err != nil {
		return "", err
	}
	if !slices.ContainsFunc(state.Visits, func(v visit) bool { return v.Number == id.Number && v.Mark == id.Mark }) {
		return engine.SenderGone, nil
	}
	if end {
		_, err = s.End(ctx, []catalog.SessionID{id}, catalog.EndSession)
	}
	return engine.SenderIdle, err
}

// send announces and sends one command, on a line that is used for nothing else.
func (s *server) send(ctx context.Context, step change.Step, text string) (engine.Report, error) {
	var r request
	if err := json.Unmarshal([]byte(text), &r); err != nil {
		return engine.Report{}, engine.UnknownStep(step)
	}
	if r.Key == "" {
		r.Key = step.Args["key"]
	}
	for _, name := range step.SecretsNeeded() {
		r.Password = step.Secrets[name].Reveal()
	}
	l, _, err := s.enter(ctx, step.Title)
	if err != nil {
		return engine.Report{}, err
	}
	defer l.Close()
	if err := step.Announce(change.Sending{Session: l.id}); err != nil {
		return engine.Report{}, err
	}
	out, err := l.ask(step.Title, r)
	rep := engine.Report{}
	if out.Key != "" {
		rep.Learned = map[string]string{"key": out.Key}
	}
	if out.Notice != "" {
		rep.Messages = []change.Message{{Severity: "notice", Text: out.Notice}}
	}
	return rep, err
}

func (s *server) Do(ctx context.Context, step change.Step) (engine.Report, error) {
	if step.Kind != change.Verify {
		return s.send(ctx, step, step.Statement)
	}
	state, err := s.look(ctx, "read back")
	if err != nil {
		return engine.Report{}, err
	}
	return engine.Report{}, engine.Checked(compare(step.Args, state), nil)
}

// compare says in what the warehouse is not as a step wanted it.
func compare(want map[string]string, state *reading) []string {
	if _, about := want["clerk"]; about {
		return compareClerk(want, state)
	}
	i := find(state, want["name"])
	gone := i < 0 || want["key"] != "" && state.Vaults[i].Key != want["key"]
	switch {
	case gone && want["gone"] == "":
		return []string{"it is not there"}
	case gone:
		return nil
	case want["gone"] != "":
		return []string{"it is still there"}
	}
	d := database(state.Vaults[i], state)
	if d.Broken {
		return []string{"it was reserved and not built"}
	}
	have := map[string]string{}
	for name, value := range d.Values() {
		have[name] = catalog.WriteValue(value)
	}
	have["name"], have["key"] = d.Name, d.Key
	return engine.Mismatches(want, have)
}

func compareClerk(want map[string]string, state *reading) []string {
	there := slices.ContainsFunc(state.Clerks,
		func(c clerk) bool { return c.Vault == want["vault"] && c.Name == want["clerk"] })
	if there != (want["gone"] == "") {
		return []string{"the clerk is there: " + strconv.FormatBool(there)}
	}
	if want["word"] == "" {
		return nil
	}
	have := heldOn(accessOf(state, ""), catalog.Principal{Name: want["clerk"], Database: want["vault"]}, want["vault"],
		want["box"])
	set := table.Of(strings.Split(want["may"], ",")...)
	ok := map[string]bool{"permit": have.Privileges.Has(set), "deny": have.Denied.Has(set),
		"revoke": !have.Privileges.Or(have.Denied).Any(set)}
	if !ok[want["word"]] {
		return []string{"it may " + have.Privileges.String()}
	}
	return nil
}

func (s *server) Probe(ctx context.Context, step change.Step) (bool, error) {
	state, err := s.look(ctx, "look whether it took effect")
	if err != nil {
		return false, err
	}
	i := find(state, step.Args["name"])
	found := i >= 0 && (step.Args["key"] == "" || state.Vaults[i].Key == step.Args["key"])
	switch step.Kind {
	case stepReserve:
		return found, nil
	case stepBuild:
		return found && state.Vaults[i].Built, nil
	case stepEmpty:
		return !found, nil
	case stepSet:
		d, err := s.Database(ctx, step.Args["name"])
		return err == nil && catalog.WriteValue(d.Values()[step.Args["option"]]) == step.Args["will"], err
	}
	return len(compare(step.Args, state)) == 0, nil
}

func (s *server) Undo(ctx context.Context, step change.Step) (engine.Report, error) {
	state, err := s.look(ctx, "look whether it is there")
	if err != nil {
		return engine.Report{}, err
	}
	switch i := find(state, step.Args["name"]); {
	case step.Undo == "":
		return engine.Report{}, nil
	case step.Kind == stepReserve && i < 0:
		return engine.Report{}, nil
	case step.Kind == stepReserve && state.Vaults[i].Key != step.Args["key"]:
		return engine.Report{}, &engine.Error{Op: "take it back", Kind: engine.Refused,
			Text: "it is not certain that this change made it, so it was left alone",
			Next: "Look at it, and empty it if it is not needed."}
	case step.Kind == stepAdmit && len(compare(step.Args, state)) > 0:
		return engine.Report{}, nil
	}
	return s.send(ctx, step, step.Undo)
}

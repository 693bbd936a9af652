// Package enginetest holds the suite that every engine passes on a real server,
// and a fake engine that can be told to fail, hang or cut the line at any step.
package enginetest

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// hostile are names that a server must keep apart and give back unharmed.
var hostile = []string{
	`Mixed Case`, `quote'd`, `double"d`, "back`tick", `back\slash`, `semi;colon -- x`, "new\nline", "tab\there",
	`%s_%d`, `$1`, `..`, `/etc/x`, "日本語", "ünïcode", "zero\u200bwidth", "rtl\u202edlrow", "select", "1234",
}

// Names says how many of the hostile names a run tries.
type Names int

// AllNames tries each, FewNames every third: for a second version of an engine, as how names
// are quoted does not change with it.
const (
	AllNames Names = 1
	FewNames Names = 3
)

// of picks names.
func (n Names) of(list []string) []string {
	var out []string
	for i := 0; i < len(list); i += int(n) {
		out = append(out, list[i])
	}
	return out
}

// Target registers a started server, without an identity.
func Target(e engine.Engine, s *localdb.Server, name string) engine.Target {
	t := engine.Target{Password: s.Password, Sealer: sealer{},
		Server: catalog.Server{Name: name, Engine: e.Describe().ID, Host: s.Host, Port: s.Port, Admin: s.Admin,
			Environment: catalog.Development, TLS: catalog.TLSOff}}
	if s.CA != "" {
		t.Server.TLS, t.Server.CA = catalog.TLSVerified, s.CA
	}
	return t
}

// sealer makes seals that nobody could tell from a text's own, which is enough for a test.
type sealer struct{}

// Seal seals a text.
func (sealer) Seal(text string) (string, error) {
	return fmt.Sprintf("%x", sha256.Sum256([]byte("seal"+text))), nil
}

// Sealed reports whether a seal is that of a text.
func (s sealer) Sealed(text, seal string) bool {
	own, _ := s.Seal(text)
	return own == seal
}

// Open opens a target and closes it after the test.
func Open(tb testing.TB, e engine.Engine, t engine.Target) engine.Server {
	tb.Helper()
	s, err := e.Open(t)
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(s.Close)
	return s
}

// Brief reads the server and plans the making of a database.
func Brief(tb testing.TB, e engine.Engine, s engine.Server, spec change.DatabaseSpec) change.Brief {
	tb.Helper()
	return BriefOf(tb, e, s, change.Intent{Kind: change.CreateDatabase, Database: &spec})
}

// BriefOf reads the server and plans any intent.
func BriefOf(tb testing.TB, e engine.Engine, s engine.Server, in change.Intent) change.Brief {
	tb.Helper()
	in.Server = "suite"
	snap, err := s.Snapshot(tb.Context(), in)
	if err != nil {
		tb.Fatalf("Snapshot: %v", err)
	}
	b, err := e.Plan(in, snap)
	if err != nil {
		tb.Fatalf("Plan: %v", err)
	}
	return b
}

// Carry runs a brief's steps and returns them with what was learned. The session
// that sent each must be gone afterwards: it is used for nothing else.
func Carry(tb testing.TB, s engine.Server, b change.Brief) ([]change.Step, error) {
	tb.Helper()
	if b.Stopped() {
		tb.Fatalf("the brief stops: %+v", b.Findings)
	}
	var done []change.Step
	for _, step := range b.Steps {
		if step.Kind == change.ClearSessions {
			if err := Clear(tb, s, *step.Clear); err != nil {
				return done, err
			}
			continue
		}
		var sent catalog.SessionID
		step.Ready = func(x change.Sending) error {
			sent = x.Session
			step.Learn(x.Learned)
			return nil
		}
		rep, err := s.Do(tb.Context(), step)
		step.Ready = nil
		if sent.Number == 0 && err == nil && !step.ReadOnly {
			tb.Errorf("%s altered something, and nobody was told who sent it", step.Kind)
		}
		if sent.Number != 0 {
			testutil.Wait(tb, "the session that sent "+step.Title+" to be gone", func() bool {
				state, err := s.Sender(tb.Context(), sent, false)
				return err == nil && state == engine.SenderGone
			})
		}
		if err != nil {
			return done, err
		}
		args := map[string]string{}
		for _, m := range []map[string]string{step.Args, rep.Learned} {
			for k, v := range m {
				args[k] = v
			}
		}
		step.Args = args
		done = append(done, step)
	}
	return done, nil
}

// Clear clears sessions by the machine's orders, as the runner does.
func Clear(tb testing.TB, s engine.Server, rules clearing.Rules) error {
	tb.Helper()
	m := clearing.New(rules, time.Now())
	for {
		list, err := s.Sessions(tb.Context(), catalog.SessionQuery{Database: rules.Target.Database})
		if err != nil {
			return err
		}
		o := m.Saw(time.Now(), list.Sessions)
		switch o.Phase {
		case clearing.Cleared:
			return nil
		case clearing.GivenUp:
			return errors.New(o.Why)
		}
		refused, err := s.End(tb.Context(), o.End, rules.How)
		if err != nil {
			return err
		}
		for id, why := range refused {
			m.Refused(id, why)
		}
		<-time.After(o.Again)
	}
}

// Run puts an engine through the suite on a running server.
func Run(t *testing.T, e engine.Engine, running *localdb.Server, names Names) {
	target := Target(e, running, "suite")
	s := Open(t, e, target)
	t.Run("inspect", func(t *testing.T) { testInspect(t, e, s, running) })
	t.Run("create, read, roll back", func(t *testing.T) { testCreate(t, e, s) })
	t.Run("hostile names", func(t *testing.T) { testHostile(t, e, target, names) })
	t.Run("only if absent", func(t *testing.T) { testIfAbsent(t, e, s) })
	t.Run("two at once", func(t *testing.T) { testRace(t, e, s) })
	t.Run("description", func(t *testing.T) { testDescription(t, e, s) })
	t.Run("choices", func(t *testing.T) { testChoices(t, e, s) })
	t.Run("errors", func(t *testing.T) { testErrors(t, e, s, target) })
	t.Run("cut line", func(t *testing.T) { testCutLine(t, e, target, running.Dir) })
	t.Run("own session", func(t *testing.T) { testOwnSession(t, e, target) })
	t.Run("identity", func(t *testing.T) { testIdentity(t, e, target) })
}

func testInspect(t *testing.T, e engine.Engine, s engine.Server, running *localdb.Server) {
	in, err := s.Inspect(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	if !in.Identity.Known() || in.Sessions.Allowed == 0 || in.Sessions.Open == 0 || in.ReadOnly != "" {
		t.Errorf("Inspect left something out: %+v", in)
	}
	if _, has := e.Describe().Option(change.PartDatabase, "encoding"); has &&
		(in.Encoding == "" || in.Collation == "") {
		t.Errorf("Inspect leaves the defaults out: %+v", in)
	}
	if !strings.HasPrefix(running.Version, in.Version) {
		t.Errorf("version %q; the server says %q", in.Version, running.Version)
	}
	for _, a := range in.Login.Abilities {
		if a.Allowed == a.Unneeded || a.Remedy != "" {
			t.Errorf("the admin login may not %s (remedy %q)", a.Title, a.Remedy)
		}
	}
}

func testCreate(t *testing.T, e engine.Engine, s engine.Server) {
	remark := `it's a "test" with \ in it`
	options := catalog.Values{"comment": remark}
	if _, has := e.Describe().Option(change.PartDatabase, "comment"); !has {
		remark, options = "", nil
	}
	b := Brief(t, e, s, change.DatabaseSpec{Name: "sailings_prod", Options: options})
	steps, err := Carry(t, s, b)
	if err != nil {
		t.Fatal(err)
	}
	d, err := s.Database(t.Context(), "sailings_prod")
	if err != nil {
		t.Fatal(err)
	}
	if d.Comment != remark || d.Tables == nil || *d.Tables != 0 || d.Size == nil || d.System {
		t.Errorf("read back as %+v", d)
	}
	list, err := s.Databases(t.Context())
	if err != nil || !slices.ContainsFunc(list.Databases, func(x catalog.Database) bool { return x.Name == d.Name }) ||
		len(list.Partial) > 0 {
		t.Errorf("the list lacks the new database, or is partial: %v %v", err, list.Partial)
	}
	for _, step := range steps {
		if took, err := s.Probe(t.Context(), step); !took || err != nil {
			t.Errorf("Probe(%s) = %v, %v after it was done", step.Kind, took, err)
		}
	}
	// Without knowing that this change made it, it is left alone.
	stranger := steps[0]
	stranger.Args = map[string]string{"name": "sailings_prod"}
	if _, err := s.Undo(t.Context(), stranger); err == nil {
		t.Error("Undo took a database back that it cannot know to be its own")
	}
	for _, step := range slices.Backward(steps) {
		if step.ReadOnly {
			continue
		}
		for range 2 { // the second time there is nothing left to roll back
			if _, err := s.Undo(t.Context(), step); err != nil {
				t.Errorf("Undo(%s): %v", step.Kind, err)
			}
		}
	}
	if took, err := s.Probe(t.Context(), steps[0]); took || err != nil {
		t.Errorf("Probe after Undo = %v, %v", took, err)
	}
	if _, err := s.Database(t.Context(), "sailings_prod"); !errors.Is(err, engine.ErrNotFound) {
		t.Errorf("after Undo: %v; want ErrNotFound", err)
	}
}

func testHostile(t *testing.T, e engine.Engine, target engine.Target, names Names) {
	careful := Open(t, e, target)
	target.Server.NameRule = naming.Rule{Free: true}
	s := Open(t, e, target)
	for _, name := range names.of(hostile) {
		if b := Brief(t, e, careful, change.DatabaseSpec{Name: name}); !b.Stopped() && name != "select" {
			t.Errorf("the careful rule let %q through", name)
		}
		b := Brief(t, e, s, change.DatabaseSpec{Name: name})
		// Invisible characters are refused under any rule; make those anyway,
		// for such databases exist and must be shown as they are.
		if b.Stopped() {
			if !slices.Contains(b.Codes(change.Stop), "name.control") {
				t.Errorf("%q: %v", name, b.Findings)
			}
			continue
		}
		steps, err := Carry(t, s, b)
		if err != nil {
			t.Errorf("%q: %v", name, err)
			continue
		}
		if d, err := s.Database(t.Context(), name); err != nil || d.Name != name {
			t.Errorf("made %q, read back %q, %v", name, d.Name, err)
		}
		if _, err := s.Undo(t.Context(), steps[0]); err != nil {
			t.Errorf("roll back %q: %v", name, err)
		}
	}
	half := e.Describe().Names.MaxLength/2 + 1
	for _, name := range []string{"", "nul\x00byte", strings.Repeat("x", 300),
		strings.Repeat("é", half) + strings.Repeat("y", half)} {
		if b := Brief(t, e, s, change.DatabaseSpec{Name: name}); !b.Stopped() {
			t.Errorf("%.20q passed", name)
		}
	}
}

// twoValues are two values of an option of databases.
func twoValues(t *testing.T, e engine.Engine, s engine.Server) (option, one, other string) {
	if _, has := e.Describe().Option(change.PartDatabase, "comment"); has {
		return "comment", "first", "second"
	}
	lists, err := s.Choices(t.Context(), "collations")
	if err != nil || len(lists["collations"]) < 2 {
		t.Fatalf("no comments, and no collations: %v", err)
	}
	list := lists["collations"]
	i := slices.IndexFunc(list, func(c catalog.Choice) bool { return c.Default })
	for _, c := range list {
		if c.For == list[max(i, 0)].For && c.Name != list[max(i, 0)].Name {
			return "collation", list[max(i, 0)].Name, c.Name
		}
	}
	t.Fatal("one collation only")
	return "", "", ""
}

func testIfAbsent(t *testing.T, e engine.Engine, s engine.Server) {
	option, first, second := twoValues(t, e, s)
	spec := change.DatabaseSpec{Name: "manifests_prod", IfNotExists: true, Options: catalog.Values{option: first}}
	if _, err := Carry(t, s, Brief(t, e, s, spec)); err != nil {
		t.Fatal(err)
	}
	if b := Brief(t, e, s, spec); b.Outcome != change.Nothing || len(b.Steps) != 0 || len(b.Differences) != 0 {
		t.Errorf("the second run would do %v, differences %v", b.Steps, b.Differences)
	}
	spec.Options = catalog.Values{option: second}
	b := Brief(t, e, s, spec)
	if b.Outcome != change.Nothing || len(b.Differences) != 1 ||
		b.Differences[0] != (change.Difference{Name: option, Asked: second, Actual: first}) {
		t.Errorf("differences %+v", b.Differences)
	}
	spec.IfNotExists = false
	if b := Brief(t, e, s, spec); !slices.Contains(b.Codes(change.Stop), change.NameTaken) ||
		b.Findings[0].Suggestion == "" {
		t.Errorf("a taken name gave %+v", b.Findings)
	}
}

// testRace has several plan the same name while it is free, and then all make
// it: one wins, the others are refused without harm.
func testRace(t *testing.T, e engine.Engine, s engine.Server) {
	b := Brief(t, e, s, change.DatabaseSpec{Name: "berths_staging"})
	var won, refused int
	var mu sync.Mutex
	var wg sync.WaitGroup
	for range 4 {
		wg.Go(func() {
			_, err := s.Do(t.Context(), b.Steps[0])
			mu.Lock()
			defer mu.Unlock()
			if err == nil {
				won++
			} else if ee, ok := errors.AsType[*engine.Error](err); ok && ee.Kind == engine.Refused && ee.Code != "" {
				refused++
			} else {
				t.Errorf("a loser got %v", err)
			}
		})
	}
	wg.Wait()
	if won != 1 || refused != 3 {
		t.Errorf("%d won, %d were refused; want 1 and 3", won, refused)
	}
}

// testDescription holds what an engine says of itself, and that what it reads of
// databases is described.
func testDescription(t *testing.T, e engine.Engine, s engine.Server) {
	d := e.Describe()
	if err := d.Validate(); err != nil {
		t.Error(err)
	}
	list, err := s.Databases(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	for _, x := range list.Databases {
		for _, name := range x.Values().Names() {
			if f, ok := d.Option(change.PartDatabase, name); !ok || f.Show == engine.Nowhere {
				t.Errorf("%s has a property %s that is not described", x.Name, name)
			}
		}
	}
}

// testChoices reads every list that the description names, and each by itself.
func testChoices(t *testing.T, e engine.Engine, s engine.Server) {
	d := e.Describe()
	keys := slices.Sorted(maps.Keys(d.Choices))
	all, err := s.Choices(t.Context(), keys...)
	if err != nil {
		t.Fatal(err)
	}
	for _, key := range keys {
		one, err := s.Choices(t.Context(), key)
		if err != nil || len(one) != 1 || len(one[key]) == 0 || len(all[key]) == 0 {
			t.Errorf("%s: %d lists of %d, %d among all, %v", key, len(one), len(one[key]), len(all[key]), err)
		}
		for _, c := range one[key] {
			if c.Name == "" {
				t.Errorf("%s has %+v", key, c)
			}
		}
	}
	encodings := map[string]bool{"": true}
	for _, c := range all["encodings"] {
		encodings[c.Name] = true
	}
	if _, ok := all.Default("encodings"); d.Choices["encodings"] != "" &&
		(!ok || !encodings["UTF8"] && !encodings["utf8mb4"]) {
		t.Errorf("no default, or no Unicode, among %v", all["encodings"])
	}
	if _, ok := all.Default("collations"); !ok && d.Choices["collations"] != "" {
		t.Error("no default collation")
	}
	for _, c := range all["collations"] {
		if !encodings[c.For] {
			t.Errorf("the collation %+v is of no encoding that can be chosen", c)
		}
	}
	if none, err := s.Choices(t.Context(), "moons"); err != nil || len(none) != 0 {
		t.Errorf("a list that there is not: %v, %v", none, err)
	}
}

func testErrors(t *testing.T, e engine.Engine, s engine.Server, target engine.Target) {
	kindOf := func(err error) engine.Kind {
		if ee, ok := errors.AsType[*engine.Error](err); ok {
			return ee.Kind
		}
		return ""
	}
	if _, err := s.Database(t.Context(), "nowhere"); !errors.Is(err, engine.ErrNotFound) {
		t.Errorf("a database that is not there: %v", err)
	}
	wrong := target
	wrong.Password = secret.New("not the password")
	_, err := Open(t, e, wrong).Inspect(t.Context())
	if ee, ok := errors.AsType[*engine.Error](err); !ok || ee.Kind != engine.NotSent || ee.Next == "" ||
		strings.Contains(err.Error(), "not the password") {
		t.Errorf("a wrong password: %#v", err)
	}
	down := target
	if down.Server.Port, err = localdb.FreePort(); err != nil {
		t.Fatal(err)
	}
	_, err = Open(t, e, down).Inspect(t.Context())
	if kindOf(err) != engine.NotSent || !strings.Contains(err.Error(), "connect") {
		t.Errorf("a server that is down: %v", err)
	}
	silent := target
	silent.Server.Port = silence(t)
	ctx, cancel := context.WithTimeout(t.Context(), 300*time.Millisecond)
	defer cancel()
	_, err = Open(t, e, silent).Inspect(ctx)
	if k := kindOf(err); k != engine.NotSent && k != engine.Unknown || !strings.Contains(err.Error(), "no answer") {
		t.Errorf("a server that accepts and never answers: %v (%s)", err, k)
	}
	tls := target
	tls.Server.TLS = catalog.TLSRequired
	in, err := Open(t, e, tls).Inspect(t.Context())
	if err == nil && !in.TLS {
		t.Error("TLS was asked for, and the connection went without")
	}
	if err != nil && (kindOf(err) != engine.NotSent || !strings.Contains(err.Error(), "TLS")) {
		t.Errorf("TLS on a server without it: %v", err)
	}
}

// silence listens, accepts and never answers.
func silence(t *testing.T) int {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
		}
	}()
	return l.Addr().(*net.TCPAddr).Port
}

// cutting opens a target by a line that can be cut right after a statement was sent. Where
// nobody can read along, a stand-in cuts it itself, as the file cut in its folder asks it to.
func cutting(t *testing.T, e engine.Engine, target engine.Target, dir string) (s engine.Server, cutAfter func(string)) {
	if target.Server.TLS != catalog.TLSOff {
		if dir == "" {
			t.Skip("nobody can cut the lines of a server that somebody else runs")
		}
		return Open(t, e, target), func(text string) {
			if err := os.WriteFile(filepath.Join(dir, "cut"), []byte(text), 0o600); err != nil {
				t.Fatal(err)
			}
		}
	}
	p := newProxy(t, net.JoinHostPort(target.Server.Host, strconv.Itoa(target.Server.Port)))
	target.Server.Host, target.Server.Port = "127.0.0.1", p.port
	return Open(t, e, target), p.cutAfter
}

// testCutLine cuts the line right after the statement was sent: the outcome is
// unknown to the caller, and the probe finds it out.
func testCutLine(t *testing.T, e engine.Engine, target engine.Target, dir string) {
	direct := Open(t, e, target)
	through, cutAfter := cutting(t, e, target, dir)
	b := Brief(t, e, through, change.DatabaseSpec{Name: "crew_rota_prod"})
	cutAfter(b.Steps[0].Statement[:12])
	_, err := through.Do(t.Context(), b.Steps[0])
	if ee, ok := errors.AsType[*engine.Error](err); !ok || ee.Kind != engine.Unknown {
		t.Fatalf("a line cut after the statement was sent gave %v; want kind unknown", err)
	}
	if took, err := direct.Probe(t.Context(), b.Steps[0]); !took || err != nil {
		t.Errorf("Probe = %v, %v; the server had carried the statement out", took, err)
	}
}

func testIdentity(t *testing.T, e engine.Engine, target engine.Target) {
	make := Brief(t, e, Open(t, e, target), change.DatabaseSpec{Name: "intruder"}).Steps[0]
	target.Server.Identity = catalog.Identity{Key: "somebody else"}
	s := Open(t, e, target)
	for what, try := range map[string]func() error{
		"Inspect":   func() error { _, err := s.Inspect(t.Context()); return err },
		"Databases": func() error { _, err := s.Databases(t.Context()); return err },
		"Do": func() error {
			_, err := s.Do(t.Context(), make)
			return err
		},
	} {
		err := try()
		ie, ok := errors.AsType[*engine.IdentityError](err)
		if !ok || ie.Known.Key != "somebody else" || !ie.Found.Known() {
			t.Errorf("%s on another instance: %v", what, err)
		}
	}
	target.SkipIdentityCheck = true
	open := Open(t, e, target)
	if _, err := open.Inspect(t.Context()); err != nil {
		t.Errorf("Anyone: %v", err)
	}
	if _, err := open.Database(t.Context(), "intruder"); !errors.Is(err, engine.ErrNotFound) {
		t.Errorf("something was done on another instance: %v", err)
	}
}

// proxy passes bytes on to a server and can cut the line: when a word has been
// sent, the server's answer to it is swallowed and the client's side closed.
type proxy struct {
	port int
	word atomic.Pointer[string]
}

func (p *proxy) cutAfter(word string) { p.word.Store(&word) }

func newProxy(t *testing.T, server string) *proxy {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	p := &proxy{port: l.Addr().(*net.TCPAddr).Port}
	go func() {
		for {
			client, err := l.Accept()
			if err != nil {
				return
			}
			go p.pass(client, server)
		}
	}()
	return p
}

func (p *proxy) pass(client net.Conn, server string) {
	defer client.Close()
	up, err := net.Dial("tcp", server)
	if err != nil {
		return
	}
	defer up.Close()
	var cut atomic.Bool
	go func() {
		defer client.Close()
		buf := make([]byte, 64<<10)
		for {
			n, err := up.Read(buf)
			if err != nil || cut.Load() {
				return
			}
			if _, err := client.Write(buf[:n]); err != nil {
				return
			}
		}
	}()
	buf := make([]byte, 64<<10)
	for {
		n, err := client.Read(buf)
		if err != nil {
			return
		}
		if word := p.word.Load(); word != nil && strings.Contains(string(buf[:n]), *word) {
			cut.Store(true)
		}
		if _, err := up.Write(buf[:n]); err != nil {
			return
		}
	}
}

package mysqlfamily

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

// taker plans and carries out drops on a running server.
type taker struct {
	t      *testing.T
	s      engine.Server
	server *localdb.Server
	// restart stops the server and starts it again with its data.
	restart func()
}

func (k taker) client(database, account string) *enginetest.Conn {
	k.t.Helper()
	conn, err := enginetest.Client(k.t.Context(), rigs.Of(maria{}, k.server), database, account)
	if err != nil {
		k.t.Fatal(err)
	}
	k.t.Cleanup(conn.Close)
	return conn
}

func (k taker) exec(database string, texts ...string) {
	k.t.Helper()
	conn := k.client(database, "")
	defer conn.Close()
	for _, text := range texts {
		if _, err := conn.ExecContext(k.t.Context(), text); err != nil {
			k.t.Fatalf("%s: %v", text, err)
		}
	}
}

func (k taker) brief(in change.Intent) change.Brief {
	k.t.Helper()
	return enginetest.BriefOf(k.t, maria{}, k.s, in)
}

func step(t *testing.T, b change.Brief, kind string) change.Step {
	t.Helper()
	i := slices.IndexFunc(b.Steps, func(s change.Step) bool { return s.Kind == kind })
	if i < 0 {
		t.Fatalf("no step %s: %+v", kind, b.Findings)
	}
	return b.Steps[i]
}

func (k taker) stopped(in change.Intent, code, text string) {
	k.t.Helper()
	b := k.brief(in)
	for _, f := range b.Findings {
		if f.Level == change.Stop && f.Code == code && strings.Contains(f.Text, text) && f.Next != "" {
			return
		}
	}
	k.t.Errorf("findings %+v; want the stop %s with %q", b.Findings, code, text)
}

func TestDropAndRename(t *testing.T) {
	t.Parallel()
	cfg := localdb.Config{Dir: filepath.Join(testutil.Dir(t), "mariadb"), Fast: true,
		Options: []string{"plugin-load-add=metadata_lock_info", "event-scheduler=ON"}}
	start := func() *localdb.Server {
		srv, err := marialocal.Start(context.Background(), cfg)
		if err != nil {
			t.Fatal(err)
		}
		return srv
	}
	k := taker{t: t, server: start()}
	t.Cleanup(func() { _ = k.server.Stop() })
	cfg.Port = k.server.Port
	k.restart = func() {
		if err := k.server.Stop(); err != nil {
			t.Fatal(err)
		}
		*k.server = *start()
	}
	k.s = enginetest.Open(t, maria{}, enginetest.Target(maria{}, k.server, "suite"))
	k.exec("mysql", "CREATE USER app@'127.0.0.1' IDENTIFIED BY '"+k.server.Password.Reveal()+"'",
		"CREATE USER wide@'127.0.0.1' IDENTIFIED BY '"+k.server.Password.Reveal()+"'", "CREATE ROLE gate_crew")
	for _, part := range []struct {
		name string
		f    func(taker)
	}{{"the gate", testGate}, {"what would half drop it", testHalfDrops}, {"a lock", testLock},
		{"a half-dropped one", testMend}, {"leftovers", testLeftovers}, {"kept", testKept},
		{"rolling back", testRollback}, {"set aside and back", testHolding}, {"copied", testCopy}} {
		t.Run(part.name, func(t *testing.T) {
			k := k
			k.t = t
			part.f(k)
		})
	}
}

// testGate takes rights of every kind, and puts back exactly what was there.
func testGate(k taker) {
	k.exec("mysql", "CREATE DATABASE gated_dev", "CREATE TABLE gated_dev.t (a INT, b INT)",
		"CREATE DEFINER=app@127.0.0.1 EVENT gated_dev.nightly ON SCHEDULE EVERY 1 DAY DO SELECT 1",
		"GRANT SELECT, INSERT ON `gated\\_dev`.* TO app@'127.0.0.1' WITH GRANT OPTION",
		"GRANT ALL ON `gated%`.* TO wide@'127.0.0.1'", "GRANT INSERT ON `gated\\_dev`.* TO gate_crew",
		"GRANT SELECT, UPDATE (a) ON gated_dev.t TO app@'127.0.0.1'", "GRANT SELECT ON gated_dev.t TO PUBLIC")
	inside := k.client("gated_dev", "app")
	before, err := k.s.(*server).readGrants(k.t.Context())
	if err != nil {
		k.t.Fatal(err)
	}
	gate := step(k.t, k.brief(dropping(change.DatabaseSpec{Name: "gated_dev"}, nil)), stepGate)
	if took, err := k.s.Probe(k.t.Context(), gate); took || err != nil {
		k.t.Errorf("Probe before = %v, %v", took, err)
	}
	if _, err := k.s.Do(k.t.Context(), gate); err != nil {
		k.t.Fatal(err)
	}
	if took, err := k.s.Probe(k.t.Context(), gate); !took || err != nil {
		k.t.Errorf("Probe = %v, %v", took, err)
	}
	// An account that only bears the name of Genarch's login is one like any other.
	namesake := k.server.Admin + "@'10.9.%'"
	k.exec("mysql", "CREATE USER "+namesake, "GRANT SELECT ON `gated\\_dev`.* TO "+namesake)
	if took, err := k.s.Probe(k.t.Context(), gate); took || err != nil {
		k.t.Errorf("Probe with a right left to a namesake of the login = %v, %v", took, err)
	}
	k.exec("mysql", "DROP USER "+namesake)
	if _, err := inside.ExecContext(k.t.Context(), "INSERT INTO t VALUES (1, 2)"); err != nil {
		k.t.Errorf("who is inside keeps old rights, as the engine has it: %v", err)
	}
	if conn, err := enginetest.Client(k.t.Context(), rigs.Of(maria{}, k.server), "gated_dev", "app"); err == nil {
		conn.Close()
		k.t.Error("an account gets in through the closed gate")
	}
	shadowed := k.client("mysql", "")
	shadowed.Close()
	if conn, err := enginetest.Client(k.t.Context(), rigs.Of(maria{}, k.server), "gated_dev", "wide"); err == nil {
		if _, err := conn.ExecContext(k.t.Context(), "SELECT * FROM t"); err == nil ||
			!strings.Contains(err.Error(), "1142") {
			k.t.Errorf("what a pattern gave is not shadowed: %v", err)
		}
		conn.Close()
	}
	var status string
	if err := k.client("mysql", "").QueryRowContext(k.t.Context(),
		"SELECT CONCAT(STATUS, ' of ', DEFINER) FROM information_schema.EVENTS WHERE EVENT_NAME = 'nightly'").
		Scan(&status); err != nil || status != "DISABLED of app@127.0.0.1" {
		k.t.Errorf("the event is %s, %v", status, err)
	}
	for range 2 { // all that opens it can be done again
		if _, err := k.s.Undo(k.t.Context(), gate); err != nil {
			k.t.Fatal(err)
		}
	}
	after, err := k.s.(*server).readGrants(k.t.Context())
	if err != nil || !slices.Equal(lines(before), lines(after)) {
		k.t.Errorf("grants before:\n%v\nafter:\n%v, %v", lines(before), lines(after), err)
	}
	if err := k.client("mysql", "").QueryRowContext(k.t.Context(),
		"SELECT CONCAT(STATUS, ' of ', DEFINER) FROM information_schema.EVENTS WHERE EVENT_NAME = 'nightly'").
		Scan(&status); err != nil || status != "ENABLED of app@127.0.0.1" {
		k.t.Errorf("the event is %s, %v", status, err)
	}
	// A gate that fails halfway: an account has gone meanwhile.
	gate.Args["do"] = engine.EncodeList(append(engine.DecodeList(gate.Args["do"]),
		"ALTER USER nobody@nowhere ACCOUNT LOCK"))
	if _, err := k.s.Do(k.t.Context(), gate); err == nil {
		k.t.Error("a gate with an account that is not there closes")
	}
	if _, err := k.s.Undo(k.t.Context(), gate); err != nil {
		k.t.Error(err)
	}
	if again, _ := k.s.(*server).readGrants(k.t.Context()); !slices.Equal(lines(before), lines(again)) {
		k.t.Errorf("after a gate that failed halfway: %v", lines(again))
	}
	inside.Close()
	if _, err := enginetest.Carry(k.t, k.s,
		k.brief(dropping(change.DatabaseSpec{Name: "gated_dev"}, nil))); err != nil {
		k.t.Error(err)
	}
}

func lines(grants []catalog.Grant) []string {
	var out []string
	for _, g := range grants {
		out = append(out, fmt.Sprintf("%+v %v %v", g.Object, g.Grantee, g.Privileges))
	}
	slices.Sort(out)
	return out
}

// testHalfDrops: what would leave it partially dropped is found before, and again
// right before the drop; nothing is lost.
func testHalfDrops(k taker) {
	k.exec("mysql", "CREATE DATABASE parent_dev CHARACTER SET utf8mb4 COLLATE utf8mb4_bin COMMENT 'it''s'",
		"CREATE DATABASE child_dev", "CREATE TABLE parent_dev.t (id INT PRIMARY KEY) ENGINE=InnoDB",
		"CREATE TABLE parent_dev.u (id INT)")
	in := dropping(change.DatabaseSpec{Name: "parent_dev"}, nil)
	early := k.brief(in)
	k.exec("mysql", "CREATE TABLE child_dev.c (id INT, FOREIGN KEY (id) REFERENCES parent_dev.t (id)) ENGINE=InnoDB",
		"CREATE VIEW child_dev.v AS SELECT * FROM parent_dev.u")
	k.stopped(in, change.KeysOutside, "child_dev.c")
	if b := k.brief(in); !slices.ContainsFunc(b.Findings, func(f change.Finding) bool {
		return f.Code == change.DropBreaks && strings.Contains(f.Text, "view child_dev.v")
	}) {
		k.t.Errorf("the view that needs it: %+v", b.Findings)
	}
	if _, err := enginetest.Carry(k.t, k.s, early); err == nil || !strings.Contains(err.Error(), "Foreign keys") {
		k.t.Errorf("a key that came after the brief: %v", err)
	}
	k.exec("mysql", "DROP DATABASE child_dev")

	xa := k.client("parent_dev", "")
	for _, text := range []string{"XA START 'g1'", "INSERT INTO t VALUES (1)", "XA END 'g1'", "XA PREPARE 'g1'"} {
		if _, err := xa.ExecContext(k.t.Context(), text); err != nil {
			k.t.Fatal(err)
		}
	}
	xa.Close()
	testutil.Wait(k.t, "the transaction to be without a session", func() bool {
		list, err := k.s.Sessions(k.t.Context(), catalog.SessionQuery{})
		return err == nil && len(list.Prepared) == 1
	})
	k.stopped(in, change.PreparedWaiting, "g1")
	if _, err := k.s.Do(k.t.Context(), step(k.t, early, stepDrop)); err == nil ||
		!strings.Contains(err.Error(), "prepared") {
		k.t.Errorf("a prepared transaction that came after the brief: %v", err)
	}
	k.exec("mysql", "XA ROLLBACK 'g1'")
	d, err := k.s.Database(k.t.Context(), "parent_dev")
	if err != nil || d.Tables == nil || *d.Tables != 2 || d.Collation != "utf8mb4_bin" || d.Comment != "it's" {
		k.t.Errorf("after all that: %+v, %v", d, err)
	}
	if _, err := enginetest.Carry(k.t, k.s, k.brief(in)); err != nil {
		k.t.Error(err)
	}
}

// testLock: somebody reads a table of it from another database, in a transaction.
// That is seen, and the drop does not even begin.
func testLock(k taker) {
	k.exec("mysql", "CREATE DATABASE read_dev", "CREATE TABLE read_dev.t (a INT) ENGINE=InnoDB",
		"INSERT INTO read_dev.t VALUES (1)")
	reader := k.client("mysql", "")
	for _, text := range []string{"BEGIN", "SELECT * FROM read_dev.t"} {
		if _, err := reader.ExecContext(k.t.Context(), text); err != nil {
			k.t.Fatal(err)
		}
	}
	list, err := k.s.Sessions(k.t.Context(), catalog.SessionQuery{Database: "read_dev"})
	if err != nil || len(list.Sessions) != 1 || !slices.Equal(list.Sessions[0].Uses, []string{"read_dev"}) {
		k.t.Errorf("who uses it without having it as its own: %+v, %v", list.Sessions, err)
	}
	b := k.brief(dropping(change.DatabaseSpec{Name: "read_dev"}, nil))
	_, err = k.s.Do(k.t.Context(), step(k.t, b, stepDrop))
	if e, ok := errors.AsType[*engine.Error](err); !ok || e.Kind != engine.NotSent || e.Code != "1205" ||
		!strings.Contains(e.Text, "session") || e.Next == "" {
		k.t.Errorf("the drop: %v", err)
	}
	if _, err := enginetest.Carry(k.t, k.s, b); err != nil { // clearing ends it first
		k.t.Error(err)
	}
}

// testMend: a drop that failed halfway all the same is reported as what it is,
// and its settings are put back.
func testMend(k taker) {
	k.exec("mysql", "CREATE DATABASE half_dev CHARACTER SET utf8mb4 COLLATE utf8mb4_bin COMMENT 'dues'",
		"CREATE TABLE half_dev.t (id INT PRIMARY KEY) ENGINE=InnoDB", "CREATE TABLE half_dev.u (id INT)",
		"CREATE DATABASE other_dev")
	drop := step(k.t, k.brief(dropping(change.DatabaseSpec{Name: "half_dev"}, nil)), stepDrop)
	if _, err := k.s.Undo(k.t.Context(), drop); err != nil {
		k.t.Errorf("nothing was lost, and mending says %v", err)
	}
	k.exec("mysql", "CREATE TABLE other_dev.c (id INT, FOREIGN KEY (id) REFERENCES half_dev.t (id)) ENGINE=InnoDB")
	if _, err := k.client("mysql", "").ExecContext(k.t.Context(), "DROP DATABASE half_dev"); err == nil {
		k.t.Fatal("the server dropped it")
	}
	_, err := k.s.Undo(k.t.Context(), drop)
	if e, ok := errors.AsType[*engine.Error](err); !ok || e.Kind != engine.Differs ||
		!strings.Contains(e.Text, "partially dropped: 1 of 2") || e.Next == "" {
		k.t.Errorf("mending: %v", err)
	}
	k.restart() // only then the loss of the settings would show
	testutil.Wait(k.t, "the server to be back", func() bool {
		d, err := k.s.Database(context.Background(), "half_dev")
		return err == nil && d.Collation == "utf8mb4_bin" && d.Comment == "dues"
	})
}

func testLeftovers(k taker) {
	for name, clear := range map[string]bool{"left_dev": false, "cleared_dev": true} {
		escaped := strings.ReplaceAll(name, "_", `\_`)
		k.exec("mysql", "CREATE DATABASE "+name, "CREATE TABLE "+name+".t (a INT)",
			"GRANT SELECT ON `"+escaped+"`.* TO app@'127.0.0.1'", "GRANT SELECT ON "+name+".t TO app@'127.0.0.1'")
		if _, err := enginetest.Carry(k.t, k.s,
			k.brief(dropping(change.DatabaseSpec{Name: name, Options: catalog.Values{"clear_leftovers": clear}},
				nil))); err != nil {
			k.t.Fatal(err)
		}
		grants, err := k.s.(*server).readGrants(k.t.Context())
		left := slices.ContainsFunc(grants, func(g catalog.Grant) bool { return g.Database == escaped })
		if err != nil || left == clear ||
			slices.ContainsFunc(grants, func(g catalog.Grant) bool { return g.Database == name }) {
			k.t.Errorf("%s: a grant is left: %v, %v", name, left, err)
		}
	}
}

func testKept(k taker) {
	k.exec("mysql", "CREATE DATABASE records_like")
	for _, table := range recordTables {
		k.exec("records_like", "CREATE TABLE "+table+" (a INT)")
	}
	k.stopped(dropping(change.DatabaseSpec{Name: "records_like"}, nil), change.DatabaseKept, "records of a Genarch")
	k.stopped(dropping(change.DatabaseSpec{Name: "mysql"}, nil), change.DatabaseKept, "the server itself")
	k.stopped(dropping(change.DatabaseSpec{Name: "nowhere"}, nil), change.DatabaseAbsent,
		"There is no database nowhere")
}

// testRollback ends a session that has much to roll back: it is seen doing so,
// with how far it is, until it is gone.
func testRollback(k taker) {
	k.exec("mysql", "CREATE DATABASE big_dev",
		"CREATE TABLE big_dev.t (a BIGINT PRIMARY KEY, b CHAR(200)) ENGINE=InnoDB")
	writer := k.client("big_dev", "")
	for _, text := range []string{"BEGIN", "INSERT INTO t SELECT seq, 'x' FROM seq_1_to_400000"} {
		if _, err := writer.ExecContext(k.t.Context(), text); err != nil {
			k.t.Fatal(err)
		}
	}
	m := clearing.New(clearing.Rules{Target: clearing.Target{Database: "big_dev"}, AcceptLoss: true}, time.Now())
	seen := false
	testutil.Wait(k.t, "the session to be gone", func() bool {
		list, err := k.s.Sessions(k.t.Context(), catalog.SessionQuery{Database: "big_dev"})
		if err != nil {
			k.t.Fatal(err)
		}
		o := m.Saw(time.Now(), list.Sessions)
		for _, p := range m.Progress().Who {
			seen = seen || p.Class == clearing.Ending && strings.Contains(p.Progress, "rows to go")
		}
		if _, err := k.s.End(k.t.Context(), o.End, ""); err != nil {
			k.t.Fatal(err)
		}
		if o.Phase == clearing.GivenUp {
			k.t.Fatal(o.Why)
		}
		return o.Phase == clearing.Cleared
	})
	if !seen {
		k.t.Error("rolling its work back was not seen")
	}
}

package postgres

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// taker plans and carries out what takes databases away or moves them.
type taker struct {
	t      *testing.T
	s      engine.Server
	admin  *pgx.Conn
	server *localdb.Server
}

func (k taker) exec(texts ...string) {
	k.t.Helper()
	for _, text := range texts {
		if _, err := k.admin.Exec(k.t.Context(), text); err != nil {
			k.t.Fatalf("%s: %v", text, err)
		}
	}
}

func (k taker) connect(database string) *pgx.Conn {
	k.t.Helper()
	conn, err := pgx.Connect(k.t.Context(), k.server.DSN(database))
	if err != nil {
		k.t.Fatal(err)
	}
	k.t.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

func (k taker) brief(in change.Intent) change.Brief {
	k.t.Helper()
	return enginetest.BriefOf(k.t, Engine{}, k.s, in)
}

func testDropAndRename(t *testing.T, server *localdb.Server) {
	k := taker{t, enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, server, "suite")), nil, server}
	k.admin = k.connect("postgres")
	for name, f := range map[string]func(taker){"rename and back": testRename, "move and back": testMove,
		"a template in use": testTemplate, "a database that was not answered": testEvidence,
		"what stops a drop": testStops, "what points to it": testPointers,
		"a lock on the catalogue": testCatalogueLock, "a gate and its probe": testGate,
		"a leftover of a drop": testBroken, "set aside and back": testHolding, "an account aside": testAccountHolding} {
		t.Run(name, func(t *testing.T) {
			k := k
			k.t = t
			f(k)
		})
	}
}

func testRename(k taker) {
	k.exec("CREATE DATABASE before_dev CONNECTION LIMIT 7")
	k.connect("before_dev")
	b := k.brief(taking(change.RenameDatabase, change.DatabaseSpec{Name: "before_dev", NewName: "after_dev"}, nil))
	done, err := enginetest.Carry(k.t, k.s, b)
	if err != nil {
		k.t.Fatal(err)
	}
	d, err := k.s.Database(k.t.Context(), "after_dev")
	if err != nil || d.Closed || d.Properties["connection_limit"] != int64(7) {
		k.t.Fatalf("after: %+v, %v", d, err)
	}
	for _, step := range slices.Backward(done) {
		if took, err := k.s.Probe(k.t.Context(), step); step.Kind != stepGate && (!took || err != nil) {
			k.t.Errorf("Probe(%s) = %v, %v", step.Kind, took, err)
		}
	}
	for _, step := range slices.Backward(done) {
		if step.Undo == "" {
			continue
		}
		for range 2 {
			if _, err := k.s.Undo(k.t.Context(), step); err != nil {
				k.t.Errorf("Undo(%s): %v", step.Kind, err)
			}
		}
	}
	if d, err := k.s.Database(k.t.Context(), "before_dev"); err != nil || d.Closed {
		k.t.Errorf("rolled back: %+v, %v", d, err)
	}
}

func testMove(k taker) {
	dir := testutil.Dir(k.t) + "/space"
	k.exec("CREATE DATABASE placed_dev")
	testutil.GiveToPostgres(k.t, makeDir(k.t, dir))
	k.exec("CREATE TABLESPACE pier LOCATION '" + dir + "'")
	k.connect("placed_dev")
	in := taking(change.AlterDatabase,
		change.DatabaseSpec{Name: "placed_dev", Options: catalog.Values{"tablespace": "pier"}}, nil)
	done, err := enginetest.Carry(k.t, k.s, k.brief(in))
	if err != nil {
		k.t.Fatal(err)
	}
	if d, err := k.s.Database(k.t.Context(), "placed_dev"); err != nil || d.Properties.Text("tablespace") != "pier" ||
		d.Closed {
		k.t.Errorf("moved: %+v, %v", d, err)
	}
	if b := k.brief(in); b.Outcome != change.Nothing {
		k.t.Errorf("moving it again: %+v", b.Findings)
	}
	for _, step := range done {
		if step.Kind == stepMove {
			if _, err := k.s.Undo(k.t.Context(), step); err != nil {
				k.t.Errorf("Undo: %v", err)
			}
		}
	}
	if d, _ := k.s.Database(k.t.Context(), "placed_dev"); d.Properties.Text("tablespace") != "pg_default" {
		k.t.Errorf("rolled back: %s", d.Properties.Text("tablespace"))
	}
}

func testTemplate(k taker) {
	k.exec("CREATE DATABASE mould_dev IS_TEMPLATE true")
	k.connect("mould_dev")
	in := change.Intent{Kind: change.CreateDatabase,
		Database: &change.DatabaseSpec{Name: "cast_dev", Options: catalog.Values{"template": "mould_dev"}}}
	if b := k.brief(in); !slices.Contains(b.Codes(change.Stop), change.TemplateInUse) {
		k.t.Fatalf("a template in use: %+v", b.Findings)
	}
	in.Clearing = &change.ClearingSpec{}
	b := k.brief(in)
	if _, err := enginetest.Carry(k.t, k.s, b); err != nil {
		k.t.Fatalf("%v: %+v", err, b.Findings)
	}
	for _, name := range []string{"mould_dev", "cast_dev"} {
		if d, err := k.s.Database(k.t.Context(), name); err != nil || d.Closed {
			k.t.Errorf("%s: %+v, %v", name, d, err)
		}
	}
}

// testStops looks at what forbids a drop, as a real server shows it.
func testStops(k taker) {
	k.exec("CREATE DATABASE barred_dev", "CREATE DATABASE source_dev")
	inside := k.connect("barred_dev")
	for _, text := range []string{"CREATE TABLE t (a int)", "BEGIN", "INSERT INTO t VALUES (1)",
		"PREPARE TRANSACTION 'odd ''name'"} {
		if _, err := inside.Exec(k.t.Context(), text, pgx.QueryExecModeSimpleProtocol); err != nil {
			k.t.Fatalf("%s: %v", text, err)
		}
	}
	drop := taking(change.DropDatabase, change.DatabaseSpec{Name: "barred_dev"}, nil)
	b := k.brief(drop)
	if !slices.Contains(b.Codes(change.Stop), change.PreparedWaiting) ||
		!strings.Contains(b.Findings[0].Text, "odd 'name") {
		k.t.Errorf("a prepared transaction: %+v", b.Findings)
	}
	// One that came after the brief stops the drop itself.
	gate := gateStep(*must(k.s.Database(k.t.Context(), "barred_dev")))
	if _, err := k.s.Do(k.t.Context(),
		change.Step{Kind: stepDrop, Title: "drop", Statement: dropDatabase("barred_dev"),
			Args: gate.Args}); err == nil || !strings.Contains(err.Error(), "prepared transaction") {
		k.t.Errorf("a drop with a prepared transaction: %v", err)
	}
	if _, err := inside.Exec(k.t.Context(), "ROLLBACK PREPARED 'odd ''name'"); err != nil {
		k.t.Fatal(err)
	}
	if _, err := inside.Exec(k.t.Context(),
		"SELECT pg_create_logical_replication_slot('beacon', 'pgoutput')"); err != nil {
		k.t.Fatal(err)
	}
	if b := k.brief(drop); !slices.Contains(b.Codes(change.Caution), change.DropBreaks) || b.Stopped() {
		k.t.Errorf("an idle slot: %+v", b.Findings)
	}
	if _, err := inside.Exec(k.t.Context(),
		"CREATE SUBSCRIPTION buoy CONNECTION 'host=127.0.0.1 port=1 dbname=x' PUBLICATION p WITH (connect = false)"); err != nil {
		k.t.Fatal(err)
	}
	if b := k.brief(drop); !slices.Contains(b.Codes(change.Stop), change.ReplicationRunning) {
		k.t.Errorf("a subscription: %+v", b.Findings)
	}
	for in, code := range map[string]string{"postgres": change.DatabaseKept, "template1": change.DatabaseKept,
		"nowhere": change.DatabaseAbsent} {
		if b := k.brief(taking(change.DropDatabase, change.DatabaseSpec{Name: in},
			nil)); !slices.Contains(b.Codes(change.Stop), code) {
			k.t.Errorf("%s: %+v; want %s", in, b.Findings, code)
		}
	}
	// A small login: the database is there, and it may not; and it sees nothing.
	k.exec("CREATE ROLE deckhand LOGIN PASSWORD '" + k.server.Password.Reveal() + "'")
	target := enginetest.Target(Engine{}, k.server, "suite")
	target.Server.Admin = "deckhand"
	small := k
	small.s = enginetest.Open(k.t, Engine{}, target)
	codes := small.brief(taking(change.DropDatabase, change.DatabaseSpec{Name: "source_dev"}, nil)).Codes(change.Stop)
	if !slices.Contains(codes, change.DatabaseDenied) || !slices.Contains(codes, change.SessionsHidden) {
		k.t.Errorf("for a small login: %v", codes)
	}
	if codes := small.brief(taking(change.DropDatabase, change.DatabaseSpec{Name: "nowhere"}, nil)).
		Codes(change.Stop); !slices.Equal(codes, []string{change.DatabaseAbsent}) {
		k.t.Errorf("absent, for a small login: %v", codes)
	}
}

// testCatalogueLock: somebody holds a lock on the list of databases. The gate
// gives up within its bound, says who, and nothing has changed.
func testCatalogueLock(k taker) {
	k.exec("CREATE DATABASE locked_dev")
	b := k.brief(taking(change.DropDatabase, change.DatabaseSpec{Name: "locked_dev"}, nil))
	holder := k.connect("postgres")
	if _, err := holder.Exec(k.t.Context(), "BEGIN; LOCK TABLE pg_catalog.pg_database IN EXCLUSIVE MODE",
		pgx.QueryExecModeSimpleProtocol); err != nil {
		k.t.Fatal(err)
	}
	_, err := enginetest.Carry(k.t, k.s, b)
	e, ok := errors.AsType[*engine.Error](err)
	if !ok || e.Kind != engine.Refused || e.Code != "55P03" || !strings.Contains(e.Error(), "locked by session") ||
		e.Next == "" {
		k.t.Errorf("a lock on the catalogue: %v", err)
	}
	if _, err := holder.Exec(k.t.Context(), "ROLLBACK"); err != nil {
		k.t.Fatal(err)
	}
	if _, err := enginetest.Carry(k.t, k.s, b); err != nil {
		k.t.Errorf("afterwards: %v", err)
	}
}

// testGate: whoever the database is called by then, its gate opens again; and a
// gate that was closed before is left as it was.
func testGate(k taker) {
	k.exec("CREATE DATABASE gated_dev")
	d := must(k.s.Database(k.t.Context(), "gated_dev"))
	gate := gateStep(*d)
	if _, err := k.s.Do(k.t.Context(), gate); err != nil {
		k.t.Fatal(err)
	}
	if took, err := k.s.Probe(k.t.Context(), gate); !took || err != nil {
		k.t.Errorf("Probe = %v, %v", took, err)
	}
	if _, err := pgx.Connect(k.t.Context(), k.server.DSN("gated_dev")); err == nil ||
		!strings.Contains(err.Error(), "55000") && !strings.Contains(err.Error(), "not currently accepting") {
		k.t.Errorf("a superuser at the gate: %v", err)
	}
	k.exec("ALTER DATABASE gated_dev RENAME TO renamed_dev")
	if _, err := k.s.Undo(k.t.Context(), gate); err != nil {
		k.t.Fatal(err)
	}
	k.connect("renamed_dev").Close(k.t.Context())
	k.exec("ALTER DATABASE renamed_dev ALLOW_CONNECTIONS false")
	b := k.brief(taking(change.RenameDatabase, change.DatabaseSpec{Name: "renamed_dev", NewName: "shut_dev"}, nil))
	if slices.Contains(b.Kinds(), stepGate) || slices.Contains(b.Kinds(), stepOpen) {
		k.t.Errorf("a gate that was closed is to be opened: %v", b.Kinds())
	}
	if _, err := enginetest.Carry(k.t, k.s, b); err != nil {
		k.t.Error(err)
	}
}

// testBroken: what an interrupted drop left can only be dropped again.
func testBroken(k taker) {
	k.exec("CREATE DATABASE broken_dev",
		"UPDATE pg_catalog.pg_database SET datconnlimit = -2 WHERE datname = 'broken_dev'")
	if b := k.brief(taking(change.RenameDatabase, change.DatabaseSpec{Name: "broken_dev", NewName: "x_dev"},
		nil)); !slices.Contains(b.Codes(change.Stop), change.DatabaseBroken) {
		k.t.Errorf("renaming it: %+v", b.Findings)
	}
	gate := gateStep(*must(k.s.Database(k.t.Context(), "broken_dev")))
	if _, err := k.s.Undo(k.t.Context(), gate); err == nil || !strings.Contains(err.Error(), "interrupted drop") {
		k.t.Errorf("opening its gate: %v", err)
	}
	if _, err := enginetest.Carry(k.t, k.s,
		k.brief(taking(change.DropDatabase, change.DatabaseSpec{Name: "broken_dev"}, nil))); err != nil {
		k.t.Errorf("dropping it: %v", err)
	}
}

func must[T any](v T, err error) *T {
	if err != nil {
		panic(err)
	}
	return &v
}

func makeDir(t *testing.T, dir string) string {
	t.Helper()
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	return dir
}

// testPointers: what other databases have that reaches one by its address is a
// caution where the host is this server, and a note where that is not certain.
func testPointers(k taker) {
	k.exec("CREATE DATABASE pointed_dev", "CREATE DATABASE pointing_dev", `CREATE DATABASE "shut, 'too'"`,
		`ALTER DATABASE "shut, 'too'" ALLOW_CONNECTIONS false`)
	inside := k.connect("pointing_dev")
	port := fmt.Sprint(k.server.Port)
	for _, text := range []string{
		"CREATE FOREIGN DATA WRAPPER wire",
		"CREATE SERVER near_link FOREIGN DATA WRAPPER wire OPTIONS (dbname 'pointed_dev', port '" + port + "')",
		"CREATE SERVER other_port FOREIGN DATA WRAPPER wire OPTIONS (dbname 'pointed_dev', host '127.0.0.1', port '1')",
		"CREATE SERVER other_name FOREIGN DATA WRAPPER wire OPTIONS (dbname 'pointed_dev2')",
		"CREATE SERVER far_link FOREIGN DATA WRAPPER wire OPTIONS (dbname 'pointed_dev', host 'pier7.ossavik.example')",
		"CREATE SERVER nowhere FOREIGN DATA WRAPPER wire",
		`CREATE FUNCTION fetch_fares() RETURNS text LANGUAGE plpgsql AS $f$ BEGIN RETURN 'host=localhost port=` + port +
			` dbname=pointed_dev user=x'; END $f$`,
		`CREATE FUNCTION other_fares() RETURNS text LANGUAGE sql AS $f$ SELECT 'dbname=pointed_dev_old' $f$`,
	} {
		if _, err := inside.Exec(k.t.Context(), text); err != nil {
			k.t.Fatalf("%s: %v", text, err)
		}
	}
	var shut int // other tests leave some behind
	if err := k.admin.QueryRow(k.t.Context(),
		"SELECT count(*)::int FROM pg_database WHERE NOT datallowconn AND NOT datistemplate").Scan(&shut); err != nil {
		k.t.Fatal(err)
	}
	for _, want := range []struct {
		level change.Level
		text  string
	}{
		{change.Caution, "would fail: foreign server near_link of pointing_dev, routine public.fetch_fares of pointing_dev."},
		{change.Note, "of this name: foreign server far_link of pointing_dev (host pier7.ossavik.example)."},
		{change.Note, naming.Count(shut, "other database") +
			" could not be searched for foreign servers that point to it."},
	} {
		// On a busy machine the first look may not come through all databases.
		testutil.Wait(k.t, string(want.level)+" "+want.text, func() bool {
			b := k.brief(taking(change.DropDatabase, change.DatabaseSpec{Name: "pointed_dev"}, nil))
			return slices.ContainsFunc(b.Findings,
				func(f change.Finding) bool { return f.Level == want.level && strings.HasSuffix(f.Text, want.text) })
		})
	}
	b := k.brief(taking(change.RenameDatabase, change.DatabaseSpec{Name: "pointed_dev", NewName: "renamed_dev"}, nil))
	if !slices.ContainsFunc(b.Findings,
		func(f change.Finding) bool { return f.Level == change.Caution && strings.Contains(f.Text, "near_link") }) {
		k.t.Errorf("a rename does not tell who points to the old name: %+v", b.Findings)
	}
	if b := k.brief(taking(change.DropDatabase, change.DatabaseSpec{Name: "pointing_dev"},
		nil)); len(b.Codes(change.Caution)) > 0 {
		k.t.Errorf("nothing points to the other one: %+v", b.Findings)
	}
}

func TestPointerMeans(t *testing.T) {
	hosts, ports := []string{"harbour.ossavik.example", "10.0.0.7"}, []string{"5432", "6432"}
	for _, tt := range []struct {
		database, host, port string
		want                 reach
	}{
		{"fares", "", "", here},
		{"fares", "", "6432", here},
		{"fares", "/run/postgresql", "", here},
		{"fares", "localhost", "5432", here},
		{"fares", "10.0.0.7", "", here},
		{"fares", "harbour.ossavik.example", "", here},
		{"fares", "10.0.0.8", "", perhaps},
		{"fares", "10.0.0.8", "5432", perhaps},
		{"fares", "10.0.0.7", "5433", elsewhere},
		{"fares", "", "5433", elsewhere},
		{"Fares", "", "", elsewhere},
		{"", "", "", elsewhere},
	} {
		if got := (pointer{database: tt.database, host: tt.host, port: tt.port}).means("fares", hosts,
			ports); got != tt.want {
			t.Errorf("%q at %q, port %q means fares here: %d; want %d", tt.database, tt.host, tt.port, got, tt.want)
		}
	}
}

// testEvidence: a database whose making was never answered is rolled back when it
// belongs to the role that the same change made, and left alone when it does not.
func testEvidence(k taker) {
	k.exec("CREATE ROLE shed_owner")
	k.exec("CREATE ROLE shed_stranger")
	step := change.Step{Kind: stepCreate, Title: "create database",
		Statement: `CREATE DATABASE "shed_dev" OWNER "shed_owner"`, Undo: `DROP DATABASE "shed_dev"`,
		Args: map[string]string{"name": "shed_dev", "template": "template1", "owner_made": "shed_owner"}}
	// unanswered does it, and keeps only what is on record before the answer comes.
	unanswered := func() change.Step {
		k.t.Helper()
		kept := step
		kept.Args = maps.Clone(step.Args)
		sent := step
		sent.Ready = func(x change.Sending) error {
			maps.Copy(kept.Args, x.Learned)
			return nil
		}
		if _, err := k.s.Do(k.t.Context(), sent); err != nil {
			k.t.Fatal(err)
		}
		return kept
	}
	kept := unanswered()
	if _, err := k.s.Undo(k.t.Context(), kept); err != nil {
		k.t.Errorf("Undo of what is certainly its own: %v", err)
	}
	if _, err := k.s.Database(k.t.Context(), "shed_dev"); !errors.Is(err, engine.ErrNotFound) {
		k.t.Errorf("it is still there: %v", err)
	}
	kept = unanswered()
	k.exec(`ALTER DATABASE shed_dev OWNER TO shed_stranger`)
	if _, err := k.s.Undo(k.t.Context(), kept); err == nil || !strings.Contains(err.Error(), "not certain") {
		k.t.Errorf("Undo of a stranger's: %v", err)
	}
	k.exec(`DROP DATABASE shed_dev`)
}

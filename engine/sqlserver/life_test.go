package sqlserver

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

// life is a running server with clients of its own.
type life struct {
	*testing.T
	s     engine.Server
	rig   enginetest.Rig
	admin *enginetest.Conn
}

func (l life) exec(texts ...string) {
	l.Helper()
	for _, text := range texts {
		if _, err := l.admin.ExecContext(l.Context(), text); err != nil {
			l.Fatalf("%s: %v", text, err)
		}
	}
}

// one reads a single value as text.
func (l life) one(text string) string {
	l.Helper()
	var out sql.NullString
	if err := l.admin.QueryRowContext(l.Context(), text).Scan(&out); err != nil {
		l.Errorf("%s: %v", text, err)
	}
	return out.String
}

func (l life) is(what, want string) {
	l.Helper()
	if what != want {
		l.Errorf("got %q, want %q", what, want)
	}
}

// client opens a connection, which is closed after the test; nil: it does not get in.
func (l life) client(database string) *enginetest.Conn {
	l.Helper()
	c, err := enginetest.Client(l.Context(), l.rig, database, "")
	if err != nil {
		return nil
	}
	l.Cleanup(c.Close)
	return c
}

func (l life) act(in change.Intent) change.Brief {
	l.Helper()
	return enginetest.Act(l.T, Engine{}, l.s, in)
}

func database(k change.Kind, spec change.DatabaseSpec) change.Intent {
	return change.Intent{Kind: k, Database: &spec}
}

func altering(name string, options catalog.Values) change.Intent {
	return database(change.AlterDatabase, change.DatabaseSpec{Name: name, Options: options})
}

// TestLife is what becomes of databases on a running server.
func TestLife(t *testing.T) {
	t.Parallel()
	rig := rigs.Of(Engine{}, testutil.SQLServer(t, "16.0.4125.3"))
	target := enginetest.Target(Engine{}, rig.Running, "suite")
	target.Server.NameRule.Free = true
	l := life{T: t, s: enginetest.Open(t, Engine{}, target), rig: rig}
	l.admin = l.client("master")
	l.exec("CREATE LOGIN harbour_app WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF")
	for _, part := range []struct {
		name string
		f    func(life)
	}{{"made with options", testMade}, {"altered", testAltered}, {"renamed", testRenamed},
		{"set aside and back", testHolding}, {"the place is taken", testPlace}, {"marked", testMarked}} {
		t.Run(part.name, func(t *testing.T) {
			l := l
			l.T = t
			part.f(l)
		})
	}
}

// testMade makes a database with files, options and an owner, and reads it back.
func testMade(l life) {
	l.act(database(change.CreateDatabase, change.DatabaseSpec{Name: "tickets_prod", Options: catalog.Values{
		"owner": "harbour_app", "collation": "Finnish_Swedish_CI_AS", "recovery": "simple", "compatibility": "150",
		"snapshot_isolation": true, "read_committed_snapshot": true,
		"files": []catalog.Values{{"name": "tickets", "size": int64(64 << 20), "growth": "10%",
			"max_size": int64(1 << 30)},
			{"name": "archive", "filegroup": "COLD", "growth": "64 MB"}, {"name": "tickets_log", "kind": "log"}}}}))
	d, err := l.s.Database(l.Context(), "tickets_prod")
	if err != nil {
		l.Fatal(err)
	}
	if d.Owner != "harbour_app" || d.Collation != "Finnish_Swedish_CI_AS" ||
		d.Properties.Text("recovery") != "simple" ||
		d.Properties.Text("compatibility") != "150" || !d.Properties.Bool("read_committed_snapshot") {
		l.Errorf("%+v", d)
	}
	files := d.Properties.Rows("files")
	if len(files) != 3 {
		l.Fatalf("files: %v", files)
	}
	size, _ := files[0].Int("size")
	limit, _ := files[0].Int("max_size")
	if size != 64<<20 || limit != 1<<30 || files[0].Text("growth") != "10%" || files[0].Text("filegroup") != "PRIMARY" {
		l.Errorf("the first file: %v", files[0])
	}
	// A name that no file can have.
	l.act(database(change.CreateDatabase, change.DatabaseSpec{Name: `up/"down"?`}))
	d, err = l.s.Database(l.Context(), `up/"down"?`)
	if files := d.Properties.Rows("files"); err != nil || len(files) != 2 ||
		strings.ContainsAny(strings.TrimPrefix(files[0].Text("path"), "/var/opt/mssql/data/"), `/"?`) {
		l.Errorf("%v, %v", files, err)
	}
	again := enginetest.BriefOf(l.T, Engine{}, l.s, database(change.CreateDatabase, change.DatabaseSpec{
		Name: "tickets_prod", IfNotExists: true, Options: catalog.Values{"recovery": "full"}}))
	if len(again.Differences) != 1 || again.Differences[0].Actual != "simple" {
		l.Errorf("differences: %+v", again.Differences)
	}
}

// testAltered alters what takes effect at once, and what needs the database alone.
func testAltered(l life) {
	l.exec("CREATE DATABASE lounges")
	there := l.client("lounges")
	l.act(altering("lounges", catalog.Values{"recovery": "simple", "auto_shrink": true, "owner": "harbour_app",
		"files": []catalog.Values{{"name": "lounges", "size": int64(32 << 20)}, {"name": "more",
			"filegroup": "COLD"}}}))
	if _, err := there.ExecContext(l.Context(), "SELECT 1"); err != nil {
		l.Error("whoever was in it had to go: ", err)
	}
	there.Close()
	l.act(altering("lounges", catalog.Values{"read_only": true, "collation": "Finnish_Swedish_CI_AS"}))
	l.is(l.one(`SELECT CONCAT(recovery_model_desc, ' ', is_auto_shrink_on, ' ', is_read_only, ' ', collation_name, ' ',
		user_access_desc, ' ', SUSER_SNAME(owner_sid)) FROM sys.databases WHERE name = N'lounges'`),
		"SIMPLE 1 1 Finnish_Swedish_CI_AS MULTI_USER harbour_app")
	l.act(altering("lounges", catalog.Values{"read_only": false, "access": "restricted_user"}))
	l.act(altering("lounges", catalog.Values{"offline": true}))
	l.is(l.one("SELECT state_desc FROM sys.databases WHERE name = N'lounges'"), "OFFLINE")
	if b := enginetest.BriefOf(l.T, Engine{}, l.s, altering("lounges", catalog.Values{"recovery": "full"})); !slices.
		Contains(b.Codes(change.Stop), change.DatabaseClosed) {
		l.Errorf("one that is offline: %+v", b.Findings)
	}
	l.act(altering("lounges", catalog.Values{"offline": false}))
	l.is(l.one("SELECT user_access_desc FROM sys.databases WHERE name = N'lounges'"), "RESTRICTED_USER")
}

// testRenamed renames a database whose sessions come back, and takes that back.
func testRenamed(l life) {
	l.exec("CREATE DATABASE gangways", "ALTER DATABASE gangways SET RESTRICTED_USER")
	l.client("gangways")
	b := l.act(database(change.RenameDatabase, change.DatabaseSpec{Name: "gangways", NewName: "piers"}))
	l.is(l.one("SELECT user_access_desc FROM sys.databases WHERE name = N'piers'"), "RESTRICTED_USER")
	i := slices.IndexFunc(b.Steps, func(s change.Step) bool { return s.Kind == stepRename })
	if took, err := l.s.Probe(l.Context(), b.Steps[i]); !took || err != nil {
		l.Errorf("probed: %v, %v", took, err)
	}
	for range 2 {
		if _, err := l.s.Undo(l.Context(), b.Steps[i]); err != nil {
			l.Error(err)
		}
	}
	l.is(l.one("SELECT user_access_desc FROM sys.databases WHERE name = N'gangways'"), "RESTRICTED_USER")
}

// testHolding sets a database aside, whole, and brings it back under another name; and discards one.
func testHolding(l life) {
	l.exec("CREATE DATABASE cargo", "EXEC cargo.sys.sp_executesql N'CREATE USER harbour_app FOR LOGIN harbour_app'",
		"EXEC cargo.sys.sp_executesql N'CREATE TABLE crates (id int)'")
	l.client("cargo")
	held := func() catalog.Database {
		l.Helper()
		list, err := l.s.Databases(l.Context())
		if err != nil || len(list.Held) != 1 {
			l.Fatalf("set aside: %+v, %v", list.Held, err)
		}
		return list.Held[0]
	}
	b := l.act(database(change.SetAside, change.DatabaseSpec{Name: "cargo"}))
	d := held()
	if d.Held.Name != "cargo" || !d.Closed {
		l.Errorf("%+v", d)
	}
	for _, step := range slices.Backward(b.Steps) {
		if step.Kind == stepAside || step.Kind == stepNote {
			for range 2 {
				if _, err := l.s.Undo(l.Context(), step); err != nil {
					l.Errorf("%s: %v", step.Kind, err)
				}
			}
		}
	}
	l.is(l.one("SELECT CONCAT(user_access_desc, state_desc) FROM sys.databases WHERE name = "+
		"N'cargo'"), "MULTI_USERONLINE")
	l.act(database(change.SetAside, change.DatabaseSpec{Name: "cargo"}))
	id := held().Name
	l.act(change.Intent{Kind: change.BringBack, Holding: &change.HoldingSpec{ID: id, NewName: "freight"}})
	l.is(l.one("SELECT CONCAT(user_access_desc, state_desc) FROM sys.databases WHERE name = N'freight'"),
		"MULTI_USERONLINE")
	l.is(l.one("SELECT COUNT(*) FROM freight.sys.tables"), "1")
	l.is(l.one("SELECT COUNT(*) FROM freight.sys.database_principals WHERE name = N'harbour_app'"), "1")
	l.is(l.one("SELECT COUNT(*) FROM master.sys.extended_properties WHERE name LIKE N'genarch.held%'"), "0")
	l.act(database(change.SetAside, change.DatabaseSpec{Name: "freight"}))
	id = held().Name
	l.act(change.Intent{Kind: change.KeepHolding, Holding: &change.HoldingSpec{ID: id, Hold: "the auditors want it"}})
	if h := held().Held; h.Hold != "the auditors want it" {
		l.Errorf("%+v", h)
	}
	l.act(change.Intent{Kind: change.KeepHolding, Holding: &change.HoldingSpec{ID: id, Release: true}})
	l.act(change.Intent{Kind: change.Discard, Holding: &change.HoldingSpec{ID: id}})
	l.is(l.one("SELECT COUNT(*) FROM sys.databases WHERE name = N'"+id+"'"), "0")
	l.is(l.one("SELECT COUNT(*) FROM master.sys.extended_properties WHERE name LIKE N'genarch.held%'"), "0")
}

// testPlace: a database that was left for a single session, and whose place a pool has taken, is
// given free again; one that was made anew is left alone.
func testPlace(l life) {
	l.exec("CREATE DATABASE berths")
	d, err := l.s.Database(l.Context(), "berths")
	if err != nil {
		l.Fatal(err)
	}
	drop := dropStep(d)
	l.exec("ALTER DATABASE berths SET SINGLE_USER WITH ROLLBACK IMMEDIATE")
	ctx, cancel := context.WithCancel(l.Context())
	defer cancel()
	in := make(chan bool, 1)
	over := make(chan bool)
	go func() { // it takes the place again as soon as it has lost it
		defer close(over)
		for ctx.Err() == nil {
			c, err := enginetest.Client(ctx, l.rig, "berths", "")
			if err != nil {
				continue
			}
			select {
			case in <- true:
			default:
			}
			for err == nil && ctx.Err() == nil {
				_, err = c.ExecContext(ctx, "WAITFOR DELAY '00:00:00.010'")
			}
			c.Close()
		}
	}()
	<-in
	took, err := l.s.Probe(l.Context(), drop)
	cancel()
	<-over
	if took || err != nil {
		l.Errorf("probed: %v, %v", took, err)
	}
	l.is(l.one("SELECT user_access_desc FROM sys.databases WHERE name = N'berths'"), "MULTI_USER")
	// Somebody who came back and has written.
	c := l.client("berths")
	for _, text := range []string{"CREATE TABLE t (id int)", "BEGIN TRANSACTION", "INSERT INTO t VALUES (1)"} {
		if _, err := c.ExecContext(l.Context(), text); err != nil {
			l.Fatal(err)
		}
	}
	if _, err := l.s.Do(l.Context(), drop); err == nil || !strings.Contains(err.Error(), "has written") {
		l.Errorf("a drop that would lose work: %v", err)
	}
	// Where nobody is to be ended, nobody is.
	if _, err := c.ExecContext(l.Context(), "COMMIT"); err != nil {
		l.Fatal(err)
	}
	if _, err := l.s.Do(l.Context(), drop); err == nil {
		l.Error("it was dropped with somebody in it")
	}
	l.is(l.one("SELECT user_access_desc FROM sys.databases WHERE name = N'berths'"), "MULTI_USER")
	c.Close()
	l.exec("ALTER DATABASE berths SET SINGLE_USER WITH ROLLBACK IMMEDIATE", "DROP DATABASE berths", "CREATE DATABASE "+
		"berths")
	if _, err := l.s.Do(l.Context(), drop); err == nil || !strings.Contains(err.Error(), "another one") {
		l.Errorf("one that was made anew: %v", err)
	}
}

// testMarked: a server that was marked is known by the mark, and another one by the same name is not
// taken for it.
func testMarked(l life) {
	before, err := l.s.Inspect(l.Context())
	if err != nil {
		l.Fatal(err)
	}
	b := l.act(change.Intent{Kind: change.MarkServer, Mark: "222d11d3-fc39-48bf-8c14-a8d0f59f9d52"})
	after, err := l.s.Inspect(l.Context())
	if err != nil || len(before.Identity.Differences(after.Identity)) > 0 || after.Identity.Marks["mark"] == "" {
		l.Errorf("%v and then %v, %v", before.Identity, after.Identity, err)
	}
	for range 2 {
		if _, err := l.s.Undo(l.Context(), b.Steps[0]); err != nil {
			l.Error(err)
		}
	}
}

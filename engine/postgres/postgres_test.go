package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

func TestPostgres15(t *testing.T) {
	t.Parallel()
	s := testutil.Postgres(t)
	enginetest.Run(t, Engine{}, s, enginetest.AllNames)
	enginetest.RunAccounts(t, Engine{}, s, enginetest.AllNames)
	testReal(t, s)
}

// TestSessions15 and 18 run beside the suite, on servers of their own.
func TestSessions15(t *testing.T) {
	t.Parallel()
	s := testutil.Postgres(t, "max_prepared_transactions=5", "wal_level=logical")
	enginetest.RunSessions(t, rigs.Of(Engine{}, s), enginetest.AllNames)
	testDropAndRename(t, s)
}

func TestSessions18(t *testing.T) {
	t.Parallel()
	s := testutil.Postgres18(t)
	enginetest.RunSessions(t, rigs.Of(Engine{}, s), enginetest.FewNames)
}

func TestPostgres18(t *testing.T) {
	t.Parallel()
	s := testutil.Postgres18(t)
	enginetest.Run(t, Engine{}, s, enginetest.FewNames)
	enginetest.RunAccounts(t, Engine{}, s, enginetest.FewNames)
	testReal(t, s)
}

// testReal runs what only a real server can prove of this engine.
func testReal(t *testing.T, running *localdb.Server) {
	admin, err := pgx.Connect(t.Context(), running.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(t.Context())
	run := func(statement string) {
		t.Helper()
		if _, err := admin.Exec(t.Context(), statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	t.Run("options", func(t *testing.T) { testOptions(t, running, run) })
	t.Run("alter", func(t *testing.T) { testAlter(t, running, run) })
	t.Run("altered meanwhile", func(t *testing.T) { testAlteredMeanwhile(t, running, run) })
	t.Run("template in use", func(t *testing.T) { testTemplateInUse(t, running) })
	t.Run("own counting", func(t *testing.T) { testOwnCounting(t, running) })
	t.Run("effective privileges", func(t *testing.T) { testEffective(t, running) })
	t.Run("small login", func(t *testing.T) { testSmallLogin(t, running, run) })
	t.Run("left by an interrupted drop", func(t *testing.T) { testInvalid(t, running, run) })
}

func testOptions(t *testing.T, running *localdb.Server, run func(string)) {
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
	run("CREATE ROLE crew NOLOGIN")
	limit, yes, no := 5, true, false
	specs := []change.DatabaseSpec{
		{Name: "latin", Options: catalog.Values{"encoding": "latin1", "collation": "C"}},
		{Name: "full", Options: catalog.Values{"owner": "crew", "encoding": "UTF8", "collation": "C",
			"ctype": "C.UTF-8", "tablespace": "pg_default", "strategy": "file_copy", "connection_limit": int64(limit),
			"is_template": yes, "comment": "x"}},
		{Name: "shut", Options: catalog.Values{"allow_connections": no}},
		{Name: "copied", Options: catalog.Values{"template": "full"}},
		{Name: "german", Options: catalog.Values{"provider": "icu", "locale": "de"}},
	}
	if !strings.HasPrefix(running.Version, "15.") {
		specs = append(specs, change.DatabaseSpec{Name: "built",
			Options: catalog.Values{"provider": "builtin", "locale": "C.UTF-8"}})
	}
	for _, spec := range specs {
		b := enginetest.Brief(t, Engine{}, s, spec)
		if _, err := enginetest.Carry(t, s, b); err != nil {
			t.Errorf("%s: %v\n%v", spec.Name, err, b.Statements())
		}
	}
	d, err := s.Database(t.Context(), "full")
	if err != nil || d.Owner != "crew" || d.Collation != "C" || d.Properties.Text("ctype") != "C.UTF-8" ||
		d.Properties["connection_limit"] != int64(5) || !d.Properties.Bool("is_template") || d.Comment != "x" {
		t.Errorf("full was read back as %+v, %v", d, err)
	}
	if d, err := s.Database(t.Context(), "shut"); err != nil || !d.Closed || d.Tables != nil {
		t.Errorf("a closed database: %+v, %v; its tables cannot be known", d, err)
	}
	// The list shows the tables once they were counted in the background.
	testutil.Wait(t, "the tables to be counted", func() bool {
		list, err := s.Databases(t.Context())
		i := slices.IndexFunc(list.Databases, func(d catalog.Database) bool { return d.Name == "latin" })
		return err == nil && i >= 0 && list.Databases[i].Tables != nil && *list.Databases[i].Tables == 0
	})
}

func testTemplateInUse(t *testing.T, running *localdb.Server) {
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
	b := enginetest.Brief(t, Engine{}, s, change.DatabaseSpec{Name: "from_busy"})
	guest, err := pgx.Connect(t.Context(), running.DSN("template1")+"&application_name=guest")
	if err != nil {
		t.Fatal(err)
	}
	defer guest.Close(t.Context())
	// Planned before the guest came, run while he is there: it is not even tried,
	// for a refused copy would make logins wait five seconds.
	_, err = s.Do(t.Context(), b.Steps[0])
	if e, ok := errors.AsType[*engine.Error](err); !ok || e.Kind != engine.NotSent || e.Next == "" {
		t.Errorf("a copy of a template in use gave %v; want it not to be sent at all", err)
	}
	now := enginetest.Brief(t, Engine{}, s, change.DatabaseSpec{Name: "from_busy"})
	if !slices.Contains(now.Codes(change.Stop), change.TemplateInUse) ||
		!strings.Contains(now.Findings[0].Text, "(guest)") {
		t.Errorf("findings %+v", now.Findings)
	}
}

func testSmallLogin(t *testing.T, running *localdb.Server, run func(string)) {
	run("CREATE ROLE small LOGIN PASSWORD 'small'")
	target := enginetest.Target(Engine{}, running, "harbour")
	target.Server.Admin, target.Password = "small", secret.New("small")
	s := enginetest.Open(t, Engine{}, target)
	b := enginetest.Brief(t, Engine{}, s, change.DatabaseSpec{Name: "tides", Options: catalog.Values{"owner": "crew"}})
	if got := b.Codes(change.Stop); !slices.Equal(got, []string{change.RightsMissing, change.OwnerDenied}) {
		t.Errorf("stops %v", got)
	}
	in, err := s.Inspect(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	// Each remedy is a statement that really helps.
	for _, a := range in.Login.Abilities {
		if a.Allowed || a.Remedy == "" {
			t.Errorf("%s: allowed %v, remedy %q", a.Code, a.Allowed, a.Remedy)
		}
		if a.Code != "any_owner" {
			run(a.Remedy)
		}
	}
	for _, f := range b.Findings {
		if f.Code == change.OwnerDenied {
			run(f.Next)
		}
	}
	if b := enginetest.Brief(t, Engine{}, s,
		change.DatabaseSpec{Name: "tides", Options: catalog.Values{"owner": "crew"}}); b.Stopped() {
		t.Errorf("after the remedies: %+v", b.Findings)
	} else if _, err := enginetest.Carry(t, s, b); err != nil {
		t.Error(err)
	}
	if list, err := s.Databases(t.Context()); err != nil || len(list.Partial) > 0 {
		t.Errorf("the list as a small login: %v, %v", list.Partial, err)
	}
}

// testInvalid makes what an interrupted drop leaves, and lists it as that.
func testInvalid(t *testing.T, running *localdb.Server, run func(string)) {
	run("CREATE DATABASE half_gone")
	run("UPDATE pg_database SET datconnlimit = -2 WHERE datname = 'half_gone'")
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
	list, err := s.Databases(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(list.Databases, func(d catalog.Database) bool { return d.Name == "half_gone" })
	if i < 0 || list.Databases[i].Trouble == "" {
		t.Errorf("a half-dropped database is not pointed out: %+v", list.Databases)
	}
}

func TestTLS(t *testing.T) {
	t.Parallel()
	ca, cert, key := enginetest.Certificate(t, testutil.Dir(t))
	testutil.GiveToPostgres(t, key)
	s := testutil.Postgres(t, "ssl=on", "ssl_cert_file="+cert, "ssl_key_file="+key)
	enginetest.RunTLS(t, Engine{}, enginetest.Target(Engine{}, s, "harbour"), ca, cert, true)
}

// testOwnCounting lists and creates at the same time: our own counting of
// tables connects to templates too, and must not stand in our own way.
func testOwnCounting(t *testing.T, running *localdb.Server) {
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
	ctx, stop := context.WithCancel(t.Context())
	var listing sync.WaitGroup
	listing.Go(func() {
		for ctx.Err() == nil {
			s.Database(ctx, "template1") // counts at once
		}
	})
	for i := range 8 {
		b := enginetest.Brief(t, Engine{}, s, change.DatabaseSpec{Name: fmt.Sprintf("counted_%d", i)})
		if _, err := enginetest.Carry(t, s, b); err != nil {
			t.Errorf("while tables are counted: %v", err)
		}
	}
	stop()
	listing.Wait()
}

package mysqlfamily

import (
	"context"
	"database/sql"
	"flag"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

var update = flag.Bool("update", false, "write the golden files anew")

func snapshot() catalog.Snapshot {
	return catalog.Snapshot{
		Server: catalog.Server{Name: "quay", Engine: mariaID, Environment: catalog.Production},
		Instance: catalog.Instance{Engine: mariaID, Version: "10.11.19",
			Identity: catalog.Identity{Key: "installed x", Marks: map[string]string{}}, Encoding: "latin1",
			Collation: "latin1_swedish_ci", Read: time.Unix(0, 0),
			Login: catalog.Login{Name: "keeper@%",
				Abilities: []catalog.Ability{{Code: "create_database", Allowed: true},
					{Code: "give_bundles", Allowed: true}, {Code: "read_grants", Allowed: true}}}},
		Names: []string{"mysql", "cargo_prod"},
		Choices: catalog.Choices{
			"encodings": {{Name: "utf8mb4", Properties: catalog.Values{"collation": "utf8mb4_general_ci"}},
				{Name: "latin1", Properties: catalog.Values{"collation": "latin1_swedish_ci"}, Default: true}},
			"collations": {{Name: "utf8mb4_bin", For: "utf8mb4"}, {Name: "latin1_swedish_ci", For: "latin1"}},
		},
		OwnerFound: []string{"cargo_app@10.0.0.%"},
	}
}

func plan(t *testing.T, in change.Intent, snap catalog.Snapshot) change.Brief {
	t.Helper()
	in.Server = "quay"
	b, err := maria{}.Plan(in, snap)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func creating(spec change.DatabaseSpec) change.Intent {
	return change.Intent{Kind: change.CreateDatabase, Database: &spec}
}

func TestPlanFindings(t *testing.T) {
	for _, tt := range []struct {
		title  string
		spec   change.DatabaseSpec
		alter  func(*catalog.Snapshot)
		want   string
		remedy string
	}{
		{"plain", change.DatabaseSpec{Name: "a"}, nil, "", ""},
		{"system look-alike", change.DatabaseSpec{Name: "MySQL"},
			func(s *catalog.Snapshot) { s.Server.NameRule.Free = true }, "stop:name.reserved stop:name.taken_by_case",
			""},
		{"plain utf8", change.DatabaseSpec{Name: "a", Options: catalog.Values{"encoding": "utf8"}}, nil,
			"stop:option.absent", "say utf8mb4"},
		{"collation of another engine",
			change.DatabaseSpec{Name: "a",
				Options: catalog.Values{"encoding": "utf8mb4", "collation": "utf8mb4_0900_ai_ci"}}, nil,
			"stop:option.absent", "uca1400"},
		{"mismatch", change.DatabaseSpec{Name: "a",
			Options: catalog.Values{"encoding": "latin1", "collation": "utf8mb4_bin"}}, nil, "stop:collation.mismatch",
			"for example latin1_swedish_ci"},
		{"collation alone says the character set",
			change.DatabaseSpec{Name: "a", Options: catalog.Values{"collation": "utf8mb4_bin"}}, nil, "", ""},
		{"owner", change.DatabaseSpec{Name: "a", Options: catalog.Values{"owner": "cargo_app"}}, nil,
			"note:owner.bundle", ""},
		{"no owner", change.DatabaseSpec{Name: "a", Options: catalog.Values{"owner": "x"}},
			func(s *catalog.Snapshot) { s.OwnerFound = nil }, "stop:option.absent", ""},
		{"two of that name", change.DatabaseSpec{Name: "a", Options: catalog.Values{"owner": "x"}},
			func(s *catalog.Snapshot) { s.OwnerFound = []string{"x@a", "x@b"} }, "stop:owner.ambiguous", "x@a, x@b"},
		{"may not grant", change.DatabaseSpec{Name: "a", Options: catalog.Values{"owner": "cargo_app"}},
			func(s *catalog.Snapshot) { s.Instance.Login.Abilities[1].Allowed = false },
			"stop:owner.denied note:owner.bundle", ""},
		{"leftover grants", change.DatabaseSpec{Name: "a"},
			func(s *catalog.Snapshot) { more(s).Leftover = []string{"old@% on the database"} },
			"caution:grants.leftover", "options.clear_leftovers=yes"},
		{"leftovers cannot be seen", change.DatabaseSpec{Name: "a"},
			func(s *catalog.Snapshot) { s.Instance.Login.Abilities[2].Allowed = false }, "note:grants.leftover", ""},
		{"no room to grant", change.DatabaseSpec{Name: strings.Repeat("a_", 23)}, nil, "stop:name.length", "fewer _"},
		{"no room for a folder", change.DatabaseSpec{Name: strings.Repeat("日", 48) + "-----"},
			func(s *catalog.Snapshot) { s.Server.NameRule.Free = true }, "stop:name.length stop:name.length", ""},
		{"folded to a taken name", change.DatabaseSpec{Name: "CARGO_prod"},
			func(s *catalog.Snapshot) { more(s).FoldsCase = true }, "stop:name.taken", ""},
		{"read only", change.DatabaseSpec{Name: "a"},
			func(s *catalog.Snapshot) { s.Instance.ReadOnly = "read_only is on" }, "stop:server.read_only", "primary"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := snapshot()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := plan(t, creating(tt.spec), snap)
			var got []string
			remedies := ""
			for _, f := range b.Findings {
				got = append(got, string(f.Level)+":"+f.Code)
				remedies += fmt.Sprintln(f.Next, f.Actions)
			}
			if strings.Join(got, " ") != tt.want ||
				!strings.Contains(strings.ToLower(remedies), strings.ToLower(tt.remedy)) {
				t.Errorf("findings %v; want %q with the remedy %q; got %s", got, tt.want, tt.remedy, remedies)
			}
		})
	}
}

func TestPlanStatements(t *testing.T) {
	marked := snapshot()
	marked.Instance.Identity.Marks["marker"] = "x"
	if b := plan(t, change.Intent{Kind: change.MarkServer, Mark: "m"}, marked); !b.Stopped() {
		t.Error("a marked server would be marked again")
	}
	for name, in := range map[string]change.Intent{
		"plain": creating(change.DatabaseSpec{Name: "a"}),
		"owner": creating(change.DatabaseSpec{Name: "a_b",
			Options: catalog.Values{"owner": "cargo_app", "encoding": "utf8mb4", "collation": "utf8mb4_bin"}}),
		"hostile": creating(change.DatabaseSpec{Name: "a`; x", Options: catalog.Values{"comment": `it's \ "so"`}}),
		"mark":    {Kind: change.MarkServer, Mark: "0000-1111"},
	} {
		t.Run(name, func(t *testing.T) {
			snap := snapshot()
			snap.Server.NameRule = naming.Rule{Free: true}
			b := plan(t, in, snap)
			enginetest.Golden(t, *update, name, b)
		})
	}
}

// TestOwnerAndLeftovers runs what only a real server can prove: the bundle own
// opens the named database and no other, old grants are found in every form,
// and a marked server is still itself.
func TestOwnerAndLeftovers(t *testing.T) {
	t.Parallel()
	running := testutil.MariaDB(t)
	target := enginetest.Target(maria{}, running, "quay")
	s := enginetest.Open(t, maria{}, target)
	db, err := sql.Open("mysql", running.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	run := func(statement string) {
		t.Helper()
		if _, err := db.ExecContext(t.Context(), statement); err != nil {
			t.Fatalf("%s: %v", statement, err)
		}
	}
	run("CREATE USER cargo_app@'127.0.0.1' IDENTIFIED BY 'pw'")
	run("CREATE USER cargo_app@'10.0.0.1' IDENTIFIED BY 'pw'")
	run("CREATE USER old_app@'127.0.0.1' IDENTIFIED BY 'pw'")
	run("CREATE DATABASE cargoXprod")
	if b := enginetest.Brief(t, maria{}, s,
		change.DatabaseSpec{Name: "cargo_prod",
			Options: catalog.Values{"owner": "cargo_app"}}); !slices.Contains(b.Codes(change.Stop),
		change.OwnerAmbiguous) {
		t.Errorf("an owner at two hosts: %+v", b.Findings)
	}
	b := enginetest.Brief(t, maria{}, s,
		change.DatabaseSpec{Name: "cargo_prod",
			Options: catalog.Values{"owner": "cargo_app@127.0.0.1", "comment": "x"}})
	steps, err := enginetest.Carry(t, s, b)
	if err != nil {
		t.Fatal(err)
	}
	app, err := sql.Open("mysql", strings.Replace(running.DSN(""), running.Admin+":"+running.Password.Reveal(),
		"cargo_app:pw", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer app.Close()
	for statement, allowed := range map[string]bool{
		"CREATE TABLE cargo_prod.t (id INT)": true, "CREATE TABLE cargoXprod.t (id INT)": false,
		"GRANT SELECT ON cargo_prod.* TO old_app@'127.0.0.1'": false,
	} {
		if _, err := app.ExecContext(t.Context(), statement); (err == nil) != allowed {
			t.Errorf("as the owner, %s: %v; want allowed %v", statement, err, allowed)
		}
	}
	if d, err := s.Database(t.Context(), "cargo_prod"); err != nil || d.Owner != "cargo_app@127.0.0.1" ||
		*d.Tables != 1 {
		t.Errorf("read back %+v, %v", d, err)
	}
	// It is in use now, so it is not rolled back.
	if _, err := s.Undo(t.Context(), steps[0]); err == nil {
		t.Error("a database with a table was rolled back")
	}
	for _, grant := range []string{"SELECT ON `ferry\\_prod`.* TO old_app@'127.0.0.1'",
		"SELECT ON `ferry%`.* TO cargo_app@'10.0.0.1'",
		"INSERT, CREATE ON `ferry_prod`.`bookings` TO old_app@'127.0.0.1'"} {
		run("GRANT " + grant)
	}
	b = enginetest.Brief(t, maria{}, s, change.DatabaseSpec{Name: "ferry_prod"})
	text := fmt.Sprint(b.Findings)
	for _, want := range []string{"old_app@127.0.0.1 on the database", "cargo_app@10.0.0.1 through the pattern ferry%",
		"old_app@127.0.0.1 on table bookings"} {
		if !strings.Contains(text, want) {
			t.Errorf("leftover grants: %q is missing in %s", want, text)
		}
	}
	testMark(t, target, s)
}

func testMark(t *testing.T, target engine.Target, s engine.Server) {
	before, err := s.Inspect(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	in := change.Intent{Kind: change.MarkServer, Server: "quay", Mark: "00000000-1111-2222-3333-444444444444"}
	snap, err := s.Snapshot(t.Context(), in)
	if err != nil {
		t.Fatal(err)
	}
	b, err := maria{}.Plan(in, snap)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := enginetest.Carry(t, s, b); err != nil {
		t.Fatal(err)
	}
	target.Server.Identity = before.Identity
	again := enginetest.Open(t, maria{}, target)
	after, err := again.Inspect(t.Context())
	if err != nil || after.Identity.Marks["marker"] != in.Mark {
		t.Errorf("after marking: %v, %v", after.Identity, err)
	}
	target.Server.Identity = after.Identity
	target.Server.Identity.Marks["marker"] = "another"
	if _, err := enginetest.Open(t, maria{}, target).Inspect(context.WithoutCancel(t.Context())); err == nil {
		t.Error("a server with another mark was taken for the known one")
	}
}

func TestPattern(t *testing.T) {
	for _, tt := range []struct {
		pattern, name string
		want          bool
	}{
		{"a_b", "a_b", true}, {"a_b", "axb", true}, {`a\_b`, "axb", false}, {`a\_b`, "a_b", true}, {"a%", "abc", true},
		{"%", "", true},
		{"a%c", "abbc", true}, {"a%c", "abb", false}, {`a\\\_b`, `a\_b`, true}, {"日_", "日本", true}, {"a", "ab", false},
	} {
		if got := matches(tt.pattern, tt.name); got != tt.want {
			t.Errorf("matches(%q, %q) = %v", tt.pattern, tt.name, got)
		}
	}
}

// An escaped name matches itself, whatever is in it, and a plain other never.
func FuzzEscapePattern(f *testing.F) {
	f.Add(`a_b%c\d`, "axb")
	f.Fuzz(func(t *testing.T, name, other string) {
		p := escaped(name)
		if !matches(p, name) {
			t.Errorf("escaped %q does not match itself", name)
		}
		if other != name && strings.ToValidUTF8(other, "?") != strings.ToValidUTF8(name, "?") && matches(p, other) {
			t.Errorf("escaped %q matches %q", name, other)
		}
	})
}

// more lets a case alter what only the planner reads of a snapshot, and nobody else's.
func more(s *catalog.Snapshot) *details {
	d := *detailsOf(s.Details)
	s.Details = &d
	return &d
}

// impact is the same for a database that is taken away.
func impact(s *catalog.Snapshot) *dropDetails {
	d := *dropDetailsOf(s.DropImpact.Details)
	doomed := *s.DropImpact
	doomed.Details, s.DropImpact = &d, &doomed
	return &d
}

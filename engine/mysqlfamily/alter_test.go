package mysqlfamily

import (
	"database/sql"
	"slices"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

func altering(options catalog.Values) change.Intent {
	return change.Intent{Kind: change.AlterDatabase, Server: "quay",
		Database: &change.DatabaseSpec{Name: "cargo_prod", Options: options}}
}

func TestPlanAlterFindings(t *testing.T) {
	held := func(s *catalog.Snapshot) {
		s.OwnerFound = []string{"gate@10.%"}
		s.Access.Grants = append(s.Access.Grants,
			catalog.Grant{Entry: catalog.Entry{Grantee: at("cargo_app", "10.0.0.%"), Privileges: mariaDB.own()},
				Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: `cargo\_prod`}})
	}
	cleared := altering(catalog.Values{"comment": "x"})
	cleared.Clearing = &change.ClearingSpec{}
	for _, tt := range []struct {
		title  string
		in     change.Intent
		alter  func(*catalog.Snapshot)
		want   string
		remedy string
	}{
		{"comment", altering(catalog.Values{"comment": "x"}), nil, "", ""},
		{"as it is", altering(catalog.Values{"comment": `it's \ cargo`, "collation": "UTF8MB4_BIN",
			"encoding": "utf8mb4"}), nil, "note:database.as_asked", ""},
		{"tables keep theirs", altering(catalog.Values{"encoding": "latin1"}), func(s *catalog.Snapshot) {
			s.Details = &details{Tables: []tableCollation{{"trailers", "utf8mb4_bin"}, {"berths", "latin1_swedish_ci"}}}
		}, "note:tables.keep", "CONVERT TO CHARACTER SET"},
		{"sessions keep the old default", altering(catalog.Values{"collation": "latin1_swedish_ci"}),
			func(s *catalog.Snapshot) {
				s.Connected = []catalog.Session{{Kind: catalog.ClientSession, Database: "cargo_prod",
					Account: at("gate", "10.%")}}
			}, "note:gate.effect", "connect again"},
		{"mismatch", altering(catalog.Values{"encoding": "latin1", "collation": "utf8mb4_bin"}), nil,
			"stop:collation.mismatch", "latin1_swedish_ci"},
		{"another owner", altering(catalog.Values{"owner": "gate"}), held, "caution:owner.replaced note:owner.bundle",
			"privilege.grant"},
		{"no such owner", altering(catalog.Values{"owner": "moon"}), func(s *catalog.Snapshot) { s.OwnerFound = nil },
			"stop:option.absent", "create the account"},
		{"a clearing for nothing", cleared, nil, "stop:option.invalid", "leave it out"},
		{"may not alter", altering(catalog.Values{"comment": "x"}),
			func(s *catalog.Snapshot) { s.DropImpact.MayDrop, s.DropImpact.Remedy = false, "GRANT ALTER ON *.*" },
			"stop:database.denied", "GRANT ALTER"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := doomed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := plan(t, tt.in, snap)
			enginetest.Findings(t, b, tt.want, tt.remedy)
		})
	}
	snap := doomed()
	held(&snap)
	enginetest.Golden(t, *update, "alter",
		plan(t, altering(catalog.Values{"comment": `it's "so"`, "encoding": "latin1", "owner": "gate"}), snap))
}

// TestAlter alters what can be altered on a real server, takes it back, and does it
// again; what exists in the database stays as it is.
func TestAlter(t *testing.T) {
	t.Parallel()
	running := testutil.MariaDB(t)
	s := enginetest.Open(t, maria{}, enginetest.Target(maria{}, running, "quay"))
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
	const odd = "od`d_d'\\e\"v"
	run("CREATE DATABASE " + quoteIdent(odd) + " CHARACTER SET latin1 COLLATE latin1_german2_ci COMMENT 'was'")
	run("CREATE TABLE " + quoteIdent(odd) + ".kept (id INT)")
	run("CREATE USER first_app@'127.0.0.1', second_app@'127.0.0.1'")
	run("GRANT " + mariaDB.own().String() + " ON " +
		onSQL(catalog.Object{Scope: catalog.ScopeDatabase, Database: odd}) + " TO first_app@'127.0.0.1'")
	if got := enginetest.ValuesOf(t, s, odd)["owner"]; got != "first_app@127.0.0.1" {
		t.Fatalf("the owner is read as %v", got)
	}
	b := enginetest.Altered(t, maria{}, s, odd,
		catalog.Values{"comment": `it's "so" \ now`, "collation": "utf8mb4_bin", "owner": "second_app"})
	if codes := append(b.Codes(change.Note), b.Codes(change.Caution)...); !slices.Contains(codes, change.TablesKeep) ||
		!slices.Contains(codes, change.OwnerReplaced) {
		t.Errorf("the brief says %v", codes)
	}
	if now := enginetest.ValuesOf(t, s, odd); now["encoding"] != "utf8mb4" || now["collation"] != "utf8mb4_bin" ||
		now["owner"] != "second_app@127.0.0.1" {
		t.Errorf("it is %v", now)
	}
	enginetest.Altered(t, maria{}, s, odd, catalog.Values{"encoding": "latin1", "comment": ""})
	var collation string
	if err := db.QueryRowContext(t.Context(),
		"SELECT TABLE_COLLATION FROM information_schema.TABLES WHERE TABLE_NAME = 'kept'").
		Scan(&collation); err != nil || collation != "latin1_german2_ci" {
		t.Errorf("the table that was there has %s, %v", collation, err)
	}
	a, err := s.Access(t.Context(), catalog.AccessQuery{})
	if err != nil {
		t.Fatal(err)
	}
	if held, _ := directOn(a.Grants, at("first_app", "127.0.0.1"),
		catalog.Object{Scope: catalog.ScopeDatabase, Database: odd}); held != privilege.Set(privilege.Set{}) {
		t.Errorf("who held it before still has %s", held)
	}
	// A step whose database is gone by now is neither done nor in the way.
	in := altering(catalog.Values{"comment": "late"})
	in.Database.Name = odd
	late := enginetest.BriefOf(t, maria{}, s, in)
	run("DROP DATABASE " + quoteIdent(odd))
	if _, err := s.Do(t.Context(), late.Steps[0]); err == nil {
		t.Error("a database that is gone was altered")
	}
	if took, err := s.Probe(t.Context(), late.Steps[0]); took || err != nil {
		t.Errorf("probed as %v, %v", took, err)
	}
	if _, err := s.Undo(t.Context(), late.Steps[0]); err != nil {
		t.Errorf("altered back: %v", err)
	}
}

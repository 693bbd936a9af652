package postgres

import (
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/script"
	"example.com/genarch/engine/enginetest"
)

// sent gives a snapshot a script, and the details that a run of it is planned by.
func sent(t *testing.T, s *catalog.Snapshot, text string) *script.Kept {
	t.Helper()
	sum, err := script.Summarise(strings.NewReader(text), Engine{}.Script)
	if err != nil {
		t.Fatal(err)
	}
	s.Script = &script.Kept{ID: "abcdefghijklmnop", Server: "harbour", File: "seed.sql", Summary: sum}
	more(s).Filling = &filling{Lendable: true, Tables: []relation{{"public", "fares"}, {"desk", "seats"}}}
	return s.Script
}

func withScript(options catalog.Values) change.Intent {
	in := taking(change.FillDatabase, change.DatabaseSpec{Script: "abcdefghijklmnop", Options: options}, nil)
	in.Server = "harbour"
	return in
}

func TestPlanFillFindings(t *testing.T) {
	fill := withScript(nil)
	owner := func(alter func(*filling)) func(*catalog.Snapshot) {
		return func(s *catalog.Snapshot) { alter(detailsOf(s.Details).Filling) }
	}
	const one = "note:script.one_transaction"
	for _, tt := range []struct {
		title, text string
		in          change.Intent
		alter       func(*catalog.Snapshot)
		want        string // level:code … that must be among the findings
	}{
		{"a script", "CREATE TABLE gangways (a int);", fill, nil, one + " note:fill.account"},
		{"no script", "SELECT 1;", fill, func(s *catalog.Snapshot) { s.Script = nil }, "stop:script.absent"},
		{"no database", "SELECT 1;", fill, func(s *catalog.Snapshot) { s.Target = nil }, "stop:database.absent"},
		{"set aside", "SELECT 1;", fill, func(s *catalog.Snapshot) { s.Target.Held = &catalog.Holding{Name: "x"} },
			"stop:database.held"},
		{"the server's own", "SELECT " +
			"1;", fill, func(s *catalog.Snapshot) { s.Target.System = true }, "stop:database.kept"},
		{"closed", "SELECT 1;", fill, func(s *catalog.Snapshot) { s.Target.Closed = true }, "stop:database.closed"},
		{"nothing in it", "-- only this\n", fill, nil, "stop:script.empty"},
		{"cut off", "SELECT 1;\nSELECT 'x", fill, nil, "stop:script.broken"},
		{"of another engine", "SELECT 1;", fill, func(s *catalog.Snapshot) { s.Script.Of = "MariaDB" },
			"stop:script.other_engine"},
		{"UTF-16", "\xFF\xFES\x00", fill, nil, "stop:script.encoding"},
		{"an archive", "PGDMP\x01\x0E\x00", fill, nil, "stop:script.encoding"},
		{"bytes that are no UTF-8", "SELECT 1;\nSELECT '\xE9';", fill, nil, "caution:script.encoding"},
		{"commands of psql", "\\copy x from y\n\\! id\n", fill, nil, "stop:script.refused"},
		{"roles", "CREATE ROLE mate;", fill, nil, "stop:script.outside"},
		{"another database", "\\connect ledger_prod\nSELECT 1;", fill, nil, "stop:script.outside"},
		{"this database", "\\connect tickets_prod\nSELECT 1;", fill, nil, one},
		{"not filled in", "SELECT 'CHANGE_ME';", fill, nil, "caution:script.placeholder"},
		{"quotes of a text processor", "SELECT “x”;", fill, nil, "caution:script.typographic_quotes"},
		{"a table that is there", "CREATE TABLE fares (a int);", fill, nil, "caution:script.existing"},
		{"in another schema", "CREATE TABLE desk.seats (a int);", fill, nil, "caution:script.existing"},
		{"dropped first", "DROP TABLE IF EXISTS fares;\nCREATE TABLE fares (a " +
			"int);", fill, nil, "caution:script.drops"},
		{"grants", "GRANT SELECT ON fares TO mate;", fill, nil, "caution:script.grants"},
		{"grants left out", "GRANT SELECT ON fares TO mate;", withScript(catalog.Values{skipGrants: true}), nil,
			"note:script.grants"},
		{"given away", "ALTER TABLE fares OWNER TO mate;", fill, nil, "caution:script.owners"},
		{"given to the owner", "ALTER TABLE fares OWNER TO tickets_owner;", fill, nil, one},
		{"owners left out", "ALTER TABLE fares OWNER TO mate;", withScript(catalog.Values{skipOwners: true}), nil,
			"note:script.owners"},
		{"what runs alone", "VACUUM;", fill, nil, one},
		{"what runs alone, all or nothing", "VACUUM;", withScript(catalog.Values{"one_transaction": true}), nil,
			"stop:script.one_transaction"},
		{"a superuser's", "SELECT 1;", fill, owner(func(x *filling) { x.Superuser = true }), "stop:fill.superuser"},
		{"an owner of more", "SELECT 1;", fill, owner(func(x *filling) {
			x.Others, x.MakesRoles, x.Roles = []string{"ledger_prod"}, true, []string{"pg_write_server_files"}
		}), "caution:fill.reaches"},
		{"nobody can be made a member", "SELECT 1;", fill, owner(func(x *filling) { x.Lendable = false }),
			"stop:rights.missing"},
		{"no right to make accounts", "SELECT 1;", fill, func(s *catalog.Snapshot) {
			s.Instance.Login.Superuser, s.Instance.Login.Abilities = false, nil
		}, "stop:rights.missing"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := doomed()
			sent(t, &snap, tt.text)
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := ask(t, tt.in, snap)
			enginetest.CheckFindings(t, b, tt.want, true)
		})
	}
}

func TestPlanFill(t *testing.T) {
	snap := doomed()
	sent(t, &snap, "CREATE TABLE gangways (a int);")
	b := ask(t, withScript(nil), snap)
	if got := strings.Join(b.Kinds(), " "); got != "fill_account fill fill_account_gone verify" {
		t.Errorf("steps: %s", got)
	}
	if want := `CREATE ROLE "genarch_fill_abcdefghijkl" NOLOGIN IN ROLE "tickets_owner"`; b.Steps[0].Statement != want {
		t.Errorf("%s; want %s", b.Steps[0].Statement, want)
	}
	if run := b.Steps[1]; run.Repair != "" || !run.Halts || run.Args["at_once"] != "yes" {
		t.Errorf("in one transaction nothing has to be put right: %+v", run)
	}
	b = ask(t, withScript(catalog.Values{"one_transaction": false}), snap)
	if run := b.Steps[1]; run.Repair == "" || run.Args["at_once"] != "no" {
		t.Errorf("statement by statement: %+v", run)
	}
	again := sent(t, &snap, "CREATE TABLE gangways (a int);")
	again.Summary.SHA256 = "another"
	if c := ask(t, withScript(nil), snap); c.Fingerprint == b.Fingerprint {
		t.Error("another script has the same brief")
	}
}

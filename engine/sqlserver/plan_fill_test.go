package sqlserver

import (
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/script"
	"example.com/genarch/engine/enginetest"
)

// sent is a server with cargo, to which a script was sent that is to run there.
func sent(t *testing.T, text string) catalog.Snapshot {
	t.Helper()
	snap := berthed()
	sum, err := script.Summarise(strings.NewReader(text), Engine{}.Script)
	if err != nil {
		t.Fatal(err)
	}
	snap.Script = &script.Kept{ID: "abcdefghijklmnop", Server: "customs", File: "seed.sql", Summary: sum}
	more := detailsOf(snap.Details)
	more.Controls, more.Filling = true, filling{Tables: []relation{{"dbo", "crates"}, {"hold", "berths"}}}
	return snap
}

func filled(options catalog.Values) change.Intent {
	return database(change.FillDatabase, change.DatabaseSpec{Name: "cargo", Script: "abcdefghijklmnop",
		Options: options})
}

func TestFillStatements(t *testing.T) {
	enginetest.Golden(t, *update, "fill", planned(t, filled(nil),
		sent(t, "CREATE TABLE a (b int)\nGO\nINSERT a VALUES (1)")))
	enginetest.Golden(t, *update, "fill_in_parts", planned(t, filled(catalog.Values{"one_transaction": false}),
		sent(t, "CREATE TABLE a (b int)")))
}

// TestEachFillStatementIsOneCommand: whatever the database is called.
func TestEachFillStatementIsOneCommand(t *testing.T) {
	snap := sent(t, "INSERT a VALUES (1)")
	snap.Server.NameRule = naming.Rule{Free: true}
	in := filled(nil)
	in.Server = "customs"
	all := map[string]change.Intent{"fill": in}
	if n := enginetest.OneCommand(t, Engine{}, dialect.Commands, []string{"cargo"}, snap, all); n < 20 {
		t.Errorf("only %d statements were looked at", n)
	}
	enginetest.EachKnown(t, Engine{}, steps, snap, all)
}

func TestFillFindings(t *testing.T) {
	property := func(name string, value any) func(*catalog.Snapshot) {
		return func(s *catalog.Snapshot) {
			d := *s.Target
			d.Properties = d.Properties.With(name, value)
			s.Target = &d
		}
	}
	for _, tt := range []struct {
		title, text string
		in          change.Intent
		alter       func(*catalog.Snapshot)
		want        string
	}{
		{"rows", "INSERT a VALUES (1)", filled(nil), nil, "note:script.one_transaction note:fill.account"},
		{"there is one", "CREATE TABLE Crates (a int)", filled(nil), nil, "caution:script.existing"},
		{"in its schema", "CREATE TABLE hold.berths (a int)", filled(nil), nil, "caution:script.existing"},
		{"in another schema", "CREATE TABLE berths (a int)", filled(nil), nil, "note:fill.account"},
		{"only where there is none", "IF OBJECT_ID('crates') IS NULL CREATE TABLE crates (a int)", filled(nil), nil,
			"note:fill.account"},
		{"dropped", "DROP TABLE dbo.crates", filled(nil), nil, "caution:script.drops"},
		{"another database", "INSERT quays.dbo.a VALUES (1)", filled(nil), nil, "stop:script.outside"},
		{"this database", "USE cargo\nGO\nINSERT cargo.dbo.a VALUES (1)", filled(nil), nil, "note:fill.account"},
		{"this database, in other letters", "USE Cargo\nGO\nINSERT CARGO.dbo.a VALUES (1)", filled(nil), nil,
			"note:fill.account"},
		{"one that differs by its letters alone", "USE CARGO", filled(nil), func(s *catalog.Snapshot) {
			s.Names = append(s.Names, "CARGO")
		}, "stop:script.outside"},
		{"this database and more", "USE cargo; CREATE LOGIN mate WITH PASSWORD = 'x'", filled(nil), nil,
			"stop:script.outside"},
		{"the client's own", ":r other.sql", filled(nil), nil, "stop:script.refused"},
		{"in UTF-16", "\xFF\xFES\x00", filled(nil), nil, "note:fill.account"},
		{"in UTF-16 without a mark", "S\x00E\x00L\x00", filled(nil), nil, "stop:script.encoding"},
		{"in a code page", "INSERT a VALUES ('\xE9')", filled(nil), nil, "stop:script.encoding"},
		{"to be filled in", "INSERT a VALUES ($(x))", filled(nil), nil, "caution:script.placeholder"},
		{"transactions of its own", "BEGIN TRAN; COMMIT", filled(nil), nil, "note:script.one_transaction"},
		{"in one all the same", "BEGIN TRAN; COMMIT", filled(catalog.Values{"one_transaction": true}), nil,
			"stop:script.one_transaction"},
		{"a schema for somebody", "CREATE SCHEMA decks AUTHORIZATION mate", filled(nil), nil, "caution:script.owners"},
		{"grants", "GRANT SELECT TO mate", filled(nil), nil, "stop:script.grants"},
		{"trustworthy", "INSERT a VALUES (1)", filled(nil), property("trustworthy", true), "caution:fill.reaches"},
		{"trustworthy, of a sysadmin", "INSERT a VALUES (1)", filled(nil), func(s *catalog.Snapshot) {
			property("trustworthy", true)(s)
			detailsOf(s.Details).Filling.OwnerSuper = true
		}, "stop:fill.superuser"},
		{"read only", "INSERT a VALUES (1)", filled(nil), property("read_only", true), "stop:database.read_only"},
		{"for owners alone", "INSERT a VALUES (1)", filled(nil), property("access", "restricted_user"),
			"stop:database.closed"},
		{"offline", "INSERT a VALUES (1)", filled(nil), func(s *catalog.Snapshot) { s.Target.Closed = true },
			"stop:database.closed"},
		{"no right there", "INSERT a VALUES (1)", filled(nil),
			func(s *catalog.Snapshot) { detailsOf(s.Details).Controls = false }, "stop:rights.missing"},
		{"no right to make logins", "INSERT a VALUES (1)", filled(nil), func(s *catalog.Snapshot) {
			s.Instance.Login.Superuser = false
			s.Instance.Login.Abilities = slices.DeleteFunc(slices.Clone(s.Instance.Login.Abilities),
				func(a catalog.Ability) bool { return a.Code == "manage_accounts" })
		}, "stop:rights.missing"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := sent(t, tt.text)
			if tt.alter != nil {
				tt.alter(&snap)
			}
			enginetest.CheckFindings(t, planned(t, tt.in, snap), tt.want, true)
		})
	}
}

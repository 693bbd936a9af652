package sqlserver

import (
	"context"
	"database/sql"
	"io"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/script"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// TestNoAdministrator: a login with the rights that Genarch writes down, and no others, is told before
// anything is sent what it may not do in the databases of others, and does the rest.
func TestNoAdministrator(t *testing.T) {
	t.Parallel()
	running := testutil.SQLServer(t, "16.0.4125.3")
	db, err := sql.Open("sqlserver", running.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	texts := []string{"CREATE DATABASE cargo", "CREATE LOGIN genarch WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF",
		"CREATE LOGIN mate WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF"}
	for _, r := range (Engine{}).Prepare(login("genarch"))[1:] {
		texts = append(texts, r.Statement)
	}
	for _, text := range texts {
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	target := enginetest.Target(Engine{}, running, "suite")
	target.Server.Admin, target.Password = "genarch", secret.New("Berth-1234")
	s := enginetest.Open(t, Engine{}, target)
	give := func(database string) change.Intent {
		return granting1(change.GrantPrivilege, login("mate"), change.GrantSpec{Database: database,
			Bundle: access.BundleRead})
	}
	if b := enginetest.Ask(t, Engine{}, s, give("cargo")); !slices.Contains(b.Codes(change.Stop), change.RightsMissing) {
		t.Errorf("a grant in the database of another: %+v", b.Findings)
	}
	enginetest.Act(t, Engine{}, s, about(change.CreateAccount, catalog.Principal{Name: "mate", Database: "cargo"},
		change.AccountSpec{}))
	enginetest.Act(t, Engine{}, s, database(change.CreateDatabase, change.DatabaseSpec{Name: "own"}))
	enginetest.Act(t, Engine{}, s, give("own"))
	enginetest.Act(t, Engine{}, s, about(change.DropAccount, login("mate"), change.AccountSpec{}))
	fillAs(t, s, "own", "CREATE SCHEMA decks\nGO\nCREATE TABLE decks.chairs (id int)\nGO\n"+
		"INSERT decks.chairs VALUES (1)")
	enginetest.Act(t, Engine{}, s, database(change.CreateDatabase, change.DatabaseSpec{Name: "own2",
		Options: catalog.Values{template: "own"}}))
	var rows int
	if err := db.QueryRowContext(t.Context(), "SELECT COUNT(*) FROM own2.decks.chairs").Scan(&rows); err != nil ||
		rows != 1 {
		t.Errorf("what was filled and copied has %d rows, %v", rows, err)
	}
	copyOf := database(change.CreateDatabase, change.DatabaseSpec{Name: "cargo2",
		Options: catalog.Values{template: "cargo"}})
	if b := enginetest.Ask(t, Engine{}, s, copyOf); !slices.Contains(b.Codes(change.Stop), change.RightsMissing) {
		t.Errorf("a copy of the database of another: %+v", b.Findings)
	}
}

// fillAs runs a script in a database.
func fillAs(t *testing.T, s engine.Server, name, text string) {
	t.Helper()
	in := database(change.FillDatabase, change.DatabaseSpec{Name: name, Script: "abcdefghijklmnop"})
	in.Server = "suite"
	snap, err := s.Snapshot(t.Context(), in)
	if err != nil {
		t.Fatal(err)
	}
	sum, err := script.Summarise(strings.NewReader(text), Engine{}.Script)
	if err != nil {
		t.Fatal(err)
	}
	snap.Script = &script.Kept{ID: in.Database.Script, Server: "suite", File: "seed.sql", Summary: sum}
	b, err := Engine{}.Plan(in, snap)
	if err != nil {
		t.Fatal(err)
	}
	for i := range b.Steps {
		b.Steps[i].Script = func(context.Context) (io.ReadCloser, error) {
			return io.NopCloser(strings.NewReader(text)), nil
		}
	}
	if _, err := enginetest.Carry(t, s, b); err != nil {
		t.Fatal(err)
	}
}

package sqlserver

import (
	"database/sql"
	"slices"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/secret"
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
}

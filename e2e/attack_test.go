package e2e

import (
	"fmt"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/testutil"
)

// A tenant who owns a database gives a function a name that is SQL. Whoever takes
// a grant there, then or later, must not run it.
func TestFunctionNameIsNoCode(t *testing.T) {
	s, pg := newService(t), testutil.Postgres(t)
	s.add("slipway", "postgresql", "staging", pg)
	as := func(name, database string, statements ...string) {
		t.Helper()
		url := pg.PostgresURL(database)
		conn, err := pgx.Connect(t.Context(), url)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(t.Context())
		for _, text := range append([]string{"SET SESSION AUTHORIZATION " + name}, statements...) {
			if _, err := conn.Exec(t.Context(), text); err != nil {
				t.Fatalf("%s: %v", text, err)
			}
		}
	}
	as(pg.Admin, "postgres", "CREATE ROLE mal LOGIN", "CREATE ROLE mallory_app LOGIN", "CREATE ROLE visitor LOGIN", "CREATE DATABASE mallory_staging OWNER mal")
	const name = `"f() from public;reset role;alter role mal superuser--"`
	as("mal", "mallory_staging", "CREATE SCHEMA s", "GRANT USAGE ON SCHEMA s TO PUBLIC",
		"CREATE FUNCTION s.f() RETURNS int LANGUAGE sql AS 'select 1'", "GRANT EXECUTE ON FUNCTION s.f() TO mallory_app WITH GRANT OPTION",
		"CREATE FUNCTION s."+name+"() RETURNS int LANGUAGE sql AS 'select 1'", "GRANT EXECUTE ON FUNCTION s."+name+"() TO mallory_app WITH GRANT OPTION",
		"GRANT CONNECT ON DATABASE mallory_staging TO mallory_app WITH GRANT OPTION")
	as("mallory_app", "mallory_staging", "GRANT EXECUTE ON FUNCTION s."+name+"() TO visitor", "GRANT CONNECT ON DATABASE mallory_staging TO visitor")
	holds := func(query string, want bool) {
		t.Helper()
		conn, err := pgx.Connect(t.Context(), pg.PostgresURL("mallory_staging"))
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(t.Context())
		var got bool
		if err := conn.QueryRow(t.Context(), query).Scan(&got); err != nil || got != want {
			t.Errorf("%s: %v, %v; want %v", query, got, err, want)
		}
	}
	const super = `SELECT rolsuper FROM pg_roles WHERE rolname = 'mal'`
	const may = `SELECT EXISTS (SELECT FROM pg_proc p, aclexplode(p.proacl) x WHERE p.proname LIKE 'f() from%' AND x.grantee = 'visitor'::regrole)`
	s.run(0, "grant", "take", "slipway/mallory_staging", "--from", "visitor", "--privilege", "CONNECT", "--yes")
	holds(super, false)
	holds(may, true) // only what was asked for is taken
	out := s.run(0, "grant", "take", "slipway/mallory_staging", "--from", "visitor", "--yes")
	holds(super, false)
	holds(may, false)
	has(t, "what was sent", out.err+out.out, "done")
	// The function can be named, with its types or without, and is quoted whole.
	s.run(0, "grant", "give", "slipway/mallory_staging", "--to", "visitor", "--privilege", "EXECUTE", "--routine", "s.f() from public;reset role;alter role mal superuser--", "--yes")
	holds(may, true)
	holds(super, false)
	s.run(0, "grant", "take", "slipway/mallory_staging", "--from", "visitor", "--privilege", "EXECUTE", "--routine", "s.f() from public;reset role;alter role mal superuser--()", "--yes")
	holds(may, false)
	// A name that could mean two routines is refused.
	as("mal", "mallory_staging", "CREATE FUNCTION s.g(int) RETURNS int LANGUAGE sql AS 'select 1'", `CREATE FUNCTION s."g(integer)"() RETURNS int LANGUAGE sql AS 'select 1'`)
	r := s.run(1, "grant", "give", "slipway/mallory_staging", "--to", "visitor", "--privilege", "EXECUTE", "--routine", "s.g(integer)", "--yes")
	has(t, "an ambiguous name", r.err, "[object.ambiguous]")
	if r := s.run(0, "journal", "check"); r.code != 0 {
		t.Error(fmt.Sprint(r))
	}
}

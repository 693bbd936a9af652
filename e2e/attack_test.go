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

// Whoever gets the port of a server that is down, or is between, learns nothing of
// the admin password; and nobody reads it by having a registration lead elsewhere.
func TestAdminPasswordStaysSecret(t *testing.T) {
	s := newService(t)
	silent := func(what string, r *testutil.Rogue) {
		t.Helper()
		told, calls := r.Told()
		if len(told) > 0 || calls == 0 {
			t.Errorf("%s: %d calls, told %q", what, calls, told)
		}
	}
	t.Run("in the place of a server that is down", func(t *testing.T) {
		pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
		s.add("harbour", "postgresql", "staging", pg)
		s.add("quay", "mariadb", "staging", maria)
		pg.Kill()
		maria.Kill()
		for _, withTLS := range []bool{false, true} {
			t.Run(fmt.Sprintf("TLS %v", withTLS), func(t *testing.T) {
				for name, r := range map[string]*testutil.Rogue{"harbour": testutil.RoguePostgres(t, pg.Port, withTLS), "quay": testutil.RogueMariaDB(t, maria.Port, withTLS)} {
					has(t, name, s.run(1, "server", "check", name).out, "nothing was sent")
					silent(name, r)
				}
			})
		}
	})
	t.Run("registered with a certificate that nobody vouches for", func(t *testing.T) {
		for engine, r := range map[string]*testutil.Rogue{"postgresql": testutil.RoguePostgres(t, 0, true), "mariadb": testutil.RogueMariaDB(t, 0, true)} {
			for _, mode := range []string{"required", "verified"} {
				out := s.cli("hush-hush", "server", "add", "rogue", "--engine", engine, "--host", "127.0.0.1", "--port", fmt.Sprint(r.Port), "--admin", "x",
					"--environment", "staging", "--tls", mode, "--secret-file", "-")
				if out.code != 1 {
					t.Errorf("%s with TLS %s: %+v", engine, mode, out)
				}
				if engine == "mariadb" && mode == "required" {
					has(t, "the way on", out.err, "--server-key sha256:")
				}
			}
			silent(engine, r)
		}
	})
	t.Run("an edit that leads elsewhere", func(t *testing.T) {
		pg := testutil.Postgres(t)
		s.add("slipway", "postgresql", "staging", pg)
		r := testutil.RoguePostgres(t, 0, false)
		_, before, _ := s.call("GET", "/api/v1/servers/slipway", s.token, "")
		for _, patch := range []string{`"port":%d`, `"host":"127.0.0.2","port":%d`, `"tls":"required","port":%d`, `"admin":"other","port":%d`} {
			body := fmt.Sprintf(`{"version":%v,`+patch+`}`, before["version"], r.Port)
			if status, p, _ := s.call("PATCH", "/api/v1/servers/slipway", s.token, body); status != 422 || p["code"] != "secret.needed" {
				t.Errorf("%s without the secret: %d %v", body, status, p)
			}
		}
		if told, calls := r.Told(); len(told) > 0 || calls > 0 {
			t.Errorf("the other address was called %d times, and told %q", calls, told)
		}
		// With the secret the new address is tried first, and nothing is written when
		// somebody else answers.
		body := fmt.Sprintf(`{"version":%v,"port":%d,"secret":"%s"}`, before["version"], r.Port, pg.Password.Reveal())
		if status, p, _ := s.call("PATCH", "/api/v1/servers/slipway", s.token, body); status != 502 {
			t.Errorf("with the secret, to somebody else: %d %v", status, p)
		}
		silent("the other address", r)
		other := testutil.Postgres(t)
		body = fmt.Sprintf(`{"version":%v,"port":%d,"secret":"%s"}`, before["version"], other.Port, other.Password.Reveal())
		if status, p, _ := s.call("PATCH", "/api/v1/servers/slipway", s.token, body); status != 409 || p["code"] != "identity.changed" {
			t.Errorf("to another instance: %d %v", status, p)
		}
		if _, after, _ := s.call("GET", "/api/v1/servers/slipway", s.token, ""); after["port"] != before["port"] || after["version"] != before["version"] {
			t.Errorf("something was written: %v", after)
		}
	})
}

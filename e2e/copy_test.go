package e2e

import (
	"database/sql"
	"fmt"
	"slices"
	"testing"

	"example.com/genarch/testutil"
)

// testCopyStopped stops a copy whose rows wait for somebody: it is cut off, and all of it goes.
func testCopyStopped(t *testing.T, s *service, db *sql.DB) {
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	// Who has written holds the lock on the template back, and nothing before it.
	for _, text := range []string{"BEGIN", "INSERT INTO cargo.trailers VALUES (1)"} {
		if _, err := conn.ExecContext(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	status, draft, _ := s.call("POST", "/api/v1/changes", s.token, `{"kind":"database.create","server":"quay",
		"database":{"name":"cargo_stopped","options":{"template":"cargo"}}}`)
	if status != 201 {
		t.Fatalf("ask: %d %v", status, draft)
	}
	brief, path := draft["brief"].(map[string]any), fmt.Sprintf("/api/v1/changes/%v", draft["id"])
	s.call("POST", path+"/run", s.token, fmt.Sprintf(`{"fingerprint":%q,"wait":0}`, brief["fingerprint"]))
	at := slices.IndexFunc(brief["steps"].([]any),
		func(x any) bool { return x.(map[string]any)["kind"] == "copy_rows" })
	testutil.Wait(t, "the copy to wait", func() bool {
		_, c, _ := s.call("GET", path, s.token, "")
		return c["brief"].(map[string]any)["steps"].([]any)[at].(map[string]any)["status"] == "begun"
	})
	has(t, "stopped", s.run(0, "change", "stop", fmt.Sprint(draft["id"])).out, "reverted")
	s.run(4, "database", "show", "quay/cargo_stopped")
	if _, err := conn.ExecContext(t.Context(), "ROLLBACK"); err != nil {
		t.Fatal(err)
	}
}

// TestCopy copies databases on both engines, by the CLI and the console.
func TestCopy(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "staging", pg, "--free-names")
	s.add("quay", "mariadb", "staging", maria, "--free-names")
	admin, db := onPostgres(t, pg, "postgres"), onMariaDB(t, maria.DSN(""))
	for _, text := range []string{"CREATE ROLE tickets_owner",
		"CREATE DATABASE tickets OWNER tickets_owner CONNECTION LIMIT 7",
		"REVOKE ALL ON DATABASE tickets FROM PUBLIC", "CREATE ROLE crew", "CREATE ROLE desk",
		"GRANT CONNECT, CREATE ON DATABASE tickets TO crew", "GRANT CONNECT ON DATABASE tickets TO desk WITH " +
			"GRANT OPTION",
		"COMMENT ON DATABASE tickets IS 'bookings'", "ALTER DATABASE tickets SET work_mem = '8MB'",
		"ALTER DATABASE tickets SET search_path = 'desk', 'public'"} {
		if _, err := admin.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	for _, text := range []string{"CREATE DATABASE cargo COMMENT 'trailers'", "CREATE TABLE cargo.trailers (n INT)",
		"INSERT INTO cargo.trailers SELECT seq FROM mysql.seq_1_to_3000",
		"CREATE VIEW cargo.heavy AS SELECT n FROM cargo.trailers WHERE n > 1000",
		"CREATE EVENT cargo.nightly ON SCHEDULE EVERY 1 DAY DO DELETE FROM trailers"} {
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	has(t, "a PostgreSQL copy", s.run(0, "database", "copy", "harbour/tickets", "tickets_again", "--yes").err,
		"OWNER = \"tickets_owner\"", "default, from template tickets", "CONNECTION LIMIT = 7")
	has(t, "what it is like", s.run(0, "database", "show", "harbour/tickets_again").out, "tickets_owner",
		"bookings", "8MB", "desk")
	s.run(0, "database", "copy", "harbour/tickets", "tickets_granted", "--yes", "--set", "copy_grants=yes")
	var same bool
	if err := admin.QueryRow(t.Context(), `SELECT (SELECT array_agg(a::text ORDER BY a::text) FROM unnest(x.datacl) a
			WHERE a::text NOT LIKE 'tickets_owner=%') =
		(SELECT array_agg(a::text ORDER BY a::text) FROM unnest(y.datacl) a WHERE a::text NOT LIKE 'tickets_owner=%')
		FROM pg_database x, pg_database y WHERE x.datname = 'tickets' AND y.datname = 'tickets_granted'`).
		Scan(&same); err != nil || !same {
		t.Errorf("the grants of the copy are not those of the template: %v", err)
	}
	has(t, "asked otherwise", s.run(0, "database", "copy", "harbour/tickets", "harbour/tickets_mine",
		"--comment", "mine", "--owner", pg.Admin, "--yes").err, "OWNER = \""+pg.Admin+"\"")
	has(t, "a MariaDB copy", s.run(0, "database", "copy", "quay/cargo", "cargo_again", "--yes",
		"--set", "checksum=yes").err, "checksums are the same",
		"as a copy of cargo", "copy.events", "table 1 of 1, trailers", "COPIED: trailers: 3000 rows")
	var state string
	if err := db.QueryRowContext(t.Context(), `SELECT CONCAT_WS(' ', (SELECT COUNT(*) FROM cargo_again.heavy), STATUS)
		FROM information_schema.EVENTS WHERE EVENT_SCHEMA = 'cargo_again'`).Scan(&state); err != nil ||
		state != "2000 DISABLED" {
		t.Errorf("the copy has %s, %v", state, err)
	}
	s.run(2, "database", "copy", "quay/cargo")
	s.run(2, "database", "copy", "quay/cargo", "harbour/cargo")
	has(t, "of nothing", s.run(1, "database", "copy", "quay/nowhere", "cargo_third", "--yes").err,
		"There is no template")
	t.Run("stopped", func(t *testing.T) { testCopyStopped(t, s, db) })
	t.Run("console", func(t *testing.T) {
		p := testutil.NewBrowser(t).Page(t, s.url)
		p.SignIn("keeper", password)
		ask := func() {
			p.Open("/servers/quay/new-database")
			p.Type("input[name=name]", "cargo_shape")
			p.Wait("the templates", "document.querySelector('select[name=template]')?.options.length > 1")
			p.Select("select[name=template]", "cargo")
		}
		ask()
		p.WaitText("cargo is copied")
		p.WaitText("LIKE `cargo`.`trailers`")
		// Whoever is connected need not be held up: what holds when it is not said is turned off.
		conn, err := db.Conn(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		if _, err := conn.ExecContext(t.Context(), "USE cargo"); err != nil {
			t.Fatal(err)
		}
		p.Type("input[name=name]", "cargo_copy")
		const without = "[...document.querySelectorAll('main button')]" +
			".find((b) => b.textContent.trim().startsWith('Without:'))"
		p.WaitText("Nobody can write to the tables of cargo")
		p.Wait("the way not to hold them up", "!!"+without)
		p.Eval("(" + without + ".click(), true)")
		p.WaitText("may be in one table of the copy and not in another")
		if _, err := conn.ExecContext(t.Context(), "USE mysql"); err != nil { // it goes on in the pool
			t.Fatal(err)
		}
		conn.Close()
		ask()
		p.WaitText("LIKE `cargo`.`trailers`")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("main form button.btn-primary")
		p.WaitText("Done, and read back as asked")
		p.WaitText("trailers: 3000 rows")
	})
}

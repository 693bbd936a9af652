package e2e

import (
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

// TestExport exports databases before they are dropped, and puts them back from what was kept.
func TestExport(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "staging", pg, "--free-names")
	s.add("quay", "mariadb", "staging", maria, "--free-names")
	admin, db := onPostgres(t, pg, "postgres"), onMariaDB(t, maria.DSN(""))
	const name = `tides "of" 'spring'`
	for _, text := range []string{`CREATE DATABASE "tides ""of"" 'spring'"`, "CREATE DATABASE again"} {
		if _, err := admin.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	inside := onPostgres(t, pg, url.PathEscape(name))
	for _, text := range []string{"CREATE TABLE levels (n int, label text)", "CREATE TABLE empty ()",
		"INSERT INTO levels SELECT i, 'mark ' || i FROM generate_series(1, 5000) i",
		"CREATE VIEW high AS SELECT * FROM levels WHERE n > 4000"} {
		if _, err := inside.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	inside.Close(t.Context())
	for _, text := range []string{"CREATE DATABASE `-tides`", "CREATE TABLE `-tides`.levels (n INT, label TEXT)",
		"INSERT INTO `-tides`.levels SELECT seq, CONCAT('mark (', seq, ')') FROM mysql.seq_1_to_5000",
		"CREATE VIEW `-tides`.high AS SELECT * FROM `-tides`.levels WHERE n > 4000", "CREATE DATABASE again"} {
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	s.run(2, "database", "drop", "harbour/"+name, "--export-first")
	has(t, "PostgreSQL", s.run(0, "database", "drop", "harbour/"+name, "--for-good", "--export-first",
		"--confirm", name).err,
		"It is exported first by pg_dump", "2 tables, 5000 rows in the export", "as many in the database")
	has(t, "MariaDB", s.run(0, "database", "drop", "quay/-tides", "--for-good", "--export-first",
		"--confirm", "-tides").err,
		"1 table, 5000 rows in the export", "as many tables")
	list := strings.Split(strings.TrimSpace(s.run(0, "export", "list").out), "\n")
	if len(list) != 3 {
		t.Fatalf("exports: %v", list)
	}
	id := map[string]string{}
	for _, line := range list[1:] {
		id[strings.Split(strings.Fields(line)[1], "/")[0]] = strings.Fields(line)[0]
	}
	file := filepath.Join(t.TempDir(), "tides.dump")
	has(t, "fetched", s.run(0, "export", "fetch", id["harbour"][:8], file).err, "as its hash says")
	s.run(2, "export", "fetch", id["harbour"], file) // a file that is there is not written over
	if out, err := exec.Command("pg_restore", "--dbname="+pg.DSN("again"), file).CombinedOutput(); err != nil {
		t.Fatalf("%v: %s", err, out)
	}
	var rows int
	if err := onPostgres(t, pg, "again").QueryRow(t.Context(), "SELECT count(*) FROM high").Scan(&rows); err != nil ||
		rows != 1000 {
		t.Errorf("put back, it has %d rows, %v", rows, err)
	}
	script := filepath.Join(t.TempDir(), "tides.sql")
	if err := os.WriteFile(script, []byte(s.run(0, "export", "fetch", id["quay"], "-").out), 0o600); err != nil {
		t.Fatal(err)
	}
	has(t, "put back by filling", s.run(0, "database", "fill", "quay/again", script, "--yes", "--set",
		"definer="+maria.Admin).err, "levels: new, with 5000 rows")
	status, _, header := s.call("GET", "/api/v1/exports/"+id["quay"]+"/file", "", "")
	if status != 401 {
		t.Errorf("to nobody: %d %v", status, header)
	}
	s.run(4, "export", "fetch", "nowhere")
	s.run(3, "export", "remove", id["quay"])
	s.run(3, "export", "remove", id["quay"], "--confirm", "tides")
	s.run(0, "export", "remove", id["quay"], "--confirm", "-tides")
	s.run(4, "export", "remove", id["quay"], "--confirm", "-tides")
	for _, action := range []string{"export.keep", "export.fetch", "export.remove"} {
		has(t, "on record", s.run(0, "journal", "list", "--action", action).out, action)
	}
	s.run(0, "journal", "check")
	testExportFails(t, s, maria.DSN(""))
}

// testExportFails: an export that fails leaves everything as it was.
func testExportFails(t *testing.T, s *service, dsn string) {
	db := onMariaDB(t, dsn)
	for _, text := range []string{"CREATE DATABASE broken", "CREATE TABLE broken.t (n INT)",
		"CREATE VIEW broken.v AS SELECT n FROM broken.t", "DROP TABLE broken.t"} {
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	has(t, "one that fails", s.run(1, "database", "drop", "quay/broken", "--for-good", "--export-first", "--confirm",
		"broken").err, "failed before anything was altered", "Nothing was touched")
	s.run(0, "database", "show", "quay/broken")
	if n := len(strings.Split(strings.TrimSpace(s.run(0, "export", "list").out), "\n")); n != 2 {
		t.Errorf("%d lines: a failed export is kept", n)
	}
}

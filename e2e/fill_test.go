package e2e

import (
	"database/sql"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/testutil"
)

// scriptFile writes a script.
func scriptFile(t *testing.T, text string) string {
	t.Helper()
	file := filepath.Join(t.TempDir(), "seed.sql")
	if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return file
}

const seedPostgres = `-- what a plain dump carries
\restrict x
SET client_encoding = 'UTF8';
CREATE TABLE fares (n int PRIMARY KEY, label text);
COPY fares (n, label) FROM stdin;
1	one; way
2	it's return
\.
CREATE VIEW cheap AS SELECT * FROM fares WHERE n < 2;
CREATE FUNCTION many() RETURNS bigint LANGUAGE sql BEGIN ATOMIC SELECT count(*) FROM fares; END;
DO $$ BEGIN RAISE NOTICE 'fares are there'; END $$;
`

const seedMariaDB = `/*M!999999\- enable the sandbox mode */
-- MariaDB dump
DROP TABLE IF EXISTS fares;
CREATE TABLE fares (n INT PRIMARY KEY, label VARCHAR(20));
INSERT INTO fares VALUES (1, 'one; way'), (2, 'it''s return');
DELIMITER ;;
CREATE DEFINER=root@localhost TRIGGER first_up BEFORE INSERT ON fares FOR EACH ROW
  BEGIN SET NEW.label = UPPER(NEW.label); END ;;
CREATE TRIGGER second_up BEFORE INSERT ON fares FOR EACH ROW FOLLOWS first_up SET NEW.label = CONCAT(NEW.label, '!') ;;
CREATE PROCEDURE many() BEGIN SELECT COUNT(*) FROM fares; END ;;
DELIMITER ;
CREATE DEFINER=root@localhost SQL SECURITY DEFINER VIEW cheap AS SELECT * FROM fares WHERE n < 2;
CREATE EVENT tidy ON SCHEDULE EVERY 1 DAY DISABLE DO DELETE FROM fares WHERE n > 100;
INSERT INTO fares VALUES (3, 'loud');
`

// filler is what a test of filling works with.
type filler struct {
	*service
	admin *pgx.Conn
	db    *sql.DB
}

// TestFillWithoutRoom: a server whose disk is full may answer that rows were written that it has not kept.
func TestFillWithoutRoom(t *testing.T) {
	t.Parallel()
	s := newService(t)
	s.add("quay", "mariadb", "staging", testutil.MariaDB(t, "innodb-file-per-table=0",
		"innodb-data-file-path=ibdata1:12M:autoextend:max:24M"))
	s.run(0, "database", "create", "quay/full_staging", "--yes")
	// As dumps begin; then the server keeps nothing of a table for which there is no room, and says nothing.
	script := "SET unique_checks = 0, foreign_key_checks = 0;\nCREATE TABLE t (a INT, b TEXT);\n" +
		"INSERT INTO t SELECT seq, REPEAT(MD5(seq), 30) FROM seq_1_to_20000;\n"
	has(t, "rows that the server lost", s.run(0, "database", "fill", "quay/full_staging", scriptFile(t, script),
		"--yes").err, "the server said that 20000 rows were written, and there are 0 more", "disk is full")
}

// TestFill runs scripts in databases on both engines: by the CLI, the API and the console.
func TestFill(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "staging", pg, "--free-names")
	s.add("quay", "mariadb", "staging", maria, "--free-names")
	f := filler{s, onPostgres(t, pg, "postgres"), onMariaDB(t, maria.DSN(""))}
	for _, text := range []string{"CREATE ROLE tickets_owner", "CREATE DATABASE tickets OWNER tickets_owner",
		"CREATE ROLE mixed_owner", "CREATE DATABASE mixed OWNER mixed_owner", `CREATE ROLE "odd "" role"`,
		`CREATE DATABASE "odd ""name"";" OWNER "odd "" role"`,
		"CREATE ROLE other_owner", "CREATE DATABASE others OWNER other_owner"} {
		if _, err := f.admin.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	for _, text := range []string{"CREATE DATABASE tickets", "CREATE DATABASE rows_only", "CREATE DATABASE others",
		"CREATE TABLE rows_only.t (n INT PRIMARY KEY) ENGINE=InnoDB", "CREATE DATABASE `odd``na%_me`",
		"CREATE USER tickets_app@'127.0.0.1'", "CREATE TABLE others.secret (n INT)"} {
		if _, err := f.db.ExecContext(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	inside := onPostgres(t, pg, "tickets")
	t.Run("PostgreSQL", func(t *testing.T) { testFillPostgres(t, f, inside) })
	t.Run("MariaDB", func(t *testing.T) { testFillMariaDB(t, f) })
	t.Run("hostile", func(t *testing.T) { testFillHostile(t, f, onPostgres(t, pg, "mixed")) })
	t.Run("stopped", func(t *testing.T) { testFillStopped(t, f, inside) })
	t.Run("upload", func(t *testing.T) { testFillUpload(t, f) })
	t.Run("console", func(t *testing.T) { testFillConsole(t, f) })
	t.Run("killed", func(t *testing.T) { testFillKilled(t, f, inside) })
	f.nothingLeft(t)
	s.run(0, "journal", "check")
}

// nothingLeft checks that no account and no file of a script is left.
func (f filler) nothingLeft(t *testing.T) {
	t.Helper()
	var roles, accounts int
	if err := f.admin.QueryRow(t.Context(), "SELECT count(*) FROM pg_roles WHERE rolname LIKE 'genarch\\_fill%'").
		Scan(&roles); err != nil || roles != 0 {
		t.Errorf("%d roles of scripts are left, %v", roles, err)
	}
	if err := f.db.QueryRowContext(t.Context(), "SELECT COUNT(*) FROM mysql.global_priv WHERE User LIKE "+
		"'genarch\\_fill%'").
		Scan(&accounts); err != nil || accounts != 0 {
		t.Errorf("%d accounts of scripts are left, %v", accounts, err)
	}
	testutil.Wait(t, "the files of scripts to be removed", func() bool {
		files, err := os.ReadDir(filepath.Join(f.dir, "files"))
		return err == nil && len(files) == 0
	})
}

func testFillPostgres(t *testing.T, f filler, inside *pgx.Conn) {
	file := scriptFile(t, seedPostgres)
	dry := f.run(0, "database", "fill", "harbour/tickets", file, "--dry-run").err
	has(t, "what it holds", dry, "seed.sql", "1 × COPY", "in one transaction", "NOLOGIN IN ROLE \"tickets_owner\"")
	said := f.run(0, "database", "fill", "harbour/tickets", file, "--yes").err
	has(t, "what it did", said, "NOTICE: fares are there", "TABLE: fares: new, with 2 rows", "TABLES: 0 before, 1 now")
	var got string
	err := inside.QueryRow(t.Context(), `SELECT string_agg(DISTINCT pg_get_userbyid(relowner), ',') || ' ' ||
		many() || ' ' ||
		(SELECT string_agg(label, ',' ORDER BY n) FROM fares) FROM pg_class
		WHERE relname IN ('fares', 'cheap')`).Scan(&got)
	if err != nil || got != "tickets_owner 2 one; way,it's return" {
		t.Errorf("it made %s, %v", got, err)
	}
	bad := scriptFile(t, "INSERT INTO fares VALUES (7, 'x');\n\nINSERT INTO fares\n  VALUES (8, 'secret' , oops);\n")
	r := f.run(1, "database", "fill", "harbour/tickets", bad, "--yes")
	has(t, "where it failed", r.err, "line 4, column 25, INSERT", "oops", "nothing of it took effect", "reverted")
	if strings.Contains(r.err, "secret") {
		t.Errorf("what a statement holds is told: %s", r.err)
	}
	twice := scriptFile(t, "INSERT INTO fares VALUES (1, 'whispered');\n")
	r = f.run(1, "database", "fill", "harbour/tickets", twice, "--yes", "--one-transaction=false")
	has(t, "nothing took effect", r.err, "line 1, column 1, INSERT", "23505", "nothing of it took effect", "reverted")
	broken := f.run(1, "database", "fill", "harbour/tickets", scriptFile(t, "INSERT INTO fares VALUES (NULL, "+
		"'whispered');"),
		"--yes")
	if strings.Contains(r.err+broken.err, "whispered") {
		t.Errorf("what a row holds is told: %s%s", r.err, broken.err)
	}
	r = f.run(1, "database", "fill", "harbour/tickets", bad, "--yes", "--one-transaction=false")
	has(t, "what stays", r.err, "1 statement up to line 1 took effect", "stuck")
	var rows int
	if err := inside.QueryRow(t.Context(), "SELECT count(*) FROM fares").Scan(&rows); err != nil || rows != 3 {
		t.Errorf("%d rows, %v: the first statement took effect once", rows, err)
	}
	has(t, "a table that is "+
		"there", f.run(3, "database", "fill", "harbour/tickets", file, "--yes").err, "script.existing")
	refused := scriptFile(t, "SELECT 1;\n\\! id\nCREATE ROLE mate;\n\\connect others\n")
	has(t, "what is not run", f.run(1, "database", "fill", "harbour/tickets", refused, "--yes").err,
		"script.refused", "line 2", "script.outside", "line 3 (CREATE ROLE)", "others (line 4)")
	given := scriptFile(t, "CREATE TABLE given (n int);\nALTER TABLE given OWNER TO other_owner;\nGRANT SELECT "+
		"ON given TO other_owner;\n")
	has(t, "owners", f.run(3, "database", "fill", "harbour/tickets", given, "--yes").err,
		"script.owners", "script.grants")
	f.run(0, "database", "fill", "harbour/tickets", given, "--yes", "--set", "skip_owners=yes",
		"--set", "skip_grants=yes")
	r = f.cli(seedPostgres, "database", "fill", `harbour/odd "name";`, "-", "--yes")
	if r.code != 0 {
		t.Errorf("from standard input, into a database of an odd name: %s", r.err)
	}
	f.run(2, "database", "fill", "harbour/tickets", "-")
	f.run(2, "database", "fill", "harbour/tickets")
	f.run(2, "database", "fill", "harbour/tickets", "/nowhere.sql", "--yes")
	has(t, "a dump of another "+
		"engine", f.run(1, "database", "fill", "harbour/tickets", scriptFile(t, seedMariaDB), "--yes").err,
		"dump of MariaDB")
	has(t, "cut off", f.run(1, "database", "fill", "harbour/tickets", scriptFile(t, "DO $x$ BEGIN"), "--yes").err,
		"line 1, column 4", "has no end")
}

func testFillMariaDB(t *testing.T, f filler) {
	file := scriptFile(t, seedMariaDB)
	has(t, "as whom", f.run(1, "database", "fill", "quay/tickets", file, "--yes").err, "script.definers", "Say "+
		"as which")
	said := f.run(0, "database", "fill", "quay/tickets", file, "--yes", "--set", "definer=tickets_app").err
	has(t, "what it did", said, "TABLE: fares: new, with 3 rows", "DEFINER: 5 objects", "root@localhost, which "+
		"is left out")
	var got string
	err := f.db.QueryRowContext(t.Context(), `SELECT CONCAT_WS(' ', (SELECT label FROM tickets.fares WHERE n = 3),
		(SELECT GROUP_CONCAT(TRIGGER_NAME ORDER BY ACTION_ORDER) FROM information_schema.TRIGGERS
			WHERE TRIGGER_SCHEMA = 'tickets'),
		(SELECT GROUP_CONCAT(DISTINCT DEFINER) FROM (SELECT DEFINER FROM information_schema.TRIGGERS
			WHERE TRIGGER_SCHEMA = 'tickets' UNION SELECT DEFINER FROM information_schema.VIEWS
			WHERE TABLE_SCHEMA = 'tickets'
			UNION SELECT DEFINER FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = 'tickets'
			UNION SELECT DEFINER FROM information_schema.EVENTS WHERE EVENT_SCHEMA = 'tickets') d),
		(SELECT STATUS FROM information_schema.EVENTS WHERE EVENT_SCHEMA = 'tickets'))`).Scan(&got)
	if err != nil || got != "LOUD! first_up,second_up tickets_app@127.0.0.1 DISABLED" {
		t.Errorf("it made %s, %v", got, err)
	}
	bad := scriptFile(t, "INSERT INTO t VALUES (1);\nINSERT INTO t VALUES (2),\n (1);\n")
	r := f.run(1, "database", "fill", "quay/rows_only", bad, "--yes")
	has(t, "rows alone", r.err, "line 2, column 1, INSERT", "Duplicate", "nothing of it took effect", "reverted")
	r = f.run(1, "database", "fill", "quay/rows_only", bad, "--yes", "--one-transaction=false")
	has(t, "what stays", r.err, "1 statement up to line 1 took effect", "stuck")
	r = f.cli("CREATE TABLE t (n INT); INSERT INTO t VALUES (1);", "database", "fill", "quay/odd`na%_me", "-", "--yes")
	if r.code != 0 {
		t.Errorf("into a database of an odd name: %s", r.err)
	}
	has(t, "files of our machine", f.run(1, "database", "fill", "quay/tickets",
		scriptFile(t, "LOAD DATA LOCAL INFILE '/etc/passwd' INTO TABLE fares;"), "--yes").err, "script.refused")
}

// testFillHostile runs what hides from whoever looks at a script: code that is put together
// while it runs has the rights of the one database's owner, and leaves nothing to an account
// that goes.
func testFillHostile(t *testing.T, f filler, mixed *pgx.Conn) {
	has(t, "another database of MariaDB", f.run(1, "database", "fill", "quay/rows_only",
		scriptFile(t, "EXECUTE IMMEDIATE CONCAT('INSERT INTO oth', 'ers.secret VALUES (1)');"), "--yes").err, "denied")
	has(t, "rights of the server", f.run(1, "database", "fill", "quay/rows_only",
		scriptFile(t, "EXECUTE IMMEDIATE CONCAT('CREATE US', 'ER mate');"), "--yes").err, "denied")
	for _, text := range []string{"DO $$ BEGIN EXECUTE 'CREATE RO' || 'LE mate'; END $$;",
		"DO $$ BEGIN EXECUTE 'ALTER DATABASE others RENAME ' || 'TO mine'; END $$;",
		"DO $$ BEGIN EXECUTE 'SET RO' || 'LE other_owner'; END $$;",
		"DO $$ BEGIN EXECUTE 'COPY (SELECT 1) TO PRO' || 'GRAM ''id'''; END $$;"} {
		has(t, text, f.run(1, "database", "fill", "harbour/mixed", scriptFile(t, text), "--yes").err,
			"42501", "reverted")
	}
	// Nor does it stay for what it has set for itself, or for the database.
	f.run(0, "database", "fill", "harbour/mixed", scriptFile(t, `DO $$ BEGIN
  EXECUTE 'ALTER DATABASE mixed SET default_transaction_read_only = on';
  EXECUTE 'SET RO' || 'LE NONE';
  EXECUTE format('ALTER RO' || 'LE %I SET default_transaction_read_only = on', session_user);
  EXECUTE format('ALTER RO' || 'LE %I IN DATABASE mixed SET role = mixed_owner', session_user);
END $$;`), "--yes")
	f.nothingLeft(t)
	if _, err := f.admin.Exec(t.Context(), "ALTER DATABASE mixed RESET ALL"); err != nil {
		t.Fatal(err)
	}
	// Who leaves the owner's role makes things as the account that goes.
	f.run(0, "database", "fill", "harbour/mixed", scriptFile(t, `CREATE SCHEMA mine;
GRANT ALL ON SCHEMA mine TO PUBLIC;
DO $$ BEGIN EXECUTE 'SET RO' || 'LE NONE'; END $$;
CREATE TABLE mine.kept (n int);
`), "--yes", "--accept", "script.grants")
	var owner string
	if err := mixed.QueryRow(t.Context(), "SELECT tableowner FROM pg_tables WHERE tablename = 'kept'").
		Scan(&owner); err != nil || owner != "mixed_owner" {
		t.Errorf("what was made as the script's account belongs to %q, %v", owner, err)
	}
	f.nothingLeft(t)
}

// drafted asks for the run of a script and lets it run.
func (f filler) running(t *testing.T, server, database, text string) (path string, at int) {
	t.Helper()
	status, script, _ := f.call("POST", "/api/v1/servers/"+server+"/scripts?file=slow.sql", f.token, text)
	if status != 201 {
		t.Fatalf("send: %d %v", status, script)
	}
	status, draft, _ := f.call("POST", "/api/v1/changes", f.token, fmt.Sprintf(
		`{"kind":"database.fill","server":%q,"database":{"name":%q,"script":%q}}`, server, database, script["id"]))
	if status != 201 {
		t.Fatalf("ask: %d %v", status, draft)
	}
	brief := draft["brief"].(map[string]any)
	path = fmt.Sprintf("/api/v1/changes/%v", draft["id"])
	status, begun, _ := f.call("POST", path+"/run", f.token,
		fmt.Sprintf(`{"fingerprint":%q,"wait":0}`, brief["fingerprint"]))
	if status/100 != 2 {
		t.Fatalf("run: %d %v", status, begun)
	}
	at = slices.IndexFunc(brief["steps"].([]any), func(x any) bool { return x.(map[string]any)["kind"] == "fill" })
	testutil.Wait(t, "the script to run", func() bool {
		_, c, _ := f.call("GET", path, f.token, "")
		step := c["brief"].(map[string]any)["steps"].([]any)[at].(map[string]any)
		return step["status"] == "begun" && step["work"] != nil
	})
	return path, at
}

func (f filler) state(path string) string {
	_, c, _ := f.call("GET", path, f.token, "")
	return fmt.Sprint(c["state"], ": ", c["result"])
}

func testFillStopped(t *testing.T, f filler, inside *pgx.Conn) {
	path, _ := f.running(t, "harbour", "tickets", "CREATE TABLE stopped (n int);\nSELECT pg_sleep(60);\nSELECT 1;\n")
	id := path[strings.LastIndexByte(path, '/')+1:]
	has(t, "stopped", f.run(0, "change", "stop", id).out, "reverted")
	var there bool
	if err := inside.QueryRow(t.Context(), "SELECT to_regclass('stopped') IS NOT "+
		"NULL").Scan(&there); err != nil || there {
		t.Errorf("what was stopped is there: %v, %v", there, err)
	}
	path, _ = f.running(t, "quay", "tickets", "CREATE TABLE stopped (n int);\nDO SLEEP(60);\nSELECT 1;\n")
	f.run(0, "change", "stop", path[strings.LastIndexByte(path, '/')+1:])
	has(t, "stopped statement by statement", f.state(path), "stuck", "left something altered")
	f.nothingLeft(t)
}

func testFillUpload(t *testing.T, f filler) {
	status, problem, _ := f.call("POST", "/api/v1/servers/nowhere/scripts", f.token, "SELECT 1")
	if status != 404 {
		t.Errorf("for no server: %d %v", status, problem)
	}
	if status, problem, _ = f.call("POST", "/api/v1/servers/quay/scripts", "", "SELECT 1"); status != 401 {
		t.Errorf("from nobody: %d %v", status, problem)
	}
	_, script, _ := f.call("POST", "/api/v1/servers/quay/scripts?file=a.sql", f.token, "SELECT 1; SELECT 'x")
	if script["statements"] != 1.0 || !strings.Contains(fmt.Sprint(script["broken"]), "no end") {
		t.Errorf("a script that was cut off: %v", script)
	}
	at := fmt.Sprintf("/api/v1/servers/quay/scripts/%v", script["id"])
	if status, problem, _ = f.call("DELETE", strings.Replace(at, "quay", "harbour", 1), f.token, ""); status != 404 {
		t.Errorf("of another server: %d %v", status, problem)
	}
	// A script for one server is none for another.
	_, brief, _ := f.call("POST", "/api/v1/briefs", f.token, fmt.Sprintf(
		`{"kind":"database.fill","server":"harbour","database":{"name":"tickets","script":%q}}`, script["id"]))
	has(t, "a script of another server", fmt.Sprint(brief), "script.absent")
	if status, problem, _ = f.call("DELETE", at, f.token, ""); status != 204 {
		t.Errorf("removed: %d %v", status, problem)
	}
	// The same text with the same key is the same change.
	once := []string{"database", "fill", "quay/rows_only", scriptFile(t, "INSERT INTO t VALUES (77);"), "--yes",
		"--idempotency-key", "fill-once"}
	first, second := f.run(0, once...), f.run(0, once...)
	if first.out != second.out {
		t.Errorf("the same key: %s and then %s", first.out, second.out)
	}
	// An upload that stops half way leaves nothing.
	half, err := net.Dial("tcp", strings.TrimPrefix(f.url, "http://"))
	if err != nil {
		t.Fatal(err)
	}
	fmt.Fprintf(half, "POST /api/v1/servers/quay/scripts HTTP/1.1\r\nHost: 127.0.0.1\r\nAuthorization: Bearer %s\r\n"+
		"Content-Type: application/octet-stream\r\nContent-Length: 1000\r\n\r\nSELECT 1;", f.token)
	half.Close()
	// Withdrawn, a change takes its script with it.
	file := scriptFile(t, "SELECT 1;")
	r := f.run(0, "database", "fill", "quay/tickets", file, "--draft")
	f.run(0, "change", "withdraw", strings.Fields(strings.Split(r.out, "\n")[1])[0])
	f.nothingLeft(t)
}

func testFillConsole(t *testing.T, f filler) {
	p := testutil.NewBrowser(t).Page(t, f.url)
	p.SignIn("keeper", password)
	p.Open("/servers/harbour/databases/tickets")
	p.Click("a[href$=\"/fill\"]")
	p.WaitText("Drop a file of statements here")
	p.Eval(`(() => {
		const given = new DataTransfer();
		given.items.add(new File(["CREATE TABLE piers (n int);\nINSERT INTO piers SELECT generate_series(1, " +
			"500);\n"], 'piers.sql'));
		const field = document.querySelector('input[name=script]');
		field.files = given.files;
		return field.dispatchEvent(new Event('change', { bubbles: true }));
	})()`)
	p.WaitText("2 statements")
	p.WaitText("NOLOGIN IN ROLE")
	judge(t, p, "fill")
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.WaitText("piers.sql")
	p.Click("main form button.btn-primary")
	p.WaitText("Done, and read back as asked")
	p.WaitText("piers: new, with 500 rows")
}

// testFillKilled kills the service while a script runs: the next one says what came of it.
func testFillKilled(t *testing.T, f filler, inside *pgx.Conn) {
	path, _ := f.running(t, "harbour", "tickets", "CREATE TABLE killed (n int);\nSELECT pg_sleep(60);\nSELECT 1;\n")
	f.end(syscall.SIGKILL)
	f.flags = append(f.flags, "--max-script", "1 kB")
	f.startAt(strings.TrimPrefix(f.url, "http://"))
	testutil.Wait(t, "the next service to end the "+
		"change", func() bool { return !strings.HasPrefix(f.state(path), "running") })
	has(t, "killed while it ran", f.state(path), "reverted")
	status, problem, _ := f.call("POST", "/api/v1/servers/quay/scripts", f.token, strings.Repeat("SELECT 1; ", 200))
	if status != 413 || problem["code"] != "script.too_large" {
		t.Errorf("a script that is too large: %d %v", status, problem)
	}
	var there bool
	if err := inside.QueryRow(t.Context(), "SELECT to_regclass('killed') IS NOT "+
		"NULL").Scan(&there); err != nil || there {
		t.Errorf("what was killed is there: %v, %v", there, err)
	}
}

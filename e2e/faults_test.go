package e2e

import (
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"strings"
	"syscall"
	"testing"

	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/postgres"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// line is a server behind a line that can be cut, with a way round it.
type line struct {
	t      *testing.T
	s      *service
	name   string
	faulty *testutil.Faulty
	exec   func(text string) error
	// one is the first value of a query, as text; empty: there is none.
	one func(query string) string
}

func (l line) must(texts ...string) {
	l.t.Helper()
	for _, text := range texts {
		if err := l.exec(text); err != nil {
			l.t.Fatalf("%s: %v", text, err)
		}
	}
}

// trial is a change one of whose statements is cut.
type trial struct {
	title string
	match string   // the statement, as it passes the line
	setup []string // on the server, with § for the name
	args  []string // the command, with §
	// state is what the server shows of it, in one text, with §; before and after
	// are what it shows when nothing, and when all of it was done.
	state, before, after string
	// not is a cut that is left out: with a half open line, what must not be cut off
	// is waited for long. One of the engines shows each.
	not testutil.Cut
}

// allCuts has each statement cut in each way, as make soak does: else its answer is lost, and
// one of the other ways is tried in turn.
var allCuts = flag.Bool("all-cuts", false, "cut each statement in each way")

// trials plays each trial with each kind of cut, after a command of Genarch's if first is given.
func (l line) trials(title string, first []string, list []trial) {
	for n, tr := range list {
		for i, cut := range cuts {
			if cut == tr.not || !*allCuts && cut != testutil.CutAnswer && i != []int{0, 2, 3}[n%3] {
				continue
			}
			l.t.Run(tr.title+", "+string(cut), func(t *testing.T) {
				l := l
				l.t = t
				l.hold(tr, cut, first, fmt.Sprintf("%s%d_%d", title, n, i))
			})
		}
	}
}

// hold plays one trial with one kind of cut, and holds what the change says
// against what is on the server: at once, and when all that the server may still
// have had to do is done.
func (l line) hold(tr trial, cut testutil.Cut, first []string, name string) {
	l.t.Helper()
	in := func(text string) string { return strings.ReplaceAll(text, "§", name) }
	each := func(texts []string) (out []string) {
		for _, text := range texts {
			out = append(out, in(text))
		}
		return out
	}
	l.must(each(tr.setup)...)
	args := each(tr.args)
	if len(first) > 0 {
		l.s.run(0, each(first)...)
	}
	if got := l.one(in(tr.state)); got != in(tr.before) {
		l.t.Fatalf("%s: before it the server shows %q, want %q", tr.title, got, tr.before)
	}
	l.faulty.Next(in(tr.match), cut)
	r := l.s.cli("", args...)
	if l.faulty.Hits() == 0 {
		l.t.Fatalf("%s, %s: the statement did not pass the line: %+v", tr.title, cut, r)
	}
	state, says := l.last(args)
	want := in(map[string]string{"done": tr.after, "reverted": tr.before}[state])
	if want == "" && state != "done" && state != "reverted" {
		l.t.Errorf("%s, %s: ended %s: %s\n%s", tr.title, cut, state, says, r.err)
		return
	}
	check := func(when string) {
		l.t.Helper()
		if got := l.one(in(tr.state)); got != want {
			l.t.Errorf("%s, %s: %s (%s), and %s the server shows %q, want %q", tr.title, cut, state, says, when, got,
				want)
		}
	}
	check("at its end")
	l.faulty.Release()
	testutil.Wait(l.t, "the server to be through with what was cut", func() bool { return l.one(l.busy()) == "0" })
	check("later")
}

// busy counts the sessions of Genarch that do something just now.
func (l line) busy() string {
	if l.name == "harbour" {
		return `SELECT count(*)::text FROM pg_stat_activity WHERE application_name = 'genarch' AND state = 'active'`
	}
	return `SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE COMMAND NOT IN ('Sleep', 'Daemon') AND USER = 'genarch' AND ID <> CONNECTION_ID()`
}

// last is how the newest change of the service ended.
func (l line) last(args []string) (state, result string) {
	l.t.Helper()
	var list struct {
		Changes []struct{ State, Result string }
	}
	out := l.s.run(0, "change", "list", "--limit", "1", "-o", "json")
	if err := json.Unmarshal([]byte(out.out), &list); err != nil || len(list.Changes) != 1 {
		l.t.Fatalf("%v: %v\n%s", args, err, out.out)
	}
	return list.Changes[0].State, list.Changes[0].Result
}

var cuts = []testutil.Cut{testutil.CutBefore, testutil.CutAnswer, testutil.CutWorking, testutil.CutUnread}

// Every kind of statement with every kind of cut, on both engines: what a change
// says at its end is what is on the server, and stays so.
func TestCutLines(t *testing.T) {
	t.Parallel()
	for engine, test := range map[string]func(*testing.T, *service){"PostgreSQL": testCutPostgres,
		"MariaDB": testCutMariaDB} {
		t.Run(engine, func(t *testing.T) {
			t.Parallel()
			s := newService(t)
			test(t, s)
			s.run(0, "journal", "check")
		})
	}
}

// through registers a server by a line that can be cut.
func through(t *testing.T, s *service, name, engine string, srv *localdb.Server) *testutil.Faulty {
	f := testutil.NewFaulty(t, srv.Address())
	behind := *srv
	behind.Port = f.Port
	s.add(name, engine, "development", &behind, "--free-names")
	return f
}

func testCutPostgres(t *testing.T, s *service) {
	pg := testutil.Postgres(t)
	admin := onPostgres(t, pg, "postgres")
	l := line{t: t, s: s, name: "harbour", faulty: through(t, s, "harbour", "postgresql", pg)}
	l.exec = func(text string) error {
		_, err := admin.Exec(context.Background(), text)
		return err
	}
	l.one = func(query string) string {
		var v string
		_ = admin.QueryRow(context.Background(), query).Scan(&v)
		return v
	}
	database := `SELECT (datallowconn AND datconnlimit <> -2)::text FROM pg_database WHERE datname = '§'`
	role := `SELECT rolcanlogin::text || ' ' || has_database_privilege(r.oid, 'template1', 'CREATE')::text FROM pg_roles r WHERE rolname = '§'`
	drop := []string{"database", "drop", "--for-good", "harbour/§", "--grace", "0s", "--confirm", "§"}
	rename := []string{"database", "rename", "harbour/§", "--to", "§_new", "--grace", "0s", "--yes", "--accept",
		"drop.breaks"}
	dropRole := []string{"account", "drop", "--for-good", "harbour/account:§", "--confirm", "§"}
	roleAside := []string{"account", "drop", "harbour/account:§", "--confirm", "§"}
	// Whether it has its name, whether it may sign in, whether it is noted what it was.
	roleWhere := `SELECT (rolname = '§')::text || ' ' || rolcanlogin::text || ' ' ||
		(coalesce(shobj_description(oid, 'pg_authid'), '') LIKE '{%')::text FROM pg_roles WHERE rolname LIKE '%§'`
	roleWaits := []string{`CREATE ROLE "genarch_held_account_1_§"`, `COMMENT ON ROLE "genarch_held_account_1_§" IS
		'{"set_aside_by":"Genarch","name":"§","since":"2026-01-01","kept_until":"2099-01-01","open":true}'`}
	roleBack := []string{"holding", "bring-back", "harbour/account:§", "--yes"}
	altered := `SELECT datconnlimit::text || ' ' || coalesce(array_to_string(setconfig, ','), '') FROM pg_database d LEFT JOIN pg_db_role_setting ON setdatabase = d.oid WHERE datname = '§'`
	made := []string{"CREATE DATABASE §"}
	aside := []string{"database", "drop", "harbour/§", "--grace", "0s", "--confirm", "§"}
	// Whether it has its name, whether it is open, whether it is noted what it was.
	where := `SELECT (datname = '§')::text || ' ' || datallowconn::text || ' ' ||
		(coalesce(shobj_description(oid, 'pg_database'), '') LIKE '{%')::text FROM pg_database WHERE datname LIKE '%§'`
	waits := []string{`CREATE DATABASE "genarch_held_1_§"`, `COMMENT ON DATABASE "genarch_held_1_§" IS
		'{"set_aside_by":"Genarch","name":"§","since":"2026-01-01","kept_until":"2099-01-01","open":true}'`,
		`ALTER DATABASE "genarch_held_1_§" ALLOW_CONNECTIONS false`}
	back := []string{"holding", "bring-back", "harbour/§", "--yes"}
	owned := []string{"CREATE ROLE §", "CREATE DATABASE § OWNER §"}
	fill := []string{"database", "fill", "harbour/§", scriptFile(t, "CREATE TABLE filled (n int);"), "--yes"}
	// What the owner owns in it beside itself, and the accounts of scripts.
	filled := `SELECT (SELECT count(*) FROM pg_shdepend WHERE refobjid = '§'::regrole
		AND dbid = (SELECT oid FROM pg_database WHERE datname = '§')) || ' ' ||
		(SELECT count(*) FROM pg_roles WHERE rolname LIKE 'genarch!_fill%' ESCAPE '!')`
	login := []string{"CREATE ROLE § LOGIN", "GRANT CREATE ON DATABASE template1 TO §"}
	l.trials("cut", nil, []trial{
		{"create a database", `(?i)create database "`, nil, []string{"database", "create", "harbour/§", "--yes"},
			database, "", "true", ""},
		{"its comment", `COMMENT ON DATABASE "`, nil,
			[]string{"database", "create", "harbour/§", "--comment", "x", "--yes"}, database, "", "true", ""},
		{"close a gate, drop", `ALLOW_CONNECTIONS false`, made, drop, database, "true", "", ""},
		{"drop a database", `DROP DATABASE "`, made, drop, database, "true", "", testutil.CutUnread},
		{"close a gate, rename", `ALLOW_CONNECTIONS false`, made, rename, database, "true", "", ""},
		{"rename a database", `RENAME TO "`, made, rename, database, "true", "", ""},
		{"open a gate", `ALLOW_CONNECTIONS true`, made, rename,
			`SELECT string_agg(datname || ' ' || datallowconn::text, ' ') FROM pg_database WHERE datname LIKE '§%'`,
			"§ true", "§_new true", ""},
		{"note what is set aside", `COMMENT ON DATABASE "`, made, aside, where, "true true false", "false false true",
			""},
		{"set aside", `RENAME TO "`, made, aside, where, "true true false", "false false true", ""},
		{"bring back", `RENAME TO "`, waits, back, where, "false false true", "true true false", ""},
		{"give its comment back", `COMMENT ON DATABASE "`, waits, back, where, "false false true", "true true false",
			""},
		{"open it again", `ALLOW_CONNECTIONS true`, waits, back, where, "false false true", "true true false", ""},
		{"make the account of a script", "NOLOGIN IN ROLE", owned, fill, filled, "0 0", "1 0", ""},
		{"run a statement of a script", "CREATE TABLE filled", owned, fill, filled, "0 0", "1 0", ""},
		{"note that a script has run", "genarch: filled", owned, fill, filled, "0 0", "1 0", ""},
		{"commit a script", "COMMIT", owned, fill, filled, "0 0", "1 0", ""},
		{"drop the account of a script", `DROP ROLE "genarch_fill`, owned, fill, filled, "0 0", "1 0", ""},
		{"keep it longer", `COMMENT ON DATABASE "`, waits,
			[]string{"holding", "hold", "harbour/§", "--reason", "x", "--yes"},
			`SELECT (shobj_description(oid, 'pg_database') LIKE '%"hold":"x"%')::text FROM pg_database
				WHERE datname LIKE '%§'`,
			"false", "true", ""},
		{"discard", `DROP DATABASE "`, waits, []string{"holding", "discard", "harbour/§", "--confirm", "§", "--accept",
			"holding.early"}, where, "false false true", "", testutil.CutUnread},
		{"alter a limit", `CONNECTION LIMIT 7`, made,
			[]string{"database", "alter", "harbour/§", "--connection-limit", "7", "--yes"}, altered, "-1 ", "7 ", ""},
		{"alter a setting, after a limit", `SET "work_mem"`, made,
			[]string{"database", "alter", "harbour/§", "--connection-limit", "7", "--set", "settings.work_mem=8MB",
				"--yes"}, altered, "-1 ", "7 work_mem=8MB", ""},
		{"create a role", `(?i)create role "`, nil, []string{"account", "create", "harbour/account:§", "--yes"},
			`SELECT 'there' FROM pg_roles WHERE rolname = '§'`, "", "there", ""},
		{"keep a role out", `NOLOGIN`, login, dropRole, role, "true true", "", ""},
		{"take what a role holds", `(?i)commit`, login, dropRole, role, "true true", "", ""},
		{"drop a role", `DROP ROLE "`, login, dropRole, role, "true true", "", ""},
		{"keep an account out", `NOLOGIN`, login, roleAside, roleWhere, "true true false", "false false true", ""},
		{"note what it was", `COMMENT ON ROLE "`, login, roleAside, roleWhere, "true true false", "false false true",
			""},
		{"set an account aside", `RENAME TO "`, login, roleAside, roleWhere, "true true false", "false false true",
			""},
		{"bring an account back", `RENAME TO "`, roleWaits, roleBack, roleWhere, "false false true",
			"true true false", ""},
		{"let it sign in again", `" LOGIN`, roleWaits, roleBack, roleWhere, "false false true", "true true false", ""},
	})
}

func testCutMariaDB(t *testing.T, s *service) {
	maria := testutil.MariaDB(t)
	db := onMariaDB(t, maria.DSN(""))
	l := line{t: t, s: s, name: "quay", faulty: through(t, s, "quay", "mariadb", maria)}
	l.exec = func(text string) error {
		_, err := db.Exec(text)
		return err
	}
	l.one = func(query string) string {
		var v string
		_ = db.QueryRow(query).Scan(&v)
		return v
	}
	database := "SELECT DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = '§'"
	account := "SELECT CONCAT(User, '@', Host, ' ', IF(JSON_VALUE(Priv, '$.account_locked') IN ('1', 'true'), 'locked', 'open')) FROM mysql.global_priv WHERE User LIKE '§%'"
	rights := "SELECT CONCAT((SELECT COUNT(*) FROM mysql.db WHERE Db LIKE '§'), ' ', (SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = '§'))"
	made := []string{"CREATE DATABASE § COLLATE utf8mb4_bin", "CREATE TABLE §.t (id INT)",
		"CREATE USER §r@'127.0.0.1' IDENTIFIED BY 'x'", "GRANT SELECT ON §.* TO §r@'127.0.0.1'"}
	user := []string{"CREATE USER §@'127.0.0.1' IDENTIFIED BY 'x'"}
	drop := []string{"database", "drop", "--for-good", "quay/§", "--grace", "0s", "--confirm", "§"}
	full := []string{"CREATE DATABASE §", "CREATE TABLE §.t (id INT)", "CREATE VIEW §.v AS SELECT * FROM §.t",
		"CREATE TRIGGER §.r BEFORE INSERT ON §.t FOR EACH ROW SET NEW.id = 1", "CREATE USER §r@'127.0.0.1'",
		"GRANT SELECT ON §.t TO §r@'127.0.0.1'"}
	aside := []string{"database", "drop", "quay/§", "--grace", "0s", "--confirm", "§"}
	back := []string{"holding", "bring-back", "quay/§", "--yes"}
	// Where its table is, its triggers and views, the grants on it, and how many databases there are for it.
	where := `SELECT CONCAT_WS(' ', (SELECT GROUP_CONCAT(IF(TABLE_SCHEMA = '§', 'own', 'held'))
			FROM information_schema.TABLES
			WHERE TABLE_SCHEMA LIKE '%§' AND TABLE_NAME = 't'),
		(SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA LIKE '%§'),
		(SELECT COUNT(*) FROM information_schema.VIEWS WHERE TABLE_SCHEMA LIKE '%§'),
		(SELECT COUNT(*) FROM mysql.tables_priv WHERE Db LIKE '%§'),
		(SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME LIKE '%§'))`
	const own, held = "own 1 1 1 1", "held 0 0 0 1"
	l.trials("away", nil, []trial{
		{"save a definition", "INSERT INTO `genarch_held", full, aside, where, own, held, ""},
		{"move tables away", "RENAME TABLE `", full, aside, where, own, held, ""},
		{"drop the shell", "DROP DATABASE `away", full, aside, where, own, held, testutil.CutWorking},
	})
	l.trials("back", aside, []trial{
		{"make a trigger again", "CREATE DEFINER=.* TRIGGER", full, back, where, held, own, ""},
		{"grant again", "GRANT SELECT", full, back, where, held, own, ""},
		{"drop what was saved", "DROP DATABASE `genarch_held", full, back, where, held, own, testutil.CutWorking},
		{"discard", "DROP DATABASE `genarch_held", full, []string{"holding", "discard", "quay/§", "--confirm", "§",
			"--accept", "holding.early"}, where, held, "0 0 0 0", testutil.CutWorking},
	})
	l.trials("model", nil, []trial{
		{"copy rows", "INSERT INTO `§_copy`", full, []string{"database", "copy", "quay/§", "§_copy", "--yes"},
			`SELECT CONCAT_WS(' ', COUNT(*), (SELECT COUNT(*) FROM information_schema.TRIGGERS
				WHERE TRIGGER_SCHEMA = '§_copy')) FROM information_schema.TABLES WHERE TABLE_SCHEMA = '§_copy'`,
			"0 0", "2 1", ""},
	})
	fill := []string{"database", "fill", "quay/§", scriptFile(t, "INSERT INTO t VALUES (1);"), "--yes"}
	empty := []string{"CREATE DATABASE §", "CREATE TABLE §.t (n INT PRIMARY KEY)"}
	filled := `SELECT CONCAT_WS(' ', (SELECT COUNT(*) FROM §.t),
		(SELECT COUNT(*) FROM mysql.global_priv WHERE User LIKE 'genarch!_fill%' ESCAPE '!'))`
	l.trials("fill", nil, []trial{
		{"make the account of a script", "CREATE USER 'genarch_fill", empty, fill, filled, "0 0", "1 0", ""},
		{"give it its privileges", "GRANT SELECT, INSERT", empty, fill, filled, "0 0", "1 0", ""},
		{"run a statement of a script", "INSERT INTO t", empty, fill, filled, "0 0", "1 0", ""},
		{"drop the account of a script", "DROP USER IF EXISTS 'genarch_fill", empty, fill, filled, "0 0", "1 0", ""},
	})
	l.trials("cut", nil, []trial{
		{"create a database", "CREATE DATABASE `", nil,
			[]string{"database", "create", "quay/§", "--collation", "utf8mb4_bin", "--yes"}, database, "",
			"utf8mb4_bin", ""},
		{"take rights for the time", "GRANT DELETE HISTORY", made, drop, rights, "1 1", "1 0", ""},
		{"drop a database", "DROP DATABASE `", made, drop, database, "utf8mb4_bin", "", testutil.CutWorking},
		{"put rights back", "REVOKE DELETE HISTORY", made, drop, rights, "1 1", "1 0", ""},
		{"alter what comes later", "ALTER DATABASE `", made,
			[]string{"database", "alter", "quay/§", "--collation", "latin1_bin", "--yes"}, database, "utf8mb4_bin",
			"latin1_bin", ""},
		{"alter a comment, after a collation", "COMMENT '", made,
			[]string{"database", "alter", "quay/§", "--collation", "latin1_bin", "--comment", "x", "--yes"}, database,
			"utf8mb4_bin", "latin1_bin", ""},
		{"create an account", "CREATE USER '", nil, []string{"account", "create", "quay/account:§@127.0.0.1", "--yes"},
			account, "", "§@127.0.0.1 open", ""},
		{"create a role", "CREATE ROLE `", nil, []string{"role", "create", "quay/role:§", "--yes"},
			"SELECT User FROM mysql.global_priv WHERE User = '§'", "", "§", ""},
		{"lock an account", "ACCOUNT LOCK", user, []string{"account", "lock", "quay/account:§@127.0.0.1", "--yes"},
			account, "§@127.0.0.1 open", "§@127.0.0.1 locked", ""},
		{"drop an account", "DROP USER '", user,
			[]string{"account", "drop", "quay/account:§@127.0.0.1", "--confirm", "§@127.0.0.1"}, account,
			"§@127.0.0.1 open", "", ""},
	})
}

// The service is killed while the server drops a database: the next one waits
// until the server is through with it, and says what is there.
func TestKilledWhileDropping(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "production", maria)
	shores := []shore{{t, s, "harbour", postgres.Engine{}, pg}, {t, s, "quay", mariadb.Engine{}, maria}}
	admin := onPostgres(t, pg, "postgres")
	// A transaction sees one picture of the sessions: another connection looks.
	eye := onPostgres(t, pg, "postgres")
	db := onMariaDB(t, maria.DSN(""))
	lock, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	// What holds the server's statement up, and lets it go.
	hold := func(pgText, mariaText string) {
		t.Helper()
		_, err := admin.Exec(context.Background(), pgText)
		_, err2 := lock.ExecContext(context.Background(), mariaText)
		if err := errors.Join(err, err2); err != nil {
			t.Fatal(err)
		}
	}
	at := func(count int) bool {
		var n, m int
		_ = eye.QueryRow(t.Context(), `SELECT count(*) FROM pg_stat_activity WHERE query LIKE 'DROP DATABASE%' AND state = 'active'`).Scan(&n)
		_ = db.QueryRow("SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE INFO LIKE '%DROP DATABASE `felled%' AND ID <> CONNECTION_ID()").Scan(&m)
		return n+m == count
	}
	for _, early := range []bool{true, false} { // it is through before the next service looks, or not
		var ids []string
		var clients []*enginetest.Conn
		for _, h := range shores {
			h.furnished("felled_prod")
			if h.name == "quay" { // without tables, whose locks would be tried before anything is sent
				for _, text := range []string{"DROP DATABASE felled_prod", "CREATE DATABASE felled_prod"} {
					if _, err := db.Exec(text); err != nil {
						t.Fatal(err)
					}
				}
			}
			clients = append(clients, h.client("felled_prod"))
			ids = append(ids, h.waitingDrop("felled_prod"))
		}
		hold("BEGIN; LOCK TABLE pg_catalog.pg_database IN SHARE MODE", "FLUSH TABLES WITH READ LOCK")
		for _, c := range clients {
			c.Close()
		}
		testutil.Wait(t, "both servers to drop", func() bool { return at(2) })
		s.end(syscall.SIGKILL)
		if early {
			hold("COMMIT", "UNLOCK TABLES")
			testutil.Wait(t, "both servers to be through", func() bool { return at(0) })
		}
		s.startAt(strings.TrimPrefix(s.url, "http://"))
		if !early {
			for i, h := range shores {
				if at(2) && stepStatus(t, s, ids[i], "drop_database") == "done" {
					t.Errorf("%s: the server is still running, and the step is done", h.name)
				}
			}
			hold("COMMIT", "UNLOCK TABLES")
		}
		for i, h := range shores {
			state, result := h.ended(ids[i])
			if state != "done" && state != "reverted" || h.has("felled_prod") != (state == "reverted") ||
				state == "reverted" && !h.in("felled_prod") {
				t.Errorf("%s, early %v: %s, %s; there %v", h.name, early, state, result, h.has("felled_prod"))
			}
			t.Log(h.name, early, state)
			if state == "reverted" {
				s.run(0, "database", "drop", "--for-good",
					h.name+"/felled_prod", "--grace", "0s", "--confirm", "felled_prod")
			}
		}
	}
	s.run(0, "journal", "check")
}

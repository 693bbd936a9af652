package e2e

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// TestHolding sets databases aside and brings them back, by the CLI, the API and the console.
func TestHolding(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "staging", maria)
	admin := onPostgres(t, pg, "postgres")
	for _, text := range []string{"CREATE ROLE tickets_owner", "CREATE DATABASE tickets_prod OWNER tickets_owner",
		"COMMENT ON DATABASE tickets_prod IS 'bookings'", `CREATE DATABASE "od'd ""name"`} {
		if _, err := admin.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	inside := onPostgres(t, pg, "tickets_prod")
	if _, err := inside.Exec(t.Context(), "CREATE TABLE fares AS SELECT n FROM generate_series(1, 300) n"); err != nil {
		t.Fatal(err)
	}
	aside := []string{"database", "drop", "harbour/tickets_prod", "--grace", "0s", "--accept-loss"}
	has(t, "the brief", s.run(3, aside...).err, "set database tickets_prod aside", "is set aside", "1 table",
		"yes, until", "the disk is not", "genarch holding bring-back harbour/tickets_prod")
	has(t, "done", s.run(0, append(aside, "--confirm", "tickets_prod", "--keep-days", "3")...).out,
		"database.set_aside")
	list := s.run(0, "database", "list", "harbour")
	if has(t, "the list", list.err, "1 more set aside"); strings.Contains(list.out, "tickets_prod") {
		t.Errorf("it is among the databases: %s", list.out)
	}
	has(t, "the holdings", s.run(0, "holding", "list", "-o", "csv").out, "harbour/tickets_prod,production,", ",keeper,")
	has(t, "asked for as if it were there", s.run(4, "database", "show", "harbour/tickets_prod").err, "was set aside",
		"genarch holding bring-back harbour/tickets_prod")
	has(t, "one of them", s.run(0, "holding", "show", "harbour/tickets_prod").out, "genarch_held_", "bookings",
		"tickets_owner")
	has(t, "the matrix", s.run(0, "privilege", "matrix", "harbour").out, "ACCOUNT")
	if matrix := s.run(0, "privilege", "matrix", "harbour").out; strings.Contains(strings.ToLower(matrix),
		"genarch_held") {
		t.Errorf("it counts in the matrix: %s", matrix)
	}
	s.run(3, "holding", "hold", "harbour/tickets_prod", "--reason", "the audit") // no terminal, and nobody agreed
	s.run(0, "holding", "hold", "harbour/tickets_prod", "--reason", "the audit", "--yes")
	has(t, "discarding against a hold", s.run(1, "holding", "discard", "harbour/tickets_prod", "--confirm",
		"tickets_prod").err, "must not be discarded: the audit", "genarch holding release")
	s.run(0, "holding", "release", "harbour/tickets_prod", "--yes")
	s.run(2, "holding", "extend", "harbour/tickets_prod")
	s.run(0, "holding", "extend", "harbour/tickets_prod", "--days", "90", "--yes")
	// Its name is taken meanwhile: it comes back under another one, or when the name is free.
	s.run(0, "database", "create", "harbour/tickets_prod", "--yes")
	has(t, "a name that is taken", s.run(1, "holding", "bring-back", "harbour/tickets_prod", "--yes").err, "already",
		"--as")
	s.run(0, "database", "drop", "--for-good", "harbour/tickets_prod", "--confirm", "tickets_prod", "--grace", "0s")
	has(t, "brought back", s.run(0, "holding", "bring-back", "harbour/tickets_prod", "--yes").out, "holding.bring_back")
	var rows int
	err := onPostgres(t, pg, "tickets_prod").QueryRow(t.Context(), "SELECT count(*) FROM fares").Scan(&rows)
	if err != nil || rows != 300 {
		t.Errorf("it came back with %d rows, %v", rows, err)
	}
	has(t, "nothing waits", s.run(4, "holding", "show", "harbour/tickets_prod").err, "genarch holding list harbour")
	has(t, "its maker", s.run(0, "change", "list", "--target", "harbour/tickets_prod").out, "database.set_aside")
	s.run(2, "database", "drop", "harbour/tickets_prod", "--keep-days", "3", "--for-good")
	odd := `od'd "name`
	s.run(0, "database", "drop", "harbour/"+odd, "--confirm", odd, "--grace", "0s")
	s.run(0, "holding", "discard", "harbour/"+odd, "--confirm", odd, "--accept", "holding.early")
	t.Run("an account", func(t *testing.T) { testHeldAccount(t, s, pg, admin) })
	t.Run("when its time is over", func(t *testing.T) { testHoldingDue(t, s, admin) })
	t.Run("refused", func(t *testing.T) {
		for body, want := range map[string]string{
			`{"kind":"holding.bring_back","server":"harbour","holding":{"id":"nothing"}}`:             "holding.absent",
			`{"kind":"holding.bring_back","server":"harbour","holding":{"id":"tickets_prod"}}`:        "holding.absent",
			`{"kind":"holding.discard","server":"harbour","holding":{"id":"postgres"}}`:               "holding.absent",
			`{"kind":"holding.keep","server":"harbour","holding":{"id":"x"}}`:                         "needs until",
			`{"kind":"holding.keep","server":"harbour","holding":{"id":"x","until":"tomorrow"}}`:      "is a day",
			`{"kind":"holding.discard","server":"harbour","holding":{"id":"x","new_name":"y"}}`:       "no holding.new_name",
			`{"kind":"database.set_aside","server":"harbour","database":{"name":"x","keep_days":-1}}`: "keep_days",
			`{"kind":"database.set_aside","server":"quay","database":{"name":"x"}}`:                   "database.absent",
			`{"kind":"holding.discard","server":"harbour","holding":{"id":"x","account":true}}`:       "holding.absent",
			`{"kind":"account.set_aside","server":"harbour","account":{"name":"x","keep_days":9999}}`: "3650",
			`{"kind":"account.set_aside","server":"quay","account":{"name":"x"}}`:                     "unsupported",
		} {
			if _, got, _ := s.call("POST", "/api/v1/briefs", s.token, body); !strings.Contains(fmt.Sprint(got), want) {
				t.Errorf("%s: %v; want %s", body, got, want)
			}
		}
		if status, got, _ := s.call("GET", "/api/v1/holdings?server=nowhere", s.token, ""); status != 404 {
			t.Errorf("holdings of no server: %d %v", status, got)
		}
	})
	t.Run("console", func(t *testing.T) { testHoldingConsole(t, s) })
	t.Run("MariaDB", func(t *testing.T) { testHoldingMariaDB(t, s, onMariaDB(t, maria.DSN(""))) })
}

// testHeldAccount sets an account aside that is connected, owns things and is a member, and
// brings it back: it signs in as before, with all that it had.
func testHeldAccount(t *testing.T, s *service, pg *localdb.Server, admin *pgx.Conn) {
	for _, text := range []string{"CREATE ROLE desk", "CREATE ROLE mate LOGIN PASSWORD 'mate-password' IN ROLE desk",
		"CREATE DATABASE berths_dev OWNER mate", "COMMENT ON ROLE mate IS 'of the desk'"} {
		if _, err := admin.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	signIn := func() (*pgx.Conn, error) {
		return pgx.Connect(t.Context(), strings.Replace(pg.DSN("berths_dev"), pg.Admin+":"+pg.Password.Reveal()+"@",
			"mate:mate-password@", 1))
	}
	conn, err := signIn()
	if err != nil {
		t.Fatal(err)
	}
	const at = "harbour/account:mate"
	has(t, "the brief", s.run(3, "account", "drop", at).err, "set account mate aside", "1 account, 1 membership",
		"yes, until", "stays the owner of 1 object", "1 session is open", "genarch holding bring-back "+at)
	has(t, "done", s.run(0, "account", "drop", at, "--confirm", "mate", "--grace", "0s").out, "account.set_aside")
	if _, err := conn.Exec(t.Context(), "SELECT 1"); err == nil {
		t.Error("its session goes on")
	}
	if _, err := signIn(); err == nil {
		t.Error("it still signs in")
	}
	s.run(4, "account", "show", at)
	list := s.run(0, "account", "list", "harbour")
	if has(t, "the accounts", list.err, "1 more set aside"); strings.Contains(list.out, "held") {
		t.Errorf("it is among the accounts: %s", list.out)
	}
	if out := s.run(0, "privilege", "matrix", "harbour").out; strings.Contains(out, "held") {
		t.Errorf("it counts in the matrix: %s", out)
	}
	has(t, "the holdings", s.run(0, "holding", "list", "-o", "csv").out, at+",production,", ",keeper,")
	shown := s.run(0, "holding", "show", at).out
	has(t, "one of them", shown, "genarch_held_account_", "of the desk")
	waits := shown[strings.Index(shown, "genarch_held_account_"):]
	waits, _, _ = strings.Cut(waits, "\n")
	for _, args := range [][]string{{"account", "drop"}, {"account", "drop", "--for-good"}, {"account", "lock"},
		{"account", "password"}} {
		has(t, "no target", s.run(1, append(args, "harbour/account:"+waits, "--yes")...).err, "account.held")
	}
	s.run(0, "holding", "hold", "harbour/mate", "--reason", "the audit", "--yes")
	has(t, "what it owns, against a hold", s.run(1, "holding", "discard", at).err, "holding.hold", "account.owns",
		"holding.early", "no, this is final")
	s.run(0, "holding", "release", at, "--yes")
	if _, err := admin.Exec(t.Context(), "CREATE ROLE mate"); err != nil {
		t.Fatal(err)
	}
	has(t, "its name is taken", s.run(1, "holding", "bring-back", at, "--yes").err, "--as")
	if _, err := admin.Exec(t.Context(), "DROP ROLE mate"); err != nil {
		t.Fatal(err)
	}
	s.run(0, "holding", "bring-back", at, "--yes")
	if conn, err = signIn(); err != nil {
		t.Fatal("it does not sign in again: ", err)
	}
	conn.Close(t.Context())
	has(t, "as before", s.run(0, "account", "show", at).out, "desk", "of the desk", "berths_dev")
	// Without anything of its own it can be discarded; under another name it comes back as well.
	s.run(0, "database", "drop", "--for-good", "harbour/berths_dev", "--confirm", "berths_dev")
	s.run(0, "account", "drop", at, "--confirm", "mate", "--keep-days", "5")
	s.run(0, "holding", "bring-back", at, "--as", "bosun", "--yes")
	s.run(0, "account", "drop", "harbour/account:bosun", "--confirm", "bosun")
	s.run(0, "holding", "discard", "harbour/account:bosun", "--confirm", "bosun", "--accept", "holding.early")
	var left int
	if err := admin.QueryRow(t.Context(), `SELECT count(*) FROM pg_roles WHERE rolname ~ 'mate|bosun|held'`).
		Scan(&left); err != nil || left != 0 {
		t.Errorf("%d are left, %v", left, err)
	}
	s.run(0, "role", "drop", "harbour/role:desk", "--confirm", "desk", "--yes")
	has(t, "where there is no such thing", s.run(1, "account", "drop", "quay/account:nobody", "--yes").err,
		"MariaDB keeps no comment with an account", "dropped for good")
}

// testHoldingMariaDB sets a database aside whose definitions cannot be moved, and brings it
// back with its views, triggers, events and grants, under its own and under another name.
func testHoldingMariaDB(t *testing.T, s *service, db *sql.DB) {
	exec := func(texts ...string) {
		t.Helper()
		for _, text := range texts {
			if _, err := db.ExecContext(t.Context(), text); err != nil {
				t.Fatalf("%s: %v", text, err)
			}
		}
	}
	exec("CREATE DATABASE loyalty_staging COLLATE utf8mb4_bin", "CREATE TABLE loyalty_staging.points (n INT)",
		"INSERT INTO loyalty_staging.points SELECT seq FROM mysql.seq_1_to_300",
		"CREATE VIEW loyalty_staging.doubles AS SELECT n * 2 AS n FROM loyalty_staging.points",
		"CREATE TRIGGER loyalty_staging.up BEFORE INSERT ON loyalty_staging.points FOR EACH ROW SET NEW.n = NEW.n + 1",
		"CREATE EVENT loyalty_staging.nightly ON SCHEDULE EVERY 1 DAY DO DELETE FROM points",
		"CREATE USER loyalty_app@127.0.0.1", "GRANT SELECT ON `loyalty\\_staging`.* TO loyalty_app@127.0.0.1")
	state := func(name string) (out string) {
		t.Helper()
		err := db.QueryRowContext(t.Context(), `SELECT CONCAT_WS(' ', (SELECT COUNT(*) FROM mysql.db WHERE Db = ?),
			(SELECT GROUP_CONCAT(STATUS) FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ?),
			(SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ?), (SELECT SUM(n) FROM `+"`"+
			name+"`.doubles))", strings.ReplaceAll(name, "_", `\_`), name, name).Scan(&out)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	const whole = "1 ENABLED 1 90300"
	if got := state("loyalty_staging"); got != whole {
		t.Fatalf("before: %s", got)
	}
	aside := []string{"database", "drop", "quay/loyalty_staging", "--grace", "0s"}
	has(t, "the brief", s.run(3, aside...).err, "set database loyalty_staging aside", "RENAME TABLE", "genarch_held_1_")
	s.run(0, append(aside, "--confirm", "loyalty_staging")...)
	has(t, "the list", s.run(0, "database", "list", "quay").err, "1 more set aside")
	has(t, "one of them", s.run(0, "holding", "show", "quay/loyalty_staging").out, "genarch_held_1_loyalty_staging")
	for _, args := range [][]string{{"privilege", "matrix", "quay"}, {"server", "show", "quay"}} {
		if out := s.run(0, args...); strings.Contains(out.out, "genarch_held") {
			t.Errorf("%v: what waits is among the others: %s", args, out.out)
		}
	}
	has(t, "no target", s.run(1, "database", "drop", "--for-good", "quay/genarch_held_1_loyalty_staging").err,
		"database.held")
	exec("CREATE DATABASE loyalty_staging")
	has(t, "a name that is taken", s.run(1, "holding", "bring-back", "quay/loyalty_staging", "--yes").err, "--as")
	s.run(3, "holding", "bring-back", "quay/loyalty_staging", "--as", "points_staging", "--yes") // a caution
	exec("DROP DATABASE loyalty_staging")
	// What somebody else wrote there is not made by itself.
	exec("UPDATE genarch_held_1_loyalty_staging.genarch_holding SET body = CONCAT(body, ' ') WHERE kind = 'view'")
	has(t, "forged", s.run(3, "holding", "bring-back", "quay/loyalty_staging", "--yes").err, "holding.unsealed")
	exec("UPDATE genarch_held_1_loyalty_staging.genarch_holding SET body = TRIM(body) WHERE kind = 'view'")
	has(t, "brought back", s.run(0, "holding", "bring-back", "quay/loyalty_staging", "--yes").out, "holding.bring_back")
	if got := state("loyalty_staging"); got != whole {
		t.Errorf("it came back as %s", got)
	}
	s.run(0, append(aside, "--confirm", "loyalty_staging")...)
	s.run(0, "holding", "bring-back", "quay/loyalty_staging", "--as", "points_staging", "--yes", "--accept",
		"holding.renamed")
	if got := state("points_staging"); got != whole {
		t.Errorf("it came back under another name as %s", got)
	}
	s.run(0, "database", "drop", "quay/points_staging", "--confirm", "points_staging", "--grace", "0s")
	s.run(0, "holding", "discard", "quay/points_staging", "--confirm", "points_staging", "--accept", "holding.early")
	var left int
	if err := db.QueryRowContext(t.Context(), `SELECT COUNT(*) FROM information_schema.SCHEMATA
		WHERE SCHEMA_NAME LIKE 'genarch\_held%'`).Scan(&left); err != nil || left != 0 {
		t.Errorf("%d databases are left, %v", left, err)
	}
}

// testHoldingConsole sets tickets_prod aside in the console, keeps it longer, and brings it back.
func testHoldingConsole(t *testing.T, s *service) {
	p := testutil.NewBrowser(t).Page(t, s.url)
	p.SignIn("keeper", password)
	p.Open("/holdings")
	p.WaitText("Nothing is set aside.")
	p.Open("/servers/harbour/databases/tickets_prod/drop")
	p.WaitText("Set it aside.")
	p.WaitText("kept for certain until")
	run := func(button string) {
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		if p.Has("input[name=confirm]") {
			p.Type("input[name=confirm]", "tickets_prod")
		}
		p.Click(button)
		p.Wait("the end", "document.querySelector('#change-state').dataset.state === 'done'")
	}
	run("main form button[type=submit], main form button.btn-error, main form button.btn-primary")
	p.Open("/servers/harbour")
	p.Click("main a[href='/holdings?server=harbour']")
	p.Click("tr[data-holding='harbour/tickets_prod'] a")
	p.WaitText("tickets_prod, set aside")
	p.Axe("a holding")
	p.Click("input[name=act][value=keep]")
	p.Type("input[name=hold]", "the audit")
	p.WaitText("COMMENT ON DATABASE")
	run("main form button.btn-primary")
	p.Open("/holdings")
	p.WaitText("the audit")
	p.Axe("holdings")
	p.Click("tr[data-holding='harbour/tickets_prod'] a")
	p.WaitText("the audit")
	p.WaitText("RENAME TO")
	run("main form button.btn-primary")
	p.Open("/servers/harbour")
	p.WaitText("tickets_prod")
	// An account goes the same way.
	s.run(0, "account", "create", "harbour/account:mate", "--yes")
	p.Open("/servers/harbour/accounts/mate/drop")
	p.WaitText("COMMENT ON ROLE")
	p.Click("main form button.btn-primary")
	p.WaitText("What will happen")
	p.Type("input[name=confirm]", "mate")
	p.Click("main form button.btn-error, main form button.btn-primary")
	p.Wait("the end", "document.querySelector('#change-state').dataset.state === 'done'")
	p.Open("/servers/harbour/accounts")
	p.Click("main a[href='/holdings?server=harbour']")
	p.Click("tr[data-holding='harbour/mate'] a")
	p.WaitText("Account mate, set aside")
	p.WaitText("LOGIN")
	run("main form button.btn-primary")
	p.Open("/servers/harbour/accounts")
	p.WaitText("mate")
}

// testHoldingDue: what is kept no longer for certain is told, and stays until somebody discards it.
func testHoldingDue(t *testing.T, s *service, admin *pgx.Conn) {
	for _, text := range []string{"CREATE DATABASE genarch_held_1_old_prod",
		`COMMENT ON DATABASE genarch_held_1_old_prod IS
		'{"set_aside_by":"Genarch","name":"old_prod","since":"2026-01-01","kept_until":"2026-01-31","open":true}'`} {
		if _, err := admin.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	testutil.Wait(t, "it to be told", func() bool {
		return strings.Contains(s.run(0, "attention").out, "On harbour the keeping time is over of 1 holding")
	})
	has(t, "the list", s.run(0, "holding", "list", "harbour", "--where", "due=yes", "-o", "csv").out, "old_prod,",
		"not on record")
	// A rule of the server holds for what is set aside from then on, and is told then.
	s.run(0, "server", "edit", "harbour", "--keep-days", "14", "--discard-due")
	has(t, "the rule", s.run(0, "server", "show", "harbour").out, "for 14 days, then discarded")
	has(t, "the brief", s.run(3, "database", "drop", "harbour/tickets_prod").err, "and is discarded then",
		time.Now().UTC().AddDate(0, 0, 14).Format(time.DateOnly)+"  (default, from harbour)")
	for _, text := range []string{"CREATE DATABASE genarch_held_2_older_prod",
		"ALTER DATABASE genarch_held_2_older_prod ALLOW_CONNECTIONS false",
		`COMMENT ON DATABASE genarch_held_2_older_prod IS '{"set_aside_by":"Genarch","name":"older_prod","since":
		"2026-01-01","kept_until":"2026-01-31","then_discard":true,"open":true}'`} {
		if _, err := admin.Exec(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	has(t, "what will be done with it", s.run(0, "holding", "show", "harbour/older_prod").out, "then", "discarded")
	s.stop() // it is looked when the service starts, and then every hour
	s.startAt(strings.TrimPrefix(s.url, "http://"))
	testutil.Wait(t, "it to be discarded", func() bool {
		list := s.run(0, "change", "list", "--operator", "genarch", "--kind", "holding.discard", "-o", "csv").out
		return strings.Contains(list, "done,")
	})
	s.run(4, "holding", "show", "harbour/older_prod")
	s.run(0, "holding", "show", "harbour/old_prod")
	s.run(0, "server", "edit", "harbour", "--keep-days", "0", "--discard-due=false")
	// It is open: Genarch never set it aside, or somebody looked into it since.
	has(t, "opened outside", s.run(3, "holding", "discard", "harbour/old_prod", "--confirm", "old_prod").err,
		"holding.opened")
	s.run(0, "holding", "discard", "harbour/old_prod", "--confirm", "old_prod", "--accept", "holding.opened")
}

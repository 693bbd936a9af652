package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/core/secret"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// TestMySQL looks after a server of the third engine as people do: by the CLI, the API and the
// console. It is a stand-in: what only a real one can show is in docs/engines.md.
func TestMySQL(t *testing.T) {
	t.Parallel()
	s := newService(t)
	my := testutil.MySQL(t, "8.4.3")
	s.add("jetty", "mysql", "production", my)
	db := onMySQL(t, my)
	exec := func(texts ...string) {
		t.Helper()
		for _, text := range texts {
			if _, err := db.ExecContext(t.Context(), text); err != nil {
				t.Fatalf("%s: %v", text, err)
			}
		}
	}
	has(t, "the check", s.run(0, "server", "check", "jetty").out, "server_uuid", "8.4.3", "may grant roles",
		"SYSTEM_USER", "no, as it should be")
	has(t, "the engine", s.run(0, "engine", "show", "mysql").out, "MySQL", "8.0.22 and later", "caching_sha2_password",
		"MySQL has no statement that renames a database")
	t.Run("a team", func(t *testing.T) { testTeamMySQL(t, s) })
	t.Run("an account", func(t *testing.T) { testAccountMySQL(t, s) })
	t.Run("two passwords", func(t *testing.T) { testTwoPasswordsMySQL(t, s, my, exec) })
	t.Run("roles and grants", func(t *testing.T) { testRolesMySQL(t, s, exec) })
	t.Run("a drop", func(t *testing.T) { testDropMySQL(t, s, my, exec) })
	t.Run("read only", func(t *testing.T) { testReadOnlyMySQL(t, s, db, exec) })
	t.Run("set aside", func(t *testing.T) { testHoldingMySQL(t, s, db, exec) })
	t.Run("a copy", func(t *testing.T) { testCopyMySQL(t, s, db, exec) })
	t.Run("a script", func(t *testing.T) { testFillMySQL(t, s, my, db, exec) })
	t.Run("an export", func(t *testing.T) { testExportMySQL(t, s, db, exec) })
	t.Run("cut lines", func(t *testing.T) { testCutMySQL(t, s, my, db) })
	t.Run("not yet", func(t *testing.T) {
		for body, want := range map[string]string{
			`{"kind":"database.rename","server":"jetty","database":{"name":"x","new_name":"y"}}`:            "no statement that renames",
			`{"kind":"database.create","server":"jetty","database":{"name":"x","options":{"comment":"y"}}}`: "no option comment",
		} {
			if _, got, _ := s.call("POST", "/api/v1/briefs", s.token, body); !strings.Contains(fmt.Sprint(got), want) {
				t.Errorf("%s: %v; want %s", body, got, want)
			}
		}
	})
	t.Run("console", func(t *testing.T) { testConsoleMySQL(t, s) })
	has(t, "journal check", s.run(0, "journal", "check").out, "WHOLE", "yes")
}

func onMySQL(t *testing.T, my *localdb.Server) *sql.DB {
	t.Helper()
	db, err := sql.Open("mysql", my.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// testTeamMySQL makes a team's database, whose accounts sign in and may what they are to.
func testTeamMySQL(t *testing.T, s *service) {
	x := chain(t, s, "jetty/webshop_prod", "webshop", "--client-host", "127.0.0.1")
	if url := x.form(t, "webshop_app", "url"); !strings.HasPrefix(url, "mysql://webshop_app:") {
		t.Errorf("the address of the application: %s", url)
	}
	has(t, "who has what", s.run(0, "privilege", "matrix", "jetty").out, "webshop_app@127.0.0.1", "write",
		"webshop_read@127.0.0.1", "read", "webshop_owner", "own")
	has(t, "why", s.run(0, "privilege", "why", "jetty/account:webshop_app@127.0.0.1", "INSERT", "webshop_prod").out,
		"yes")
	has(t, "the database", s.run(0, "database", "show", "jetty/webshop_prod").out, "utf8mb4_0900_ai_ci")
	s.run(0, "database", "alter", "jetty/webshop_prod", "--collation", "utf8mb4_bin", "--yes")
	has(t, "altered", s.run(0, "database", "show", "jetty/webshop_prod").out, "utf8mb4_bin")
}

func testAccountMySQL(t *testing.T, s *service) {
	const at = "jetty/account:kiosk_app@127.0.0.1"
	r := s.run(0, "account", "create", at, "--connection-limit", "5", "--yes")
	has(t, "create", r.out, "kiosk_app", "shown once", "tried")
	has(t, "show", s.run(0, "account", "show", at).out, "caching_sha2_password", "connection limit  5")
	s.run(0, "account", "lock", at, "--yes")
	has(t, "locked", s.run(0, "account", "show", at).out, "may sign in       no")
	s.run(0, "account", "unlock", at, "--yes")
	file := filepath.Join(s.home, "given")
	if err := os.WriteFile(file, []byte("gull-harpoon-quadrant-3 'quoted\" \\ ü"), 0o600); err != nil {
		t.Fatal(err)
	}
	if r = s.run(0, "account", "password", at, "--password-file", file, "--yes"); strings.Contains(r.out+r.err,
		"harpoon") {
		t.Errorf("a given password is shown: %s", r.out)
	}
	has(t, "a limit that there is not", s.run(2, "account", "alter", at, "--connection-limit", "0", "--yes").err, "1")
	s.run(0, "account", "rename", at, "--to", "kiosk_new", "--yes")
	has(t, "dropped for good", s.run(0, "account", "drop", "jetty/account:kiosk_new@127.0.0.1", "--confirm",
		"kiosk_new@127.0.0.1").err, "Genarch sets no accounts of MySQL aside yet")
	s.run(4, "account", "show", "jetty/account:kiosk_new@127.0.0.1")
	has(t, "its own login", s.run(1, "account", "lock", "jetty/account:genarch@127.0.0.1", "--yes").err,
		"[account.own_login]")
}

// testTwoPasswordsMySQL gives an account another password without an outage: the former one is
// taken too, until it is discarded.
func testTwoPasswordsMySQL(t *testing.T, s *service, my *localdb.Server, exec func(...string)) {
	const at = "jetty/account:ferry_app@127.0.0.1"
	words := []string{"gull-harpoon-quadrant-3", "anchor-lantern-meadow-8", "bollard-ribbon-cellar-5"}
	set := func(i int, args ...string) []string {
		file := filepath.Join(s.home, fmt.Sprintf("word%d", i))
		if err := os.WriteFile(file, []byte(words[i]), 0o600); err != nil {
			t.Fatal(err)
		}
		return append(args, "--password-file", file, "--yes")
	}
	taken := func(want ...bool) {
		t.Helper()
		for i, w := range want {
			client := *my
			client.Admin, client.Password = "ferry_app", secret.New(words[i])
			db, err := sql.Open("mysql", client.DSN(""))
			if err != nil {
				t.Fatal(err)
			}
			if err := db.PingContext(t.Context()); (err == nil) != w {
				t.Errorf("password %d: %v", i, err)
			}
			db.Close()
		}
	}
	s.run(0, set(0, "account", "create", at)...)
	exec("ALTER USER 'ferry_app'@'127.0.0.1' FAILED_LOGIN_ATTEMPTS 5 PASSWORD_LOCK_TIME 2 PASSWORD HISTORY 3")
	has(t, "what else is kept", s.run(0, "account", "show", at).out, "second password", "5 wrong passwords, for 2 days",
		"none of the last 3 passwords")
	has(t, "none to discard", s.run(0, "account", "alter", at, "--set", "second_password=no", "--yes").err,
		"has no second password, so nothing is discarded")
	has(t, "none by itself", s.run(1, "account", "alter", at, "--set", "second_password=yes", "--yes").err,
		"--set keep_old=yes")
	has(t, "a new one beside it", s.run(0, set(1, "account", "password", at, "--set", "keep_old=yes")...).err,
		"RETAIN CURRENT PASSWORD", "goes on to be taken")
	taken(true, true)
	if got := s.run(0, "account", "show", at, "-o", "json").out; !strings.Contains(got, `"second_password": true`) {
		t.Errorf("it does not show: %s", got)
	}
	again := set(2, "account", "password", at)
	has(t, "the former one stays", s.run(3, again...).err, "password.second")
	s.run(0, append(again, "--accept", "password.second")...)
	taken(true, false, true)
	discard := []string{"account", "alter", at, "--set", "second_password=no", "--yes"}
	has(t, "who is refused then", s.run(3, discard...).err, "DISCARD OLD PASSWORD", "password.second")
	s.run(0, append(discard, "--accept", "password.second")...)
	taken(false, false, true)
}

func testRolesMySQL(t *testing.T, s *service, exec func(...string)) {
	exec("CREATE DATABASE fares", "CREATE TABLE fares.prices (id INT PRIMARY KEY)",
		"CREATE USER 'desk'@'127.0.0.1' IDENTIFIED BY 'x'")
	s.run(0, "role", "create", "jetty/role:readers", "--yes")
	s.run(0, "privilege", "grant", "jetty/fares", "--to", "role:readers", "--bundle", "read", "--yes")
	has(t, "a role that holds at once", s.run(0, "role", "grant", "jetty/role:readers", "--to", "desk@127.0.0.1",
		"--yes").err, "SET DEFAULT ROLE")
	has(t, "by the role", s.run(0, "account", "show", "jetty/account:desk@127.0.0.1").out, "fares", "read",
		"default role      readers")
	s.run(0, "privilege", "grant", "jetty/fares", "--to", "desk@127.0.0.1", "--privilege", "INSERT", "--table",
		"prices",
		"--yes")
	s.run(0, "role", "revoke", "jetty/role:readers", "--from", "desk@127.0.0.1", "--yes")
	s.run(0, "role", "drop", "jetty/role:readers", "--confirm", "readers@%", "--yes")
	for _, role := range []string{"fare_readers", "fare_writers"} {
		s.run(0, "role", "create", "jetty/role:"+role, "--yes")
		s.run(0, "role", "grant", "jetty/role:"+role, "--to", "desk@127.0.0.1", "--yes")
	}
	has(t, "both hold at once", s.run(0, "account", "show", "jetty/account:desk@127.0.0.1").out,
		"default role      fare_readers, fare_writers")
	s.run(0, "role", "revoke", "jetty/role:fare_readers", "--from", "desk@127.0.0.1", "--yes")
	has(t, "one of them goes on", s.run(0, "account", "show", "jetty/account:desk@127.0.0.1").out,
		"default role      fare_writers")
	exec("GRANT SYSTEM_USER ON *.* TO 'desk'@'127.0.0.1'")
	has(t, "an administrator", s.run(1, "account", "lock", "jetty/account:desk@127.0.0.1", "--yes").err, "SYSTEM_USER",
		"[rights.missing]")
}

// testExportMySQL drops a database after an export, which fills another.
func testExportMySQL(t *testing.T, s *service, db *sql.DB, exec func(...string)) {
	exec("CREATE DATABASE `-tides`", "CREATE TABLE `-tides`.levels (n INT PRIMARY KEY, label TEXT)",
		"INSERT INTO `-tides`.levels VALUES (1, 'a (b), (c)'), (2, 'it''s'), (3, NULL)", "CREATE DATABASE again")
	has(t, "exported", s.run(0, "database", "drop", "jetty/-tides", "--for-good", "--export-first", "--confirm",
		"-tides").err, "It is exported first by", "1 table, 3 rows in the export",
		"as many tables")
	list := strings.Split(strings.TrimSpace(s.run(0, "export", "list").out), "\n")
	script := scriptFile(t, s.run(0, "export", "fetch", strings.Fields(list[len(list)-1])[0], "-").out)
	has(t, "put back by filling", s.run(0, "database", "fill", "jetty/again", script, "--yes").err, "levels: new, with 3 rows")
	var n int
	if err := db.QueryRow("SELECT COUNT(*) FROM again.levels WHERE label = 'it''s'").Scan(&n); err != nil || n != 1 {
		t.Errorf("put back, it has %d rows, %v", n, err)
	}
	exec("DROP DATABASE again")
}

// testDropMySQL drops a database that somebody writes to, and one that a key points into.
func testDropMySQL(t *testing.T, s *service, my *localdb.Server, exec func(...string)) {
	exec("CREATE DATABASE berths", "CREATE TABLE berths.slots (id INT PRIMARY KEY)",
		"CREATE USER 'berths_app'@'127.0.0.1' IDENTIFIED BY 'x'",
		"GRANT SELECT, INSERT ON `berths`.* TO 'berths_app'@'127.0.0.1'",
		"CREATE DATABASE piers", "CREATE TABLE piers.p (id INT PRIMARY KEY, slot INT, FOREIGN KEY (slot) REFERENCES berths.slots (id))")
	has(t, "a key from elsewhere", s.run(1, "database", "drop", "jetty/berths", "--for-good", "--confirm",
		"berths").err,
		"piers.p", "keys.outside")
	exec("DROP TABLE piers.p")
	conn, err := onMySQL(t, my).Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	for _, text := range []string{"BEGIN", "INSERT INTO berths.slots VALUES (1)"} {
		if _, err := conn.ExecContext(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	testutil.Wait(t, "the server to show what is written", func() bool {
		return strings.Contains(s.run(0, "session", "list", "jetty/berths").out, "written work")
	})
	drop := []string{"database", "drop", "jetty/berths", "--for-good", "--confirm", "berths", "--grace", "0s"}
	has(t, "work that would be lost", s.run(3, drop...).err, "work.lost", "REVOKE SELECT, INSERT\n")
	has(t, "the drop", s.run(0, append(drop, "--accept", "work.lost", "--accept", "gate.incomplete")...).err, "0 left",
		"read back")
	if err := conn.PingContext(context.WithoutCancel(t.Context())); err == nil {
		if _, err = conn.ExecContext(t.Context(), "SELECT * FROM berths.slots"); err == nil {
			t.Error("the session goes on")
		}
	}
	s.run(4, "database", "show", "jetty/berths")
	has(t, "what the name still opens", s.run(3, "database", "create", "jetty/berths").err, "berths_app@127.0.0.1")
}

// testReadOnlyMySQL makes a database read only, in which then nothing can be altered, and drops it.
func testReadOnlyMySQL(t *testing.T, s *service, db *sql.DB, exec func(...string)) {
	exec("CREATE DATABASE ledgers", "CREATE TABLE ledgers.entries (id INT PRIMARY KEY)",
		"CREATE DATABASE ledgers_new", "CREATE TABLE ledgers_new.entries (id INT PRIMARY KEY)")
	for _, name := range []string{"ledgers", "ledgers_new"} {
		has(t, "it says what it does", s.run(0, "database", "alter", "jetty/"+name, "--set", "read_only=yes", "--yes",
			"--accept", "database.read_only").err, "READ ONLY = 1", "every write fails")
		has(t, "it shows", s.run(0, "database", "show", "jetty/"+name).out, "read only", "yes")
	}
	if _, err := db.ExecContext(t.Context(), "INSERT INTO ledgers.entries VALUES (1)"); err == nil {
		t.Error("it can be written to")
	}
	collation := []string{"database", "alter", "jetty/ledgers", "--collation", "utf8mb4_bin", "--yes"}
	has(t, "altered meanwhile", s.run(1, collation...).err,
		"database.read_only", "--set read_only=no")
	has(t, "set aside", s.run(1, "database", "drop", "jetty/ledgers", "--confirm", "ledgers", "--grace", "0s").err,
		"database.read_only")
	s.run(0, append(collation, "--set", "read_only=no")...)
	has(t, "altered", s.run(0, "database", "show", "jetty/ledgers").out, "utf8mb4_bin")
	drop := []string{"database", "drop", "jetty/ledgers_new", "--for-good", "--confirm", "ledgers_new", "--grace", "0s",
		"--accept", "gate.incomplete"}
	has(t, "somebody wanted to keep it", s.run(3, drop...).err, "database.read_only")
	has(t, "dropped", s.run(0, append(drop, "--accept", "database.read_only")...).err, "READ ONLY = 0", "read back")
	s.run(4, "database", "show", "jetty/ledgers_new")
}

// testCopyMySQL makes a database as a copy of another one, with everything in it.
func testCopyMySQL(t *testing.T, s *service, db *sql.DB, exec func(...string)) {
	exec("CREATE DATABASE `model``s`", "CREATE TABLE `model``s`.crews (id INT AUTO_INCREMENT PRIMARY KEY, "+
		"name VARCHAR(40), shown VARCHAR(50) AS (UPPER(name)) STORED, KEY by_name (name))",
		"INSERT INTO `model``s`.crews (name) VALUES ('deck'), ('bridge'), ('gone')",
		"DELETE FROM `model``s`.crews WHERE name = 'gone'",
		"CREATE TABLE `model``s`.shifts (crew INT, day DATE, CONSTRAINT `of` FOREIGN KEY (crew) REFERENCES crews (id) "+
			"ON DELETE CASCADE)", "INSERT INTO `model``s`.shifts VALUES (1, '2026-11-28'), (2, '2026-11-29')",
		"CREATE VIEW `model``s`.names AS SELECT shown FROM `model``s`.crews",
		"CREATE TRIGGER `model``s`.lower BEFORE INSERT ON `model``s`.crews FOR EACH ROW SET NEW.name = LOWER(NEW.name)",
		"CREATE EVENT `model``s`.nightly ON SCHEDULE EVERY 1 DAY STARTS NOW() + INTERVAL 1 DAY DO DELETE FROM shifts",
		"CREATE USER 'model_app'@'127.0.0.1' IDENTIFIED BY 'x'",
		"GRANT SELECT ON `model``s`.* TO 'model_app'@'127.0.0.1'")
	create := []string{"database", "create", "jetty/crewing", "--template", "model`s", "--set", "copy_grants=yes",
		"--set", "checksum=yes", "--yes"}
	has(t, "the copy", s.run(0, create...).err, "2 tables", "LOCK TABLES", "checksums are the same")
	var got string
	if err := db.QueryRowContext(t.Context(), `SELECT CONCAT_WS(' ', (SELECT GROUP_CONCAT(shown) FROM crewing.names),
		(SELECT COUNT(*) FROM crewing.shifts), (SELECT STATUS FROM information_schema.EVENTS WHERE
		EVENT_SCHEMA = 'crewing'), (SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = 'crewing'),
		(SELECT CONCAT(UNIQUE_CONSTRAINT_SCHEMA, DELETE_RULE) FROM information_schema.REFERENTIAL_CONSTRAINTS
		WHERE CONSTRAINT_SCHEMA = 'crewing'), (SELECT AUTO_INCREMENT FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = 'crewing' AND TABLE_NAME = 'crews'))`).Scan(&got); err != nil || got !=
		"DECK,BRIDGE 2 DISABLED 1 crewingCASCADE 4" && got != "BRIDGE,DECK 2 DISABLED 1 crewingCASCADE 4" {
		t.Errorf("the copy is %s, %v", got, err)
	}
	has(t, "granted on it", s.run(0, "account", "show", "jetty/account:model_app@127.0.0.1").out, "crewing", "model`s")
	s.run(0, "database", "create", "jetty/crewing_empty", "--template", "model`s", "--set", "data=none", "--yes",
		"--accept", "copy.names")
	if err := db.QueryRowContext(t.Context(), "SELECT COUNT(*) FROM crewing_empty.crews").Scan(&got); err != nil ||
		got != "0" {
		t.Errorf("without rows: %s, %v", got, err)
	}
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	if _, err := conn.ExecContext(t.Context(), "USE `model``s`"); err != nil {
		t.Fatal(err)
	}
	has(t, "whoever is in it would be held up", s.run(0, "database", "copy", "jetty/model`s", "crewing_new",
		"--dry-run").err, "copy.freezes", "--set freeze=no")
	// What stands in the way of its last step has all of it undone, tables with keys among them.
	exec("CREATE FUNCTION `model``s`.broken() RETURNS INT DETERMINISTIC RETURN 1",
		"CREATE VIEW `model``s`.uses AS SELECT `model``s`.broken()", "DROP FUNCTION `model``s`.broken")
	has(t, "a view that does not work", s.run(1, "database", "create", "jetty/crewing_new", "--template", "model`s",
		"--yes").err, "holding.broken", "uses")
	s.run(4, "database", "show", "jetty/crewing_new")
}

// testHoldingMySQL sets a database aside whose definitions cannot be moved, and brings it back
// with its views, triggers, routines, events and grants, under its own and under another name.
func testHoldingMySQL(t *testing.T, s *service, db *sql.DB, exec func(...string)) {
	exec("CREATE DATABASE loyalty COLLATE utf8mb4_bin DEFAULT ENCRYPTION 'Y'", "CREATE TABLE loyalty.points (n INT)",
		"INSERT INTO loyalty.points VALUES (1), (2), (3)",
		"CREATE VIEW loyalty.doubles AS SELECT n * 2 AS n FROM loyalty.points",
		"CREATE TRIGGER loyalty.up BEFORE INSERT ON loyalty.points FOR EACH ROW SET NEW.n = NEW.n + 1",
		"CREATE FUNCTION loyalty.thrice(n INT) RETURNS INT DETERMINISTIC RETURN n * 3",
		"CREATE EVENT loyalty.nightly ON SCHEDULE EVERY 1 DAY STARTS NOW() + INTERVAL 1 DAY DO DELETE FROM points",
		"CREATE USER 'loyalty_app'@'127.0.0.1' IDENTIFIED BY 'x'",
		"GRANT SELECT ON `loyalty`.* TO 'loyalty_app'@'127.0.0.1'")
	state := func(name string) (out string) {
		t.Helper()
		err := db.QueryRowContext(t.Context(), fmt.Sprintf(`SELECT CONCAT_WS(' ',
			(SELECT COUNT(*) FROM mysql.db WHERE Db = '%[1]s' AND User = 'loyalty_app'),
			(SELECT GROUP_CONCAT(STATUS) FROM information_schema.EVENTS WHERE EVENT_SCHEMA = '%[1]s'),
			(SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = '%[1]s'),
			(SELECT SUM(n) FROM %[1]s.doubles), %[1]s.thrice(4),
			(SELECT DEFAULT_ENCRYPTION FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = '%[1]s'))`, name)).Scan(&out)
		if err != nil {
			t.Fatal(err)
		}
		return out
	}
	const whole = "1 ENABLED 1 12 12 YES"
	has(t, "shown", s.run(0, "database", "show", "jetty/loyalty").out, "encryption     yes")
	if got := state("loyalty"); got != whole {
		t.Fatalf("before: %s", got)
	}
	aside := []string{"database", "drop", "jetty/loyalty", "--grace", "0s"}
	has(t, "the brief", s.run(3, aside...).err, "set database loyalty aside", "RENAME TABLE", "genarch_held_1_loyalty",
		"yes, until")
	s.run(0, append(aside, "--confirm", "loyalty")...)
	has(t, "the list", s.run(0, "database", "list", "jetty").err, "1 more set aside")
	has(t, "one of them", s.run(0, "holding", "show", "jetty/loyalty").out, "genarch_held_1_loyalty")
	exec("UPDATE genarch_held_1_loyalty.genarch_holding SET body = CONCAT(body, ' ') WHERE kind = 'view'")
	has(t, "forged", s.run(3, "holding", "bring-back", "jetty/loyalty", "--yes").err, "holding.unsealed")
	exec("UPDATE genarch_held_1_loyalty.genarch_holding SET body = TRIM(body) WHERE kind = 'view'")
	s.run(0, "holding", "bring-back", "jetty/loyalty", "--yes")
	if got := state("loyalty"); got != whole {
		t.Errorf("it came back as %s", got)
	}
	s.run(0, append(aside, "--confirm", "loyalty")...)
	s.run(0, "holding", "bring-back", "jetty/loyalty", "--as", "points", "--yes", "--accept", "holding.renamed")
	if got := state("points"); got != whole {
		t.Errorf("it came back under another name as %s", got)
	}
	s.run(0, "database", "drop", "jetty/points", "--confirm", "points", "--grace", "0s")
	s.run(0, "holding", "discard", "jetty/points", "--confirm", "points", "--accept", "holding.early")
}

// testFillMySQL runs scripts: whole, with an error, and with its last answer lost.
func testFillMySQL(t *testing.T, s *service, my *localdb.Server, db *sql.DB, exec func(...string)) {
	exec("CREATE DATABASE gangways", "CREATE DATABASE elsewhere")
	rows := func(table string) (n int) {
		if err := db.QueryRowContext(t.Context(), "SELECT COUNT(*) FROM "+table).Scan(&n); err != nil {
			return -1
		}
		return n
	}
	fill := func(code int, script string, more ...string) result {
		t.Helper()
		return s.run(code, append([]string{"database", "fill", "jetty/gangways", scriptFile(t, script), "--yes"},
			more...)...)
	}
	r := fill(0, "-- of the piers\nCREATE TABLE piers (n INT PRIMARY KEY);\nINSERT INTO piers VALUES (1), (2);\n"+
		"DELIMITER //\nINSERT INTO piers VALUES (3)//\n")
	has(t, "what it has done", r.err, "piers: new, with 3 rows", "3 statements")
	if n := rows("gangways.piers"); n != 3 {
		t.Errorf("%d rows", n)
	}
	r = fill(1, "INSERT INTO piers VALUES (4);\nINSERT INTO piers VALUES (1);\n")
	has(t, "an error", r.err, "line 2", "1062")
	if n := rows("gangways.piers"); n != 3 {
		t.Errorf("after a script that failed in its transaction there are %d rows", n)
	}
	has(t, "another database", fill(1, "CREATE TABLE elsewhere.t (n INT);").err, "elsewhere")
	has(t, "what would run as somebody", fill(1, "CREATE VIEW v AS SELECT 1 AS one;").err, "MySQL cannot give them",
		"script.definers")
	if err := os.WriteFile(filepath.Join(my.Dir, "cut"), []byte("SET PASSWORD"), 0o600); err != nil {
		t.Fatal(err)
	}
	fill(0, "INSERT INTO piers VALUES (5);\n")
	if n := rows("gangways.piers"); n != 4 {
		t.Errorf("after a script whose last answer was lost there are %d rows", n)
	}
	if n := rows("mysql.user WHERE User LIKE 'genarch\\_fill%'"); n != 0 {
		t.Errorf("%d accounts of scripts are left", n)
	}
}

// testCutMySQL cuts the line after each statement that alters: all of it takes effect, or none.
func testCutMySQL(t *testing.T, s *service, my *localdb.Server, db *sql.DB) {
	one := func(query string) string {
		var v string
		_ = db.QueryRowContext(t.Context(), query).Scan(&v)
		return v
	}
	for i, x := range []struct {
		at   string
		args []string
		look string
	}{
		{"CREATE DATABASE", []string{"database", "create", "jetty/cut_§", "--yes"},
			"SELECT COUNT(*) FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = 'cut_§'"},
		{"CREATE USER", []string{"account", "create", "jetty/account:cut_§@127.0.0.1", "--yes"},
			"SELECT COUNT(*) FROM mysql.user WHERE User = 'cut_§'"},
		{"CREATE ROLE", []string{"role", "create", "jetty/role:cut_§", "--yes"},
			"SELECT COUNT(*) FROM mysql.user WHERE User = 'cut_§'"},
	} {
		put := func(text string) string { return strings.ReplaceAll(text, "§", fmt.Sprint(i)) }
		var args []string
		for _, a := range x.args {
			args = append(args, put(a))
		}
		if err := os.WriteFile(filepath.Join(my.Dir, "cut"), []byte(x.at), 0o600); err != nil {
			t.Fatal(err)
		}
		r := s.cli("", args...)
		if left := one(put(x.look)); r.code == 0 && left != "1" || r.code != 0 && left != "0" {
			t.Errorf("%s: ended with %d, and %s is there: %s", x.at, r.code, left, r.err)
		}
		if _, err := os.Stat(filepath.Join(my.Dir, "cut")); err == nil {
			t.Errorf("%s: no line was cut", x.at)
		}
	}
}

func testConsoleMySQL(t *testing.T, s *service) {
	p := testutil.NewBrowser(t).Page(t, s.url)
	p.SignIn("keeper", password)
	p.Open("/servers/jetty")
	p.WaitText("webshop_prod")
	p.Axe("the databases of a server of MySQL")
	p.Open("/servers/jetty/new-database")
	p.Type("input[name=name]", "letters_prod")
	p.WaitText("CREATE DATABASE `letters_prod`")
	p.Open("/servers/jetty/databases/webshop_prod/drop")
	p.WaitText("DROP DATABASE `webshop_prod`")
	p.Open("/servers/jetty/accounts")
	p.WaitText("webshop_app")
	p.Open("/servers/jetty/settings")
	p.WaitText("server_uuid")
	p.Axe("the settings of a server of MySQL")
}

package mysqlfamily

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
)

// carried plans and carries an intent out, and fails the test if it cannot.
func (k taker) carried(in change.Intent) []change.Step {
	k.t.Helper()
	done, err := enginetest.Carry(k.t, k.s, k.brief(in))
	if err != nil {
		k.t.Fatalf("%s: %v", in.Kind, err)
	}
	return done
}

// waits finds the database that was set aside under this name.
func (k taker) waits(name string) catalog.Database {
	k.t.Helper()
	list, err := k.s.Databases(k.t.Context())
	if err != nil {
		k.t.Fatal(err)
	}
	i := slices.IndexFunc(list.Held, func(d catalog.Database) bool { return d.Held.Name == name })
	if i < 0 {
		k.t.Fatalf("%s does not wait: %+v", name, list.Held)
	}
	if slices.ContainsFunc(list.Databases, func(d catalog.Database) bool { return d.Name == list.Held[i].Name }) {
		k.t.Errorf("%s is among the ordinary databases", list.Held[i].Name)
	}
	return list.Held[i]
}

func asideOf(name string) change.Intent {
	return taking(change.SetAside, change.DatabaseSpec{Name: name}, &change.ClearingSpec{AcceptLoss: true})
}

func taking(kind change.Kind, spec change.DatabaseSpec, c *change.ClearingSpec) change.Intent {
	return change.Intent{Kind: kind, Database: &spec, Clearing: c}
}

func held(kind change.Kind, spec change.HoldingSpec) change.Intent {
	return change.Intent{Kind: kind, Holding: &spec}
}

// furnish makes a database with one of everything that a database can hold: objects that
// RENAME TABLE moves, objects that it does not, and rights at every level.
//
// Long: one statement after the other.
func furnish(k taker, name string) {
	k.exec("mysql", "CREATE DATABASE "+quoteIdent(name)+
		" CHARACTER SET latin1 COLLATE latin1_german2_ci COMMENT 'it''s \\\\ ours'")
	// What was made before it had this collation keeps another one.
	k.exec(name, "ALTER DATABASE COLLATE latin2_czech_cs",
		"CREATE FUNCTION early(n VARCHAR(9)) RETURNS VARCHAR(9) DETERMINISTIC RETURN n",
		"ALTER DATABASE COLLATE latin1_german2_ci")
	k.exec(name,
		"CREATE TABLE berths (id INT PRIMARY KEY AUTO_INCREMENT, name VARCHAR(40) CHARACTER SET utf8mb4,"+
			" parent INT, twice INT AS (parent * 2) STORED, CHECK (parent > 0), FULLTEXT (name),"+
			" FOREIGN KEY (parent) REFERENCES berths (id)) ENGINE=InnoDB",
		"CREATE TABLE trailers (id INT, berth INT, FOREIGN KEY (berth) REFERENCES berths (id)) ENGINE=InnoDB"+
			" WITH SYSTEM VERSIONING",
		"CREATE TABLE `o``dd; -- .na/me` (a INT PRIMARY KEY, b GEOMETRY) ENGINE=MyISAM",
		"CREATE TABLE halves (a INT PRIMARY KEY) ENGINE=Aria PARTITION BY HASH (a) PARTITIONS 3",
		"CREATE TABLE counts (a INT) ENGINE=MEMORY", "CREATE SEQUENCE numbers START 100 INCREMENT 10 NOCACHE",
		"INSERT INTO berths (name, parent) VALUES ('Nordmole', NULL), ('Südmole 船', 1)",
		"INSERT INTO trailers VALUES (1, 2)", "UPDATE trailers SET id = 2", "INSERT INTO counts VALUES (7)",
		"INSERT INTO halves SELECT seq FROM seq_1_to_50", "SELECT NEXT VALUE FOR numbers",
		"INSERT INTO `o``dd; -- .na/me` VALUES (1, POINT(1, 2))",
		// One view needs the other, and comes first by its name.
		"CREATE VIEW zz AS SELECT id, name FROM berths",
		"CREATE DEFINER=app@127.0.0.1 SQL SECURITY INVOKER VIEW aa AS SELECT * FROM zz WHERE id > 0 WITH CHECK OPTION",
		"CREATE VIEW `v``; DROP` AS SELECT 'it''s; -- \\\\' AS `a``b`",
		"CREATE FUNCTION fare(n INT) RETURNS INT DETERMINISTIC RETURN n * 2",
		"CREATE VIEW fares AS SELECT fare(id) AS fare FROM berths",
		"CREATE DEFINER=app@127.0.0.1 PROCEDURE `weigh``; in`(IN n INT, OUT m INT) SQL SECURITY INVOKER"+
			" COMMENT 'it''s' BEGIN DECLARE x INT; SET x = n; SET m = x + 1; END",
		"CREATE TRIGGER t2 BEFORE INSERT ON berths FOR EACH ROW SET NEW.name = CONCAT(NEW.name, '2')",
		"CREATE TRIGGER t1 BEFORE INSERT ON berths FOR EACH ROW SET NEW.name = CONCAT(NEW.name, '1')",
		"CREATE TRIGGER t0 BEFORE INSERT ON berths FOR EACH ROW PRECEDES t2 SET NEW.name = CONCAT(NEW.name, '0')",
		"CREATE TRIGGER "+quoteIdent(name)+".t4\n  AFTER DELETE ON "+quoteIdent(name)+
			".berths FOR EACH ROW SET @gone = OLD.id",
		"CREATE DEFINER=app@127.0.0.1 EVENT nightly ON SCHEDULE EVERY 1 DAY COMMENT 'it''s'"+
			" DO INSERT INTO counts VALUES (1)",
		"CREATE EVENT `off` ON SCHEDULE EVERY 1 DAY DISABLE DO SELECT 1",
		// Made under other modes and character sets: the same bytes mean something else there.
		"SET NAMES latin1", "SET sql_mode = 'ANSI_QUOTES,NO_BACKSLASH_ESCAPES,PIPES_AS_CONCAT'",
		"CREATE FUNCTION \"old\"() RETURNS VARCHAR(20) DETERMINISTIC RETURN 'M\xf6le\\' || \"numbers\".nextval",
		"CREATE TRIGGER t3 AFTER INSERT ON berths FOR EACH ROW SET @mole = 'M\xf6le\\' || 'n'",
		"SET NAMES utf8mb4", "SET sql_mode = 'ORACLE'",
		"CREATE PACKAGE desk AS FUNCTION open RETURN INT; END",
		"CREATE PACKAGE BODY desk AS FUNCTION open RETURN INT AS BEGIN RETURN 1; END; END")
	on, exactly := quoteIdent(name), quoteIdent(escaped(name))
	k.exec("mysql", "GRANT SELECT, INSERT ON "+exactly+".* TO app@127.0.0.1 WITH GRANT OPTION",
		"GRANT DELETE ON "+exactly+".* TO gate_crew",
		"GRANT SELECT (id), UPDATE (name) ON "+on+".berths TO app@127.0.0.1",
		"GRANT INSERT ON "+on+".berths TO gate_crew", "GRANT SELECT ON "+on+".aa TO PUBLIC")
	if strings.Contains(name, "é") {
		return // the server itself stores a grant on a routine under a name of other letters
	}
	k.exec("mysql", "GRANT EXECUTE ON FUNCTION "+on+".fare TO wide@127.0.0.1",
		inOracleMode("GRANT EXECUTE ON PACKAGE "+on+".desk TO app@127.0.0.1"),
		"GRANT EXECUTE ON PROCEDURE "+on+".`weigh``; in` TO gate_crew")
}

// fingerprint is everything that a server says of a database: its settings, each
// definition, each row, and who may do what there.
func (k taker) fingerprint(name string) string {
	k.t.Helper()
	conn := k.client(name, "")
	defer conn.Close()
	var out []string
	ask := func(text string, args ...any) [][]string {
		rows, err := conn.QueryContext(k.t.Context(), text, args...)
		if err != nil {
			k.t.Fatalf("%s: %v", text, err)
		}
		defer rows.Close()
		columns, _ := rows.Columns()
		var found [][]string
		for rows.Next() {
			values, into := make([]sql.NullString, len(columns)), make([]any, len(columns))
			for i := range values {
				into[i] = &values[i]
			}
			if err := rows.Scan(into...); err != nil {
				k.t.Fatal(err)
			}
			var line []string
			for i, v := range values {
				if columns[i] != "Created" { // of a trigger: when it was made
					line = append(line, v.String)
				}
			}
			found = append(found, line)
			out = append(out, strings.Join(line, " | "))
		}
		return found
	}
	ask("SET character_set_results = binary")
	ask("SELECT DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME, SCHEMA_COMMENT FROM information_schema.SCHEMATA"+
		" WHERE SCHEMA_NAME = ?", name)
	for _, x := range ask("SELECT TABLE_TYPE, TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?"+
		" ORDER BY 2", name) {
		switch x[0] {
		case "VIEW":
			ask("SHOW CREATE VIEW " + quoteIdent(x[1]))
			ask("SELECT * FROM " + quoteIdent(x[1]))
		default:
			ask("SHOW CREATE TABLE " + quoteIdent(x[1]))
			ask("CHECKSUM TABLE " + quoteIdent(x[1]) + " EXTENDED")
		}
	}
	ask("SELECT COUNT(*) FROM trailers FOR SYSTEM_TIME ALL")
	for _, x := range ask("SELECT TRIGGER_NAME, ACTION_ORDER, EVENT_MANIPULATION FROM information_schema.TRIGGERS"+
		" WHERE TRIGGER_SCHEMA = ? ORDER BY 1", name) {
		ask("SHOW CREATE TRIGGER " + quoteIdent(x[0]))
	}
	for _, x := range ask("SELECT ROUTINE_TYPE, ROUTINE_NAME FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ?"+
		" ORDER BY 1, 2", name) {
		ask("SHOW CREATE " + x[0] + " " + quoteIdent(x[1]))
	}
	for _, x := range ask("SELECT EVENT_NAME, STATUS, DEFINER FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ?"+
		" ORDER BY 1", name) {
		ask("SHOW CREATE EVENT " + quoteIdent(x[0]))
	}
	grants, err := k.s.(*server).readGrants(k.t.Context())
	if err != nil {
		k.t.Fatal(err)
	}
	return strings.Join(append(out, lines(grants)...), "\n")
}

// same compares two fingerprints line by line.
func (k taker) same(title, before, after string) {
	k.t.Helper()
	was, is := strings.Split(before, "\n"), strings.Split(after, "\n")
	for i := range min(len(was), len(is)) {
		if was[i] != is[i] {
			k.t.Errorf("%s: it was\n%q\nand is\n%q", title, was[i], is[i])
			return
		}
	}
	if len(was) != len(is) {
		k.t.Errorf("%s: %d lines and %d", title, len(was), len(is))
	}
}

// testHolding sets databases with everything in them aside and brings each back as it
// was: also if each step is done, asked after and undone twice.
func testHolding(k taker) {
	for _, name := range []string{"as`ide; -- \\", strings.Repeat("é", 20)} {
		furnish(k, name)
		before := k.fingerprint(name)
		inside := k.client(name, "app")
		aside := k.carried(asideOf(name))
		if err := inside.PingContext(k.t.Context()); err == nil {
			k.t.Errorf("%q: somebody is still in it", name)
		}
		d := k.waits(name)
		if d.Held.Comment != `it's \ ours` || (d.Size == nil) != strings.Contains(name, "é") ||
			d.Held.Kept["collation"] != "latin1_german2_ci" {
			k.t.Errorf("%q waits as %+v, %+v", name, d, d.Held)
		}
		if a, err := k.s.Access(k.t.Context(), catalog.AccessQuery{}); err != nil ||
			slices.ContainsFunc(a.Databases, func(x catalog.AccessDatabase) bool { return x.Name == d.Name }) {
			k.t.Errorf("%q counts in the matrix: %v", name, err)
		}
		for _, kind := range []change.Kind{change.DropDatabase, change.AlterDatabase, change.SetAside} {
			spec := change.DatabaseSpec{Name: d.Name}
			if kind == change.AlterDatabase {
				spec.Options = catalog.Values{"comment": "x"}
			}
			if b := k.brief(taking(kind, spec, nil)); !slices.Contains(b.Codes(change.Stop),
				change.DatabaseHeld) {
				k.t.Errorf("%s of what waits: %+v", kind, b.Findings)
			}
		}
		k.allUndone(aside)
		k.same(fmt.Sprintf("%q rolled back", name), before, k.fingerprint(name))
		k.carried(asideOf(name))
		d = k.waits(name)
		k.carried(held(change.KeepHolding,
			change.HoldingSpec{ID: d.Name, Until: "2199-12-31", Hold: "it's for the audit"}))
		if d = k.waits(name); d.Held.Hold != "it's for the audit" || d.Held.Until.Year() != 2199 {
			k.t.Errorf("%q is kept as %+v", name, d.Held)
		}
		back := k.carried(held(change.BringBack, change.HoldingSpec{ID: d.Name}))
		k.same(fmt.Sprintf("%q brought back", name), before, k.fingerprint(name))
		for _, step := range back {
			if took, err := k.s.Probe(k.t.Context(), step); step.Kind == stepHeld && (!took || err != nil) {
				k.t.Errorf("Probe(%s) = %v, %v", step.Kind, took, err)
			}
		}
	}
	testComingBackFails(k)
	testBackAs(k)
	testDiscarding(k)
}

// allUndone asks after each step and takes it back, twice.
func (k taker) allUndone(done []change.Step) {
	k.t.Helper()
	for _, step := range slices.Backward(done) {
		if step.Kind == change.Verify || step.Kind == change.ClearSessions {
			continue
		}
		if took, err := k.s.Probe(k.t.Context(), step); !took || err != nil {
			k.t.Errorf("Probe(%s) = %v, %v", step.Kind, took, err)
		}
		for range 2 {
			if _, err := k.s.Undo(k.t.Context(), step); err != nil {
				k.t.Errorf("Undo(%s): %v", step.Kind, err)
			}
		}
	}
}

// testComingBackFails: whatever is in the way is found before, or leaves it waiting.
func testComingBackFails(k taker) {
	k.exec("mysql", "CREATE DATABASE wait_dev", "CREATE TABLE wait_dev.t (a INT)", "CREATE VIEW wait_dev.v AS SELECT 1",
		"CREATE USER gone@'10.9.9.9'", "GRANT SELECT ON wait_dev.t TO gone@'10.9.9.9'")
	k.carried(asideOf("wait_dev"))
	d := k.waits("wait_dev")
	back := held(change.BringBack, change.HoldingSpec{ID: d.Name})
	k.exec("mysql", "DROP USER gone@'10.9.9.9'")
	b := k.brief(back)
	if !slices.Contains(b.Codes(change.Caution), change.HoldingGrants) {
		k.t.Errorf("an account is gone: %+v", b.Findings)
	}
	moving := b
	moving.Steps = slices.DeleteFunc(slices.Clone(b.Steps),
		func(s change.Step) bool { return s.Irreversible || s.ReadOnly })
	move := func() []change.Step {
		steps, err := enginetest.Carry(k.t, k.s, moving)
		if err != nil {
			k.t.Fatal(err)
		}
		return steps
	}
	k.allUndone(move()) // rolled back in the middle, it waits as before
	k.waits("wait_dev")
	// What came back differently is not taken for the same, and its notes are not dropped.
	steps := move()
	k.exec("wait_dev", "CREATE OR REPLACE VIEW v AS SELECT 2")
	_, err := k.s.Do(k.t.Context(), step(k.t, b, stepHeld))
	if e, ok := errors.AsType[*engine.Error](err); !ok || e.Kind != engine.Refused || e.Next == "" ||
		!strings.Contains(e.Text, "not as they were saved") {
		k.t.Errorf("something else came back: %v", err)
	}
	k.exec("wait_dev", "CREATE OR REPLACE VIEW v AS SELECT 1")
	k.allUndone(steps)
	k.exec("mysql", "CREATE DATABASE wait_dev")
	if b := k.brief(back); !slices.Contains(b.Codes(change.Stop), change.NameTaken) {
		k.t.Errorf("its name is taken: %+v", b.Findings)
	}
	k.exec("mysql", "DROP DATABASE wait_dev")
	testForged(k, d.Name)
	// Somebody keeps something of his own where it waits.
	k.exec(d.Name, "CREATE TABLE mine (a INT)")
	k.carried(back)
	if d, err := k.s.Database(k.t.Context(), "wait_dev"); err != nil || d.Tables == nil || *d.Tables != 2 {
		k.t.Errorf("with one more table: %+v, %v", d, err)
	}
}

// testForged: what somebody else wrote where a database waits is not sent by itself, and
// what only looks like the table there is not even read.
func testForged(k taker, waits string) {
	back := held(change.BringBack, change.HoldingSpec{ID: waits})
	good := k.brief(back)
	table := quoteIdent(waits) + "." + heldTable
	k.exec("mysql", "UPDATE "+table+" SET body = CONCAT(body, ' ') WHERE kind = 'view'")
	if b := k.brief(back); !slices.Contains(b.Codes(change.Caution), change.HoldingUnsealed) {
		k.t.Errorf("altered by somebody: %+v", b.Findings)
	}
	good.Steps = good.Steps[:2]
	if _, err := enginetest.Carry(k.t, k.s, good); err == nil || !strings.Contains(err.Error(), "was altered since") {
		k.t.Errorf("altered after the brief: %v", err)
	}
	k.exec("mysql", "DROP DATABASE wait_dev", "UPDATE "+table+" SET body = TRIM(body) WHERE kind = 'view'",
		"CREATE DATABASE genarch_held_99_trap", "CREATE TABLE genarch_held_99_trap.ran (a INT)")
	k.exec("genarch_held_99_trap", "CREATE FUNCTION trap() RETURNS INT SQL SECURITY INVOKER NOT DETERMINISTIC"+
		" BEGIN INSERT INTO ran VALUES (1); RETURN 1; END", "CREATE VIEW genarch_holding AS SELECT trap() AS position,"+
		" 'note' AS kind, '' AS name, '' AS mode, '' AS client, '' AS connection, '' AS collation, '' AS body")
	if list, err := k.s.Databases(k.t.Context()); err != nil ||
		slices.ContainsFunc(list.Held, func(d catalog.Database) bool { return strings.Contains(d.Name, "trap") }) {
		k.t.Errorf("a view is taken for what was saved: %v", err)
	}
	var ran int
	err := k.client("genarch_held_99_trap", "").QueryRowContext(k.t.Context(), "SELECT COUNT(*) FROM ran").Scan(&ran)
	if err != nil || ran != 0 {
		k.t.Errorf("somebody's function ran %d times, %v", ran, err)
	}
}

// testBackAs brings a database back under another name, where its views and routines
// mean its own tables.
func testBackAs(k taker) {
	furnish(k, "first_dev")
	k.carried(asideOf("first_dev"))
	in := held(change.BringBack, change.HoldingSpec{ID: k.waits("first_dev").Name, NewName: "second_dev"})
	if b := k.brief(in); !slices.Contains(b.Codes(change.Caution), change.HoldingRenamed) {
		k.t.Errorf("under another name: %+v", b.Findings)
	}
	k.carried(in)
	var n, rights int
	k.exec("second_dev", "INSERT INTO berths (name) VALUES ('a')", "DELETE FROM berths WHERE id = LAST_INSERT_ID()")
	err := k.client("second_dev", "").QueryRowContext(k.t.Context(), "SELECT (SELECT SUM(fare) FROM fares),"+
		" (SELECT COUNT(*) FROM mysql.tables_priv WHERE Db = 'second_dev')").Scan(&n, &rights)
	if err != nil || n != 6 || rights != 3 {
		k.t.Errorf("its views say %d, %d grants on tables, %v", n, rights, err)
	}
	if _, err := k.client("second_dev", "app").ExecContext(k.t.Context(), "INSERT INTO counts VALUES (8)"); err != nil {
		k.t.Errorf("an application cannot use it: %v", err)
	}
}

// testDiscarding: what waits goes for good only without a hold, and views that could not
// come back keep a database where it is.
func testDiscarding(k taker) {
	k.exec("mysql", "CREATE DATABASE out_dev", "CREATE TABLE out_dev.t (a INT)", "CREATE TABLE out_dev.u (a INT)",
		"CREATE VIEW out_dev.v AS SELECT * FROM out_dev.u", "DROP TABLE out_dev.u")
	k.stopped(asideOf("out_dev"), change.HoldingBroken, "v")
	k.exec("out_dev", "DROP VIEW v", "CREATE TABLE genarch_holding (a INT)")
	k.stopped(asideOf("out_dev"), change.NameTaken, "genarch_holding")
	k.exec("out_dev", "DROP TABLE genarch_holding")
	early := k.brief(asideOf("out_dev"))
	k.exec("out_dev", "CREATE TABLE u (a INT)", "CREATE VIEW v AS SELECT * FROM u", "DROP TABLE u")
	if _, err := enginetest.Carry(k.t, k.s, early); err == nil ||
		!strings.Contains(err.Error(), "could not be made again") {
		k.t.Errorf("a view that broke after the brief: %v", err)
	}
	if _, err := k.s.Database(k.t.Context(), "out_dev"); err != nil {
		k.t.Error(err)
	}
	k.exec("out_dev", "DROP VIEW v")
	k.carried(asideOf("out_dev"))
	id := k.waits("out_dev").Name
	k.carried(held(change.KeepHolding, change.HoldingSpec{ID: id, Hold: "it's"}))
	discard := held(change.Discard, change.HoldingSpec{ID: id})
	if b := k.brief(discard); !slices.Contains(b.Codes(change.Stop), change.HoldingStopped) {
		k.t.Errorf("a hold: %+v", b.Findings)
	}
	k.carried(held(change.KeepHolding, change.HoldingSpec{ID: id, Release: true}))
	if b := k.brief(discard); b.Confirm != "out_dev" || b.Impact == nil || !b.Impact.Final {
		k.t.Errorf("discarding: %+v", b)
	}
	k.carried(discard)
	if _, err := k.s.Database(context.Background(), id); !errors.Is(err, engine.ErrNotFound) {
		k.t.Errorf("discarded: %v", err)
	}
}

func TestHeldName(t *testing.T) {
	for _, name := range []string{"cargo_prod", strings.Repeat("n", 64), strings.Repeat("é", 64), "a`b", "a\nb",
		strings.Repeat("船", 50)} {
		got := heldName(name, []string{"genarch_held_1_cargo_prod", "GENARCH_HELD_2_x", "genarch_held_33_y"})
		if !strings.HasPrefix(got, "genarch_held_3_") || utf8.RuneCountInString(got) > maxName ||
			!utf8.ValidString(got) || directoryLength(got) > maxDirectory ||
			!strings.HasPrefix(name, strings.TrimPrefix(got, "genarch_held_3_")) {
			t.Errorf("heldName(%q) = %q", name, got)
		}
	}
}

// What is saved of a grant makes the same grant again, on a database of another name too.
func TestSavedGrant(t *testing.T) {
	snap := everything()
	snap.Access.Grants = append(snap.Access.Grants, catalog.Grant{
		Entry:  catalog.Entry{Grantee: at("report", "%"), Privileges: may.Select, Grantable: may.Select},
		Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: `cargo\_prod`}})
	list := grantsOn("cargo_prod", *snap.Access, snap.Self)
	again, err := readGrantList(writeGrants(list))
	if err != nil || len(list) != 4 || fmt.Sprint(again) != fmt.Sprint(list) {
		t.Fatalf("%v, read again %v, %v", list, again, err)
	}
	plainly := strings.NewReplacer("`lounges`", "", "`cargo\\_prod`", "", "`cargo_prod`", "")
	for _, g := range again {
		here, _, err := g.sql("cargo_prod")
		there, revoke, err2 := g.sql("lounges")
		if err != nil || err2 != nil || revoke == "" || !strings.Contains(there, "`lounges`") ||
			plainly.Replace(there) != plainly.Replace(here) {
			t.Errorf("%+v: %s; %s; %s; %v, %v", g, here, there, revoke, err, err2)
		}
	}
	if _, err := readGrantList([]string{"{"}); err == nil {
		t.Error("what is no grant is read as one")
	}
}

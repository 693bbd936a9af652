package mysqlfamily

import (
	"context"
	"errors"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

func copying(name string, options catalog.Values) change.Intent {
	return change.Intent{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: name, Options: options}}
}

// likeness is a fingerprint in which the copy of a database is like it: without grants, by
// one name, with events disabled, and without the one trigger whose text names its database.
func likeness(text, name string) string {
	lines := slices.DeleteFunc(strings.Split(text, "\n"), func(line string) bool {
		return strings.HasPrefix(line, "{Scope") || strings.HasPrefix(line, "t4 |") ||
			strings.HasPrefix(line, "  AFTER DELETE")
	})
	return strings.NewReplacer("`", "", strings.ReplaceAll(name, "`", "``"), "§", name, "§", "ENABLED", "DISABLED",
		" ENABLE ", " DISABLE ").Replace(strings.Join(lines, "\n"))
}

// testCopy copies a database with everything in it, hostile names among them.
func testCopy(k taker) {
	for _, name := range []string{"model_dev", "mo`del; -- \\"} {
		furnish(k, name)
		k.exec(name, "INSERT INTO berths (name) VALUES ('gone')", "DELETE FROM berths WHERE name LIKE 'gone%'")
		before := k.fingerprint(name)
		to := "copied_dev"
		b := k.brief(copying(to, catalog.Values{"template": name, "copy_grants": true, "freeze": true,
			checksums: true}))
		for code, level := range map[string]change.Level{change.CopyWhat: change.Note, change.CopyEvents: change.Note,
			change.CopyFreezes: change.Note, change.CopyNames: change.Caution} {
			if !slices.Contains(b.Codes(level), code) && code != change.CopyNames {
				k.t.Errorf("%s is not said: %+v", code, b.Findings)
			}
		}
		var told []change.Work
		for i := range b.Steps {
			b.Steps[i].Tell = func(w change.Work) {
				if w.Unit == "rows" { // what is compared afterwards counts tables
					told = append(told, w)
				}
			}
		}
		done, err := enginetest.Carry(k.t, k.s, b)
		if err != nil {
			k.t.Fatal(err)
		}
		k.same("the copy of "+name, likeness(before, name), likeness(k.fingerprint(to), to))
		after := slices.DeleteFunc(strings.Split(k.fingerprint(name), "\n"), func(line string) bool {
			return strings.Contains(line, "Database:"+to+" ") || strings.Contains(line, "Database:"+escaped(to)+" ")
		})
		k.same(name+" after it was copied", before, strings.Join(after, "\n"))
		if n := len(told); n == 0 || told[n-1].Done < 50 {
			k.t.Errorf("it told %+v", told)
		}
		k.exec(to, "INSERT INTO berths (name) VALUES ('a')")
		var next, held int
		reader := k.client(to, "")
		if err := reader.QueryRowContext(k.t.Context(), "SELECT MAX(id), (SELECT COUNT(*) FROM mysql.tables_priv"+
			" WHERE Db = DATABASE()) FROM berths").Scan(&next, &held); err != nil || next != 4 || held != 3 {
			k.t.Errorf("the next number is %d, %d grants on tables, %v", next, held, err)
		}
		reader.Close()
		k.exec(to, "DELETE FROM berths WHERE id = 4")
		k.allUndone(slices.DeleteFunc(done, func(s change.Step) bool { return s.Kind == stepCopyRows }))
		if _, err := k.s.Database(k.t.Context(), to); err == nil {
			k.t.Error("the copy is left after it was rolled back")
		}
	}
	testCopyOf(k)
}

// A server whose disk is full answers that all rows were written, and keeps none of them.
func TestCopyWithoutRoom(t *testing.T) {
	t.Parallel()
	running := testutil.MariaDB(t, "innodb-file-per-table=0", "innodb-data-file-path=ibdata1:12M:autoextend:max:24M")
	k := taker{t: t, server: running, s: enginetest.Open(t, maria{}, enginetest.Target(maria{}, running, "suite"))}
	k.exec("mysql", "CREATE DATABASE full_dev", "CREATE TABLE full_dev.t (a INT, b TEXT)",
		"INSERT INTO full_dev.t SELECT seq, REPEAT(MD5(seq), 30) FROM mysql.seq_1_to_11000")
	_, err := enginetest.Carry(t, k.s, k.brief(copying("copied_dev", catalog.Values{"template": "full_dev"})))
	if e, ok := errors.AsType[*engine.Error](err); !ok || e.Kind != engine.Refused ||
		!strings.Contains(e.Error(), "there are 0") {
		t.Errorf("a copy for which there is no room: %v", err)
	}
}

// testCopyOf: what is asked for beside, and what cannot be copied.
func testCopyOf(k taker) {
	k.exec("mysql", "CREATE DATABASE part_dev COLLATE latin1_bin COMMENT 'dues'", "CREATE TABLE part_dev.t (a INT)",
		"INSERT INTO part_dev.t VALUES (1), (2)", "CREATE DATABASE other_part_dev",
		"CREATE TABLE part_dev.p (a INT KEY)",
		"CREATE TABLE other_part_dev.p (a INT PRIMARY KEY)",
		"ALTER TABLE part_dev.p ADD CONSTRAINT leads FOREIGN KEY (a) REFERENCES other_part_dev.p (a)")
	inside := k.client("part_dev", "")
	if b := k.brief(copying("busy_dev", catalog.Values{"template": "part_dev", "freeze": false})); !slices.Contains(
		b.Codes(change.Caution), change.CopyMoving) {
		k.t.Errorf("somebody is connected: %+v", b.Findings)
	}
	inside.Close()
	k.carried(copying("shape_dev", catalog.Values{"template": "part_dev", "data": "none", "comment": "shape"}))
	var rows int
	err := k.client("shape_dev", "").QueryRowContext(k.t.Context(), "SELECT COUNT(*) FROM t").Scan(&rows)
	if err != nil || rows != 0 {
		k.t.Errorf("without rows there are %d, %v", rows, err)
	}
	d, err := k.s.Database(k.t.Context(), "shape_dev")
	if err != nil || d.Collation != "latin1_bin" || d.Comment != "shape" {
		k.t.Errorf("it is %+v, %v", d, err)
	}
	k.stopped(copying("x_dev", catalog.Values{"template": "nowhere"}), change.OptionAbsent, "template")
	k.stopped(copying("x_dev", catalog.Values{"template": "mysql"}), change.OptionAbsent, "template")
	k.exec("part_dev", "CREATE TABLE u (a INT)", "CREATE VIEW v AS SELECT * FROM u", "DROP TABLE u")
	k.stopped(copying("x_dev", catalog.Values{"template": "part_dev"}), change.HoldingBroken, "v")
	k.exec("part_dev", "DROP VIEW v", "CREATE PROCEDURE pr() SELECT * FROM part_dev.t")
	early := k.brief(copying("late_dev", catalog.Values{"template": "part_dev"}))
	if !slices.Contains(early.Codes(change.Caution), change.CopyNames) {
		k.t.Errorf("a routine names it: %+v", early.Findings)
	}
	k.exec("part_dev", "CREATE TABLE more (a INT)")
	if _, err := enginetest.Carry(k.t, k.s, early); err == nil || !strings.Contains(err.Error(), "altered meanwhile") {
		k.t.Errorf("a table that came after the brief: %v", err)
	}
	// A wish to stop cuts it off while it waits for somebody.
	b := k.brief(copying("stopped_dev", catalog.Values{"template": "part_dev", "freeze": false}))
	ctx, stop := context.WithCancel(k.t.Context())
	defer stop()
	for _, step := range b.Steps[:3] {
		if step.Kind == stepCopyRows {
			k.lock("part_dev", "LOCK TABLES t WRITE")
			step.Tell = func(w change.Work) {
				if strings.Contains(w.What, "table 3") {
					stop()
				}
			}
		}
		if _, err := k.s.Do(ctx, step); (err == nil) == (step.Kind == stepCopyRows) {
			k.t.Errorf("%s: %v", step.Kind, err)
		}
	}
}

// lock has a session of its own lock tables until the test ends.
func (k taker) lock(database, text string) {
	if _, err := k.client(database, "").ExecContext(k.t.Context(), text); err != nil {
		k.t.Fatal(err)
	}
}

func TestPlanCopyStatements(t *testing.T) {
	snap := everything()
	snap.Choices = catalog.Choices{"templates": {{Name: "cargo_prod"}}}
	snap.Source, snap.Target = snap.Target, nil
	more := detailsOf(snap.Details)
	more.Objects = filledObjects
	more.Copied = copied{
		Tables: []copiedTable{{Name: "axles", Columns: []string{"a"}, Start: "row_start", End: "row_end"},
			{Name: "trailers", Columns: []string{"a", "axles"}, Next: 9}},
		Sequences: []sequence{{Name: "gate", Min: 1, Max: 9, Start: 1, Increment: 2, Cache: 3, Cycle: 1}},
		Keys: []foreignKey{{Name: "k", Table: "trailers", Columns: []string{"axles"}, Database: "cargo_prod",
			Ref: "axles", RefColumns: []string{"a"}, OnDelete: "CASCADE", OnUpdate: "RESTRICT"}}}
	in := copying("lounges_prod", catalog.Values{"template": "cargo_prod", "freeze": true, "copy_grants": true})
	enginetest.Golden(t, *update, "copy", plan(t, in, snap))
	in.Server = "quay"
	if n := enginetest.OneCommand(t, maria{}, dialect.Commands, append(slices.Clone(named), "heavy", "weighed"), snap,
		map[string]change.Intent{"copy": in}); n < 100 {
		t.Errorf("only %d statements were looked at", n)
	}
}

package mysqlfamily

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"sync"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// copyTables makes the tables of a copy. What is there already is passed over.
func (s *server) copyTables(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.withConn(ctx, step.Title, step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		for _, text := range engine.DecodeList(step.Args["do"]) {
			if err := exec(ctx, c, step.Title, text); err != nil {
				return err
			}
		}
		return nil
	})
}

// probeCopyTables looks whether all its tables are there.
func (s *server) probeCopyTables(ctx context.Context, step change.Step) (bool, error) {
	has, err := s.readObjects(ctx, step.Args["name"])
	if err != nil {
		return false, err
	}
	return sameNames(has.Tables, engine.DecodeList(step.Args["tables"])), nil
}

func sameNames(x, y []string) bool {
	return slices.Equal(slices.Sorted(slices.Values(x)), slices.Sorted(slices.Values(y)))
}

// undoCopied drops what the step has made in the copy, as far as the copy is there.
func (s *server) undoCopied(ctx context.Context, step change.Step) (engine.Report, error) {
	if _, err := s.readDatabase(ctx, step.Args["name"]); err != nil {
		if errors.Is(err, engine.ErrNotFound) {
			err = nil
		}
		return engine.Report{}, err
	}
	return engine.Report{}, s.withConn(ctx, step.Title, step, func(c *sender) error {
		if first := s.product.uncheckedFirst; first != "" {
			defer c.Spend()
			if err := exec(ctx, c, step.Title, first); err != nil {
				return err
			}
		}
		return s.sendAll(ctx, c, step, engine.DecodeList(step.Args["undo"]))
	})
}

// copyRows copies the rows table by table, then sets next numbers and makes foreign keys.
// Each table is read as of one moment; frozen, all of them are.
//
// Long: one session, from the first lock to the last key.
func (s *server) copyRows(ctx context.Context, step change.Step) (engine.Report, error) {
	from, to, op := step.Args["from"], step.Args["name"], step.Title
	what, err := s.readCopied(ctx, from)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	// Without a column that came meanwhile, the copy would be one of nothing.
	fills, keys := engine.DecodeList(step.Args["do"]), engine.DecodeList(step.Args["statements"])
	if !sameNames(what.tableNames(), engine.DecodeList(step.Args["tables"])) ||
		len(fills) > 0 && !slices.Equal(fills, what.fills(from, to)) || !slices.Equal(keys, what.keys(from, to)) {
		return engine.Report{}, &engine.Error{Op: op, Kind: engine.NotSent, Next: "Ask again.",
			Text: "the tables of " + naming.Show(from) + " were altered meanwhile"}
	}
	var rep engine.Report
	err = s.withConn(ctx, op, step, func(c *sender) error {
		defer c.Spend()
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		// Rows are taken as they are.
		texts := []string{"SET SESSION TRANSACTION ISOLATION LEVEL READ COMMITTED",
			"SET SESSION sql_mode = 'NO_AUTO_VALUE_ON_ZERO,NO_ENGINE_SUBSTITUTION', foreign_key_checks = 0," +
				" unique_checks = 0" + s.product.copying}
		if slices.ContainsFunc(what.Tables, func(t copiedTable) bool { return t.Start != "" }) {
			texts = append(texts, "SET SESSION system_versioning_insert_history = 1")
		}
		frozen := step.Args["lock"] != ""
		if frozen {
			texts = append(texts, "SET SESSION lock_wait_timeout = 60", step.Args["lock"])
		}
		for _, text := range texts {
			if err := exec(ctx, c, op, text); err != nil {
				return err
			}
		}
		// Locked, a table cannot have become a view, which could run anybody's function with
		// the rights of Genarch's login; else that is looked at before each.
		if err := s.stillTables(ctx, from, what.tableNames()); err != nil {
			return err
		}
		if rep.Messages, err = s.fillAll(ctx, c, step, what, fills); err != nil {
			return err
		}
		var sums []sql.NullString
		if step.Args[checksums] == "yes" {
			if sums, err = checksumsOf(ctx, c, step, from, what.Tables); err != nil {
				return err
			}
		}
		if frozen {
			if err := exec(ctx, c, op, "UNLOCK TABLES"); err != nil {
				return err
			}
		}
		if len(sums) > 0 {
			if err := compareAll(ctx, c, step, what.Tables, sums); err != nil {
				return err
			}
			rep.Messages = append(rep.Messages, change.Message{Severity: "COPIED", Text: "checksums are the same"})
		}
		for _, text := range append(what.numbers(to), keys...) {
			if err := exec(ctx, c, op, text); err != nil {
				return err
			}
		}
		return s.renameIndexes(ctx, c, op, from, to)
	})
	return rep, err
}

// renameIndexes gives indexes of the copy the names that they have in the template: a
// foreign key replaces an index that was made for it by one that bears the key's name.
func (s *server) renameIndexes(ctx context.Context, c *sender, op, from, to string) error {
	type index struct{ table, name, columns string }
	var lists [2][]index
	for i, name := range []string{from, to} {
		err := s.query(ctx, op, `SELECT TABLE_NAME, INDEX_NAME, GROUP_CONCAT(HEX(COLUMN_NAME) ORDER BY SEQ_IN_INDEX)
			FROM information_schema.STATISTICS WHERE TABLE_SCHEMA = ? GROUP BY 1, 2 ORDER BY 1, 2`,
			func(r *sql.Rows) error {
				var x index
				err := r.Scan(&x.table, &x.name, &x.columns)
				lists[i] = append(lists[i], x)
				return err
			}, name)
		if err != nil {
			return err
		}
	}
	for _, x := range lists[1] {
		if slices.Contains(lists[0], x) {
			continue
		}
		was := slices.IndexFunc(lists[0], func(y index) bool {
			return y.table == x.table && y.columns == x.columns && !slices.Contains(lists[1], y)
		})
		if was < 0 {
			continue
		}
		if err := exec(ctx, c, op, "ALTER TABLE "+quoteIdent(to)+"."+quoteIdent(x.table)+" RENAME INDEX "+
			quoteIdent(x.name)+" TO "+quoteIdent(lists[0][was].name)); err != nil {
			return err
		}
	}
	return nil
}

// compareAll compares the checksums of the template, taken while it was locked, with those of
// the copy, which no lock may hold: MariaDB counts generated columns in the checksum of a table
// that the same session has filled under its lock, and only there.
func compareAll(ctx context.Context, c *sender, step change.Step, tables []copiedTable, want []sql.NullString) error {
	have, err := checksumsOf(ctx, c, step, step.Args["name"], tables)
	if err != nil {
		return err
	}
	for i, t := range tables {
		if !want[i].Valid || want[i] != have[i] {
			return &engine.Error{Op: step.Title, Kind: engine.Refused, Next: "Copy it again.",
				Text: "the checksum of table " + naming.Show(t.Name) + " is not that of the template's"}
		}
	}
	return nil
}

// checksumsOf reads the checksums of tables. Source: CHECKSUM TABLE, which reads every row.
func checksumsOf(ctx context.Context, c *sender, step change.Step, database string,
	tables []copiedTable) ([]sql.NullString, error) {
	sums := make([]sql.NullString, len(tables))
	for i, t := range tables {
		step.Worked(change.Work{What: fmt.Sprintf("checksum of table %d of %d, %s.%s", i+1, len(tables),
			naming.Show(database), naming.Show(t.Name)), Done: int64(i), Total: int64(len(tables)), Unit: "tables"})
		var name string
		if err := c.QueryRowContext(ctx, "CHECKSUM TABLE "+qualified(database, []string{t.Name}, "")).
			Scan(&name, &sums[i]); err != nil {
			return nil, wrap(step.Title, err)
		}
	}
	return sums, nil
}

// maxTold is how many tables a report of copied rows names one by one.
const maxTold = 50

// fillAll copies the rows, telling how far it is.
func (s *server) fillAll(ctx context.Context, c *sender, step change.Step, what copied,
	fills []string) ([]change.Message, error) {
	var out []change.Message
	done, total := int64(0), what.rows()
	for i, text := range fills {
		t := what.Tables[i]
		base := change.Work{What: fmt.Sprintf("table %d of %d, %s", i+1, len(what.Tables), naming.Show(t.Name)),
			Done: done, Total: total, Unit: "rows"}
		stop := s.followRows(ctx, c, step, base)
		err := engine.Single(step.Title, text, dialect)
		if err == nil && step.Args["lock"] == "" {
			err = s.stillTables(ctx, step.Args["from"], []string{t.Name})
		}
		var rows int64
		if err == nil {
			rows, err = fillOne(ctx, c, step, t, text)
		}
		stop()
		if err != nil {
			return out, err
		}
		done += rows
		if i < maxTold {
			out = append(out, change.Message{Severity: "COPIED",
				Text: naming.Show(t.Name) + ": " + naming.Count(rows, "row")})
		}
	}
	step.Worked(change.Work{What: "next numbers and foreign keys", Done: done, Total: done, Unit: "rows"})
	if n := len(fills); n > maxTold {
		out = append(out, change.Message{Severity: "COPIED", Text: fmt.Sprintf("%d more tables", n-maxTold)})
	}
	return out, nil
}

// fillOne copies the rows of one table, and counts them in the copy: the server has answered
// that all rows were written to a table that is empty, because its disk was full.
func fillOne(ctx context.Context, c *sender, step change.Step, t copiedTable, text string) (int64, error) {
	res, err := c.ExecContext(ctx, text)
	if err != nil {
		return 0, wrap(step.Title, err)
	}
	var there int64
	rows, err := res.RowsAffected()
	if err == nil {
		err = c.QueryRowContext(ctx, t.count(step.Args["name"])).Scan(&there)
	}
	if err == nil && there != rows {
		err = &engine.Error{Op: step.Title, Kind: engine.Refused,
			Next: "Look whether the server's disk is full, and at its error log.",
			Text: fmt.Sprintf("the server said that %s were written to table %s, and there are %d",
				naming.Count(rows, "row"), naming.Show(t.Name), there)}
	}
	return rows, wrap(step.Title, err)
}

// followRows tells, while one statement runs, how many rows it has written so far. Source:
// INNODB_TRX; other storage engines show none.
func (s *server) followRows(ctx context.Context, c *sender, step change.Step, base change.Work) (stop func()) {
	step.Worked(base)
	ctx, cancel := context.WithCancel(ctx)
	var over sync.WaitGroup
	over.Go(func() {
		tick := time.NewTicker(500 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			var rows int64
			err := s.db.QueryRowContext(ctx, "SELECT trx_rows_modified FROM information_schema.INNODB_TRX"+
				" WHERE trx_mysql_thread_id = ?", c.ID.Number).Scan(&rows)
			if err == nil && ctx.Err() == nil {
				w := base
				w.Done += rows
				step.Worked(w)
			}
		}
	})
	return func() { cancel(); over.Wait() }
}

// probeCopyRows: whether all rows were copied cannot be looked up, as the template goes on.
// Taken for not done, the copy goes again.
func (s *server) probeCopyRows(context.Context, change.Step) (bool, error) { return false, nil }

// undoNothing: what the step did goes with what an earlier one made.
func (s *server) undoNothing(context.Context, change.Step) (engine.Report, error) {
	return engine.Report{}, nil
}

// copyRest makes routines, views, triggers and events of the template in the copy.
func (s *server) copyRest(ctx context.Context, step change.Step) (engine.Report, error) {
	from, to, op := step.Args["from"], step.Args["name"], step.Title
	has, err := s.readObjects(ctx, from)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	if len(has.Broken) > 0 {
		return engine.Report{}, &engine.Error{Op: op, Kind: engine.NotSent,
			Next: "Drop these views first, or mend them.",
			Text: "views that do not work as they are could not be made again: " + planning.Shorten(has.Broken)}
	}
	into, err := s.readDatabase(ctx, to)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	return engine.Report{}, s.withConn(ctx, op, step, func(c *sender) error {
		defer c.Spend()
		events, err := readEvents(ctx, c, from)
		if err != nil {
			return engine.NeverSent(err)
		}
		list, err := showDefinitions(ctx, c, from, has)
		if err != nil {
			return engine.NeverSent(err)
		}
		others, err := triggersElsewhere(ctx, c, from, list)
		if err != nil {
			return engine.NeverSent(err)
		}
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		if err := s.makeAgain(ctx, c, step, to, into.Collation, elsewhere(append(list, others...))); err != nil {
			return err
		}
		for _, e := range events {
			if err := exec(ctx, c, op, "SET time_zone = "+quoteText(e.Zone)); err != nil {
				return err
			}
			if err := sendDefinition(ctx, c, op, e.definition()); err != nil {
				return err
			}
		}
		return nil
	})
}

// probeCopyRest looks whether everything is there.
func (s *server) probeCopyRest(ctx context.Context, step change.Step) (bool, error) {
	has, err := s.readObjects(ctx, step.Args["name"])
	return err == nil && strconv.Itoa(has.defined()) == step.Args["objects"], err
}

package mysqlfamily

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"io"
	"maps"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// readFillSide reads what planning needs of a database that a script is to run in.
func (s *server) readFillSide(ctx context.Context, name string, x *filling) error {
	if err := s.db.QueryRowContext(ctx, "SELECT @@max_allowed_packet").Scan(&x.MaxPacket); err != nil {
		return wrap("read the server", err)
	}
	return s.query(ctx, "list its tables", `SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?
		ORDER BY 1 LIMIT 20000`, func(r *sql.Rows) error {
		var t string
		err := r.Scan(&t)
		x.Tables = append(x.Tables, t)
		return err
	}, name)
}

// makeFiller makes the account as which a script runs.
func (s *server) makeFiller(ctx context.Context, step change.Step) (engine.Report, error) {
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

// probeFiller looks whether the account is there, and has its privileges. Source: mysql.db.
func (s *server) probeFiller(ctx context.Context, step change.Step) (bool, error) {
	var n int
	err := s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM mysql.db WHERE User = ? AND Host = ? AND Db = ?`,
		step.Args["account"], step.Args["host"], escaped(step.Args["name"])).Scan(&n)
	return n > 0, wrap("look for the account of the script", err)
}

// dropFiller drops the account of a script.
func (s *server) dropFiller(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.send(ctx, step.Title, "DROP USER IF EXISTS "+quoteAccount(step.Args["account"], step.Args["host"]), step)
}

// probeNoFiller drops it again, which does no harm: it has to go, whatever was cut off.
func (s *server) probeNoFiller(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.dropFiller(ctx, step)
	return err == nil, err
}

// signInFiller lets the account of a script sign in, by a password that is known here alone,
// and signs in as it.
func (s *server) signInFiller(ctx context.Context, step change.Step) (*sql.DB, *sender, error) {
	account, password := step.Args["account"], rand.Text()+rand.Text()
	of := s.product
	kept, err := of.verifier(of.plainMethod, password)
	if err != nil {
		return nil, nil, engine.NeverSent(err)
	}
	unlock := "ALTER USER " + quoteAccount(account, step.Args["host"]) + " " + of.credential(of.plainMethod) +
		quoteText(kept) + " ACCOUNT UNLOCK"
	var mode string
	err = s.withConn(ctx, step.Title, change.Step{Title: step.Title}, func(c *sender) error {
		if err := c.QueryRowContext(ctx, "SELECT @@GLOBAL.sql_mode").Scan(&mode); err != nil {
			return wrap(step.Title, err)
		}
		return exec(ctx, c, step.Title, unlock)
	})
	if err != nil {
		// Whatever came of it, it alters nothing that lasts: the account is dropped.
		return nil, nil, engine.NeverSent(err)
	}
	cfg := s.config.Clone()
	cfg.User, cfg.Passwd, cfg.DBName = account, password, step.Args["name"]
	cfg.ReadTimeout, cfg.WriteTimeout = planning.FillSeconds*time.Second, planning.FillSeconds*time.Second
	cfg.MaxAllowedPacket = 0 // as the server says
	connector, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, nil, engine.NeverSent(err)
	}
	db := sql.OpenDB(connector)
	db.SetMaxOpenConns(1)
	conn, err := db.Conn(ctx)
	if err != nil {
		db.Close()
		return nil, nil, engine.NeverSent(wrap("sign in as "+account+", as which the script runs", err))
	}
	c := &sender{Conn: conn}
	// As the server has it for everybody, but for what would make quotes mean something else
	// than they do to the one who takes the script apart.
	modes := slices.DeleteFunc(strings.Split(mode, ","), func(m string) bool {
		return dialectFor(m) != dialect
	})
	if _, err := c.ExecContext(ctx, "SET SESSION sql_mode = "+quoteText(strings.Join(modes, ","))); err != nil {
		c.Close()
		db.Close()
		return nil, nil, engine.NeverSent(wrap(step.Title, err))
	}
	return db, c, nil
}

// fill runs a script as its account. Without an error all of it took effect.
func (s *server) fill(ctx context.Context, step change.Step) (engine.Report, error) {
	f := &filler{product: s.product, mark: engine.FilledMark(s.target, step), step: step,
		atOnce: step.Args["at_once"] == "yes"}
	size, _ := strconv.ParseInt(step.Args["size"], 10, 64)
	file, err := engine.OpenScript(ctx, step)
	if err != nil {
		return engine.NothingRan(), err
	}
	defer file.Close()
	db, c, err := s.signInFiller(ctx, step)
	if err != nil {
		return engine.NothingRan(), err
	}
	defer db.Close()
	defer c.Close()
	f.conn = c
	before := f.count(ctx)
	f.fresh = len(before) == 0
	if err := announce(ctx, c, step); err != nil {
		return engine.NothingRan(), err
	}
	ahead := script.NewAhead(newSplitter(file))
	defer ahead.Close()
	f.progress = engine.Follow(step, size)
	err = f.run(ctx, ahead)
	f.progress.Close()
	rep := engine.Report{Messages: f.heard}
	if err != nil && ctx.Err() != nil {
		// Given up, a statement is stopped at the server too, and not only on our side.
		stopping, cancel := context.WithTimeout(context.WithoutCancel(ctx), connectTimeout)
		_, _ = s.Sender(stopping, c.ID, true)
		cancel()
	}
	if err != nil {
		switch {
		case f.committing: // nobody knows
		case f.atOnce: // what was not committed goes with the session
			rep.Learned = map[string]string{"taken": "0"}
		default:
			rep.Learned = map[string]string{"taken": strconv.Itoa(f.taken), "line": strconv.Itoa(f.line)}
		}
		return rep, err
	}
	after := f.count(ctx)
	ran := s.product.description.Script.Count(f.taken)
	rep.Messages = append(rep.Messages, engine.Ran(ran, f.begun, before, after)...)
	if !f.takes {
		rep.Messages = append(rep.Messages, engine.Missing(f.written, before, after)...)
	}
	return rep, nil
}

// filler runs a script.
type filler struct {
	product *product
	mark    string
	step    change.Step
	conn    *sender
	atOnce  bool
	begun   time.Time
	taken   int // statements that took effect, or would
	line    int // of the last one
	heard   []change.Message
	// fresh: there was not a table before.
	fresh bool
	// written is how many rows the server said that INSERT has written. takes: some statement
	// may have taken rows away, or have written over some.
	written int64
	takes   bool
	// progress tells how far it is.
	progress *engine.Progress
	// committing: what makes all of it last was sent.
	committing bool
}

// run sends statement after statement.
func (f *filler) run(ctx context.Context, from script.Splitter) error {
	f.begun = time.Now()
	if f.atOnce {
		if _, err := f.conn.ExecContext(ctx, "START TRANSACTION"); err != nil {
			return f.failed(ctx, err, script.Statement{Line: 1, Column: 1})
		}
	}
	for {
		st, err := from.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			f.rollBack(ctx)
			return engine.Unreadable(f.step, err)
		}
		f.progress.At(st.Line, st.Kind, from.Offset())
		if st.Text == "" {
			continue
		}
		res, err := f.conn.ExecContext(ctx, st.Text)
		if err != nil {
			return f.failed(ctx, err, st)
		}
		f.reckon(st, res)
		f.listen(ctx, st)
		f.taken, f.line = f.taken+1, st.Line
	}
	texts := []string{"UNLOCK TABLES"}
	if f.atOnce {
		texts, f.committing = []string{"COMMIT"}, true
	}
	for _, text := range append(texts, "SET PASSWORD = "+quoteText(f.product.marked(f.mark))) {
		if _, err := f.conn.ExecContext(ctx, text); err != nil {
			return f.failed(ctx, err, script.Statement{Line: f.line, Kind: "the end of the script"})
		}
	}
	return nil
}

// adds are the kinds of statements that take no rows away, as a dump has them.
var adds = []string{"SET", "CREATE TABLE", "INSERT", "LOCK TABLES", "UNLOCK", "UNLOCK TABLES", "ALTER TABLE",
	"CREATE INDEX", "START TRANSACTION", "BEGIN", "COMMIT", "USE"}

// reckon adds the rows up that were written.
func (f *filler) reckon(st script.Statement, res sql.Result) {
	f.takes = f.takes || !slices.Contains(adds, st.Kind) && (st.Kind != "DROP TABLE" || !f.fresh) ||
		strings.Contains(strings.ToUpper(st.Text[max(0, len(st.Text)-wordy):]), "ON DUPLICATE")
	if n, err := res.RowsAffected(); err == nil && st.Kind == "INSERT" {
		f.written += n
	}
}

func (f *filler) rollBack(ctx context.Context) {
	if f.atOnce {
		_, _ = f.conn.ExecContext(context.WithoutCancel(ctx), "ROLLBACK") // else it goes with the session
	}
}

// maxHeard bounds what is kept of what the server says.
const maxHeard = 100

// wordy is how long a statement with rows is that is asked for warnings.
const wordy = 16 << 10

// listen asks for the server's warnings. Not after each row: that would double the time.
func (f *filler) listen(ctx context.Context, st script.Statement) {
	if len(f.heard) >= maxHeard || slices.Contains([]string{"SET", "UNLOCK", "LOCK TABLES"}, st.Kind) ||
		slices.Contains([]string{"INSERT", "REPLACE"}, st.Kind) && len(st.Text) < wordy {
		return
	}
	for _, m := range warnings(ctx, f.conn) {
		if len(f.heard) < maxHeard {
			m.Text = fmt.Sprintf("line %d: %s", st.Line, m.Text)
			f.heard = append(f.heard, m)
		}
	}
}

var atLine = regexp.MustCompile(`at line (\d+)$`)

// failed says where in the file the server refused what. An answer that did not come is
// unknown.
func (f *filler) failed(ctx context.Context, err error, st script.Statement) error {
	e, _ := errors.AsType[*engine.Error](wrap(f.step.Title, err))
	if e == nil || e.Kind != engine.Refused || ctx.Err() != nil {
		return engine.AnswerLost(f.step, err, st)
	}
	f.rollBack(ctx)
	line, column := st.Line, st.Column
	if m := atLine.FindStringSubmatch(e.Text); m != nil {
		if n, _ := strconv.Atoi(m[1]); n > 1 {
			line, column = line+n-1, 1
		}
		e.Text = strings.TrimSuffix(e.Text, m[0]) + "at line " + m[1] + " of the statement"
	}
	return engine.RefusedAt(e, st, line, column, f.atOnce || f.taken == 0, dialect.Shape)
}

// probeFill looks whether the script ran to its end.
func (s *server) probeFill(ctx context.Context, step change.Step) (bool, error) {
	e, found, err := s.readAccount(ctx, catalog.Principal{Name: step.Args["account"], Host: step.Args["host"]})
	return found && s.product.isMarked(e.kept, engine.FilledMark(s.target, step)), err
}

// undoFill says what stays of a script that did not run to its end.
func (s *server) undoFill(_ context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, engine.Stays(step, s.product.description.Script)
}

// settleDefiners makes again what runs with the rights of the script's account, so that it
// runs with those of another one. It can be done again.
func (s *server) settleDefiners(ctx context.Context, step change.Step) (engine.Report, error) {
	name := step.Args["name"]
	filler := step.Args["account"] + "@" + step.Args["host"]
	has, events, err := s.readDefinedBy(ctx, name, filler)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	into, err := s.readDatabase(ctx, name)
	if err != nil {
		return engine.Report{}, engine.NeverSent(err)
	}
	var rep engine.Report
	err = s.withConn(ctx, step.Title, step, func(c *sender) error {
		defer c.Spend()
		list, err := showDefinitions(ctx, c, name, has)
		if err != nil {
			return engine.NeverSent(err)
		}
		for i := range list {
			list[i] = list[i].runningAs(filler, step.Args[runAs])
		}
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		if err := s.makeAgain(ctx, c, step, name, into.Collation, list); err != nil {
			return err
		}
		for _, event := range slices.Sorted(maps.Keys(events)) {
			if err := exec(ctx, c, step.Title, "ALTER DEFINER="+definerIn("", step.Args[runAs])+" EVENT "+
				quoteIdent(name)+"."+quoteIdent(event)+" "+events[event]); err != nil {
				return err
			}
		}
		return nil
	})
	if err == nil {
		rep.Messages = []change.Message{{Severity: "DEFINER", Text: naming.Count(has.defined()+len(events), "object")}}
	}
	return rep, err
}

// probeDefiners does it again, which does no harm.
func (s *server) probeDefiners(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.settleDefiners(ctx, step)
	return err == nil, err
}

// readDefinedBy lists what runs with the rights of an account: with each trigger all of its
// table, which have an order; of events their state.
func (s *server) readDefinedBy(ctx context.Context, name, account string) (objects, map[string]string, error) {
	var out objects
	events := map[string]string{}
	one := func(into *[]string) func(*sql.Rows) error {
		return func(r *sql.Rows) error {
			var text string
			err := r.Scan(&text)
			*into = append(*into, text)
			return err
		}
	}
	err := s.query(ctx, "list views", `SELECT TABLE_NAME FROM information_schema.VIEWS WHERE TABLE_SCHEMA = ?
		AND BINARY DEFINER = ? ORDER BY 1`, one(&out.Views), name, account)
	if err != nil {
		return out, nil, err
	}
	err = s.query(ctx, "list triggers", `SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ?
		AND EVENT_OBJECT_TABLE IN (SELECT EVENT_OBJECT_TABLE FROM information_schema.TRIGGERS
			WHERE TRIGGER_SCHEMA = ? AND BINARY DEFINER = ?)
		ORDER BY EVENT_OBJECT_TABLE, EVENT_MANIPULATION, ACTION_TIMING, ACTION_ORDER`, one(&out.Triggers), name, name,
		account)
	if err != nil {
		return out, nil, err
	}
	err = s.query(ctx, "list routines", `SELECT LOWER(ROUTINE_TYPE), ROUTINE_NAME FROM information_schema.ROUTINES
		WHERE ROUTINE_SCHEMA = ? AND BINARY DEFINER = ?
		ORDER BY FIELD(ROUTINE_TYPE, 'FUNCTION', 'PROCEDURE', 'PACKAGE', 'PACKAGE BODY'), 2`, func(r *sql.Rows) error {
		var x routine
		err := r.Scan(&x.Kind, &x.Name)
		out.Routines = append(out.Routines, x)
		return err
	}, name, account)
	if err != nil {
		return out, nil, err
	}
	err = s.query(ctx, "list events", `SELECT EVENT_NAME, CASE STATUS WHEN 'ENABLED' THEN 'ENABLE' WHEN 'DISABLED' THEN
		'DISABLE' ELSE 'DISABLE ON SLAVE' END FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ?
		AND BINARY DEFINER = ? ORDER BY 1`, func(r *sql.Rows) error {
		var event, state string
		err := r.Scan(&event, &state)
		events[event] = state
		return err
	}, name, account)
	return out, events, err
}

// runningAs is a definition that replaces what is there, and runs as another account. An
// account's name is made up for each script, so it stands where the definer does.
func (d definition) runningAs(was, is string) definition {
	d.Body = bytes.Replace(d.Body, []byte("DEFINER="+definerIn(d.Mode, was)),
		[]byte("DEFINER="+definerIn(d.Mode, is)), 1)
	if !bytes.HasPrefix(d.Body, []byte("CREATE OR REPLACE ")) {
		d.Body = bytes.Replace(d.Body, []byte("CREATE "), []byte("CREATE OR REPLACE "), 1)
	}
	return d
}

// count counts the rows of the tables, as the account of the script; one that was not counted
// in time has none.
func (f *filler) count(ctx context.Context) engine.Counted {
	out := engine.Counted{}
	ctx, cancel := context.WithTimeout(ctx, 2*countTime)
	defer cancel()
	var tables []string
	large := map[string]bool{}
	rows, err := f.conn.QueryContext(ctx, `SELECT TABLE_NAME, COALESCE(DATA_LENGTH, 0) FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = ? AND TABLE_TYPE LIKE '%TABLE' OR TABLE_SCHEMA = ? AND TABLE_TYPE LIKE 'SYSTEM VERSIONED'
		ORDER BY 1 LIMIT 20000`, f.step.Args["name"], f.step.Args["name"])
	if err != nil {
		return out
	}
	for rows.Next() {
		var t string
		var size int64
		if rows.Scan(&t, &size) == nil {
			tables = append(tables, t)
			large[t] = size > engine.CountBelow
		}
	}
	rows.Close()
	begun := time.Now()
	for _, t := range tables {
		out[t] = nil
		left := countTime - time.Since(begun)
		if left <= 0 || large[t] {
			continue
		}
		var n int64
		err := f.conn.QueryRowContext(ctx, fmt.Sprintf(f.product.countWithin, max(1, left.Milliseconds()))+
			quoteIdent(f.step.Args["name"])+"."+quoteIdent(t)).Scan(&n)
		if err == nil {
			out[t] = &n
		}
	}
	return out
}

// countTime bounds the counting of rows before and after.
const countTime = 10 * time.Second

package postgres

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"io"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgconn/ctxwatch"
	"github.com/jackc/pgx/v5/pgxpool"

	"example.com/genarch/core/change"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// filledSetting is what an account that a script runs as has of its own when the script has
// run to its end: in the same transaction, where it ran in one. It is how a lost answer is
// found again.
const filledSetting = "application_name=genarch: filled"

// makeFiller makes the account as which a script runs.
func (s *server) makeFiller(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.alter(ctx, step.Title, step.Statement, step)
}

func (s *server) probeFiller(ctx context.Context, step change.Step) (bool, error) {
	_, there, err := s.account(ctx, step.Args["account"])
	return there, err
}

// fillerSettings are those that the session of a script's account begins with. What a script
// sets is not to meet settings of ours. A client that is gone is noticed.
func fillerSettings(role string) map[string]string {
	out := map[string]string{"application_name": "genarch", "client_encoding": "UTF8",
		"standard_conforming_strings": "on", "client_connection_check_interval": "2000", "role": role}
	if role != "" {
		return out
	}
	// To hand over what it has: what a script has set for the database is not to be in the way.
	for name, value := range map[string]string{"role": "none", "default_transaction_read_only": "off",
		"search_path": "pg_catalog", "statement_timeout": "60000", "lock_timeout": "0"} {
		out[name] = value
	}
	return out
}

// signInFiller lets the account of a script sign in, by a password that is known here alone
// and forgotten with the session, and signs in as it. role is what it acts as; empty: itself,
// to hand over what it has.
func (s *server) signInFiller(ctx context.Context, step change.Step, role string,
	hear func(change.Message)) (*pgx.Conn, error) {
	account := step.Args["account"]
	password := rand.Text() + rand.Text()
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	verifier, err := scramVerifier(password, salt, scramIterations)
	if err != nil {
		return nil, err
	}
	texts := []string{"ALTER ROLE " + quoteIdent(account) + " LOGIN PASSWORD " + quoteText(verifier)}
	if role == "" {
		// A script may have set something for its account that would keep it from being dropped.
		alter := "ALTER ROLE " + quoteIdent(account)
		texts = append([]string{alter + " RESET ALL",
			alter + " IN DATABASE " + quoteIdent(step.Args["name"]) + " RESET ALL"}, texts...)
	}
	err = s.withConn(ctx, step.Title, func(c *pgxpool.Conn) error {
		for _, text := range texts {
			if err := sendAlone(ctx, c, step.Title, text); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		// Whatever came of it, it alters nothing that lasts: the account is dropped.
		return nil, engine.NeverSent(err)
	}
	cfg := s.config.Copy()
	cfg.User, cfg.Password, cfg.Database = account, password, step.Args["name"]
	cfg.RuntimeParams = fillerSettings(role)
	cfg.OnNotice = func(_ *pgconn.PgConn, n *pgconn.Notice) {
		hear(change.Message{Severity: n.Severity, Code: n.Code, Text: n.Message})
	}
	// Given up, a statement is stopped at the server too, and not only on our side.
	cfg.BuildContextWatcherHandler = func(c *pgconn.PgConn) ctxwatch.Handler {
		return &pgconn.CancelRequestContextWatcherHandler{Conn: c, DeadlineDelay: connectTimeout}
	}
	conn, err := pgx.ConnectConfig(ctx, cfg)
	if pe, ok := errors.AsType[*pgconn.PgError](err); ok && pe.Code == "22023" {
		// The server's system cannot tell that a client is gone.
		delete(cfg.RuntimeParams, "client_connection_check_interval")
		conn, err = pgx.ConnectConfig(ctx, cfg)
	}
	if err != nil {
		e := engine.NeverSent(wrap("sign in as "+account+", as which the script runs", err))
		if x, ok := errors.AsType[*engine.Error](e); ok && x.Next == "" {
			x.Next = "Let accounts that begin with genarch_fill_ sign in from where Genarch runs, in pg_hba.conf."
		}
		return nil, e
	}
	return conn, nil
}

// fill runs a script as its account. Without an error all of it took effect.
func (s *server) fill(ctx context.Context, step change.Step) (engine.Report, error) {
	f := &filler{step: step, atOnce: step.Args["at_once"] == "yes"}
	size, _ := strconv.ParseInt(step.Args["size"], 10, 64)
	file, err := engine.OpenScript(ctx, step)
	if err != nil {
		return engine.NothingRan(), err
	}
	defer file.Close()
	conn, err := s.signInFiller(ctx, step, step.Args["owner"], f.hear)
	if err != nil {
		return engine.NothingRan(), err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	f.conn = conn
	before := f.count(ctx)
	// When a session began is told to its own account, and not to the role that it acts as.
	if err := f.send(ctx, "SET ROLE NONE"); err != nil {
		return engine.NothingRan(), engine.NeverSent(wrap(step.Title, err))
	}
	if err := announce(ctx, conn, step, change.Sending{}); err != nil {
		return engine.NothingRan(), err
	}
	if err := f.send(ctx, "RESET ROLE"); err != nil {
		return engine.NothingRan(), engine.NeverSent(wrap(step.Title, err))
	}
	ahead := script.NewAhead(Engine{}.Script(file))
	defer ahead.Close()
	f.progress = engine.Follow(step, size)
	err = f.run(ctx, ahead)
	f.progress.Close()
	rep := engine.Report{Messages: f.heard}
	if err != nil {
		rep.Learned = map[string]string{"taken": strconv.Itoa(f.taken), "line": strconv.Itoa(f.line)}
		return rep, err
	}
	var after engine.Counted
	if f.send(ctx, "RESET ROLE") == nil {
		after = f.count(ctx)
	}
	rep.Messages = append(rep.Messages, engine.Ran(description.Script.Count(f.taken), f.begun, before, after)...)
	return rep, nil
}

// filler runs a script.
type filler struct {
	step   change.Step
	conn   *pgx.Conn
	atOnce bool
	begun  time.Time
	taken  int // statements that took effect, or would
	line   int // of the last one
	heard  []change.Message
	// progress tells how far it is.
	progress *engine.Progress
}

// hear keeps what the server says, up to a bound.
func (f *filler) hear(m change.Message) {
	if len(f.heard) < maxNotices {
		f.heard = append(f.heard, m)
	}
}

// run sends statement after statement.
func (f *filler) run(ctx context.Context, from script.Splitter) error {
	f.begun = time.Now()
	if f.atOnce {
		if err := f.send(ctx, "BEGIN"); err != nil {
			return f.failed(err, script.Statement{Line: 1, Column: 1})
		}
	}
	for {
		st, err := from.Next()
		if err == io.EOF {
			break
		}
		if err != nil {
			return engine.Unreadable(f.step, err)
		}
		f.progress.At(st.Line, st.Kind, from.Offset())
		if st.Text == "" || f.skips(st) {
			continue
		}
		if st.Rows != nil {
			_, err = f.conn.PgConn().CopyFrom(ctx, st.Rows, st.Text)
			if broken, is := errors.AsType[*script.Error](err); is {
				err = &engine.Error{Kind: engine.Refused, Text: broken.Text}
			}
		} else {
			err = f.send(ctx, st.Text)
		}
		if err != nil {
			return f.failed(err, st)
		}
		f.taken, f.line = f.taken+1, st.Line
	}
	return f.end(ctx)
}

// send sends one command, by the extended protocol: the server takes no second one in it.
func (f *filler) send(ctx context.Context, text string) error {
	return f.conn.PgConn().ExecParams(ctx, text, nil, nil, nil, nil).Read().Err
}

// end notes that the script has run to its end, in its transaction where it has one.
func (f *filler) end(ctx context.Context) error {
	note := "ALTER ROLE " + quoteIdent(f.step.Args["account"]) + " SET application_name = 'genarch: filled'"
	texts := []string{"SET ROLE NONE", note}
	if f.atOnce {
		texts = append(texts, "COMMIT")
	}
	for _, text := range texts {
		if err := f.send(ctx, text); err != nil {
			return f.failed(err, script.Statement{Line: f.line, Kind: "the end of the script"})
		}
	}
	return nil
}

func (f *filler) skips(st script.Statement) bool {
	for _, m := range st.Marks {
		if m == script.GivesAway && f.step.Args[skipOwners] == "yes" ||
			m == script.Grants && f.step.Args[skipGrants] == "yes" {
			return true
		}
	}
	return false
}

// failed says where in the file the server refused what. An answer that did not come is
// unknown.
func (f *filler) failed(err error, st script.Statement) error {
	e, _ := errors.AsType[*engine.Error](wrap(f.step.Title, err))
	if e == nil || e.Kind != engine.Refused {
		return engine.AnswerLost(f.step, err, st)
	}
	line, column := st.Line, st.Column
	if pe, ok := errors.AsType[*pgconn.PgError](err); ok && pe.Position > 0 {
		line, column = script.At(st, int(pe.Position))
	}
	if strings.HasPrefix(e.Code, "22") || strings.HasPrefix(e.Code, "23") {
		e.Detail = "" // it holds the row: what stands in a script's rows is not kept
	}
	e = engine.RefusedAt(e, st, line, column, f.atOnce || f.taken == 0, dialect.Shape)
	e.Next = cmp.Or(e.Hint, e.Next)
	return e
}

// probeFill looks whether the script ran to its end. Source: pg_db_role_setting.
func (s *server) probeFill(ctx context.Context, step change.Step) (bool, error) {
	var there bool
	err := s.pool.QueryRow(ctx, `SELECT EXISTS (SELECT FROM pg_catalog.pg_db_role_setting x
		JOIN pg_catalog.pg_roles r ON r.oid = x.setrole WHERE r.rolname::text = $1::text AND $2 = ANY(x.setconfig))`,
		step.Args["account"], filledSetting).Scan(&there)
	return there, wrap("look whether the script ran to its end", err)
}

// undoFill says what stays of a script that did not run to its end.
func (s *server) undoFill(_ context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, engine.Stays(step, description.Script)
}

// dropFiller takes back whatever the account of a script has of its own, which only a script
// that left the owner's role can have made, and drops it.
func (s *server) dropFiller(ctx context.Context, step change.Step) (engine.Report, error) {
	if _, there, err := s.account(ctx, step.Args["account"]); err != nil || !there {
		return engine.Report{}, err
	}
	conn, err := s.signInFiller(ctx, step, "", func(change.Message) {})
	if err != nil {
		return engine.Report{}, err
	}
	account := quoteIdent(step.Args["account"])
	for _, text := range []string{"REASSIGN OWNED BY " + account + " TO " + quoteIdent(step.Args["owner"]),
		"DROP OWNED BY " + account} {
		if err = conn.PgConn().ExecParams(ctx, text, nil, nil, nil, nil).Read().Err; err != nil {
			break
		}
	}
	conn.Close(context.WithoutCancel(ctx))
	if err != nil {
		return engine.Report{}, engine.NeverSent(wrap(step.Title, err))
	}
	return s.rollBack(ctx, step.Title, "DROP ROLE "+account, step)
}

// probeNoFiller drops it again, which does no harm: it has to go, whatever was cut off.
func (s *server) probeNoFiller(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.dropFiller(ctx, step)
	return err == nil, err
}

// countTime bounds the counting of rows before and after.
const countTime = 10 * time.Second

// count counts the rows of the tables that the script may reach, as its account; a table that
// was not counted in time has none.
func (f *filler) count(ctx context.Context) engine.Counted {
	out := engine.Counted{}
	ctx, cancel := context.WithTimeout(ctx, countTime)
	defer cancel()
	type table struct {
		relation
		Large bool
	}
	tables, err := collect(ctx, f.conn, "list its tables", func(row pgx.CollectableRow) (t table, err error) {
		return t, row.Scan(&t.Schema, &t.Name, &t.Large)
	}, `SELECT n.nspname::text, c.relname::text, coalesce((SELECT sum(pg_catalog.pg_relation_size(t.relid))
			FROM pg_catalog.pg_partition_tree(c.oid) t), pg_catalog.pg_relation_size(c.oid)) > $2::bigint
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p') AND NOT c.relispartition AND n.nspname !~ '^pg_'
		AND n.nspname <> 'information_schema' ORDER BY 1, 2 LIMIT $1`, maxRelations, int64(engine.CountBelow))
	if err != nil {
		return out
	}
	for _, t := range tables {
		shown := t.Name
		if t.Schema != publicNamed {
			shown = t.Schema + "." + t.Name
		}
		out[shown] = nil
		// A limit of the server's own: giving up on our side would end the session.
		left := time.Until(deadlineOf(ctx)) - time.Second
		if left <= 0 || t.Large {
			continue
		}
		var n int64
		err := pgx.BeginTxFunc(ctx, f.conn, pgx.TxOptions{AccessMode: pgx.ReadOnly}, func(tx pgx.Tx) error {
			if _, err := tx.Exec(ctx, "SET LOCAL statement_timeout = "+
				""+strconv.FormatInt(left.Milliseconds(), 10)); err != nil {
				return err
			}
			return tx.QueryRow(ctx, "SELECT count(*) FROM "+quoteIdent(t.Schema)+"."+quoteIdent(t.Name)).Scan(&n)
		})
		if err == nil {
			out[shown] = &n
		}
	}
	return out
}

func deadlineOf(ctx context.Context) time.Time {
	at, _ := ctx.Deadline()
	return at
}

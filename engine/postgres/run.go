package postgres

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// create makes the database. Right before, on the same connection, it looks
// again whether somebody sits in the template: a refused copy is not harmless,
// every login to the template hangs while the server waits 5 s for it.
func (s *server) create(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "create database"
	var rep engine.Report
	s.counts.Looking.Lock()
	defer s.counts.Looking.Unlock()
	err := s.withConn(ctx, op, func(c *pgxpool.Conn) error {
		var busy int
		err := c.QueryRow(ctx, `SELECT count(*)::int FROM pg_catalog.pg_stat_activity a WHERE datname::text = $1::text
			AND `+others, step.Args["template"]).Scan(&busy)
		if err != nil {
			return wrap("look at the template", err)
		}
		if busy > 0 {
			return &engine.Error{Op: op, Kind: engine.NotSent,
				Text: fmt.Sprintf(
					"somebody came to the template meanwhile (sessions: %d); %s cannot be copied while they are there",
					busy,
					step.Args["template"],
				),
				Next: "Try again when they have left, or copy from another template."}
		}
		// A copy may take long, and one that is cut off leaves nothing, so
		// only our own deadline bounds it.
		learned, err := evidence(ctx, c.Conn(), step)
		if err != nil {
			return engine.NeverSent(wrap(op, err))
		}
		if err = announce(ctx, c.Conn(), step, change.Sending{Learned: learned}); err == nil {
			err = s.unbounded(ctx, c, op, step.Statement)
		}
		rep.Messages = s.collect(c)
		if err != nil {
			return err
		}
		if bad := warningError(op, rep.Messages); bad != nil {
			rep.Applied = true
			return bad
		}
		var key uint32
		if err := c.QueryRow(ctx, `SELECT oid FROM pg_catalog.pg_database WHERE datname::text = $1::text`,
			step.Args["name"]).Scan(&key); err == nil {
			rep.Learned = map[string]string{"key": strconv.FormatUint(uint64(key), 10)}
		}
		return nil
	})
	return rep, err
}

// evidence is what proves later that a database was made by this step, should its
// answer be lost: its owner is a role that the same change made, whose number is
// noted now, when no database of the name is there.
func evidence(ctx context.Context, c *pgx.Conn, step change.Step) (map[string]string, error) {
	if step.Args["owner_made"] == "" {
		return nil, nil
	}
	var key uint32
	err := c.QueryRow(ctx, `SELECT oid FROM pg_catalog.pg_roles WHERE rolname::text = $1::text
		AND NOT EXISTS (SELECT FROM pg_catalog.pg_database WHERE datname::text = $2::text)`, step.Args["owner_made"],
		step.Args["name"]).Scan(&key)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil, nil
	}
	return map[string]string{"owner_key": strconv.FormatUint(uint64(key), 10)}, err
}

// keyByOwner gives the number of a database that belongs to the role of this
// number; empty: it belongs to another one, or there is no evidence.
func (s *server) keyByOwner(ctx context.Context, name, owner string) (string, error) {
	if owner == "" {
		return "", nil
	}
	var key string
	err := s.pool.QueryRow(
		ctx,
		`SELECT oid::text FROM pg_catalog.pg_database WHERE datname::text = $1::text AND datdba::text = $2::text`,
		name,
		owner,
	).Scan(
		&key,
	)
	if errors.Is(err, pgx.ErrNoRows) {
		return "", nil
	}
	return key, err
}

// unbounded sends one statement alone, without the server's own time limit.
// SET and statement cannot be sent together: CREATE DATABASE refuses company.
func (s *server) unbounded(ctx context.Context, c *pgxpool.Conn, op, statement string) error {
	if err := exec(ctx, c.Conn(), "SET statement_timeout = 0"); err != nil {
		return &engine.Error{Op: op, Kind: engine.NotSent, Err: err}
	}
	err := sendAlone(ctx, c, op, statement)
	if reset := exec(context.WithoutCancel(ctx), c.Conn(), "RESET statement_timeout"); reset != nil {
		// The connection is of no more use, the statement has taken effect.
		c.Conn().Close(context.WithoutCancel(ctx))
	}
	return err
}

// sendAlone sends one statement as it is. The driver reports a line that was
// cut while the answer was awaited as "conn closed", which it counts as never
// sent; so whatever is not the server's own answer is unknown here.
func sendAlone(ctx context.Context, c *pgxpool.Conn, op, statement string) error {
	if c.Conn().IsClosed() {
		return &engine.Error{Op: op, Kind: engine.NotSent, Text: "the connection was lost"}
	}
	err := exec(ctx, c.Conn(), statement)
	if e, never := errors.AsType[*engine.Error](err); never {
		e.Op = op
		return e
	}
	if _, answered := errors.AsType[*pgconn.PgError](err); err == nil || answered {
		err = wrap(op, err)
	} else {
		err = engine.Classify(op, err, true)
	}
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Unknown {
		// Nothing else may be sent on this connection: it is known by its session.
		c.Conn().Close(context.WithoutCancel(ctx))
	}
	return err
}

// Sender looks for the process that sent a step, by number and beginning.
// Source: pg_stat_activity, which a process leaves after its transaction.
func (s *server) Sender(ctx context.Context, id catalog.SessionID, end bool) (engine.SenderState, error) {
	began, err := startedAt(id.Mark)
	if err != nil {
		return engine.SenderGone, nil // a mark that no session of this engine has
	}
	var active bool
	err = s.pool.QueryRow(
		ctx,
		`SELECT coalesce(state, '') IN ('active', 'fastpath function call') OR state IS NULL FROM pg_catalog.pg_stat_activity
		WHERE pid = $1 AND backend_start = $2 AND pid <> pg_catalog.pg_backend_pid()`,
		int32(id.Number),
		began,
	).
		Scan(
			&active,
		)
	if errors.Is(err, pgx.ErrNoRows) {
		return engine.SenderGone, nil
	}
	if err != nil {
		return "", wrap("look for the session that sent it", err)
	}
	if end {
		err = s.signal(ctx, []catalog.SessionID{id}, catalog.EndSession)
	}
	if active {
		return engine.SenderWorking, err
	}
	return engine.SenderIdle, err
}

// exec sends one command. What is not exactly one by the server's lexical rules
// is not sent, and the extended protocol has the server refuse two in one text
// (42601): whatever a name holds, it can add none.
func exec(ctx context.Context, c *pgx.Conn, statement string) error {
	if err := engine.Single("", statement, dialect); err != nil {
		return err
	}
	return c.PgConn().ExecParams(ctx, statement, nil, nil, nil, nil).Read().Err
}

// alter runs a short statement of a step that is done or undone.
func (s *server) alter(ctx context.Context, op, statement string, step change.Step) (engine.Report, error) {
	var rep engine.Report
	err := s.withConn(ctx, op, func(c *pgxpool.Conn) error {
		if err := announce(ctx, c.Conn(), step, change.Sending{}); err != nil {
			return err
		}
		err := sendAlone(ctx, c, op, statement)
		rep.Messages = s.collect(c)
		if err != nil {
			return err
		}
		return warningError(op, rep.Messages)
	})
	return rep, err
}

// withConn takes a connection for one step. A step must not meet notices that
// an earlier statement on the connection left behind.
func (s *server) withConn(ctx context.Context, op string, f func(*pgxpool.Conn) error) error {
	alone := func(c *pgxpool.Conn) error {
		s.collect(c)
		defer s.collect(c)
		return f(c)
	}
	if s.own != nil {
		return s.own.use(ctx, alone)
	}
	c, err := s.pool.Acquire(ctx)
	if err != nil {
		return engine.NeverSent(wrap(op, err))
	}
	defer c.Release()
	return alone(c)
}

// warningError finds a warning that is an error in all but name: COMMENT ON a
// missing database and an unknown ICU locale only warn, with an error's code.
func warningError(op string, messages []change.Message) error {
	for _, m := range messages {
		if m.Severity == "WARNING" && !strings.HasPrefix(m.Code, "00") && !strings.HasPrefix(m.Code, "01") {
			return &engine.Error{Op: op, Kind: engine.Refused, Code: m.Code, Text: m.Text, Next: next(m.Code),
				Actions: actions(m.Code)}
		}
	}
	return nil
}

// verify reads the database back and compares every property, those included
// that decide whether it can be used: connections allowed, the limit, and that
// it is no leftover. It does not log in: see docs/decisions.
func (s *server) verify(ctx context.Context, step change.Step) error {
	const op = "verify"
	if step.Args["check"] != "" {
		return engine.Checked(s.check(ctx, step))
	}
	d, err := s.readDatabase(ctx, s.pool, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return &engine.Error{Op: op, Kind: engine.Differs, Text: "it is not there"}
	}
	if err != nil {
		return err
	}
	if bad := engine.Mismatches(step.Args, facts(d)); len(bad) > 0 {
		return &engine.Error{Op: op, Kind: engine.Differs, Text: strings.Join(bad, "; ")}
	}
	if d.Trouble != "" {
		return &engine.Error{Op: op, Kind: engine.Differs, Text: d.Trouble}
	}
	return nil
}

// rollBack sends an undo. What the step altered may be gone by now, and with it
// its effect: no such database (3D000), role, membership or other object (42704).
func (s *server) rollBack(ctx context.Context, op, statement string, step change.Step) (engine.Report, error) {
	rep, err := s.alter(ctx, op, statement, step)
	if e, ok := errors.AsType[*engine.Error](err); ok && (e.Code == "3D000" || e.Code == "42704") {
		return rep, nil
	}
	return rep, err
}

// undoCreate drops the database that this change made, and only that: it must
// be the same by its number, and nobody may be in it. A drop is never tried to
// find out, for a refused one makes all logins to the database wait.
func (s *server) undoCreate(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "take the database back"
	var rep engine.Report
	d, err := s.readDatabase(ctx, s.pool, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return rep, nil
	}
	if err != nil {
		return rep, err
	}
	refuse := func(text string) error {
		return &engine.Error{Op: op, Kind: engine.Refused, Text: text,
			Next: "Look at the database, and drop it yourself if it is not needed."}
	}
	key := step.Args["key"]
	if key == "" {
		if key, err = s.keyByOwner(ctx, d.Name, step.Args["owner_key"]); err != nil {
			return rep, wrap(op, err)
		}
	}
	if key == "" {
		return rep, refuse("it is not certain that this change made the database " + naming.Show(d.Name) +
			", so it was left alone")
	}
	if key != d.Key {
		return rep, refuse("a database " + naming.Show(d.Name) +
			" is there that this change did not make, so it was left alone")
	}
	s.counts.Looking.Lock() // our own counting of tables is not to be in the way
	defer s.counts.Looking.Unlock()
	if err := s.waitEmpty(ctx, d.Name); err != nil {
		return rep, refuse("somebody is connected to " + naming.Show(d.Name) + " already, so it was left alone")
	}
	err = s.withConn(ctx, op, func(c *pgxpool.Conn) error {
		if d.Properties.Bool("is_template") {
			if err := exec(ctx, c.Conn(), "ALTER DATABASE "+quoteIdent(d.Name)+" IS_TEMPLATE false"); err != nil {
				return wrap(op, err)
			}
		}
		// A drop that is cut off leaves a database that only another drop can
		// remove: once sent, it is waited for.
		longConn, cancel := context.WithTimeout(context.WithoutCancel(ctx), dropTime)
		defer cancel()
		if err := announce(ctx, c.Conn(), step, change.Sending{}); err != nil {
			return err
		}
		err := s.unbounded(longConn, c, op, step.Undo)
		rep.Messages = s.collect(c)
		return err
	})
	return rep, err
}

// dropTime is how long a drop may take: it waits until the dirty pages of the
// whole server are written.
const dropTime = 10 * time.Minute

// waitEmpty waits a moment for whoever is connected to leave, and returns an
// error if anybody is still there then.
func (s *server) waitEmpty(ctx context.Context, name string) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	for {
		users, err := s.readUsers(ctx, name)
		if err != nil {
			return err
		}
		if len(users) == 0 {
			return nil
		}
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(50 * time.Millisecond):
		}
	}
}

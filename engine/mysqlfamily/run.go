package mysqlfamily

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// send runs one statement of a step on one connection, and collects its warnings
// there.
func (s *server) send(ctx context.Context, op, statement string, step change.Step) (engine.Report, error) {
	var rep engine.Report
	err := s.withConn(ctx, op, step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		if err := exec(ctx, c, op, statement); err != nil {
			return err
		}
		rep.Messages = warnings(ctx, c)
		return nil
	})
	return rep, err
}

// warnings are those of the statement that was sent last. It took effect: when they
// cannot be read, they are lost.
func warnings(ctx context.Context, c *sender) []change.Message {
	rows, err := c.QueryContext(ctx, "SHOW WARNINGS LIMIT 100")
	if err != nil {
		return nil
	}
	defer rows.Close()
	var out []change.Message
	for rows.Next() {
		var m change.Message
		if rows.Scan(&m.Severity, &m.Code, &m.Text) == nil {
			out = append(out, m)
		}
	}
	return out
}

// exec sends one command. The driver's line takes no two in one text (the
// handshake does not ask for multi-statements), and what is not exactly one by
// the server's lexical rules is not even sent.
func exec(ctx context.Context, conn *sender, op, statement string) error {
	if err := engine.Single(op, statement, dialect); err != nil {
		return err
	}
	_, err := conn.ExecContext(ctx, statement)
	err = wrap(op, err)
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Unknown {
		// Nothing else may be sent on this connection: it is known by its session.
		_ = conn.Raw(func(any) error { return driver.ErrBadConn })
	}
	return err
}

// Sender looks for the session that sent a step, by number, account and client.
// Source: PROCESSLIST, which a session leaves after its transaction.
func (s *server) Sender(ctx context.Context, id catalog.SessionID, end bool) (engine.SenderState, error) {
	const op = "look for the session that sent it"
	var user, client, command string
	err := s.db.QueryRowContext(ctx,
		`SELECT USER, HOST, COMMAND FROM `+s.product.processlist+` WHERE ID = ? AND ID <> CONNECTION_ID()`,
		id.Number).Scan(&user, &client, &command)
	if errors.Is(err, sql.ErrNoRows) || err == nil && mark(user, client, 0) != id.Mark {
		return engine.SenderGone, nil
	}
	if err != nil {
		return "", wrap(op, err)
	}
	if end {
		_, err := s.db.ExecContext(ctx, s.product.kill+strconv.FormatInt(id.Number, 10))
		if e, ok := wrap(op, err).(*engine.Error); ok && e.Code != "1094" { // gone already
			return "", e
		}
	}
	if command == "Sleep" {
		return engine.SenderIdle, nil
	}
	return engine.SenderWorking, nil
}

// verify reads the database back and compares every property.
func (s *server) verify(ctx context.Context, step change.Step) error {
	const op = "verify"
	if step.Args["check"] != "" {
		return engine.Checked(s.check(ctx, step))
	}
	d, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return &engine.Error{Op: op, Kind: engine.Differs, Text: "it is not there"}
	}
	if err != nil {
		return err
	}
	want, have := step.Args, facts(d)
	if owner := want["owner"]; owner != "" {
		owners, err := s.readOwners(ctx, d.Name)
		if err != nil {
			return err
		}
		if slices.Contains(owners[d.Name], owner) {
			have["owner"] = owner
		}
	}
	if bad := engine.Mismatches(want, have); len(bad) > 0 {
		return &engine.Error{Op: op, Kind: engine.Differs, Text: strings.Join(bad, "; ")}
	}
	return nil
}

func (s *server) markWritten(ctx context.Context, mark string) (bool, error) {
	var found string
	err := s.db.QueryRowContext(ctx, markerQuery).Scan(&found)
	if errors.Is(err, sql.ErrNoRows) {
		return false, nil
	}
	if e, ok := errors.AsType[*engine.Error](wrap("read the marker", err)); ok &&
		(e.Code == "1049" || e.Code == "1146") {
		return false, nil
	}
	return found == mark, wrap("read the marker", err)
}

// undoCreate drops the database that this change made, if it is still empty and
// nobody uses it: MariaDB would refuse nothing, so everything is looked at first.
func (s *server) undoCreate(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "take the database back"
	name := step.Args["name"]
	refuse := func(format string, args ...any) (engine.Report, error) {
		return engine.Report{}, &engine.Error{Op: op, Kind: engine.Refused, Text: fmt.Sprintf(format, args...),
			Next: "Look at the database, and drop it yourself if it is not needed."}
	}
	_, err := s.readDatabase(ctx, name)
	if errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	if err != nil {
		return engine.Report{}, err
	}
	if step.Args["made"] == "" {
		return refuse("it is not certain that this change made the database %s, so it was left alone",
			naming.Show(name))
	}
	n, err := s.contents(ctx, name)
	if err != nil {
		return engine.Report{}, err
	}
	if n > 0 {
		return refuse("there are %d tables, routines or events in %s already, so it was left alone", n,
			naming.Show(name))
	}
	var sessions int
	if err := s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM `+s.product.processlist+` WHERE DB = ?`, name).
		Scan(&sessions); err != nil {
		return engine.Report{}, wrap(op, err)
	}
	if sessions > 0 {
		return refuse("%d sessions use %s already, so it was left alone", sessions, naming.Show(name))
	}
	return s.send(ctx, op, step.Undo, step)
}

// contents counts what a drop would take along.
func (s *server) contents(ctx context.Context, name string) (int, error) {
	var n int
	err := s.db.QueryRowContext(ctx, `SELECT (SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?)
		+ (SELECT COUNT(*) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ?)
		+ (SELECT COUNT(*) FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ?)`, name, name, name).Scan(&n)
	return n, wrap("look into "+naming.Show(name), err)
}

package postgres

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// found is a database as pg_database has it, by its number.
type found struct {
	name        string
	open        bool
	limit       int
	tablespace  string
	comment     string
	invalidated bool
}

// byKey finds a database by the number in a step's arguments.
func byKey(ctx context.Context, q querier, args map[string]string) (f found, there bool, err error) {
	key, err := strconv.ParseUint(args["key"], 10, 32)
	if err != nil {
		return f, false, &engine.Error{Op: "find the database", Kind: engine.NotSent,
			Text: "the step has no number of a database"}
	}
	err = q.QueryRow(
		ctx,
		`SELECT d.datname::text, d.datallowconn, d.datconnlimit, t.spcname::text,
		coalesce(pg_catalog.shobj_description(d.oid, 'pg_database'), '') FROM pg_catalog.pg_database d
		JOIN pg_catalog.pg_tablespace t ON t.oid = d.dattablespace WHERE d.oid = $1::oid`,
		uint32(key),
	).Scan(
		&f.name,
		&f.open,
		&f.limit,
		&f.tablespace,
		&f.comment,
	)
	if errors.Is(err, pgx.ErrNoRows) {
		return f, false, nil
	}
	f.invalidated = f.limit == invalidLimit
	return f, err == nil, wrap("find the database", err)
}

// mustFind finds the database that a step was planned for, under the name that
// it had then.
func mustFind(ctx context.Context, q querier, op string, args map[string]string) (found, error) {
	f, there, err := byKey(ctx, q, args)
	switch {
	case err != nil:
		return f, engine.NeverSent(err)
	case !there:
		return f, &engine.Error{Op: op, Kind: engine.NotSent,
			Text: "the database " + naming.Show(args["name"]) +
				" that this was planned for is gone; if one of that name is there, it is another one, and is left alone", Next: "Look again.",
			Actions: []remedy.Action{remedy.Command("database.list", "")}}
	case f.name != args["name"]:
		return f, &engine.Error{Op: op, Kind: engine.NotSent, Text: "it is called " + naming.Show(f.name) + " by now",
			Next: "Ask again, with that name."}
	}
	return f, nil
}

// setGate closes or opens the gate of the database that a step is about, or notes what
// it is: one statement, for the database that the step knows by its number.
func (s *server) setGate(ctx context.Context, step change.Step) (engine.Report, error) {
	op := strings.ToLower(step.Title)
	var rep engine.Report
	err := s.withConn(ctx, op, func(c *pgxpool.Conn) error {
		if _, err := mustFind(ctx, c, op, step.Args); err != nil {
			return err
		}
		if err := announce(ctx, c.Conn(), step, change.Sending{}); err != nil {
			return err
		}
		err := sendAlone(ctx, c, op, step.Statement)
		rep.Messages = s.collect(c)
		return s.explainLock(ctx, c, err)
	})
	return rep, err
}

// undoGate opens the gate again, whatever the database is called by now.
func (s *server) undoGate(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "open the gate again"
	f, there, err := byKey(ctx, s.pool, step.Args)
	switch {
	case err != nil:
		return engine.Report{}, err
	case !there || f.open && !f.invalidated:
		return engine.Report{}, nil
	case f.invalidated:
		// Any ALTER DATABASE with options would end our own connection.
		return engine.Report{}, &engine.Error{Op: op, Kind: engine.Refused,
			Text: naming.Show(f.name) + " was left over by an interrupted drop: nobody can connect to it any more",
			Next: "Drop it again.", Actions: []remedy.Action{remedy.Command("database.drop", "")}}
	}
	return s.rollBack(ctx, op, "ALTER DATABASE "+quoteIdent(f.name)+" ALLOW_CONNECTIONS true", step)
}

// undoNote gives a database the comment back that it had, whatever it is called by now.
func (s *server) undoNote(ctx context.Context, step change.Step) (engine.Report, error) {
	f, there, err := byKey(ctx, s.pool, step.Args)
	if err != nil || !there || f.comment == step.Args["was"] {
		return engine.Report{}, err
	}
	return s.rollBack(ctx, "give it its comment back", commentOnDatabase(f.name, step.Args["was"]), step)
}

// explainLock says who holds the lock that a statement waited for in vain.
func (s *server) explainLock(ctx context.Context, q querier, err error) error {
	e, ok := errors.AsType[*engine.Error](err)
	if !ok || e.Code != "55P03" {
		return err
	}
	holders, readErr := collect(
		ctx,
		q,
		"look who holds the lock",
		pgx.RowTo[string],
		`SELECT DISTINCT 'session ' || a.pid || coalesce(' of ' || a.usename, '') || coalesce(' (' || nullif(a.application_name, '') || ')', '')
		FROM pg_catalog.pg_locks l JOIN pg_catalog.pg_stat_activity a ON a.pid = l.pid
		WHERE l.granted AND l.pid <> pg_catalog.pg_backend_pid() AND (l.relation = 'pg_catalog.pg_database'::pg_catalog.regclass OR l.classid = 'pg_catalog.pg_database'::pg_catalog.regclass)
		AND l.mode IN ('ShareLock', 'ShareRowExclusiveLock', 'ExclusiveLock', 'AccessExclusiveLock', 'RowExclusiveLock') LIMIT 10`,
	)
	if readErr == nil && len(holders) > 0 {
		e.Detail = "the list of databases is locked by " + strings.Join(holders, ", ")
	}
	e.Next = "Have it finish or end it, then ask again."
	e.Actions = []remedy.Action{remedy.Command("session.list", ""), remedy.Command("session.end", "")}
	return e
}

// blockers says, in words, who or what is in a database. One look, from the
// connection that acts right after it.
func (s *server) blockers(ctx context.Context, q querier, name string) ([]string, error) {
	return collect(ctx, q, "look whether it is empty", pgx.RowTo[string], `
		SELECT 'session ' || a.pid || coalesce(' of ' || a.usename, '') FROM pg_catalog.pg_stat_activity a WHERE a.datname::text = $1::text AND `+others+`
		UNION ALL SELECT 'prepared transaction ' || gid FROM pg_catalog.pg_prepared_xacts WHERE database::text = $1::text
		UNION ALL SELECT 'replication slot ' || slot_name FROM pg_catalog.pg_replication_slots WHERE database::text = $1::text AND active LIMIT 20`, name)
}

// onEmpty runs a statement that needs the database empty of sessions: it looks
// once more on the same connection, for a refused one would make others wait.
// Our own short looks into the database are over within a moment.
func (s *server) onEmpty(ctx context.Context, step change.Step,
	send func(c *pgxpool.Conn, op string) error) (engine.Report, error) {
	op := step.Title
	var rep engine.Report
	err := s.withConn(ctx, op, func(c *pgxpool.Conn) error {
		if _, err := mustFind(ctx, c, op, step.Args); err != nil {
			return err
		}
		deadline := time.Now().Add(2 * time.Second)
		for {
			there, err := s.blockers(ctx, c, step.Args["name"])
			if err != nil {
				return engine.NeverSent(err)
			}
			if len(there) == 0 {
				break
			}
			if time.Now().After(deadline) {
				return &engine.Error{Op: op, Kind: engine.NotSent,
					Text: "somebody is there after all: " + planning.Shorten(there), Next: "Ask again."}
			}
			if !engine.Pause(ctx, 20*time.Millisecond) {
				return &engine.Error{Op: op, Kind: engine.NotSent, Text: "given up before it was sent"}
			}
		}
		if err := announce(ctx, c.Conn(), step, change.Sending{}); err != nil {
			return err
		}
		err := send(c, op)
		rep.Messages = s.collect(c)
		return s.explainLock(ctx, c, err)
	})
	return rep, err
}

// dropEmpty drops the database. Once sent, a drop is waited for: one that is cut
// off leaves a database that only another drop can remove.
func (s *server) dropEmpty(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.onEmpty(ctx, step, func(c *pgxpool.Conn, op string) error {
		patient, cancel := context.WithTimeout(context.WithoutCancel(ctx), dropTime)
		defer cancel()
		err := s.unbounded(patient, c, op, step.Statement)
		if e, ok := errors.AsType[*engine.Error](err); ok && e.Code == "57014" {
			e.Kind = engine.Unknown // somebody cancelled it: it may have gone too far to be there still
		}
		return err
	})
}

// renameEmpty renames it. The server would wait 5 s for a session, and all
// logins with it; a short limit is safe here, for nothing is changed by then.
func (s *server) renameEmpty(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.onEmpty(ctx, step, func(c *pgxpool.Conn, op string) error {
		if err := exec(ctx, c.Conn(), "SET statement_timeout = 2000"); err != nil {
			return &engine.Error{Op: op, Kind: engine.NotSent, Err: err}
		}
		err := sendAlone(ctx, c, op, step.Statement)
		if reset := exec(context.WithoutCancel(ctx), c.Conn(), "RESET statement_timeout"); reset != nil {
			c.Conn().Close(context.WithoutCancel(ctx))
		}
		if e, ok := errors.AsType[*engine.Error](err); ok && e.Code == "57014" {
			e.Kind = engine.Refused // cancelled: nothing was changed
		}
		return err
	})
}

func (s *server) moveEmpty(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.onEmpty(ctx, step, func(c *pgxpool.Conn,
		op string) error {
		return s.unbounded(ctx, c, op, step.Statement)
	})
}

// probeTake looks what became of a step that takes a database away or moves it.
func (s *server) probeTake(ctx context.Context, step change.Step) (bool, error) {
	f, there, err := byKey(ctx, s.pool, step.Args)
	if err != nil {
		return false, err
	}
	if step.Kind == stepDrop && there && f.invalidated {
		// It was confirmed, had begun, and was cut off: nobody can be in it any
		// more, and only another drop can end it. It is known by its number.
		if _, err := s.dropEmpty(ctx, step); err != nil {
			return false, err
		}
		return true, nil
	}
	switch step.Kind {
	case stepGate:
		return there && !f.open, nil
	case stepOpen:
		return there && f.open, nil
	case stepDrop:
		return !there, nil
	case stepNote:
		return there && f.comment == step.Args["comment"], nil
	case stepRename:
		return there && f.name == step.Args["new"], nil
	}
	return there && f.tablespace == step.Args["tablespace"], nil
}

// undoTake takes a rename or a move back; the gate is still closed.
func (s *server) undoTake(ctx context.Context, step change.Step) (engine.Report, error) {
	back := step
	back.Statement, back.Title = step.Undo, "roll back: "+step.Title
	back.Args = map[string]string{"key": step.Args["key"], "name": step.Args["name"]}
	f, there, err := byKey(ctx, s.pool, step.Args)
	if err != nil || !there {
		return engine.Report{}, err
	}
	if step.Kind == stepMove {
		if f.tablespace == step.Args["from"] {
			return engine.Report{}, nil
		}
		return s.moveEmpty(ctx, back)
	}
	if f.name == step.Args["name"] {
		return engine.Report{}, nil
	}
	back.Args["name"] = step.Args["new"]
	return s.renameEmpty(ctx, back)
}

// checkGone reads that a dropped database is not there. One of the same name
// with another number was made since, by somebody else.
func (s *server) checkGone(ctx context.Context, args map[string]string) ([]string, error) {
	f, there, err := byKey(ctx, s.pool, args)
	if err != nil || !there {
		return nil, err
	}
	if f.invalidated {
		return []string{naming.Show(f.name) + " is still there, left over by an interrupted drop"}, nil
	}
	return []string{fmt.Sprintf("%s is still there", naming.Show(f.name))}, nil
}

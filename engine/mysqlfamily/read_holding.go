package mysqlfamily

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// readObjects lists what a database holds, and which of its views do not work.
func (s *server) readObjects(ctx context.Context, name string) (objects, error) {
	var out objects
	one := func(into *[]string) func(*sql.Rows) error {
		return func(r *sql.Rows) error {
			var text string
			err := r.Scan(&text)
			*into = append(*into, text)
			return err
		}
	}
	err := s.query(ctx, "list tables", `SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?
		AND TABLE_TYPE <> 'VIEW' ORDER BY 1`, one(&out.Tables), name)
	if err != nil {
		return out, err
	}
	if err = s.query(ctx, "list views", `SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?
		AND TABLE_TYPE = 'VIEW' ORDER BY 1`, one(&out.Views), name); err != nil {
		return out, err
	}
	err = s.query(ctx, "list triggers", `SELECT TRIGGER_NAME FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ?
		ORDER BY EVENT_OBJECT_TABLE, EVENT_MANIPULATION, ACTION_TIMING, ACTION_ORDER`, one(&out.Triggers), name)
	if err != nil {
		return out, err
	}
	err = s.query(ctx, "list routines", `SELECT LOWER(ROUTINE_TYPE), ROUTINE_NAME FROM information_schema.ROUTINES
		WHERE ROUTINE_SCHEMA = ? ORDER BY FIELD(ROUTINE_TYPE, 'FUNCTION', 'PROCEDURE', 'PACKAGE', 'PACKAGE BODY'), 2`,
		func(r *sql.Rows) error {
			var x routine
			err := r.Scan(&x.Kind, &x.Name)
			out.Routines = append(out.Routines, x)
			return err
		}, name)
	if err != nil {
		return out, err
	}
	err = s.query(ctx, "list events",
		`SELECT EVENT_NAME, DEFINER FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? ORDER BY 1`,
		func(r *sql.Rows) error {
			var e scheduled
			err := r.Scan(&e.Name, &e.Definer)
			out.Events = append(out.Events, e)
			return err
		}, name)
	if err != nil || len(out.Views) == 0 {
		return out, err
	}
	out.Broken, err = s.brokenViews(ctx, name, out.Views)
	return out, err
}

// brokenViews are those that the server could not make again, as something that they need
// is not there. CHECK TABLE reads a view's definition, and nothing else.
func (s *server) brokenViews(ctx context.Context, name string, views []string) ([]string, error) {
	var list, out []string
	for _, v := range views {
		list = append(list, quoteIdent(name)+"."+quoteIdent(v))
	}
	text := "CHECK TABLE " + strings.Join(list, ", ")
	err := s.query(ctx, "look whether its views work", text, func(r *sql.Rows) error {
		var view, op, kind, says sql.NullString
		err := r.Scan(&view, &op, &kind, &says)
		if short := strings.TrimPrefix(view.String, name+"."); strings.EqualFold(kind.String, "Error") &&
			!slices.Contains(out, short) {
			out = append(out, short)
		}
		return err
	})
	return out, err
}

// heldNote reads what a database was that waits under a name; nil: nothing waits there. What
// the server refuses for good, or is not as Genarch makes it, is none of Genarch's; any other
// error leaves open what waits there.
func (s *server) heldNote(ctx context.Context, name string) (*catalog.Holding, error) {
	if !strings.HasPrefix(name, planning.HeldPrefix) {
		return nil, nil
	}
	rows, err := s.heldRows(ctx, name, "LAST LIMIT 1")
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Refused && !e.Passing {
		return nil, nil
	}
	if err != nil || len(rows) == 0 || rows[0].Kind != savedNote {
		return nil, err
	}
	return planning.ReadNote(name, string(rows[0].Body)), nil
}

// waits reports whether something waits under a name, or may.
func (s *server) waits(ctx context.Context, name string) bool {
	h, err := s.heldNote(ctx, name)
	return h != nil || err != nil
}

// maxHeldRows bounds what is read of what was saved.
const maxHeldRows = 500_000

// heldRows reads what was saved with a database that waits, in order: all, or the last row,
// which is the note. By HANDLER, as that reads tables and nothing else: a view of that name
// could run anybody's function with the rights of Genarch's login.
func (s *server) heldRows(ctx context.Context, held, which string) ([]definition, error) {
	const op = "read what was saved"
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return nil, wrap(op, err)
	}
	defer conn.Close()
	_, err = conn.ExecContext(ctx, "HANDLER "+quoteIdent(held)+"."+quoteIdent(heldTable)+" OPEN AS saved")
	if err != nil {
		return nil, wrap(op, err)
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "HANDLER saved CLOSE") //nolint:errcheck // gone with the session
	rows, err := conn.QueryContext(ctx, "HANDLER saved READ `PRIMARY` "+which)
	if err != nil {
		return nil, wrap(op, err)
	}
	defer rows.Close()
	var out []definition
	for rows.Next() {
		var position int
		var d definition
		if err := rows.Scan(&position, &d.Kind, &d.Name, &d.Mode, &d.Client, &d.Connection, &d.Database,
			&d.Body); err != nil {
			return nil, &engine.Error{Op: op, Kind: engine.Refused, Err: err,
				Text: "the table is not as Genarch makes it"}
		}
		out = append(out, d)
	}
	return out, wrap(op, rows.Err())
}

// setHeld moves what was set aside out of a list of databases.
func (s *server) setHeld(ctx context.Context, list *catalog.Listing) {
	var others []catalog.Database
	for _, d := range list.Databases {
		var err error
		switch d.Held, err = s.heldNote(ctx, d.Name); {
		case err != nil: // shown as an ordinary one, it could be taken for that
			list.Partial = append(list.Partial, "what waits as "+naming.Show(d.Name)+" could not be read: "+err.Error())
		case d.Held != nil:
			list.Held = append(list.Held, d)
		default:
			others = append(others, d)
		}
	}
	list.Databases = others
}

// readDefinitions reads what was saved, without what is only noted.
func (s *server) readDefinitions(ctx context.Context, held string) ([]definition, error) {
	rows, err := s.heldRows(ctx, held, fmt.Sprintf("FIRST LIMIT %d", maxHeldRows))
	return slices.DeleteFunc(rows, func(d definition) bool { return d.Kind == savedNote }), err
}

// sealed reports whether what was saved bears Genarch's seal.
func (s *server) sealed(held string, list []definition) bool {
	i := slices.IndexFunc(list, func(d definition) bool { return d.Kind == savedSeal })
	return i >= 0 && s.target.Sealer != nil && s.target.Sealer.Sealed(sealText(held, list), string(list[i].Body))
}

// readSaved reads what makes a database again that waits.
func (s *server) readSaved(ctx context.Context, held string) (saved, error) {
	var out saved
	list, err := s.readDefinitions(ctx, held)
	if err != nil {
		return out, err
	}
	out.Sealed = s.sealed(held, list)
	for _, d := range list {
		switch d.Kind {
		case savedSeal:
		case savedRight:
			grants, err := readGrantList([]string{string(d.Body)})
			if err != nil {
				return out, fmt.Errorf("what was saved of the grants cannot be read: %w", err)
			}
			out.Grants = append(out.Grants, grants...)
		case savedEvent:
			out.Events = append(out.Events, scheduled{d.Name, string(d.Body)})
		case savedElsewhere:
		default:
			d.Body = nil
			out.Definitions = append(out.Definitions, d)
		}
	}
	return out, nil
}

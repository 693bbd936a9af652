package postgres

import (
	"context"
	"errors"
	"strconv"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// trySettings has the server judge each setting that is asked for with its value: it
// is set for a transaction that is rolled back. It says by name why the server takes
// one with its value not. What can only be settled when a
// session begins cannot be tried.
func (s *server) trySettings(ctx context.Context, in change.Intent) (map[string]string, error) {
	out := map[string]string{}
	for _, row := range in.Database.Options.Rows("settings") {
		if !row.Has("value") {
			continue
		}
		name := row.Text("name")
		why, err := s.trySetting(ctx, name, row.Text("value"))
		if err != nil {
			return out, err
		}
		if why != "" {
			out[name] = why
		}
	}
	return out, nil
}

func (s *server) trySetting(ctx context.Context, name, value string) (why string, err error) {
	if !storable(name) || !storable(value) {
		return "it is no text that the server can store", nil
	}
	tx, err := s.pool.Begin(ctx)
	if err != nil {
		return "", wrap("try the setting", err)
	}
	defer tx.Rollback(context.WithoutCancel(ctx))
	_, err = tx.Exec(ctx, `SELECT pg_catalog.set_config($1, $2, true)`, name, value)
	if e, ok := errors.AsType[*engine.Error](wrap("try the setting", err)); ok {
		if e.Code == "" {
			return "", e
		}
		if e.Code == "55P02" { // cannot be set after the session began
			return s.atStart(ctx, name)
		}
		return e.Text, nil
	}
	return "", nil
}

// atStart says why a setting cannot be one with which a session begins.
func (s *server) atStart(ctx context.Context, name string) (why string, err error) {
	var kind string
	err = s.pool.QueryRow(ctx, `SELECT context FROM pg_catalog.pg_settings WHERE lower(name) = lower($1)`, name).
		Scan(&kind)
	switch {
	case errors.Is(err, pgx.ErrNoRows) || err == nil && (kind == "backend" || kind == "superuser-backend"):
		return "", nil
	case err != nil:
		return "", wrap("read the setting", err)
	}
	return "it is a setting of the whole server", nil
}

// probeAlter looks whether an option has the value that a step sets.
func (s *server) probeAlter(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.readDatabase(ctx, s.pool, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) || err == nil && d.Key != step.Args["key"] {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	if step.Args["option"] != "setting" {
		return facts(d)[step.Args["option"]] == step.Args["will"], nil
	}
	value, there := setting(d.Properties.Rows("settings"), step.Args["setting"])
	set, _ := strconv.ParseBool(step.Args["set"])
	return there == set && (!set || sameSetting(step.Args["setting"], value, step.Args["will"])), nil
}

// undoAlter puts the former value back. A database that is gone has none; one that
// has another name by now is left alone.
func (s *server) undoAlter(ctx context.Context, step change.Step) (engine.Report, error) {
	op := "undo: " + step.Title
	f, there, err := byKey(ctx, s.pool, step.Args)
	if err != nil || !there {
		return engine.Report{}, err
	}
	if f.name != step.Args["name"] {
		return engine.Report{}, &engine.Error{Op: op, Kind: engine.Refused,
			Text: "it is called " + naming.Show(f.name) + " by now",
			Next: "Alter it back under that name: " + step.Undo}
	}
	return s.rollBack(ctx, op, step.Undo, step)
}

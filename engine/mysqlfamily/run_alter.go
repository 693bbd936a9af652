package mysqlfamily

import (
	"context"
	"database/sql"
	"errors"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// maxKept bounds the tables that are read to be told of.
const maxKept = 1000

// readAlterSide reads what altering a database needs beside the database itself.
func (s *server) readAlterSide(ctx context.Context, in change.Intent, name string, snap *catalog.Snapshot) error {
	if owner := in.Database.Options.Text("owner"); owner != "" {
		if err := s.readOwner(ctx, owner, snap); err != nil {
			return err
		}
	}
	tables := &detailsOf(snap.Details).Tables
	return s.query(ctx, "read the tables' collations",
		`SELECT TABLE_NAME, TABLE_COLLATION FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = ? AND TABLE_COLLATION IS NOT NULL ORDER BY 1 LIMIT ?`, func(r *sql.Rows) error {
			var t tableCollation
			err := r.Scan(&t.Table, &t.Collation)
			*tables = append(*tables, t)
			return err
		}, name, maxKept)
}

// probeAlter looks whether a database is as a step makes it.
func (s *server) probeAlter(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	return err == nil && len(engine.Mismatches(step.Args, facts(d))) == 0, err
}

// undoAlter puts the former values back. A database that is gone has none.
func (s *server) undoAlter(ctx context.Context, step change.Step) (engine.Report, error) {
	_, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	if err != nil {
		return engine.Report{}, err
	}
	return s.send(ctx, "undo: "+step.Title, step.Undo, step)
}

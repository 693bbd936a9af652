package sqlserver

import (
	"context"
	"database/sql"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine"
)

// maxRelations bounds the tables of a database that are held against a script, or counted.
const maxRelations = 20_000

// readFillSide reads what planning needs of a database that a script is to run in. Sources: sys.objects,
// sys.schemas within it, IS_SRVROLEMEMBER.
func (s *server) readFillSide(ctx context.Context, snap *catalog.Snapshot) error {
	if snap.Target == nil || snap.Target.Closed {
		return nil
	}
	d, more := *snap.Target, detailsOf(snap.Details)
	if err := s.readRights(ctx, d.Name, more); err != nil {
		return err
	}
	in := quoteIdent(d.Name) + ".sys."
	err := s.query(ctx, "list its tables", "SELECT TOP (@p1) s.name, o.name FROM "+in+"objects o JOIN "+in+
		"schemas s ON s.schema_id = o.schema_id WHERE o.type IN ('U', 'V') AND o.is_ms_shipped = 0 "+
		"ORDER BY s.name, o.name", func(r *sql.Rows) error {
		var t relation
		err := r.Scan(&t.Schema, &t.Name)
		more.Filling.Tables = append(more.Filling.Tables, t)
		return err
	}, maxRelations)
	if err != nil {
		return err
	}
	return s.query(ctx, "look at its owner", "SELECT COALESCE(IS_SRVROLEMEMBER('sysadmin', @p1), 0)",
		func(r *sql.Rows) error { return r.Scan(&more.Filling.OwnerSuper) }, d.Owner)
}

// countRows counts the rows of its tables, as the server keeps account of them; nil where that cannot be
// read. Sources: sys.tables, sys.partitions.
func (s *server) countRows(ctx context.Context, database string) engine.Counted {
	out := engine.Counted{}
	in := quoteIdent(database) + ".sys."
	err := s.query(ctx, "count its rows", "SELECT TOP (@p1) s.name, t.name, SUM(p.rows) FROM "+in+"tables t JOIN "+in+
		"schemas s ON s.schema_id = t.schema_id JOIN "+in+
		"partitions p ON p.object_id = t.object_id WHERE p.index_id IN (0, 1) AND t.is_ms_shipped = 0 "+
		"GROUP BY s.name, t.name ORDER BY s.name, t.name", func(r *sql.Rows) error {
		var schema, name string
		var rows int64
		err := r.Scan(&schema, &name, &rows)
		if schema != defaultSchema {
			name = schema + "." + name
		}
		out[name] = &rows
		return err
	}, maxRelations)
	if err != nil {
		return nil
	}
	return out
}

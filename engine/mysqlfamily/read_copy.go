package mysqlfamily

import (
	"context"
	"database/sql"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// maxTemplates bounds the list of databases that can be copied.
const maxTemplates = 10000

// readTemplates lists the databases that can be copied: all but the server's own and those
// that were set aside. Source: information_schema.SCHEMATA.
func (s *server) readTemplates(ctx context.Context) ([]catalog.Choice, error) {
	list, err := s.readNames(ctx)
	if err != nil {
		return nil, err
	}
	out := []catalog.Choice{}
	for _, name := range list[:min(len(list), maxTemplates)] {
		if !slices.Contains(system, name) && name != markerDatabase && !s.waits(ctx, name) {
			out = append(out, catalog.Choice{Name: name})
		}
	}
	return out, nil
}

// readCopySide reads what planning a copy needs of the template.
func (s *server) readCopySide(ctx context.Context, template string, snap *catalog.Snapshot) error {
	if !slices.Contains(snap.Names, template) || !storable(template) {
		return nil // which the choice says
	}
	d, err := s.Database(ctx, template)
	if err != nil {
		return err
	}
	more := detailsOf(snap.Details)
	if d.Sessions != nil {
		more.CopiedSessions = *d.Sessions
	}
	if more.Copied, err = s.readCopied(ctx, d.Name); err != nil {
		return err
	}
	more.Objects, err = s.readObjects(ctx, d.Name)
	snap.Source = &d
	return err
}

// readCopied reads how the tables of a database are copied.
func (s *server) readCopied(ctx context.Context, name string) (copied, error) {
	var out copied
	place := map[string]int{}
	err := s.queryFresh(ctx, "read tables", `SELECT TABLE_NAME, TABLE_TYPE, COALESCE(TABLE_ROWS, 0),
		COALESCE(AUTO_INCREMENT, 0) FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = ? AND TABLE_TYPE <> 'VIEW' ORDER BY 1`, func(r *sql.Rows) error {
		var t copiedTable
		var kind string
		err := r.Scan(&t.Name, &kind, &t.Rows, &t.Next)
		switch kind {
		case "SEQUENCE":
			out.Sequences = append(out.Sequences, sequence{Name: t.Name})
			return err
		case "SYSTEM VERSIONED":
			t.Start, t.End = "row_start", "row_end" // what they are called unless they are declared
		}
		place[t.Name] = len(out.Tables)
		out.Tables = append(out.Tables, t)
		return err
	}, name)
	if err != nil {
		return out, err
	}
	err = s.query(ctx, "read columns", `SELECT TABLE_NAME, COLUMN_NAME, `+s.product.generated+`,
		COALESCE(GENERATION_EXPRESSION, '') FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ?
		ORDER BY TABLE_NAME, ORDINAL_POSITION`, func(r *sql.Rows) error {
		var table, column, generated, how string
		err := r.Scan(&table, &column, &generated, &how)
		i, known := place[table]
		if !known {
			return err
		}
		switch t := &out.Tables[i]; {
		case how == "ROW START":
			t.Start = column
		case how == "ROW END":
			t.End = column
		case generated == "NEVER":
			t.Columns = append(t.Columns, column)
		}
		return err
	}, name)
	if err != nil {
		return out, err
	}
	if err := s.readSequences(ctx, name, out.Sequences); err != nil {
		return out, err
	}
	if out.Keys, err = s.readKeys(ctx, name); err != nil {
		return out, err
	}
	out.Naming, err = s.readNaming(ctx, name)
	return out, err
}

// readSequences reads the rows of sequences while they are locked, so that none is a view
// meanwhile: see [server.heldRows].
func (s *server) readSequences(ctx context.Context, name string, list []sequence) error {
	const op = "read the sequences"
	if len(list) == 0 {
		return nil
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return wrap(op, err)
	}
	defer conn.Close()
	var names []string
	for _, q := range list {
		names = append(names, q.Name)
	}
	if _, err := conn.ExecContext(ctx, "LOCK TABLES "+qualified(name, names, " READ")); err != nil {
		return wrap(op, err)
	}
	defer conn.ExecContext(context.WithoutCancel(ctx), "UNLOCK TABLES") //nolint:errcheck // gone with the session
	if err := s.stillTables(ctx, name, names); err != nil {
		return err
	}
	for i := range list {
		q := &list[i]
		err := conn.QueryRowContext(ctx, "SELECT next_not_cached_value, minimum_value, maximum_value, start_value,"+
			" `increment`, cache_size, cycle_option FROM "+quoteIdent(name)+"."+quoteIdent(q.Name)).
			Scan(&q.Next, &q.Min, &q.Max, &q.Start, &q.Increment, &q.Cache, &q.Cycle)
		if err != nil {
			return wrap(op, err)
		}
	}
	return nil
}

// stillTables looks whether names are those of tables or sequences, and not of views.
func (s *server) stillTables(ctx context.Context, database string, names []string) error {
	const op = "look what is copied"
	var found []string
	err := s.query(ctx, op, `SELECT TABLE_NAME FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?
		AND TABLE_TYPE IN ('BASE TABLE', 'SYSTEM VERSIONED', 'SEQUENCE')`, func(r *sql.Rows) error {
		var name string
		err := r.Scan(&name)
		found = append(found, name)
		return err
	}, database)
	if err != nil {
		return err
	}
	for _, name := range names {
		if !slices.Contains(found, name) {
			return &engine.Error{Op: op, Kind: engine.Refused, Next: "Ask again.",
				Text: naming.Show(name) + " is no table any more"}
		}
	}
	return nil
}

// readKeys reads the foreign keys of a database's tables.
func (s *server) readKeys(ctx context.Context, name string) ([]foreignKey, error) {
	var out []foreignKey
	err := s.query(ctx, "read foreign keys", `SELECT k.CONSTRAINT_NAME, k.TABLE_NAME, k.COLUMN_NAME,
		k.REFERENCED_TABLE_SCHEMA, k.REFERENCED_TABLE_NAME, k.REFERENCED_COLUMN_NAME, c.DELETE_RULE, c.UPDATE_RULE
		FROM information_schema.KEY_COLUMN_USAGE k JOIN information_schema.REFERENTIAL_CONSTRAINTS c
		ON c.CONSTRAINT_SCHEMA = k.CONSTRAINT_SCHEMA AND c.CONSTRAINT_NAME = k.CONSTRAINT_NAME
		AND c.TABLE_NAME = k.TABLE_NAME
		WHERE k.CONSTRAINT_SCHEMA = ? AND c.CONSTRAINT_SCHEMA = ? AND k.REFERENCED_TABLE_NAME IS NOT NULL
		ORDER BY k.TABLE_NAME, k.CONSTRAINT_NAME, k.ORDINAL_POSITION`, func(r *sql.Rows) error {
		var k foreignKey
		var column, ref string
		err := r.Scan(&k.Name, &k.Table, &column, &k.Database, &k.Ref, &ref, &k.OnDelete, &k.OnUpdate)
		if last := len(out) - 1; last < 0 || out[last].Name != k.Name || out[last].Table != k.Table {
			out = append(out, k)
		}
		x := &out[len(out)-1]
		x.Columns, x.RefColumns = append(x.Columns, column), append(x.RefColumns, ref)
		return err
	}, name, name)
	return out, err
}

// readNaming lists what has the database's name in front of something in its text: it
// would go on to mean the database that was copied.
func (s *server) readNaming(ctx context.Context, name string) ([]string, error) {
	var out []string
	like := "%" + strings.NewReplacer(`\`, `\\`, `_`, `\_`, `%`, `\%`, "`", "``").Replace(name) + "`.%"
	plainly := "%" + escaped(name) + ".%"
	err := s.query(ctx, "look for the name in definitions", `
		SELECT CONCAT(LOWER(ROUTINE_TYPE), ' ', ROUTINE_NAME) FROM information_schema.ROUTINES
		WHERE ROUTINE_SCHEMA = ? AND (ROUTINE_DEFINITION LIKE ? OR ROUTINE_DEFINITION LIKE ?)
		UNION ALL SELECT CONCAT('trigger ', TRIGGER_NAME) FROM information_schema.TRIGGERS
		WHERE TRIGGER_SCHEMA = ? AND (ACTION_STATEMENT LIKE ? OR ACTION_STATEMENT LIKE ?)
		UNION ALL SELECT CONCAT('event ', EVENT_NAME) FROM information_schema.EVENTS
		WHERE EVENT_SCHEMA = ? AND (EVENT_DEFINITION LIKE ? OR EVENT_DEFINITION LIKE ?)
		UNION ALL SELECT CONCAT('default of ', TABLE_NAME, '.', COLUMN_NAME) FROM information_schema.COLUMNS
		WHERE TABLE_SCHEMA = ? AND (COLUMN_DEFAULT LIKE ? OR COLUMN_DEFAULT LIKE ?) ORDER BY 1`,
		func(r *sql.Rows) error {
			var text string
			err := r.Scan(&text)
			out = append(out, text)
			return err
		}, name, like, plainly, name, like, plainly, name, like, plainly, name, like, plainly)
	return out, err
}

// readEvents reads the events of a database whole, on a connection that gets its texts as
// they were sent once.
func readEvents(ctx context.Context, c *sender, name string) ([]event, error) {
	const op = "read the events"
	rows, err := c.QueryContext(ctx, `SELECT EVENT_NAME, DEFINER, SQL_MODE, CHARACTER_SET_CLIENT, COLLATION_CONNECTION,
		TIME_ZONE, COALESCE(EXECUTE_AT, ''), COALESCE(INTERVAL_VALUE, ''), COALESCE(INTERVAL_FIELD, ''),
		COALESCE(STARTS, ''), COALESCE(ENDS, ''), ON_COMPLETION = 'PRESERVE', EVENT_COMMENT, EVENT_DEFINITION
		FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? ORDER BY 1`, name)
	if err != nil {
		return nil, wrap(op, err)
	}
	defer rows.Close()
	var out []event
	for rows.Next() {
		var e event
		if err := rows.Scan(&e.Name, &e.Definer, &e.Mode, &e.Client, &e.Connection, &e.Zone, &e.At, &e.Interval,
			&e.Unit, &e.Starts, &e.Ends, &e.Preserve, &e.Comment, &e.Body); err != nil {
			return nil, wrap(op, err)
		}
		e.Client = "utf8mb4" // the catalogue's texts are UTF-8
		out = append(out, e)
	}
	return out, wrap(op, rows.Err())
}

package mariadb

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// Choices reads what can be chosen for a new database. Templates and
// tablespaces do not exist on MariaDB and stay empty.
func (s *server) Choices(ctx context.Context) (catalog.Choices, error) {
	var c catalog.Choices
	var defEncoding, defCollation string
	if err := s.db.QueryRowContext(ctx, "SELECT @@character_set_server, @@collation_server").Scan(&defEncoding, &defCollation); err != nil {
		return c, wrap("read the defaults", err)
	}
	if err := s.readEncodings(ctx, &c, defEncoding, defCollation); err != nil {
		return c, err
	}
	err := s.query(ctx, "read accounts", `SELECT User, Host FROM mysql.global_priv
		WHERE NOT COALESCE(JSON_VALUE(Priv, '$.is_role'), 0) AND User NOT IN ('', 'PUBLIC', 'mariadb.sys') ORDER BY 1, 2 LIMIT 20000`, func(r *sql.Rows) error {
		var user, host string
		err := r.Scan(&user, &host)
		c.Owners = append(c.Owners, user+"@"+host)
		return err
	})
	if err != nil {
		// Without rights on the grant tables accounts cannot be offered.
		c.Owners = nil
	}
	return c, nil
}

// readEncodings reads character sets and their collations by full name: the
// short names of newer collations are refused without a character set beside.
func (s *server) readEncodings(ctx context.Context, c *catalog.Choices, defEncoding, defCollation string) error {
	err := s.query(ctx, "read character sets", `SELECT CHARACTER_SET_NAME, DEFAULT_COLLATE_NAME, DESCRIPTION FROM information_schema.CHARACTER_SETS ORDER BY 1`, func(r *sql.Rows) error {
		var e catalog.Encoding
		err := r.Scan(&e.Name, &e.Collation, &e.Comment)
		e.Default = e.Name == defEncoding
		c.Encodings = append(c.Encodings, e)
		return err
	})
	if err != nil {
		return err
	}
	full := "FULL_COLLATION_NAME"
	var has int
	if err := s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = 'information_schema'
		AND TABLE_NAME = 'COLLATION_CHARACTER_SET_APPLICABILITY' AND COLUMN_NAME = 'FULL_COLLATION_NAME'`).Scan(&has); err != nil {
		return wrap("read collations", err)
	}
	if has == 0 {
		full = "COLLATION_NAME"
	}
	return s.query(ctx, "read collations", `SELECT `+full+`, CHARACTER_SET_NAME FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY
		WHERE CHARACTER_SET_NAME IS NOT NULL ORDER BY 2, 1`, func(r *sql.Rows) error {
		var l catalog.Collation
		err := r.Scan(&l.Name, &l.Encoding)
		l.Default = l.Name == defCollation
		c.Collations = append(c.Collations, l)
		return err
	})
}

// Snapshot reads what planning the intent needs.
func (s *server) Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server}
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		snap.Instance, err = s.Inspect(gctx)
		return err
	})
	group.Go(func() error {
		var fold int
		if err := s.db.QueryRowContext(gctx, "SELECT @@lower_case_table_names").Scan(&fold); err != nil {
			return wrap("read the server", err)
		}
		snap.FoldsCase = fold == 1
		return s.query(gctx, "list databases", `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA`, func(r *sql.Rows) error {
			var name string
			err := r.Scan(&name)
			snap.Names = append(snap.Names, name)
			return err
		})
	})
	group.Go(func() error { return s.readSessions(gctx, in, &snap) })
	err := group.Wait()
	if err != nil {
		return snap, err
	}
	group, gctx = errgroup.WithContext(ctx)
	group.Go(func() error { return s.readAccountSide(gctx, in, &snap) })
	if in.Database != nil {
		s.readDatabaseSide(gctx, group, in, &snap)
	}
	err = group.Wait()
	if err == nil && snap.Doomed != nil {
		snap.Doomed.OnlyFor = onlyFor(*snap.Access, snap.Target.Name)
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, err
}

// readDatabaseSide has the group read what planning for a database needs beside
// accounts and grants; each part fills fields of its own.
func (s *server) readDatabaseSide(ctx context.Context, group *errgroup.Group, in change.Intent, snap *catalog.Snapshot) {
	spec := in.Database
	name := folded(spec.Name, snap.FoldsCase)
	if slices.Contains(snap.Names, name) {
		group.Go(func() error {
			d, err := s.Database(ctx, name)
			if err != nil {
				return err
			}
			snap.Target = &d
			return nil
		})
		if in.Kind == change.DropDatabase {
			group.Go(func() (err error) {
				if snap.Doomed, err = s.readDoomed(ctx, name, snap.Names); err == nil {
					snap.Doomed.MayDrop, snap.Doomed.Remedy = snap.Instance.Login.May("drop_database"), snap.Instance.Login.Remedy("drop_database")
				}
				return err
			})
		}
	}
	if spec.Encoding != "" || spec.Collation != "" {
		group.Go(func() error {
			return s.readEncodings(ctx, &snap.Choices, snap.Instance.Encoding, snap.Instance.Collation)
		})
	}
	group.Go(func() (err error) {
		if spec.Owner != "" {
			if err := s.readOwner(ctx, spec.Owner, snap); err != nil {
				return err
			}
		}
		if snap.Leftover, err = s.readLeftover(ctx, name); err != nil {
			// Without rights on the grant tables this cannot be known; the brief
			// says so, because the missing ability is known.
			snap.Leftover = nil
		}
		return nil
	})
}

// folded is the name as the server will store it.
func folded(name string, folds bool) string {
	if folds {
		return strings.ToLower(name)
	}
	return name
}

// splitAccount splits name@host at the last @; host is "" when none is given.
func splitAccount(text string) (name, host string) {
	if at := strings.LastIndexByte(text, '@'); at >= 0 {
		return text[:at], text[at+1:]
	}
	return text, ""
}

// readOwner looks for the accounts that the asked-for owner can mean.
func (s *server) readOwner(ctx context.Context, owner string, snap *catalog.Snapshot) error {
	name, host := splitAccount(owner)
	snap.OwnerAllowed = true
	return s.query(ctx, "look for the owner", `SELECT User, Host FROM mysql.global_priv WHERE BINARY User = ? AND (? = '' OR Host = ?)
		AND NOT COALESCE(JSON_VALUE(Priv, '$.is_role'), 0) ORDER BY 2`, func(r *sql.Rows) error {
		var user, at string
		err := r.Scan(&user, &at)
		snap.OwnerFound = append(snap.OwnerFound, user+"@"+at)
		return err
	}, name, host, strings.ToLower(host))
}

// readLeftover finds grants that name a database which does not exist: they
// would open the new one to their holders at once. A pattern that fits others
// too is a grant like any other, and is told as well. Sources: mysql.db,
// tables_priv, columns_priv, procs_priv.
func (s *server) readLeftover(ctx context.Context, name string) ([]string, error) {
	var out []string
	who := func(user, host string) string {
		if host == "" {
			return user // a role, or PUBLIC
		}
		return user + "@" + host
	}
	err := s.query(ctx, "look for grants on that name", `SELECT DISTINCT Db, User, Host FROM mysql.db ORDER BY 2, 3, 1`, func(r *sql.Rows) error {
		var pattern, user, host string
		err := r.Scan(&pattern, &user, &host)
		if access.Matches(pattern, name) || pattern == name {
			text := fmt.Sprintf("%s on the database", who(user, host))
			if pattern != access.Escaped(name) {
				text = fmt.Sprintf("%s through the pattern %s", who(user, host), pattern)
			}
			out = append(out, text)
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	for _, t := range []struct{ table, column, what string }{
		{"tables_priv", "Table_name", "table"}, {"columns_priv", "Table_name", "columns of"}, {"procs_priv", "Routine_name", "routine"},
	} {
		err := s.query(ctx, "look for grants on that name", `SELECT DISTINCT User, Host, `+t.column+` FROM mysql.`+t.table+` WHERE Db = ? ORDER BY 1, 2, 3 LIMIT 50`, func(r *sql.Rows) error {
			var user, host, object string
			err := r.Scan(&user, &host, &object)
			out = append(out, fmt.Sprintf("%s on %s %s", who(user, host), t.what, object))
			return err
		}, name)
		if err != nil {
			return nil, err
		}
	}
	return out, nil
}

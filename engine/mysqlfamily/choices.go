package mysqlfamily

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// Choices reads lists of what can be chosen.
func (s *server) Choices(ctx context.Context, keys ...string) (catalog.Choices, error) {
	return engine.ReadChoices(ctx, keys, map[string]func(context.Context) ([]catalog.Choice, error){
		"encodings": s.readEncodings, "collations": s.readCollations, "owners": s.readAccountNames,
		"templates": s.readTemplates,
	})
}

// readAccountNames reads the accounts. Without rights on the grant tables none can be
// offered.
func (s *server) readAccountNames(ctx context.Context) ([]catalog.Choice, error) {
	out := []catalog.Choice{}
	err := s.query(ctx, "read accounts", s.product.accountNames, func(r *sql.Rows) error {
		var user, host string
		err := r.Scan(&user, &host)
		out = append(out, catalog.Choice{Name: user + "@" + host})
		return err
	})
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Refused {
		return nil, nil
	}
	return out, err
}

// readEncodings reads the character sets, each with its own default collation.
// Source: information_schema.CHARACTER_SETS.
func (s *server) readEncodings(ctx context.Context) ([]catalog.Choice, error) {
	var out []catalog.Choice
	err := s.query(ctx, "read character sets",
		`SELECT CHARACTER_SET_NAME, DEFAULT_COLLATE_NAME, DESCRIPTION, CHARACTER_SET_NAME = @@character_set_server
		FROM information_schema.CHARACTER_SETS ORDER BY 1`, func(r *sql.Rows) error {
			var c catalog.Choice
			var collation string
			err := r.Scan(&c.Name, &collation, &c.Title, &c.Default)
			c.Properties = catalog.Values{"collation": collation}
			out = append(out, c)
			return err
		})
	return out, err
}

// readCollations reads the collations by full name: the short names of newer ones are
// refused without a character set beside.
// Source: information_schema.COLLATION_CHARACTER_SET_APPLICABILITY.
func (s *server) readCollations(ctx context.Context) ([]catalog.Choice, error) {
	full, err := s.product.collationName(ctx, s)
	if err != nil {
		return nil, err
	}
	var out []catalog.Choice
	err = s.query(ctx, "read collations", `SELECT `+full+`, CHARACTER_SET_NAME, `+full+` = @@collation_server
		FROM information_schema.COLLATION_CHARACTER_SET_APPLICABILITY WHERE CHARACTER_SET_NAME IS NOT NULL ORDER BY 2, 1`, func(r *sql.Rows) error {
		var c catalog.Choice
		err := r.Scan(&c.Name, &c.For, &c.Default)
		out = append(out, c)
		return err
	})
	return out, err
}

// Snapshot reads what planning the intent needs.
func (s *server) Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server, Details: &details{}}
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
		detailsOf(snap.Details).FoldsCase = fold == 1
		var err error
		snap.Names, err = s.readNames(gctx)
		return err
	})
	group.Go(func() error { return s.readSessions(gctx, in, &snap) })
	err := group.Wait()
	if err != nil {
		return snap, err
	}
	group, gctx = errgroup.WithContext(ctx)
	group.Go(func() error { return s.readAccountSide(gctx, in, &snap) })
	if in.Holding != nil {
		group.Go(func() error { return s.readHoldingSide(gctx, in, &snap) })
	}
	if in.Database != nil {
		s.readDatabaseSide(gctx, group, in, &snap)
	}
	err = group.Wait()
	if err == nil && snap.DropImpact != nil && in.Kind == change.DropDatabase {
		snap.DropImpact.ExclusiveAccounts = onlyFor(*snap.Access, snap.Target.Name)
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, err
}

// readNames lists all databases. Source: information_schema.SCHEMATA.
func (s *server) readNames(ctx context.Context) ([]string, error) {
	var out []string
	err := s.query(ctx, "list databases", `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA`,
		func(r *sql.Rows) error {
			var name string
			err := r.Scan(&name)
			out = append(out, name)
			return err
		})
	return out, err
}

const lacksPrivilege = "it lacks the privilege"

// readDatabaseSide has the group read what planning for a database needs beside
// accounts and grants; each part fills fields of its own.
func (s *server) readDatabaseSide(ctx context.Context, group *errgroup.Group, in change.Intent,
	snap *catalog.Snapshot) {
	spec := in.Database
	name := folded(spec.Name, detailsOf(snap.Details).FoldsCase)
	if slices.Contains(snap.Names, name) {
		group.Go(func() error {
			d, err := s.Database(ctx, name)
			if err != nil {
				return err
			}
			snap.Target = &d
			return nil
		})
		switch in.Kind {
		case change.AlterDatabase:
			login := snap.Instance.Login
			snap.DropImpact = &catalog.DropImpact{MayDrop: login.May("alter_database"), Denied: lacksPrivilege,
				Remedy: login.Remedy("alter_database")}
		case change.FillDatabase:
			group.Go(func() error { return s.readFillSide(ctx, name, &detailsOf(snap.Details).Filling) })
		case change.DropDatabase, change.SetAside:
			group.Go(func() error { return s.readTakeSide(ctx, in, name, snap) })
		}
	}
	// A character set is chosen with its own collation, and a collation belongs to one.
	var lists []string
	if spec.Options.Has("encoding") || spec.Options.Has("collation") {
		lists = append(lists, "encodings", "collations")
	}
	if template := spec.Options.Text("template"); template != "" {
		lists = append(lists, "templates")
		group.Go(func() error {
			return s.readCopySide(ctx, folded(template, detailsOf(snap.Details).FoldsCase), snap)
		})
	}
	if len(lists) > 0 {
		group.Go(func() (err error) {
			snap.Choices, err = s.Choices(ctx, lists...)
			return err
		})
	}
	group.Go(func() (err error) {
		if in.Kind == change.AlterDatabase {
			return s.readAlterSide(ctx, in, name, snap)
		}
		if owner := spec.Options.Text("owner") + spec.Options.Text(runAs); owner != "" {
			if err := s.readOwner(ctx, owner, snap); err != nil {
				return err
			}
		}
		if detailsOf(snap.Details).Leftover, err = s.readLeftover(ctx, name); err != nil {
			// Without rights on the grant tables this cannot be known; the brief
			// says so, because the missing ability is known.
			detailsOf(snap.Details).Leftover = nil
		}
		return nil
	})
}

// readTakeSide reads what planning needs of a database that is to go.
func (s *server) readTakeSide(ctx context.Context, in change.Intent, name string, snap *catalog.Snapshot) (err error) {
	if snap.DropImpact, err = s.readDropImpact(ctx, name, snap.Names); err != nil {
		return err
	}
	login := snap.Instance.Login
	snap.DropImpact.MayDrop, snap.DropImpact.Denied = login.May("drop_database"), lacksPrivilege
	snap.DropImpact.Remedy = login.Remedy("drop_database")
	if in.Database != nil && in.Database.Options.Bool(planning.ExportFirst) {
		d := detailsOf(snap.Details)
		d.Program, d.NoProgram = s.dumpProgram(ctx)
	}
	if in.Kind != change.DropDatabase {
		dropDetailsOf(snap.DropImpact.Details).Objects, err = s.readObjects(ctx, name)
	}
	return err
}

// readHoldingSide reads what planning needs of a database that waits.
func (s *server) readHoldingSide(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	held := in.Holding.ID
	if !slices.Contains(snap.Names, held) || !storable(held) {
		return nil
	}
	d, err := s.Database(ctx, held)
	if err != nil || d.Held == nil {
		return err
	}
	snap.Target = &d
	if err := s.readTakeSide(ctx, in, held, snap); err != nil {
		return err
	}
	dropDetailsOf(snap.DropImpact.Details).Saved, err = s.readSaved(ctx, held)
	return err
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
	return s.query(ctx, "look for the owner",
		s.product.owner, func(r *sql.Rows) error {
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
	err := s.query(ctx, "look for grants on that name", `SELECT DISTINCT Db, User, Host FROM mysql.db ORDER BY 2, 3, 1`,
		func(r *sql.Rows) error {
			var pattern, user, host string
			err := r.Scan(&pattern, &user, &host)
			if matches(pattern, name) || pattern == name {
				text := fmt.Sprintf("%s on the database", who(user, host))
				if pattern != escaped(name) {
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
		{"tables_priv", "Table_name", "table"}, {"columns_priv", "Table_name", "columns of"},
		{"procs_priv", "Routine_name", "routine"},
	} {
		err := s.query(ctx, "look for grants on that name",
			`SELECT DISTINCT User, Host, `+t.column+` FROM mysql.`+t.table+` WHERE Db = ? ORDER BY 1, 2, 3 LIMIT 50`,
			func(r *sql.Rows) error {
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

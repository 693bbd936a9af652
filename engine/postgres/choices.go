package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
)

// lastServerEncoding is the highest number of an encoding that a database can
// have; those behind it exist on clients only. The same from 15 to 18.
const lastServerEncoding = 34

// Choices reads what can be chosen for a new database.
func (s *server) Choices(ctx context.Context) (catalog.Choices, error) {
	var c catalog.Choices
	var number int
	var defEncoding, defCollation, defTablespace string
	err := s.pool.QueryRow(ctx, `SELECT current_setting('server_version_num')::int, pg_catalog.pg_encoding_to_char(d.encoding)::text,
		d.datcollate::text, t.spcname::text FROM pg_catalog.pg_database d
		JOIN pg_catalog.pg_tablespace t ON t.oid = d.dattablespace WHERE d.datname = 'template1'`).
		Scan(&number, &defEncoding, &defCollation, &defTablespace)
	if err != nil {
		return c, wrap("read the defaults", err)
	}
	c.Providers, c.Strategies = providers(number), []string{strategyWAL, strategyCopy}
	if c.Encodings, err = collect(ctx, s.pool, "read encodings", func(row pgx.CollectableRow) (e catalog.Encoding, err error) {
		err = row.Scan(&e.Name)
		e.Default = e.Name == defEncoding
		return e, err
	}, `SELECT name FROM (SELECT pg_catalog.pg_encoding_to_char(i)::text AS name FROM generate_series(0, $1::int) i) e
		WHERE name <> '' ORDER BY 1`, lastServerEncoding); err != nil {
		return c, err
	}
	if c.Collations, err = collect(ctx, s.pool, "read collations", func(row pgx.CollectableRow) (l catalog.Collation, err error) {
		err = row.Scan(&l.Name, &l.Encoding, &l.Provider)
		l.Default = l.Provider == providerLibc && sameLocale(l.Name, defCollation)
		return l, err
	}, `SELECT DISTINCT coalesce(nullif(collcollate, ''), pg_catalog.to_jsonb(c)->>'colllocale', pg_catalog.to_jsonb(c)->>'colliculocale', collname::text) AS name,
		CASE WHEN collencoding < 0 THEN '' ELSE pg_catalog.pg_encoding_to_char(collencoding)::text END,
		CASE collprovider WHEN 'i' THEN 'icu' WHEN 'b' THEN 'builtin' ELSE 'libc' END AS provider
		FROM pg_catalog.pg_collation c WHERE collprovider IN ('c', 'i', 'b') ORDER BY provider DESC, name`); err != nil {
		return c, err
	}
	// A server may have been made with a libc locale that was not imported.
	if !hasCollation(c.Collations, defCollation) {
		c.Collations = append(c.Collations, catalog.Collation{Name: defCollation, Provider: providerLibc, Default: true})
	}
	if c.Templates, err = s.readTemplates(ctx); err != nil {
		return c, err
	}
	if c.Tablespaces, err = collect(ctx, s.pool, "read tablespaces", func(row pgx.CollectableRow) (t catalog.Tablespace, err error) {
		err = row.Scan(&t.Name, &t.Owner, &t.Location, &t.Size)
		t.Default = t.Name == defTablespace
		return t, err
	}, `SELECT spcname::text, pg_catalog.pg_get_userbyid(spcowner)::text, pg_catalog.pg_tablespace_location(oid),
		CASE WHEN pg_catalog.has_tablespace_privilege(oid, 'CREATE') OR pg_catalog.pg_has_role('pg_read_all_stats', 'USAGE')
			THEN pg_catalog.pg_tablespace_size(oid) END
		FROM pg_catalog.pg_tablespace WHERE spcname <> 'pg_global' ORDER BY 1`); err != nil {
		return c, err
	}
	c.Owners, err = collect(ctx, s.pool, "read roles", pgx.RowTo[string],
		`SELECT rolname::text FROM pg_catalog.pg_roles WHERE rolname !~ '^pg_' ORDER BY 1 LIMIT 20000`)
	return c, err
}

func hasCollation(list []catalog.Collation, name string) bool {
	for _, c := range list {
		if sameLocale(c.Name, name) {
			return true
		}
	}
	return false
}

// others leaves out of pg_stat_activity (a) who is in nobody's way: the session
// that asks, autovacuum, which the server itself sends off, and our own counting
// of tables, which keeps away while something is copied.
const others = `a.pid <> pg_catalog.pg_backend_pid() AND coalesce(a.backend_type, '') <> 'autovacuum worker'
	AND NOT (coalesce(a.application_name, '') = 'genarch' AND a.usename = current_user AND a.datname <> current_database())`

// templateColumns reads what a copy would take over, and whether the login may
// copy: template flag, ownership or superuser.
const templateColumns = `SELECT d.datname::text, pg_catalog.pg_encoding_to_char(d.encoding)::text, d.datcollate::text, d.datctype::text,
	CASE d.datlocprovider WHEN 'i' THEN 'icu' WHEN 'b' THEN 'builtin' ELSE 'libc' END,
	coalesce(pg_catalog.to_jsonb(d)->>'datlocale', pg_catalog.to_jsonb(d)->>'daticulocale', ''),
	d.datistemplate OR pg_catalog.pg_has_role(d.datdba, 'USAGE'), d.datconnlimit = -2,
	(SELECT count(*)::int FROM pg_catalog.pg_stat_activity a WHERE a.datid = d.oid
		AND ` + others + `),
	coalesce(pg_catalog.shobj_description(d.oid, 'pg_database'), ''), s.spcname::text
	FROM pg_catalog.pg_database d JOIN pg_catalog.pg_tablespace s ON s.oid = d.dattablespace`

func scanTemplate(row pgx.CollectableRow) (catalog.Template, error) {
	var t catalog.Template
	var allowed, invalid bool
	err := row.Scan(&t.Name, &t.Encoding, &t.Collation, &t.CType, &t.Provider, &t.Locale, &allowed, &invalid, &t.Sessions, &t.Comment, &t.Tablespace)
	t.Default = t.Name == defaultTemplate
	switch {
	case invalid:
		t.Why = "it was left over by an interrupted drop"
	case !allowed:
		t.Why = "it is no template, and only its owner or a superuser may copy it"
	default:
		t.Usable = true
	}
	return t, err
}

func (s *server) readTemplates(ctx context.Context) ([]catalog.Template, error) {
	return collect(ctx, s.pool, "read templates", scanTemplate,
		templateColumns+` WHERE d.datistemplate ORDER BY d.datname`)
}

// collect runs a query and scans all its rows.
func collect[T any](ctx context.Context, q querier, op string, scan pgx.RowToFunc[T], sql string, args ...any) ([]T, error) {
	rows, err := q.Query(ctx, sql, args...)
	if err != nil {
		return nil, wrap(op, err)
	}
	out, err := pgx.CollectRows(rows, scan)
	return out, wrap(op, err)
}

// Snapshot reads what planning the intent needs: only that, so that a change
// on a server with thousands of databases stays quick.
func (s *server) Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server}
	var err error
	switch in.Kind {
	case change.DropDatabase, change.RenameDatabase, change.MoveDatabase:
		return s.takeSnapshot(ctx, in)
	case change.CreateDatabase:
	default:
		return s.accountSnapshot(ctx, in)
	}
	spec := in.Database
	wanted := spec.Template
	if wanted == "" {
		wanted = defaultTemplate
	}
	var templates []catalog.Template
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		snap.Instance, err = s.Inspect(gctx)
		return err
	})
	group.Go(func() (err error) {
		snap.Names, err = s.databaseNames(gctx)
		return err
	})
	group.Go(func() (err error) {
		templates, err = collect(gctx, s.pool, "read templates", scanTemplate, templateColumns+` WHERE d.datname::text = ANY($1)`, []string{wanted, pristine})
		return err
	})
	if spec.Team != nil || len(spec.Allow) > 0 {
		group.Go(func() error {
			list, _, err := s.readAccounts(gctx, s.pool)
			snap.Access = &catalog.Access{Engine: catalog.PostgreSQL, Accounts: list}
			if err != nil || spec.Team == nil || spec.Template == "" || spec.Template == pristine {
				return err
			}
			// What the template holds, the copy will hold.
			d := catalog.AccessDatabase{Name: spec.Template}
			if d.Interior, err = s.readInterior(gctx, spec.Template, nil); err != nil {
				d.Why = err.Error()
			}
			snap.Access.Databases = append(snap.Access.Databases, d)
			return nil
		})
	}
	if err := group.Wait(); err != nil {
		return snap, err
	}
	for _, name := range snap.Names {
		if name == spec.Name {
			d, err := s.readDatabase(ctx, s.pool, name)
			if err != nil {
				return snap, err
			}
			snap.Target = &d
		}
	}
	snap.Choices.Templates = templates
	for i, t := range templates {
		if t.Name != wanted {
			continue
		}
		snap.Template = &templates[i]
		if t.Sessions > 0 {
			if snap.TemplateUsers, err = s.readUsers(ctx, t.Name); err != nil {
				return snap, err
			}
		}
	}
	if in.Clearing != nil && snap.Template != nil {
		d, err := s.readDatabase(ctx, s.pool, snap.Template.Name)
		if err != nil {
			return snap, err
		}
		snap.Source = &d
		if err := s.pool.QueryRow(ctx, `SELECT pg_catalog.pg_has_role(datdba, 'USAGE') FROM pg_catalog.pg_database WHERE oid = $1::oid`, uint32(d.Key)).Scan(&snap.SourceMine); err != nil {
			return snap, wrap("read the template's owner", err)
		}
		if err := s.connected(ctx, in, &snap); err != nil {
			return snap, err
		}
	}
	snap.Choices.Providers = providers(snap.Instance.Number)
	if err := s.readAsked(ctx, spec, &snap); err != nil {
		return snap, err
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, nil
}

// readAsked reads the choices that the intent names, and nothing for those
// that it leaves to the defaults.
func (s *server) readAsked(ctx context.Context, spec *change.DatabaseSpec, snap *catalog.Snapshot) error {
	needChoices := spec.Encoding != "" || spec.Collation != "" || spec.CType != "" || spec.Locale != "" || spec.Tablespace != ""
	if needChoices {
		c, err := s.Choices(ctx)
		if err != nil {
			return err
		}
		c.Templates = snap.Choices.Templates
		snap.Choices = c
	}
	if spec.Owner == "" {
		return nil
	}
	check := "'MEMBER'"
	if snap.Instance.Number >= 160000 {
		check = "'SET'"
	}
	rows, err := s.pool.Query(ctx, `SELECT rolname::text, pg_catalog.pg_has_role(oid, `+check+`) FROM pg_catalog.pg_roles WHERE rolname::text = $1::text`, spec.Owner)
	if err != nil {
		return wrap("look for the owner", err)
	}
	var name string
	_, err = pgx.ForEachRow(rows, []any{&name, &snap.OwnerAllowed}, func() error {
		snap.OwnerFound = append(snap.OwnerFound, name)
		return nil
	})
	return wrap("look for the owner", err)
}

// readUsers says who is connected to a database: "account from client (program)".
func (s *server) readUsers(ctx context.Context, name string) ([]string, error) {
	return collect(ctx, s.pool, "look who is connected to "+naming.Show(name), func(row pgx.CollectableRow) (string, error) {
		var account, program, client string
		err := row.Scan(&account, &program, &client)
		text := account
		if client != "" {
			text += " from " + client
		}
		if program != "" {
			text += fmt.Sprintf(" (%s)", naming.Show(program))
		}
		return text, err
	}, `SELECT coalesce(usename::text, backend_type, '?'), coalesce(application_name, ''), coalesce(host(client_addr), '')
		FROM pg_catalog.pg_stat_activity a WHERE datname::text = $1::text AND `+others+` ORDER BY 1 LIMIT 20`, name)
}

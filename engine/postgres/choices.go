package postgres

import (
	"context"
	"fmt"
	"slices"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// lastServerEncoding is the highest number of an encoding that a database can
// have; those behind it exist on clients only. The same from 15 to 18.
const lastServerEncoding = 34

// Choices reads lists of what can be chosen.
func (s *server) Choices(ctx context.Context, keys ...string) (catalog.Choices, error) {
	return engine.ReadChoices(ctx, keys, map[string]func(context.Context) ([]catalog.Choice, error){
		"encodings": s.readEncodings, "collations": s.readCollations, "locales": s.readLocales,
		"templates":   s.readTemplates,
		"tablespaces": s.readTablespaces, "owners": s.readOwners, "settings": s.readSettings,
	})
}

// usual reads what the template has that is copied when nothing is said.
const usual = `(SELECT %s FROM pg_catalog.pg_database d WHERE d.datname = 'template1')`

// readEncodings reads the encodings that a database can have. Source: pg_encoding_to_char.
func (s *server) readEncodings(ctx context.Context) ([]catalog.Choice, error) {
	return collect(ctx, s.pool, "read encodings", func(row pgx.CollectableRow) (c catalog.Choice, err error) {
		return c, row.Scan(&c.Name, &c.Default)
	}, `SELECT name, name = `+fmt.Sprintf(usual, "pg_catalog.pg_encoding_to_char(d.encoding)::text")+`
		FROM (SELECT pg_catalog.pg_encoding_to_char(i)::text AS name FROM generate_series(0, $1::int) i) e WHERE name <> '' ORDER BY 1`, lastServerEncoding)
}

// readCollations reads the locales of the C library. Source: pg_collation.
func (s *server) readCollations(ctx context.Context) ([]catalog.Choice, error) {
	var usualName string
	if err := s.pool.QueryRow(ctx, `SELECT `+fmt.Sprintf(usual, "d.datcollate::text")).Scan(&usualName); err != nil {
		return nil, wrap("read the defaults", err)
	}
	found := false
	list, err := collect(ctx, s.pool, "read collations", func(row pgx.CollectableRow) (c catalog.Choice, err error) {
		err = row.Scan(&c.Name, &c.For)
		c.Default = sameLocale(c.Name, usualName)
		found = found || c.Default
		return c, err
	}, `SELECT DISTINCT coalesce(nullif(collcollate, ''), collname::text) AS name,
		CASE WHEN collencoding < 0 THEN '' ELSE pg_catalog.pg_encoding_to_char(collencoding)::text END
		FROM pg_catalog.pg_collation c WHERE collprovider = 'c' ORDER BY name`)
	if err == nil && !found {
		// A server may have been made with a locale that was not imported.
		list = append(list, catalog.Choice{Name: usualName, Default: true})
	}
	return list, err
}

// readLocales reads the locales of the other providers. Source: pg_collation.
func (s *server) readLocales(ctx context.Context) ([]catalog.Choice, error) {
	return collect(ctx, s.pool, "read locales", func(row pgx.CollectableRow) (c catalog.Choice, err error) {
		return c, row.Scan(&c.Name, &c.For)
	}, `SELECT DISTINCT coalesce(nullif(collcollate, ''), pg_catalog.to_jsonb(c)->>'colllocale', pg_catalog.to_jsonb(c)->>'colliculocale', collname::text) AS name,
		CASE collprovider WHEN 'i' THEN 'icu' ELSE 'builtin' END AS provider
		FROM pg_catalog.pg_collation c WHERE collprovider IN ('i', 'b') ORDER BY provider DESC, name`)
}

// readTablespaces reads the places on disk. Source: pg_tablespace.
func (s *server) readTablespaces(ctx context.Context) ([]catalog.Choice, error) {
	return collect(ctx, s.pool, "read tablespaces", func(row pgx.CollectableRow) (c catalog.Choice, err error) {
		var owner, location string
		var size *int64
		err = row.Scan(&c.Name, &owner, &location, &size, &c.Default)
		c.Properties = catalog.Values{"owner": owner}.With("location", location)
		if size != nil {
			c.Properties["size"] = *size
		}
		return c, err
	}, `SELECT spcname::text, pg_catalog.pg_get_userbyid(spcowner)::text, pg_catalog.pg_tablespace_location(oid),
		CASE WHEN pg_catalog.has_tablespace_privilege(oid, 'CREATE') OR pg_catalog.pg_has_role('pg_read_all_stats', 'USAGE')
			THEN pg_catalog.pg_tablespace_size(oid) END,
		oid = `+fmt.Sprintf(usual, "d.dattablespace")+`
		FROM pg_catalog.pg_tablespace WHERE spcname <> 'pg_global' ORDER BY 1`)
}

// readOwners reads the roles that can own a database. Source: pg_roles.
func (s *server) readOwners(ctx context.Context) ([]catalog.Choice, error) {
	return collect(ctx, s.pool, "read roles", func(row pgx.CollectableRow) (c catalog.Choice, err error) {
		return c, row.Scan(&c.Name)
	}, `SELECT rolname::text FROM pg_catalog.pg_roles WHERE rolname !~ '^pg_' ORDER BY 1 LIMIT 20000`)
}

// readSettings reads the settings that a database can have: those that a session
// can begin with. Source: pg_settings, contexts user, superuser and backend.
func (s *server) readSettings(ctx context.Context) ([]catalog.Choice, error) {
	return collect(ctx, s.pool, "read settings", func(row pgx.CollectableRow) (c catalog.Choice, err error) {
		var kind, unit string
		var values []string
		err = row.Scan(&c.Name, &c.Title, &kind, &unit, &values)
		c.Properties = catalog.Values{"type": kind}.With("unit", unit)
		if len(values) > 0 {
			c.Properties["values"] = values
		}
		return c, err
	}, `SELECT name, short_desc, vartype, coalesce(unit, ''), enumvals FROM pg_catalog.pg_settings
		WHERE context IN ('user', 'superuser', 'backend', 'superuser-backend') ORDER BY 1`)
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
	coalesce(pg_catalog.shobj_description(d.oid, 'pg_database'), ''), s.spcname::text,
	coalesce(d.datcollversion, ''), coalesce(pg_catalog.pg_database_collation_actual_version(d.oid), '')
	FROM pg_catalog.pg_database d JOIN pg_catalog.pg_tablespace s ON s.oid = d.dattablespace`

func scanTemplate(row pgx.CollectableRow) (catalog.Choice, error) {
	var c catalog.Choice
	var encoding, collation, ctype, provider, locale, comment, tablespace, version, actual string
	var allowed, invalid bool
	var sessions int64
	err := row.Scan(&c.Name, &encoding, &collation, &ctype, &provider, &locale, &allowed, &invalid, &sessions, &comment,
		&tablespace, &version, &actual)
	c.Default = c.Name == defaultTemplate
	c.Properties = catalog.Values{"encoding": encoding, "collation": collation, "ctype": ctype, "provider": provider,
		"tablespace": tablespace, "sessions": sessions}.With("locale", locale).With("comment", comment)
	if version != "" && version != actual {
		c.Properties["collation_version"], c.Properties["system_collation_version"] = version, actual
	}
	switch {
	case invalid:
		c.Why = "it was left over by an interrupted drop"
	case !allowed:
		c.Why = "it is no template, and only its owner or a superuser may copy it"
	}
	return c, err
}

func (s *server) readTemplates(ctx context.Context) ([]catalog.Choice, error) {
	return collect(ctx, s.pool, "read templates", scanTemplate,
		templateColumns+` WHERE d.datistemplate ORDER BY d.datname`)
}

// collect runs a query and scans all its rows.
func collect[T any](ctx context.Context, q querier, op string, scan pgx.RowToFunc[T], sql string, args ...any) ([]T,
	error) {
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
	if in.Holding != nil && in.Holding.Account {
		return s.accountSnapshot(ctx, in)
	}
	switch in.Kind {
	case change.DropDatabase, change.RenameDatabase, change.AlterDatabase, change.SetAside, change.BringBack,
		change.Discard, change.KeepHolding:
		return s.takeSnapshot(ctx, in)
	case change.CreateDatabase:
		return s.createSnapshot(ctx, in)
	case change.FillDatabase:
		return s.fillSnapshot(ctx, in)
	}
	return s.accountSnapshot(ctx, in)
}

func (s *server) createSnapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server, Details: &details{}}
	spec := in.Database
	wanted := spec.Options.Text("template")
	if wanted == "" {
		wanted = defaultTemplate
	}
	var templates []catalog.Choice
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
		templates, err = collect(gctx, s.pool, "read templates", scanTemplate,
			templateColumns+` WHERE d.datname::text = ANY($1)`, []string{wanted, pristine})
		return err
	})
	if spec.Team != nil || len(spec.Options.List("allow")) > 0 || spec.Options.Bool(copyGrants) {
		group.Go(func() error { return s.readTeamSide(gctx, spec, &snap) })
	}
	if err := group.Wait(); err != nil {
		return snap, err
	}
	if slices.Contains(snap.Names, spec.Name) {
		d, err := s.readDatabase(ctx, s.pool, spec.Name)
		if err != nil {
			return snap, err
		}
		snap.Target = &d
	}
	if err := s.readAsked(ctx, in, &snap); err != nil {
		return snap, err
	}
	snap.Choices["templates"] = templates
	if err := s.readTemplateUse(ctx, in, wanted, &snap); err != nil {
		return snap, err
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, nil
}

// readTeamSide reads the accounts that are there, and what a team will find in the
// copy of a template.
func (s *server) readTeamSide(ctx context.Context, spec *change.DatabaseSpec, snap *catalog.Snapshot) error {
	if spec.Options.Bool(copyGrants) && spec.Team == nil {
		a, err := s.Access(ctx, catalog.AccessQuery{})
		snap.Access = &a
		return err
	}
	list, _, err := s.readAccounts(ctx, s.pool, "")
	snap.Access = &catalog.Access{Accounts: list}
	template := spec.Options.Text("template")
	if err != nil || spec.Team == nil || template == "" || template == pristine {
		return err
	}
	d := catalog.AccessDatabase{Name: template}
	if d.Interior, err = s.readInterior(ctx, template, nil); err != nil {
		d.Why = err.Error()
	}
	snap.Access.Databases = append(snap.Access.Databases, d)
	return nil
}

// readTemplateUse reads who is in the template, and for clearing it what it is.
func (s *server) readTemplateUse(ctx context.Context, in change.Intent, wanted string, snap *catalog.Snapshot) error {
	t, ok := snap.Choices.Find("templates", wanted, nil)
	if !ok {
		return nil
	}
	if n, _ := t.Properties.Int("sessions"); n > 0 {
		var err error
		if detailsOf(snap.Details).TemplateUsers, err = s.readUsers(ctx, t.Name); err != nil {
			return err
		}
	}
	alike := in.Database.Options.Bool("as_template")
	if in.Clearing == nil && !alike {
		return nil
	}
	d, err := s.readDatabase(ctx, s.pool, t.Name)
	if err != nil {
		return err
	}
	snap.Source = &d
	if alike && !in.Database.Options.Has("owner") {
		if err := s.readOwner(ctx, d.Owner, snap); err != nil {
			return err
		}
	}
	if in.Clearing == nil {
		return nil
	}
	err = s.pool.QueryRow(ctx, `SELECT pg_catalog.pg_has_role(datdba, 'USAGE') FROM pg_catalog.pg_database WHERE oid = $1::oid`, oidOf(d.Key)).Scan(&detailsOf(snap.Details).SourceMine)
	if err != nil {
		return wrap("read the template's owner", err)
	}
	return s.connected(ctx, in, snap)
}

// readAsked reads the choices that the intent names, and nothing for those that it
// leaves to the defaults. Of the owners it reads only the one that is asked for: a
// server can have thousands.
func (s *server) readAsked(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	keys := description.Needs(in)
	keys = slices.DeleteFunc(keys, func(k string) bool { return k == "owners" || k == "templates" })
	var err error
	if snap.Choices, err = s.Choices(ctx, keys...); err != nil {
		return err
	}
	if owner := in.Database.Options.Text("owner"); owner != "" {
		return s.readOwner(ctx, owner, snap)
	}
	return nil
}

// readOwner looks for a role, and whether Genarch's login may make it the owner.
func (s *server) readOwner(ctx context.Context, owner string, snap *catalog.Snapshot) error {
	check := "'MEMBER'"
	if snap.Instance.Number >= 160000 {
		check = "'SET'"
	}
	rows, err := s.pool.Query(ctx,
		`SELECT rolname::text, pg_catalog.pg_has_role(oid, `+check+
			`) FROM pg_catalog.pg_roles WHERE rolname::text = $1::text`, owner)
	if err != nil {
		return wrap("look for the owner", err)
	}
	var name string
	_, err = pgx.ForEachRow(rows, []any{&name, &snap.OwnerAllowed}, func() error {
		snap.Choices["owners"] = append(snap.Choices["owners"], catalog.Choice{Name: name})
		return nil
	})
	return wrap("look for the owner", err)
}

// readUsers says who is connected to a database: "account from client (program)".
func (s *server) readUsers(ctx context.Context, name string) ([]string, error) {
	return collect(ctx, s.pool, "look who is connected to "+naming.Show(name),
		func(row pgx.CollectableRow) (string, error) {
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

package postgres

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// querier is what reading needs: a pool or one connection.
type querier interface {
	Query(ctx context.Context, sql string, args ...any) (pgx.Rows, error)
	QueryRow(ctx context.Context, sql string, args ...any) pgx.Row
}

// readIdentity reads the system identifier (made at initdb, the same on every
// address) and, where the login may see it, the data folder, which tells a copy
// from the original. Source: pg_control_system; the view pg_settings, which has the
// folder too, takes twenty times as long.
func (s *shared) readIdentity(ctx context.Context, q querier) (catalog.Identity, error) {
	var id, dir string
	err := q.QueryRow(ctx, `SELECT system_identifier::text, CASE WHEN pg_catalog.pg_has_role('pg_read_all_settings', 'USAGE')
		THEN current_setting('data_directory') ELSE '' END FROM pg_catalog.pg_control_system()`).Scan(&id, &dir)
	if err != nil {
		return catalog.Identity{}, wrap("read the identity", err)
	}
	marks := map[string]string{}
	if dir != "" {
		marks["data_directory"] = dir
	}
	return s.transport.Marked(catalog.Identity{Key: "system identifier " + id, Marks: marks}), nil
}

// Inspect reads what the instance says of itself and what the login may do.
func (s *server) Inspect(ctx context.Context) (catalog.Instance, error) {
	const op = "read the server"
	in := catalog.Instance{Engine: ID, Read: time.Now().UTC()}
	id, err := s.readIdentity(ctx, s.pool)
	if err != nil {
		return in, err
	}
	in.Identity = id
	var standby, createdb, createrole, monitor, signal bool
	err = s.pool.QueryRow(ctx, `SELECT current_setting('server_version'), current_setting('server_version_num')::int,
		pg_catalog.pg_is_in_recovery(), pg_catalog.pg_postmaster_start_time(),
		(SELECT coalesce(sum(numbackends), 0)::int FROM pg_catalog.pg_stat_database), current_setting('max_connections')::int,
		r.rolname::text, r.rolsuper, r.rolcreatedb, r.rolcreaterole,
		pg_catalog.pg_has_role('pg_read_all_stats', 'USAGE'), pg_catalog.pg_has_role('pg_signal_backend', 'USAGE'),
		pg_catalog.pg_encoding_to_char(t.encoding)::text, t.datcollate::text,
		coalesce((SELECT ssl FROM pg_catalog.pg_stat_ssl WHERE pid = pg_catalog.pg_backend_pid()), false)
		FROM pg_catalog.pg_roles r, pg_catalog.pg_database t
		WHERE r.rolname = current_user AND t.datname = 'template1'`).Scan(&in.Version, &in.Number, &standby,
		&in.Started,
		&in.Sessions.Open, &in.Sessions.Allowed, &in.Login.Name, &in.Login.Superuser, &createdb, &createrole,
		&monitor, &signal, &in.Encoding, &in.Collation, &in.TLS)
	if err != nil {
		return in, wrap(op, err)
	}
	in.Version, _, _ = strings.Cut(in.Version, " ")
	if standby {
		in.ReadOnly = "it is a standby: nothing can be altered here, only on its primary"
	}
	held := map[string]bool{"create_database": createdb, "see_sessions": monitor, "end_sessions": signal,
		"manage_accounts": createrole}
	for _, a := range append(abilities, anyOwner) {
		ability := catalog.Ability{Code: a.code, Title: a.title, Allowed: in.Login.Superuser || held[a.code]}
		if !ability.Allowed {
			ability.Remedy = a.statement(quoteIdent(in.Login.Name))
		}
		in.Login.Abilities = append(in.Login.Abilities, ability)
	}
	return in, nil
}

// databaseColumns reads pg_database in a way that fits all versions: the ICU or
// builtin locale has another column name from 17 on, so it goes through jsonb.
// numbackends would count parallel workers too, so sessions come from
// pg_stat_activity without those that have a leader.
const databaseColumns = `SELECT d.oid::int8, d.datname::text, pg_catalog.pg_get_userbyid(d.datdba)::text,
	pg_catalog.pg_encoding_to_char(d.encoding)::text, d.datcollate::text, d.datctype::text,
	CASE d.datlocprovider WHEN 'c' THEN 'libc' WHEN 'i' THEN 'icu' WHEN 'b' THEN 'builtin' ELSE d.datlocprovider::text END,
	coalesce(pg_catalog.to_jsonb(d)->>'datlocale', pg_catalog.to_jsonb(d)->>'daticulocale', ''),
	t.spcname::text, d.datistemplate, d.datallowconn, d.datconnlimit,
	coalesce(pg_catalog.shobj_description(d.oid, 'pg_database'), ''),
	coalesce(d.datcollversion, ''), coalesce(pg_catalog.pg_database_collation_actual_version(d.oid), ''), coalesce(x.setconfig, '{}'),
	coalesce(a.sessions, 0)::int
	FROM pg_catalog.pg_database d
	LEFT JOIN pg_catalog.pg_tablespace t ON t.oid = d.dattablespace
	LEFT JOIN pg_catalog.pg_db_role_setting x ON x.setdatabase = d.oid AND x.setrole = 0
	LEFT JOIN (SELECT datid, count(*) AS sessions FROM pg_catalog.pg_stat_activity
		WHERE datid IS NOT NULL AND leader_pid IS NULL AND coalesce(backend_type, 'client backend') = 'client backend'
		GROUP BY datid) a ON a.datid = d.oid`

// invalidLimit is what datconnlimit says of a database that an interrupted drop
// left behind; only a drop helps there.
const invalidLimit = -2

func scanDatabase(row pgx.CollectableRow) (catalog.Database, error) {
	var d catalog.Database
	var key, limit int64
	var ctype, provider, locale, tablespace string
	var template, allowed bool
	var version, systemVersion string
	var settings []string
	var sessions int
	err := row.Scan(&key, &d.Name, &d.Owner, &d.Encoding, &d.Collation, &ctype, &provider, &locale,
		&tablespace, &template, &allowed, &limit, &d.Comment, &version, &systemVersion, &settings, &sessions)
	d.Key, d.Sessions, d.Closed, d.Broken = keyOf(key), &sessions, !allowed, limit == invalidLimit
	if d.Held = planning.ReadNote(d.Name, d.Comment); d.Held != nil {
		d.Held.Opened = allowed
	}
	d.System = d.Name == "postgres" || d.Name == "template0" || d.Name == "template1"
	d.Properties = catalog.Values{"ctype": ctype, "provider": provider, "tablespace": tablespace,
		"is_template":       template,
		"allow_connections": allowed, "connection_limit": "none"}.With("locale", locale)
	if limit >= 0 {
		d.Properties["connection_limit"] = limit
	}
	if len(settings) > 0 {
		d.Properties["settings"] = settingRows(settings)
	}
	stale := version != "" && systemVersion != "" && version != systemVersion
	if version != "" {
		d.Properties["collation_version"], d.Properties["system_collation_version"] = version, systemVersion
	}
	switch {
	case d.Broken:
		d.Trouble = "left over from an interrupted drop: nobody can connect, and only dropping it again helps"
	case stale:
		d.Trouble = "its collation has another version than when it was made: rebuild the indexes on " +
			"text, then have its version refreshed (an alteration, option refresh_collation)"
	}
	return d, err
}

// settingRows reads what pg_db_role_setting keeps: name=value.
func settingRows(list []string) []catalog.Values {
	var out []catalog.Values
	for _, text := range list {
		name, value, _ := strings.Cut(text, "=")
		out = append(out, catalog.Values{"name": name, "value": value})
	}
	return sortedSettings(out)
}

// sortedSettings puts settings in the order of their names: the server keeps them as
// they came.
func sortedSettings(rows []catalog.Values) []catalog.Values {
	slices.SortFunc(rows, func(a, b catalog.Values) int { return strings.Compare(a.Text("name"), b.Text("name")) })
	return rows
}

// Databases lists all databases. Sizes come from a second reading beside the
// first: one database that is dropped meanwhile must not fail the list.
func (s *server) Databases(ctx context.Context) (catalog.Listing, error) {
	out := catalog.Listing{Read: time.Now().UTC()}
	sizes := map[string]int64{}
	var sizesErr error
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		rows, err := s.pool.Query(gctx, databaseColumns+` ORDER BY 2`)
		if err != nil {
			return wrap("list databases", err)
		}
		out.Databases, err = pgx.CollectRows(rows, scanDatabase)
		return wrap("list databases", err)
	})
	group.Go(func() error {
		for try := 0; try < 2; try++ {
			if sizesErr = s.readSizes(gctx, sizes); sizesErr == nil {
				break
			}
		}
		return nil
	})
	group.Go(func() (err error) {
		out.HeldAccounts, err = s.heldAccounts(gctx)
		return err
	})
	if err := group.Wait(); err != nil {
		return out, err
	}
	if sizesErr != nil {
		out.Partial = append(out.Partial, "sizes could not be read: "+sizesErr.Error())
	}
	for i := range out.Databases {
		d := &out.Databases[i]
		if size, ok := sizes[d.Key]; ok {
			d.Size = &size
		}
	}
	for _, d := range out.Databases {
		if d.Held != nil {
			out.Held = append(out.Held, d)
		}
	}
	out.Databases = slices.DeleteFunc(out.Databases, func(d catalog.Database) bool { return d.Held != nil })
	s.counts.Fill(out.Databases, s.countTables)
	return out, nil
}

// readSizes sums the files of each database that the login may measure.
func (s *server) readSizes(ctx context.Context, into map[string]int64) error {
	rows, err := s.pool.Query(ctx, `SELECT oid::int8, pg_catalog.pg_database_size(oid) FROM pg_catalog.pg_database
		WHERE datconnlimit <> -2 AND (pg_catalog.pg_has_role('pg_read_all_stats', 'USAGE')
			OR pg_catalog.has_database_privilege(oid, 'CONNECT'))`)
	if err != nil {
		return wrap("read sizes", err)
	}
	var key, size int64
	_, err = pgx.ForEachRow(rows, []any{&key, &size}, func() error {
		into[keyOf(key)] = size
		return nil
	})
	return wrap("read sizes", err)
}

// sizeOf reads how large a database is, in bytes; nil where the login may not know.
func (s *server) sizeOf(ctx context.Context, key string) *int64 {
	var size int64
	if s.pool.QueryRow(ctx, `SELECT pg_catalog.pg_database_size($1::oid)`, oidOf(key)).Scan(&size) != nil {
		return nil
	}
	return &size
}

// Database reads one database and counts its tables now. Names are compared as
// text: compared as names, a too long one would match the name it is cut to.
func (s *server) Database(ctx context.Context, name string) (catalog.Database, error) {
	d, err := s.readDatabase(ctx, s.pool, name)
	if err != nil {
		return d, err
	}
	d.Size = s.sizeOf(ctx, d.Key)
	if n, err := s.counts.Count(ctx, d, s.countTables); err == nil {
		d.Tables, d.TablesAt = &n, time.Now().UTC()
	}
	return d, nil
}

// storable reports whether the server can store a name at all: it refuses to be
// asked for one that is no text, or holds a NUL.
func storable(name string) bool { return utf8.ValidString(name) && !strings.ContainsRune(name, 0) }

// readDatabase reads the catalogue row alone.
func (s *server) readDatabase(ctx context.Context, q querier, name string) (catalog.Database, error) {
	if !storable(name) {
		return catalog.Database{}, fmt.Errorf("database %s on %s: %w", naming.Show(name), s.target.Server.Name,
			engine.ErrNotFound)
	}
	rows, err := q.Query(ctx, databaseColumns+` WHERE d.datname::text = $1::text`, name)
	if err != nil {
		return catalog.Database{}, wrap("read database "+naming.Show(name), err)
	}
	d, err := pgx.CollectExactlyOneRow(rows, scanDatabase)
	if errors.Is(err, pgx.ErrNoRows) {
		return d, fmt.Errorf("database %s on %s: %w", naming.Show(name), s.target.Server.Name, engine.ErrNotFound)
	}
	return d, wrap("read database "+naming.Show(name), err)
}

// countTables connects to the database, for tables are known only inside it.
func (s *server) countTables(ctx context.Context, d catalog.Database) (int, error) {
	if d.Closed || d.Broken {
		return 0, engine.ErrNotFound
	}
	conn, err := s.dialDatabase(ctx, d.Name)
	if err != nil {
		return 0, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	var n int
	err = conn.QueryRow(ctx, `SELECT count(*) FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'f', 'm') AND NOT c.relispartition
		AND n.nspname <> 'information_schema' AND n.nspname NOT LIKE 'pg\_%'`).Scan(&n)
	return n, wrap("count tables", err)
}

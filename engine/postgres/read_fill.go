package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// maxRelations bounds the tables of a database that are held against a script.
const maxRelations = 20_000

// fillSnapshot reads what planning for the run of a script needs.
func (s *server) fillSnapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server}
	var err error
	if snap.Instance, err = s.Inspect(ctx); err != nil {
		return snap, err
	}
	if snap.Names, err = s.databaseNames(ctx); err != nil {
		return snap, err
	}
	x := &filling{}
	snap.Details = &details{Filling: x}
	snap.Self = role(snap.Instance.Login.Name)
	d, err := s.readDatabase(ctx, s.pool, in.Database.Name)
	if errors.Is(err, engine.ErrNotFound) {
		return snap, nil
	}
	if err != nil {
		return snap, err
	}
	snap.Target = &d
	if err := s.readLender(ctx, d.Owner, snap.Instance.Number, x); err != nil {
		return snap, err
	}
	if x.Others, err = collect(ctx, s.pool, "look what else its owner owns", pgx.RowTo[string],
		`SELECT datname::text FROM pg_catalog.pg_database WHERE pg_catalog.pg_get_userbyid(datdba) = $1::text
		AND datname::text <> $2::text AND NOT pg_catalog.starts_with(datname::text, $3::text)
		ORDER BY 1 LIMIT 100`, d.Owner, d.Name, planning.HeldPrefix); err != nil {
		return snap, err
	}
	if x.Roles, err = collect(ctx, s.pool, "look what roles its owner has", pgx.RowTo[string],
		`SELECT rolname::text FROM pg_catalog.pg_roles r WHERE rolname IN ('pg_execute_server_program',
		'pg_read_server_files', 'pg_write_server_files', 'pg_write_all_data', 'pg_read_all_data', 'pg_signal_backend',
		'pg_checkpoint', 'pg_maintain', 'pg_create_subscription')
		AND EXISTS (SELECT FROM pg_catalog.pg_roles o WHERE o.rolname::text = $1::text
			AND pg_catalog.pg_has_role(o.oid, r.oid, 'MEMBER')) ORDER BY 1`, d.Owner); err != nil {
		return snap, err
	}
	if d.Closed || d.System {
		return snap, nil
	}
	c, err := s.dialDatabase(ctx, d.Name)
	if err != nil {
		return snap, err
	}
	defer c.Close(context.WithoutCancel(ctx))
	x.Tables, err = collect(ctx, c, "list its tables", pgx.RowToStructByPos[relation],
		`SELECT n.nspname::text, c.relname::text FROM pg_catalog.pg_class c
		JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S') AND n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'
		ORDER BY 1, 2 LIMIT $1`, maxRelations)
	snap.Instance.Read = time.Now().UTC()
	return snap, err
}

// readLender reads what an owner may do beyond its database, and whether Genarch's login may
// make another role a member of it. Before 16 the right to create roles is enough for that.
func (s *server) readLender(ctx context.Context, owner string, version int, x *filling) error {
	mayLend := `pg_catalog.pg_has_role(r.oid, 'MEMBER WITH ADMIN OPTION')`
	if version < 160000 {
		mayLend = `(me.rolcreaterole AND NOT r.rolsuper OR pg_catalog.pg_has_role(r.oid, 'MEMBER WITH ADMIN OPTION'))`
	}
	err := s.pool.QueryRow(ctx, `SELECT r.rolsuper, r.rolcreatedb, r.rolcreaterole, r.rolreplication, r.rolbypassrls,
		me.rolsuper OR `+mayLend+` FROM pg_catalog.pg_roles r, pg_catalog.pg_roles me
		WHERE r.rolname::text = $1::text AND me.rolname = current_user`, owner).
		Scan(&x.Superuser, &x.MakesDatabases, &x.MakesRoles, &x.Replicates, &x.PassesRows, &x.Lendable)
	if errors.Is(err, pgx.ErrNoRows) {
		return nil
	}
	return wrap("look at its owner", err)
}

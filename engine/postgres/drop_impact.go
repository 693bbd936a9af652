package postgres

import (
	"context"
	"fmt"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
)

// readDropImpact reads what has to be known of a database before it is taken away
// or moved, and its size into size. Everything but what it holds is read from outside.
//
// Long: one question after the other, each with what it means for a drop.
func (s *server) readDropImpact(ctx context.Context, d catalog.Database, size **int64) (*catalog.DropImpact, error) {
	out := &catalog.DropImpact{Details: &dropDetails{}}
	if d.Name == orElse(s.target.Server.Options.Text("database"), "postgres") {
		out.Own = "Genarch's own login signs in to it"
	}
	key := oidOf(d.Key)
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		err := s.pool.QueryRow(gctx, `SELECT pg_catalog.pg_has_role(datdba, 'USAGE') FROM pg_catalog.pg_database WHERE oid = $1::oid`, key).Scan(&out.MayDrop)
		if !out.MayDrop {
			out.Denied = "it is not its owner"
			out.Remedy = "GRANT " + quoteIdent(d.Owner) + " TO " + quoteIdent(s.target.Server.Admin)
		}
		return wrap("read the owner", err)
	})
	group.Go(func() (err error) {
		*size = s.sizeOf(gctx, d.Key)
		out.Prepared, err = s.readPrepared(gctx, d.Name)
		return err
	})
	group.Go(func() (err error) {
		dropDetailsOf(out.Details).Slots, err = collect(gctx, s.pool, "look for replication slots",
			pgx.RowToStructByPos[slot],
			`SELECT slot_name::text, active FROM pg_catalog.pg_replication_slots WHERE slot_type = 'logical' AND database::text = $1::text ORDER BY 1 LIMIT 100`, d.Name)
		if err != nil {
			return err
		}
		dropDetailsOf(out.Details).Subscriptions, err = collect(gctx, s.pool, "look for subscriptions",
			pgx.RowTo[string],
			`SELECT subname::text FROM pg_catalog.pg_subscription WHERE subdbid = $1::oid ORDER BY 1 LIMIT 100`, key)
		if err != nil {
			return err
		}
		out.ExclusiveAccounts, err = collect(gctx, s.pool, "look for accounts of it alone", pgx.RowTo[string], onlyFor,
			key)
		return err
	})
	group.Go(func() error {
		var backups int
		err := s.pool.QueryRow(gctx, `SELECT count(*)::int FROM pg_catalog.pg_stat_progress_basebackup`).Scan(&backups)
		if backups > 0 {
			out.Backup = "A base backup of the whole server runs; the database may or may not be in it."
		}
		return wrap("look for a base backup", err)
	})
	group.Go(func() error {
		if d.Held != nil {
			return nil // nobody can look into it; what was counted is noted in its comment
		}
		if err := s.readContents(gctx, d, out); err != nil {
			out.Unseen = append(out.Unseen, "What the database holds could not be counted: "+err.Error())
		}
		return nil
	})
	var pointing catalog.DropImpact
	group.Go(func() error {
		if err := s.readPointers(gctx, d, &pointing); err != nil {
			pointing.Unseen = append(pointing.Unseen,
				"Foreign servers that point to it could not be looked for: "+err.Error())
		}
		return nil
	})
	if err := group.Wait(); err != nil {
		return nil, err
	}
	out.Dependents, out.PossibleDependents = pointing.Dependents, pointing.PossibleDependents
	out.Unseen = append(append(out.Unseen, pointing.Unseen...),
		"Programs, jobs and views that reach the database by its address show in no catalogue.")
	return out, nil
}

// onlyFor finds accounts that have something in one database and nowhere else,
// and that belong to no role that might. Source: pg_shdepend, where dbid 0 is
// what all databases share: databases, tablespaces.
const onlyFor = `WITH has AS (
		SELECT refobjid AS role, CASE WHEN dbid <> 0 THEN dbid WHEN classid = 'pg_catalog.pg_database'::pg_catalog.regclass THEN objid ELSE 0 END AS db
		FROM pg_catalog.pg_shdepend WHERE refclassid = 'pg_catalog.pg_authid'::pg_catalog.regclass)
	SELECT r.rolname::text FROM has h JOIN pg_catalog.pg_roles r ON r.oid = h.role
	WHERE r.rolcanlogin AND NOT r.rolsuper AND NOT EXISTS (SELECT FROM pg_catalog.pg_auth_members m WHERE m.member = r.oid)
	GROUP BY 1 HAVING bool_and(h.db = $1::oid) ORDER BY 1 LIMIT 100`

// readContents counts what is in a database, from inside.
func (s *server) readContents(ctx context.Context, d catalog.Database, out *catalog.DropImpact) error {
	if d.Closed || d.Broken {
		return fmt.Errorf("it allows no connections")
	}
	s.mu.Lock()
	kept := s.counted
	s.mu.Unlock()
	if kept.key == d.Key && time.Since(kept.at) < countedPause {
		out.Objects, out.Rows = kept.objects, &kept.rows
		return nil
	}
	s.counts.Looking.RLock()
	defer s.counts.Looking.RUnlock()
	conn, err := s.dialDatabase(ctx, d.Name)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	var tables, views, sequences, routines, events int
	var rows int64
	err = conn.QueryRow(ctx, `SELECT count(*) FILTER (WHERE c.relkind IN ('r', 'p', 'f') AND NOT c.relispartition)::int, count(*) FILTER (WHERE c.relkind IN ('v', 'm'))::int,
		count(*) FILTER (WHERE c.relkind = 'S')::int, coalesce(sum(greatest(c.reltuples, 0)) FILTER (WHERE c.relkind = 'r'), 0)::int8,
		(SELECT count(*)::int FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace WHERE n.nspname <> 'information_schema' AND n.nspname NOT LIKE 'pg\_%'),
		(SELECT count(*)::int FROM pg_catalog.pg_event_trigger)
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname <> 'information_schema' AND n.nspname NOT LIKE 'pg\_%'`).Scan(&tables, &views, &sequences,
		&rows, &routines, &events)
	if err != nil {
		return wrap("count what it holds", err)
	}
	out.Objects = []catalog.Count{{What: "tables", N: tables}, {What: "views", N: views},
		{What: "sequences", N: sequences}, {What: "routines", N: routines}, {What: "event triggers", N: events}}
	out.Rows = &rows
	s.mu.Lock()
	s.counted = counted{d.Key, out.Objects, rows, time.Now()}
	s.mu.Unlock()
	return nil
}

// counted are the counts of the database that was looked into last: a brief is
// made twice within moments, when it is asked for and when it is let run.
type counted struct {
	key     string
	objects []catalog.Count
	rows    int64
	at      time.Time
}

const countedPause = 5 * time.Second

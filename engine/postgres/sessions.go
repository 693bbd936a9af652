package postgres

import (
	"context"
	"errors"
	"strconv"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// terminate is what is sent for each session: the process number together with
// the time at which the process began, for the number alone is used again.
const terminate = "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …"

// cancelOnly stops the running statement of each.
const cancelOnly = "SELECT pg_cancel_backend(pid) FROM pg_stat_activity WHERE pid = … AND backend_start = …"

// sessionColumns reads pg_stat_activity. What runs for Genarch is told by its
// program name together with its login: either alone anybody could have.
const sessionColumns = `SELECT a.pid, a.backend_start, coalesce(a.backend_type, ''), coalesce(a.datname::text, ''), coalesce(a.usename::text, ''),
	coalesce(r.rolsuper, false), coalesce(a.application_name, ''), CASE WHEN a.client_addr IS NOT NULL THEN host(a.client_addr) WHEN a.client_port = -1 THEN 'socket' ELSE '' END,
	coalesce(a.state, ''), a.state_change, left(coalesce(a.query, ''), 4000), a.xact_start, a.backend_xid IS NOT NULL,
	coalesce(a.wait_event_type, ''), coalesce(a.wait_event, ''), coalesce(a.leader_pid, 0),
	a.usename = current_user AND a.application_name = 'genarch'`

func scanSession(row pgx.CollectableRow) (catalog.Session, error) {
	var s catalog.Session
	var started, stateSince, xact *time.Time
	var kind, state, waitType, wait string
	var blocked []int32
	var own *bool
	err := row.Scan(&s.ID.Number, &started, &kind, &s.Database, &s.Account.Name, &s.Super, &s.Application, &s.Client,
		&state, &stateSince, &s.Statement,
		&xact, &s.Written, &waitType, &wait, &s.Leader, &own, &blocked)
	if err != nil {
		return s, err
	}
	if started != nil {
		s.Started = started.UTC()
		s.ID.Mark = mark(*started)
	}
	if stateSince != nil {
		s.StateSince = stateSince.UTC()
	}
	if xact != nil {
		s.Transaction = xact.UTC()
	}
	for _, pid := range blocked {
		s.BlockedBy = append(s.BlockedBy, int64(pid))
	}
	if waitType == "Lock" {
		s.Wait = map[string]string{"transactionid": "another transaction to end",
			"virtualxid": "another transaction to end", "tuple": "a row", "relation": "a table"}[wait]
		if s.Wait == "" {
			s.Wait = "a lock of kind " + wait
		}
	}
	s.Statement, s.Shape = dialect.Guarded(s.Statement), dialect.Shape(s.Statement)
	s.Hidden = kind == ""
	s.Kind = kindOf(kind, s, own != nil && *own)
	switch {
	case strings.HasPrefix(state, "idle in transaction"):
		s.Activity = catalog.SessionInTransaction
	case state == "active" || state == "fastpath function call":
		s.Activity = catalog.SessionActive
	default:
		s.Activity = catalog.SessionIdle
	}
	return s, nil
}

// kindOf says what a process is there for, by its type; a running pg_dump is
// told by its own name, which is only a hint.
func kindOf(backend string, s catalog.Session, own bool) catalog.SessionKind {
	switch {
	case own:
		return catalog.OwnSession
	case strings.HasPrefix(s.Application, "pg_dump") || s.Application == "pg_basebackup":
		return catalog.BackupSession
	case backend == "walsender" ||
		strings.HasPrefix(backend, "logical replication") && backend != "logical replication launcher":
		return catalog.ReplicationSession
	case backend == "" || backend == "client backend" || backend == "parallel worker":
		return catalog.ClientSession
	case s.Database != "" && !strings.HasPrefix(backend, "autovacuum"):
		return catalog.WorkerSession
	}
	return catalog.EngineSession
}

// mark writes when a process began, exact to the microsecond.
func mark(t time.Time) string { return strconv.FormatInt(t.UnixMicro(), 36) }

// startedAt reads what mark wrote.
func startedAt(mark string) (time.Time, error) {
	n, err := strconv.ParseInt(mark, 36, 64)
	return time.UnixMicro(n), err
}

// Sessions reads who is connected. Source: pg_stat_activity; who holds how many
// locks from pg_locks, beside it; who waits for whom from pg_blocking_pids, asked
// only for those that wait, for it stops the lock manager for a moment.
func (s *server) Sessions(ctx context.Context, q catalog.SessionQuery) (catalog.SessionList, error) {
	const op = "look who is connected"
	out := catalog.SessionList{}
	if !storable(q.Database) {
		return catalog.SessionList{Read: time.Now().UTC()}, nil // there is no such database
	}
	blockers := `NULL::int[]`
	if !q.Brief {
		blockers = `CASE WHEN a.wait_event_type = 'Lock' THEN pg_catalog.pg_blocking_pids(a.pid) END`
	}
	text := sessionColumns + `, ` + blockers +
		` FROM pg_catalog.pg_stat_activity a LEFT JOIN pg_catalog.pg_roles r ON r.oid = a.usesysid`
	var args []any
	if q.Database != "" {
		text += ` WHERE a.datname::text = $1::text`
		args = append(args, q.Database)
	}
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		rows, err := s.pool.Query(gctx, text, args...)
		if err != nil {
			return wrap(op, err)
		}
		out.Sessions, err = pgx.AppendRows(make([]catalog.Session, 0, s.sessions.Load()+100), rows, scanSession)
		out.Read = time.Now().UTC()
		s.sessions.Store(int64(len(out.Sessions)))
		return wrap(op, err)
	})
	var locks map[int64]int
	if !q.Brief {
		group.Go(func() (err error) {
			if locks, err = s.readLocks(gctx); err != nil {
				return err
			}
			out.Prepared, out.Allowed, err = s.readBeside(gctx, q.Database)
			return err
		})
	}
	if err := group.Wait(); err != nil || q.Brief {
		return out, err
	}
	for i := range out.Sessions {
		out.Sessions[i].Locks = locks[out.Sessions[i].ID.Number]
	}
	out.Unseen = append(out.Unseen,
		"Temporary tables, prepared statements and LISTEN show in no view, and are lost with their session.")
	for _, x := range out.Sessions {
		if x.Hidden {
			out.Unseen = append(out.Unseen,
				"What the sessions of other accounts do is hidden from Genarch's login; it needs: GRANT pg_monitor TO "+
					quoteIdent(s.target.Server.Admin))
			break
		}
	}
	return out, nil
}

// readLocks counts the locks that each process holds.
func (s *server) readLocks(ctx context.Context) (map[int64]int, error) {
	out := map[int64]int{}
	_, err := collect(ctx, s.pool, "look for locks", func(row pgx.CollectableRow) (struct{}, error) {
		var pid int64
		var n int
		err := row.Scan(&pid, &n)
		out[pid] = n
		return struct{}{}, err
	}, `SELECT pid::int8, count(*)::int FROM pg_catalog.pg_locks WHERE granted AND locktype <> 'virtualxid' AND pid IS NOT NULL GROUP BY pid`)
	return out, err
}

// readBeside reads prepared transactions and how many sessions the server takes.
func (s *server) readBeside(ctx context.Context, database string) (list []catalog.Prepared, allowed int, err error) {
	if err := s.pool.QueryRow(ctx, `SELECT current_setting('max_connections')::int`).Scan(&allowed); err != nil {
		return nil, 0, wrap("read how many sessions are allowed", err)
	}
	list, err = s.readPrepared(ctx, database)
	return list, allowed, err
}

// readPrepared lists prepared transactions; an empty name means all databases.
func (s *server) readPrepared(ctx context.Context, database string) ([]catalog.Prepared, error) {
	return collect(ctx, s.pool, "look for prepared transactions",
		func(row pgx.CollectableRow) (p catalog.Prepared, err error) {
			err = row.Scan(&p.Name, &p.Database, &p.Owner, &p.Since)
			return p, err
		}, `SELECT gid, database::text, owner::text, prepared FROM pg_catalog.pg_prepared_xacts WHERE $1 = '' OR database::text = $1::text ORDER BY prepared LIMIT 100`, database)
}

// End signals sessions, each only if its process began when it should have. All
// go in one statement; if the server refuses one of them it has refused the rest
// of the statement too, so then they are signalled one by one.
func (s *server) End(ctx context.Context, ids []catalog.SessionID, how catalog.Ending) (map[catalog.SessionID]string,
	error) {
	err := s.signal(ctx, ids, how)
	if e, ok := errors.AsType[*engine.Error](err); !ok || e.Code != "42501" {
		return nil, err
	}
	refused := map[catalog.SessionID]string{}
	for _, id := range ids {
		err := s.signal(ctx, []catalog.SessionID{id}, how)
		if e, ok := errors.AsType[*engine.Error](err); ok && e.Code == "42501" {
			refused[id] = e.Text
			continue
		}
		if err != nil {
			return refused, err
		}
	}
	return refused, nil
}

func (s *server) signal(ctx context.Context, ids []catalog.SessionID, how catalog.Ending) error {
	pids, starts := make([]int32, 0, len(ids)), make([]time.Time, 0, len(ids))
	for _, id := range ids {
		began, err := startedAt(id.Mark)
		if err != nil {
			continue // a mark that no session of this engine has
		}
		pids, starts = append(pids, int32(id.Number)), append(starts, began)
	}
	signal := "pg_catalog.pg_terminate_backend(a.pid)"
	if how == catalog.EndStatement {
		signal = "pg_catalog.pg_cancel_backend(a.pid)"
	}
	return s.withConn(ctx, "end sessions", func(c *pgxpool.Conn) error {
		_, err := c.Exec(ctx, `SELECT `+signal+` FROM pg_catalog.pg_stat_activity a
			JOIN unnest($1::int[], $2::timestamptz[]) AS w(pid, began) ON a.pid = w.pid AND a.backend_start = w.began
			WHERE a.pid <> pg_catalog.pg_backend_pid()`, pids, starts)
		return wrap("end sessions", err)
	})
}

// connected reads the sessions that an intent has to do with, into its snapshot.
func (s *server) connected(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	q, any := planning.Clears(in, snap.Source)
	if !any {
		return nil
	}
	list, err := s.Sessions(ctx, q)
	snap.Connected, snap.SessionsUnseen = list.Sessions, list.Unseen
	return err
}

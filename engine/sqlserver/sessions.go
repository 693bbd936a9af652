package sqlserver

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

// kill is what is sent for each session.
const kill = "IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = … AND connection_id = …) KILL …"

// markColumn is what tells a session from every other one of its number: its connection has a number
// that is never given again. One without a connection of its own is told by when it signed in.
const markColumn = `COALESCE(LOWER(REPLACE(CONVERT(varchar(36), c.connection_id), '-', '')),
	REPLACE(REPLACE(REPLACE(REPLACE(LOWER(CONVERT(varchar(23), s.login_time, 126)), '-', ''), ':', ''), '.', ''),
		't', ''))`

// sessionTables are sessions AS s, each with its connection AS c.
const sessionTables = ` FROM sys.dm_exec_sessions s LEFT JOIN sys.dm_exec_connections c ON c.session_id = s.session_id`

// running is what a session runs, and who has it wait. Source: sys.dm_exec_requests.
type running struct {
	command, wait, status string
	blocker               int64
	percent               float64
	since                 time.Time
}

// Sessions reads who is connected. Sources: sys.dm_exec_sessions, sys.dm_exec_connections,
// sys.dm_exec_requests; transactions from sys.dm_tran_session_transactions and
// sys.dm_tran_database_transactions; who uses which other database from sys.dm_tran_locks.
//
// Long: a session is put together of all that was read.
func (s *server) Sessions(ctx context.Context, q catalog.SessionQuery) (catalog.SessionList, error) {
	var out catalog.SessionList
	requests, transactions := map[int64]running{}, map[int64]transaction{}
	uses, texts := map[int64][]string{}, map[int64]string{}
	var trxErr, usesErr, textErr error
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(engine.Readers)
	group.Go(func() (err error) {
		out.Sessions, err = s.readSessions(gctx)
		out.Read = time.Now().UTC()
		return err
	})
	group.Go(func() (err error) { requests, err = s.readRequests(gctx); return err })
	group.Go(func() error { transactions, trxErr = s.readTransactions(gctx); return nil })
	group.Go(func() error { uses, usesErr = s.readUses(gctx); return nil })
	if !q.Brief {
		group.Go(func() error { texts, textErr = s.readTexts(gctx); return nil })
		group.Go(func() (err error) { out.Prepared, err = s.readPrepared(gctx); return err })
	}
	if err := group.Wait(); err != nil {
		return out, err
	}
	administrators, err := s.readAdministrators(ctx)
	if err != nil {
		return out, err
	}
	for i := range out.Sessions {
		x := &out.Sessions[i]
		r, runs := requests[x.ID.Number]
		t, open := transactions[x.ID.Number]
		x.Super = administrators[x.Account.Name]
		x.Statement, x.Shape = dialect.Guarded(texts[x.ID.Number]), dialect.Shape(texts[x.ID.Number])
		if open {
			x.Transaction, x.Written, x.LogBytes = t.began, t.written > 0, t.written
		}
		switch {
		case runs && (r.command == "KILLED/ROLLBACK" || r.status == "rollback"):
			x.Activity, x.Progress = catalog.SessionEnding, fmt.Sprintf("%.0f%% rolled back", r.percent)
		case runs:
			x.Activity = catalog.SessionActive
			if r.percent > 0 { // of a backup, a restore, and what else the server can tell of
				x.Progress = fmt.Sprintf("%.0f%% done", r.percent)
			}
		case open:
			x.Activity = catalog.SessionInTransaction
		default:
			x.Activity = catalog.SessionIdle
		}
		if runs {
			x.StateSince, x.Wait = r.since, waitText(r.wait)
			if r.blocker > 0 {
				x.BlockedBy = []int64{r.blocker}
			}
		}
		x.Uses = slices.DeleteFunc(slices.Clone(uses[x.ID.Number]), func(d string) bool { return d == x.Database })
		x.Kind = kindOf(*x, r.command, s.isOwn(x.ID))
	}
	s.nameJobs(ctx, out.Sessions)
	if q.Database != "" {
		out.Sessions = slices.DeleteFunc(out.Sessions, func(x catalog.Session) bool {
			return x.Database != q.Database && !slices.Contains(x.Uses, q.Database)
		})
	}
	if q.Brief {
		return out, nil
	}
	out.Unseen = append(out.Unseen, "Members of Windows groups show by their own names, and temporary tables show "+
		"nowhere.")
	for what, err := range map[string]error{"open transactions, and so written work": trxErr,
		"who uses a database without being in it": usesErr, "statements": textErr} {
		if err != nil {
			out.Unseen = append(out.Unseen, "What could not be read: "+what+": "+err.Error())
		}
	}
	slices.Sort(out.Unseen)
	return out, wrap("read how many sessions are allowed", s.db.QueryRowContext(ctx,
		"SELECT CASE WHEN CONVERT(int, value_in_use) = 0 THEN 32767 ELSE CONVERT(int, value_in_use) END "+
			"FROM sys.configurations WHERE name = N'user connections'").Scan(&out.Allowed))
}

// readSessions reads who is there, and where from.
func (s *server) readSessions(ctx context.Context) ([]catalog.Session, error) {
	out := make([]catalog.Session, 0, s.sessions.Load()+100)
	err := s.query(ctx, "look who is connected", "SELECT s.session_id, "+markColumn+`,
		COALESCE(d.name, N''), s.login_name, COALESCE(s.program_name, N''), COALESCE(c.client_net_address, ''),
		COALESCE(c.client_tcp_port, 0), COALESCE(s.host_name, N''), s.login_time,
		COALESCE(s.last_request_end_time, s.last_request_start_time, s.login_time), s.is_user_process`+sessionTables+
		` LEFT JOIN sys.databases d ON d.database_id = s.database_id`, func(r *sql.Rows) error {
		var x catalog.Session
		var address, host string
		var port int
		var client bool
		if err := r.Scan(&x.ID.Number, &x.ID.Mark, &x.Database, &x.Account.Name, &x.Application, &address, &port, &host,
			&x.Started, &x.StateSince, &client); err != nil {
			return err
		}
		x.Started, x.StateSince = x.Started.UTC(), x.StateSince.UTC()
		x.Client = address
		if port > 0 {
			x.Client = fmt.Sprintf("%s:%d", address, port)
		}
		if x.Client == "" {
			x.Client = host
		}
		if !client {
			x.Kind = catalog.EngineSession
		}
		out = append(out, x)
		return nil
	})
	s.sessions.Store(int64(len(out)))
	return out, err
}

// readRequests reads what runs just now.
func (s *server) readRequests(ctx context.Context) (map[int64]running, error) {
	out := map[int64]running{}
	err := s.query(ctx, "look what runs", `SELECT session_id, command, COALESCE(wait_type, N''), status,
		COALESCE(blocking_session_id, 0), percent_complete, start_time FROM sys.dm_exec_requests
		WHERE session_id <> @@SPID`, func(r *sql.Rows) error {
		var id int64
		var x running
		err := r.Scan(&id, &x.command, &x.wait, &x.status, &x.blocker, &x.percent, &x.since)
		x.since = x.since.UTC()
		out[id] = x
		return err
	})
	return out, err
}

// transaction is one that a session has open, and how much log it has written in databases other
// than tempdb.
type transaction struct {
	began   time.Time
	written int64
}

func (s *server) readTransactions(ctx context.Context) (map[int64]transaction, error) {
	out := map[int64]transaction{}
	err := s.query(ctx, "look for open transactions", `SELECT st.session_id, MIN(a.transaction_begin_time),
		COALESCE(SUM(CASE WHEN dt.database_id <> 2 THEN dt.database_transaction_log_bytes_used END), 0)
		FROM sys.dm_tran_session_transactions st
		JOIN sys.dm_tran_active_transactions a ON a.transaction_id = st.transaction_id
		LEFT JOIN sys.dm_tran_database_transactions dt ON dt.transaction_id = st.transaction_id
		WHERE st.session_id <> @@SPID GROUP BY st.session_id`, func(r *sql.Rows) error {
		var id int64
		var t transaction
		err := r.Scan(&id, &t.began, &t.written)
		t.began = t.began.UTC()
		out[id] = t
		return err
	})
	return out, err
}

// readUses reads in which databases sessions hold a lock on the database itself: whoever uses one has
// that, be it by a name with three parts, or for a backup.
func (s *server) readUses(ctx context.Context) (map[int64][]string, error) {
	out := map[int64][]string{}
	err := s.query(ctx, "look who uses which database", `SELECT DISTINCT l.request_session_id, d.name
		FROM sys.dm_tran_locks l JOIN sys.databases d ON d.database_id = l.resource_database_id
		WHERE l.resource_type = 'DATABASE' AND l.request_session_id > 0`, func(r *sql.Rows) error {
		var id int64
		var name string
		err := r.Scan(&id, &name)
		out[id] = append(out[id], name)
		return err
	})
	return out, err
}

// readTexts reads what each session runs or ran last. Source: sys.dm_exec_sql_text.
func (s *server) readTexts(ctx context.Context) (map[int64]string, error) {
	out := map[int64]string{}
	err := s.query(ctx, "read statements", fmt.Sprintf(`SELECT c.session_id, LEFT(t.text, %d)
		FROM sys.dm_exec_connections c CROSS APPLY sys.dm_exec_sql_text(c.most_recent_sql_handle) t`,
		catalog.MaxStatement), func(r *sql.Rows) error {
		var id int64
		var text sql.NullString
		err := r.Scan(&id, &text)
		out[id] = text.String
		return err
	})
	return out, err
}

// readPrepared lists distributed transactions that no session has any more. Source: sys.dm_tran_locks,
// session -2.
func (s *server) readPrepared(ctx context.Context) ([]catalog.Prepared, error) {
	var out []catalog.Prepared
	err := s.query(ctx, "look for distributed transactions", `SELECT DISTINCT
		LOWER(CONVERT(varchar(36), l.request_owner_guid)), COALESCE(d.name, N'') FROM sys.dm_tran_locks l
		LEFT JOIN sys.databases d ON d.database_id = l.resource_database_id WHERE l.request_session_id = -2`,
		func(r *sql.Rows) error {
			var p catalog.Prepared
			err := r.Scan(&p.Name, &p.Database)
			out = append(out, p)
			return err
		})
	return out, err
}

// readAdministrators are the logins that are sysadmin. Source: sys.server_role_members.
func (s *server) readAdministrators(ctx context.Context) (map[string]bool, error) {
	out := map[string]bool{}
	err := s.query(ctx, "read the administrators", `SELECT m.name FROM sys.server_role_members x
		JOIN sys.server_principals r ON r.principal_id = x.role_principal_id AND r.name = N'sysadmin'
		JOIN sys.server_principals m ON m.principal_id = x.member_principal_id`, func(r *sql.Rows) error {
		var name string
		err := r.Scan(&name)
		out[name] = true
		return err
	})
	return out, err
}

// kindOf says what a session is there for. Programs call themselves what they like: their names are
// hints.
func kindOf(x catalog.Session, command string, own bool) catalog.SessionKind {
	switch {
	case x.Kind == catalog.EngineSession:
		return catalog.EngineSession
	case own:
		return catalog.OwnSession
	case strings.HasPrefix(command, "BACKUP") || strings.HasPrefix(command, "RESTORE"):
		return catalog.BackupSession
	case strings.HasPrefix(x.Application, agent):
		return catalog.WorkerSession
	case strings.HasPrefix(x.Application, "Repl-"), strings.HasPrefix(x.Application, "Replication"),
		strings.HasPrefix(x.Application, "LogReader"):
		return catalog.ReplicationSession
	}
	return catalog.ClientSession
}

// waitText says what a session waits for.
func waitText(kind string) string {
	switch {
	case kind == "":
		return ""
	case strings.HasPrefix(kind, "LCK_"):
		return "a lock (" + kind + ")"
	}
	return kind
}

// goneNumbers say that there is no such session: 6106 not active, 6101 no such number.
var goneNumbers = []string{"6106", "6101"}

// End kills sessions, each only if its connection is still the one that was seen; both in one
// statement.
func (s *server) End(ctx context.Context, ids []catalog.SessionID, how catalog.Ending) (map[catalog.SessionID]string,
	error) {
	if how == catalog.EndStatement {
		return nil, &engine.Error{Op: "stop a statement", Kind: engine.NotSent,
			Text: description.Endings[how].Why, Next: description.Endings[how].Instead}
	}
	refused := map[catalog.SessionID]string{}
	for _, id := range ids {
		if !isConnection(id.Mark) {
			continue // a mark that no connection has
		}
		_, err := s.db.ExecContext(ctx, killOne(id.Number, guid(id.Mark)))
		if e, ok := wrap("end sessions", err).(*engine.Error); ok && !slices.Contains(goneNumbers, e.Code) {
			if e.Kind != engine.Refused {
				return refused, e
			}
			refused[id] = e.Text
		}
	}
	return refused, nil
}

// isConnection reports whether a mark is the number of a connection: 32 hexadecimal digits.
func isConnection(mark string) bool {
	return len(mark) == 32 && strings.Trim(mark, "0123456789abcdef") == ""
}

// guid writes a mark as the server writes the number of a connection.
func guid(mark string) string {
	return mark[:8] + "-" + mark[8:12] + "-" + mark[12:16] + "-" + mark[16:20] + "-" + mark[20:]
}

// Sender looks for the session that sent a step. A session that is being rolled back is not gone.
func (s *server) Sender(ctx context.Context, id catalog.SessionID, end bool) (engine.SenderState, error) {
	const op = "look for the session that sent it"
	var mark, status string
	err := s.db.QueryRowContext(ctx, "SELECT "+markColumn+", s.status"+sessionTables+
		" WHERE s.session_id = @p1 AND s.session_id <> @@SPID", id.Number).Scan(&mark, &status)
	if errors.Is(err, sql.ErrNoRows) || err == nil && mark != id.Mark {
		return engine.SenderGone, nil
	}
	if err != nil {
		return "", wrap(op, err)
	}
	if end {
		if _, err := s.End(ctx, []catalog.SessionID{id}, catalog.EndSession); err != nil {
			return "", err
		}
	}
	if status == "sleeping" {
		return engine.SenderIdle, nil
	}
	return engine.SenderWorking, nil
}

// connected reads the sessions that an intent has to do with, into its snapshot.
func (s *server) connected(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	q, any := planning.Clears(in, nil)
	if !any {
		return nil
	}
	list, err := s.Sessions(ctx, q)
	snap.Connected, snap.SessionsUnseen = list.Sessions, list.Unseen
	return err
}

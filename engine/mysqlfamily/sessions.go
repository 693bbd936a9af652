package mysqlfamily

import (
	"context"
	"database/sql"
	"fmt"
	"hash/fnv"
	"maps"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// looks keeps what reading sessions needs again and again.
type looks struct {
	// own are Genarch's own connections, by number, with their client. It has a
	// lock of its own, for it is written while a connection is opened.
	own ownSessions

	mu sync.Mutex // guards all below, and is held while transactions are read
	// transactions are read at most every trxPause: the view is one snapshot of
	// the whole server, and is not made anew while anybody reads it more often.
	transactions map[int64]transaction
	detached     int
	trxRead      time.Time
	trxErr       error
	// accounts tell whom a session belongs to.
	accounts     []catalog.Account
	accountsRead time.Time
	// locks: the plugin that shows metadata locks is there. attributes: the
	// server keeps what clients say of themselves.
	locks, attributes bool
	pluginsRead       time.Time
}

const (
	// trxFresh is the shortest time after which the server makes the view anew,
	// trxPause what looks in quick succession leave between two readings.
	trxFresh      = 110 * time.Millisecond
	trxPause      = 260 * time.Millisecond
	accountsPause = 3 * time.Second
	pluginsPause  = time.Minute
)

type transaction struct {
	began    time.Time
	rows     int64
	locks    int
	state    string
	blockers []int64
}

// noteOwn remembers a connection of ours.
func (s *shared) noteOwn(id int64, client string) {
	o := &s.looks.own
	o.mu.Lock()
	defer o.mu.Unlock()
	if o.clients == nil {
		o.clients = map[int64]string{}
	}
	o.clients[id] = client
	if len(o.clients) > maxOwn {
		// Connections of long ago; the oldest has the smallest number.
		delete(o.clients, slices.Min(slices.Collect(maps.Keys(o.clients))))
	}
}

type ownSessions struct {
	mu      sync.Mutex // guards clients
	clients map[int64]string
}

// maxOwn bounds the connections that are remembered as ours.
const maxOwn = 64

// Sessions reads who is connected. Sources: PROCESSLIST; INNODB_TRX for open
// transactions and INNODB_LOCK_WAITS for who waits; METADATA_LOCK_INFO, where its
// plugin is loaded, for who uses what without having it as its database.
//
// Long: a session is put together of all that was read.
func (s *server) Sessions(ctx context.Context, q catalog.SessionQuery) (catalog.SessionList, error) {
	out := catalog.SessionList{}
	if err := s.readPlugins(ctx); err != nil {
		return out, err
	}
	var accounts []catalog.Account
	var held map[int64][]metadataLock
	programs := map[int64]string{}
	transactions, trxErr := map[int64]transaction{}, error(nil)
	var lines []sessionLine
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	group.Go(func() (err error) {
		lines, err = s.readLines(gctx)
		return err
	})
	group.Go(func() (err error) {
		accounts = s.knownAccounts(gctx, !q.Brief)
		transactions, trxErr = s.readTransactions(gctx, !q.Brief)
		if held, err = s.readMetadataLocks(gctx); err != nil {
			return err
		}
		if q.Brief {
			return nil
		}
		if programs, err = s.readPrograms(gctx); err != nil {
			return err
		}
		if out.Prepared, err = s.readPrepared(gctx); err != nil {
			return err
		}
		return wrap("read how many sessions are allowed",
			s.db.QueryRowContext(gctx, "SELECT @@max_connections").Scan(&out.Allowed))
	})
	if err := group.Wait(); err != nil {
		return out, err
	}
	out.Read = time.Now().UTC()
	administrators := s.product.administrators(accounts, nil)
	if len(administrators) > 0 { // some may have it by a role
		memberships, err := s.product.memberships(ctx, s)
		if err != nil {
			return out, err
		}
		administrators = s.product.administrators(accounts, memberships)
	}
	own, resolver := s.ownNow(), newAccountResolver(s.product.hosts, accounts)
	s.sessions.Store(int64(len(lines)))
	out.Sessions = make([]catalog.Session, 0, len(lines))
	for _, l := range lines {
		x := l.Session
		x.Application = programs[x.ID.Number]
		x.Client = shownClient(l.Client)
		x.Account = resolver.of(l.user, x.Client)
		x.Super = administrators[x.Account]
		client, mine := own[x.ID.Number]
		x.Kind = s.product.kindOf(l.user, l.command, x.Statement, held[x.ID.Number],
			mine && client == l.Client || s.owns(x.ID.Number, l.Client))
		t, open := transactions[x.ID.Number]
		x.Activity = activityOf(l.command, l.state, t, open)
		if x.Activity == catalog.SessionActive {
			x.Wait = waitOf(l.state)
		}
		if open {
			x.Transaction, x.Written, x.Locks, x.BlockedBy = t.began, t.rows > 0, t.locks, t.blockers
			rows := t.rows
			x.Rows = &rows
			if t.state == "ROLLING BACK" {
				x.Progress = fmt.Sprintf("%d rows to go", t.rows)
			}
		}
		use(&x, held[x.ID.Number])
		out.Sessions = append(out.Sessions, x)
	}
	s.product.waitForMetadata(out.Sessions, held)
	for i := range out.Sessions {
		x := &out.Sessions[i]
		x.Statement, x.Shape = dialect.Guarded(x.Statement), dialect.Shape(x.Statement)
	}
	if q.Database != "" {
		out.Sessions = slices.DeleteFunc(out.Sessions, func(x catalog.Session) bool {
			return x.Database != q.Database && !slices.Contains(x.Uses, q.Database)
		})
	}
	if !q.Brief {
		out.Unseen = s.unseen(trxErr)
	}
	return out, nil
}

// sessionLine is a session as the process list has it.
type sessionLine struct {
	catalog.Session
	user, command, state string
}

// readLines reads the process list.
func (s *server) readLines(ctx context.Context) ([]sessionLine, error) {
	lines := make([]sessionLine, 0, s.sessions.Load()+100)
	read := time.Now().UTC()
	err := s.query(ctx, "look who is connected",
		s.product.lines,
		func(r *sql.Rows) error {
			var l sessionLine
			var ms float64
			var began int64
			if err := r.Scan(&l.ID.Number, &l.user, &l.Client, &l.Database, &l.command, &ms, &l.state, &l.Statement,
				&began); err != nil {
				return err
			}
			l.ID.Mark = mark(l.user, l.Client, began)
			l.StateSince = read.Add(-time.Duration(ms * float64(time.Millisecond))).Truncate(time.Millisecond)
			lines = append(lines, l)
			return nil
		})
	return lines, err
}

// shownClient sets an address with colons in brackets, as everybody but the
// server writes it before a port: ::1:47314 is [::1]:47314.
func shownClient(client string) string {
	i := strings.LastIndexByte(client, ':')
	if i < 0 || !strings.Contains(client[:i], ":") {
		return client
	}
	return "[" + client[:i] + "]" + client[i:]
}

// beganSQL is when the server began, in whole seconds, as it was worked out when
// the connection was opened: the same on every connection, and for as long as
// the server runs.
const beganSQL = `@genarch_began`

// mark tells a session from every other one of its number: numbers begin again
// when the server does.
func mark(user, client string, began int64) string {
	h := fnv.New64a()
	h.Write(strconv.AppendInt([]byte(user+"\x00"+client+"\x00"), began, 10))
	return strconv.FormatUint(h.Sum64()>>12, 36)
}

// unseen says what the server does not show.
func (s *server) unseen(trxErr error) []string {
	out := []string{
		"The account of a session (its host) is inferred from its client. User variables and temporary tables show nowhere.",
	}
	if trxErr != nil {
		out = append(out, "Open transactions cannot be read, so neither can written work: "+trxErr.Error())
	}
	s.looks.mu.Lock()
	defer s.looks.mu.Unlock()
	if !s.looks.locks {
		out = append(
			out,
			s.product.locksHidden,
		)
	} else {
		out = append(out, "Sessions that use a database without having it as their default show only while they hold a lock there.")
	}
	return out
}

// readPlugins finds out, now and then, what the server can show.
func (s *server) readPlugins(ctx context.Context) error {
	s.looks.mu.Lock()
	defer s.looks.mu.Unlock()
	if time.Since(s.looks.pluginsRead) < pluginsPause {
		return nil
	}
	err := s.db.QueryRowContext(
		ctx,
		s.product.shows,
	).Scan(&s.looks.attributes, &s.looks.locks)
	if err == nil {
		s.looks.pluginsRead = time.Now()
	}
	return wrap("read what the server shows", err)
}

// knownAccounts are the accounts, for looks in quick succession as they were a
// moment ago; none where the login may not read them.
func (s *server) knownAccounts(ctx context.Context, fresh bool) []catalog.Account {
	s.looks.mu.Lock()
	recent, list := time.Since(s.looks.accountsRead) < accountsPause, s.looks.accounts
	s.looks.mu.Unlock()
	if recent && !fresh {
		return list
	}
	list, err := s.readAccounts(ctx)
	if err != nil {
		list = nil
	}
	s.looks.mu.Lock()
	defer s.looks.mu.Unlock()
	s.looks.accounts, s.looks.accountsRead = list, time.Now()
	return list
}

func (s *server) ownNow() map[int64]string {
	s.looks.own.mu.Lock()
	defer s.looks.own.mu.Unlock()
	return maps.Clone(s.looks.own.clients)
}

// readTransactions reads open transactions, or gives what was read a moment ago:
// asked too often, the server would go on showing an old picture to everybody.
func (s *server) readTransactions(ctx context.Context, fresh bool) (map[int64]transaction, error) {
	s.looks.mu.Lock()
	defer s.looks.mu.Unlock()
	pause := trxPause
	if fresh {
		pause = trxFresh
	}
	if time.Since(s.looks.trxRead) < pause {
		return s.looks.transactions, s.looks.trxErr
	}
	out, detached := map[int64]transaction{}, 0
	err := s.query(
		ctx,
		"look for open transactions",
		`SELECT trx_mysql_thread_id, TIMESTAMPDIFF(MICROSECOND, trx_started, NOW()), trx_rows_modified, trx_lock_structs, trx_state
		FROM information_schema.INNODB_TRX LIMIT 50000`,
		func(r *sql.Rows) error {
			var id, age int64
			var t transaction
			err := r.Scan(&id, &age, &t.rows, &t.locks, &t.state)
			t.began = time.Now().UTC().Add(-time.Duration(age) * time.Microsecond).Truncate(time.Second)
			if id == 0 {
				detached++
			} else {
				out[id] = t
			}
			return err
		},
	)
	if err == nil {
		err = s.query(ctx, "look who waits for whom",
			s.product.rowWaits, func(r *sql.Rows) error {
				var waits, blocks int64
				err := r.Scan(&waits, &blocks)
				t := out[waits]
				t.blockers = append(t.blockers, blocks)
				out[waits] = t
				return err
			})
	}
	s.looks.transactions, s.looks.detached, s.looks.trxErr, s.looks.trxRead = out, detached, err, time.Now()
	return out, err
}

// metadataLock is a lock on a table, a database or the whole server.
type metadataLock struct{ mode, kind, database, table string }

func (s *server) readMetadataLocks(ctx context.Context) (map[int64][]metadataLock, error) {
	s.looks.mu.Lock()
	shown := s.looks.locks
	s.looks.mu.Unlock()
	out := map[int64][]metadataLock{}
	if !shown {
		return out, nil
	}
	err := s.query(
		ctx,
		"look for locks",
		s.product.metadataLocks,
		func(r *sql.Rows) error {
			var id int64
			var l metadataLock
			err := r.Scan(&id, &l.mode, &l.kind, &l.database, &l.table)
			out[id] = append(out[id], l)
			return err
		},
	)
	return out, err
}

// readPrograms reads what clients call themselves; only servers that run with
// the performance schema keep it.
func (s *server) readPrograms(ctx context.Context) (map[int64]string, error) {
	s.looks.mu.Lock()
	shown := s.looks.attributes
	s.looks.mu.Unlock()
	out := map[int64]string{}
	if !shown {
		return out, nil
	}
	err := s.query(
		ctx,
		"read the clients' names",
		`SELECT PROCESSLIST_ID, ATTR_VALUE FROM performance_schema.session_connect_attrs WHERE ATTR_NAME = 'program_name' LIMIT 50000`,
		func(r *sql.Rows) error {
			var id int64
			var name sql.NullString
			err := r.Scan(&id, &name)
			out[id] = name.String
			return err
		},
	)
	if err != nil {
		return map[int64]string{}, nil // not shown to this login
	}
	return out, nil
}

// readPrepared lists XA transactions that wait for their second phase. The
// server tells neither database nor owner of them.
func (s *server) readPrepared(ctx context.Context) ([]catalog.Prepared, error) {
	return s.product.prepared(ctx, s)
}

// dumpHint is in every query of the usual dump. An application that asks for
// SQL_NO_CACHE by itself writes it without the comment.
const dumpHint = "/*!40001 SQL_NO_CACHE */"

// kindOf says what a thread is there for. A backup is told by the locks that it
// holds, or by the hint that the usual dump puts into its queries.
func (p *product) kindOf(user, command, statement string, held []metadataLock, own bool) catalog.SessionKind {
	switch {
	case own:
		return catalog.OwnSession
	case strings.HasPrefix(command, "Binlog Dump"), strings.HasPrefix(command, "Slave"):
		return catalog.ReplicationSession
	case user == "system user":
		return catalog.ReplicationSession
	case user == "event_scheduler", command == "Daemon":
		return catalog.EngineSession
	case strings.Contains(statement, dumpHint), slices.ContainsFunc(held, p.isBackup):
		return catalog.BackupSession
	}
	return catalog.ClientSession
}

func activityOf(command, state string, t transaction, open bool) catalog.Activity {
	switch {
	case command == "Killed" || t.state == "ROLLING BACK":
		return catalog.SessionEnding
	case command != "Sleep":
		return catalog.SessionActive
	case open:
		return catalog.SessionInTransaction
	}
	return catalog.SessionIdle
}

func waitOf(state string) string {
	if strings.HasPrefix(state, "Waiting for") {
		return strings.TrimPrefix(state, "Waiting for ")
	}
	return ""
}

// use adds what a session's metadata locks tell: databases that it works in, and
// that it is not idle while it holds tables locked.
func use(x *catalog.Session, held []metadataLock) {
	if x.Locks < len(held) {
		x.Locks = len(held)
	}
	for _, l := range held {
		if l.database != "" && l.database != x.Database && !slices.Contains(x.Uses, l.database) {
			x.Uses = append(x.Uses, l.database)
		}
		if l.table != "" && x.Activity == catalog.SessionIdle {
			x.Activity = catalog.SessionInTransaction // LOCK TABLES, or an engine without transactions
		}
	}
}

// waitForMetadata works out who a session waits for, of those that hold locks on
// the table or database that its statement names.
func (p *product) waitForMetadata(list []catalog.Session, held map[int64][]metadataLock) {
	for i := range list {
		x := &list[i]
		if !strings.Contains(x.Wait, "lock") || len(x.BlockedBy) > 0 {
			continue
		}
		for id, locks := range held {
			if id != x.ID.Number && slices.ContainsFunc(locks, func(l metadataLock) bool {
				return strings.Contains(x.Wait, "backup") && p.isBackup(l) ||
					l.database != "" && (l.database == x.Database || strings.Contains(x.Statement, l.database)) &&
						(l.table == "" || strings.Contains(x.Statement, l.table) ||
							strings.Contains(strings.ToUpper(x.Statement), "DATABASE"))
			}) {
				x.BlockedBy = append(x.BlockedBy, id)
			}
		}
		slices.Sort(x.BlockedBy)
	}
}

// End ends sessions by their numbers, each only if account, client and the
// server's own beginning are those of its mark. The server hands no number out
// twice in one run, so nothing can come between the look and the order.
func (s *server) End(ctx context.Context, ids []catalog.SessionID, how catalog.Ending) (map[catalog.SessionID]string,
	error) {
	const op = "end sessions"
	there, err := s.present(ctx, ids)
	if err != nil {
		return nil, err
	}
	kill := s.product.kill
	if how == catalog.EndStatement {
		kill = s.product.killStatement
	}
	refused := map[catalog.SessionID]string{}
	var mu sync.Mutex // guards refused
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(2)
	for some := range slices.Chunk(there, killsAtOnce) {
		group.Go(func() error {
			conn, err := s.db.Conn(gctx)
			if err != nil {
				return engine.NeverSent(wrap(op, err))
			}
			defer conn.Close()
			if len(some) > 1 && s.product.compound {
				if _, err := conn.ExecContext(gctx, killAll(kill, some)); err == nil {
					return nil
				}
				// One of them was refused, and the rest not tried.
			}
			for _, id := range some {
				_, err := conn.ExecContext(gctx, kill+strconv.FormatInt(id.Number, 10))
				switch e, _ := wrap(op, err).(*engine.Error); {
				case err == nil, e != nil && e.Code == "1094": // gone already
				case e != nil && e.Kind == engine.Refused:
					mu.Lock()
					refused[id] = e.Text
					mu.Unlock()
				default:
					return wrap(op, err)
				}
			}
			return nil
		})
	}
	return refused, group.Wait()
}

// killsAtOnce is how many go in one statement: a KILL can be slow, and the
// others of its statement wait for it.
const killsAtOnce = 50

// killAll is one compound statement that ends several sessions; those that have
// gone already (1094) do not keep it from the others.
func killAll(kill string, ids []catalog.SessionID) string {
	var b strings.Builder
	b.WriteString("BEGIN NOT ATOMIC DECLARE CONTINUE HANDLER FOR 1094 BEGIN END; ")
	for _, id := range ids {
		b.WriteString(kill + strconv.FormatInt(id.Number, 10) + "; ")
	}
	return b.String() + "END"
}

// present picks, of the sessions asked for, those that are there as they were.
func (s *server) present(ctx context.Context, ids []catalog.SessionID) ([]catalog.SessionID, error) {
	wanted := make(map[catalog.SessionID]bool, len(ids))
	for _, id := range ids {
		wanted[id] = true
	}
	var out []catalog.SessionID
	own := s.ownNow()
	err := s.query(ctx, "end sessions",
		`SELECT ID, USER, HOST, `+beganSQL+` FROM `+s.product.processlist+` LIMIT 50000`, func(r *sql.Rows) error {
			var id catalog.SessionID
			var user, client string
			var began int64
			err := r.Scan(&id.Number, &user, &client, &began)
			id.Mark = mark(user, client, began)
			if ours, known := own[id.Number]; wanted[id] && !(known && ours == client) && !s.owns(id.Number, client) {
				out = append(out, id)
			}
			return err
		})
	return out, err
}

// readSessions reads the sessions that an intent has to do with into its snapshot.
func (s *server) readSessions(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	q, any := planning.Clears(in, nil)
	if !any {
		return nil
	}
	list, err := s.Sessions(ctx, q)
	snap.Connected, snap.SessionsUnseen = list.Sessions, list.Unseen
	return err
}

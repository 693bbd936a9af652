// Package postgres is all that Genarch knows of PostgreSQL: reading its
// catalogues, planning changes, carrying steps out. plan.go and sql.go are pure.
package postgres

import (
	"context"
	"net"
	"strconv"
	"sync"
	"sync/atomic"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/pgxpool"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// Engine is PostgreSQL, versions 15 and later. Its zero value is ready for use.
type Engine struct{}

// connectTimeout bounds one attempt to connect.
const connectTimeout = 5 * time.Second

// pingAfter is how long a pooled connection may be idle and still be trusted.
// A server that was restarted meanwhile has ended it: what is sent on it then
// would come back as an outcome that nobody knows.
const pingAfter = 50 * time.Millisecond

// statementTimeout bounds reading statements on the server itself: giving up
// on our side alone would leave them running.
const statementTimeout = 30 * time.Second

// server is an opened PostgreSQL server, as seen by those who read or by changes.
type server struct {
	*shared
	pool *pgxpool.Pool
	// inside holds a place for each connection to another database than the pool's.
	inside  chan struct{}
	changes *server  // the same for changes; nil: this is the one
	own     *session // by which this change alters; nil: each step by one of the pool
}

// shared is what is known of a server whoever asks.
type shared struct {
	target    engine.Target
	config    *pgx.ConnConfig
	transport *engine.Transport
	altering  alterers

	mu      sync.Mutex // guards notices
	notices map[*pgconn.PgConn][]change.Message
	counts  *engine.TableCounts

	counted counted // guarded by mu

	interiors interiors
	pointers  pointers
	number    atomic.Int64 // the server's version, 0: not read yet
	sessions  atomic.Int64 // how many there were when last read: so much room is made the next time
}

// Open prepares a small pool; it connects when first used.
//
// Long: the settings of the connection, each with its reason.
func (Engine) Open(t engine.Target) (engine.Server, error) {
	// Everything is said: nothing comes from the environment of the service's
	// account, nor from a password file of it.
	cfg, err := pgxpool.ParseConfig("host=127.0.0.1 port=5432 user=nobody password=none dbname=postgres sslmode=disable passfile=/nonexistent servicefile=/nonexistent target_session_attrs=any")
	if err != nil {
		return nil, &engine.Error{Op: "open", Kind: engine.NotSent, Err: err}
	}
	transport, err := engine.NewTransport(t)
	if err != nil {
		return nil, err
	}
	s := &shared{transport: transport, target: t, notices: map[*pgconn.PgConn][]change.Message{},
		counts: engine.NewTableCounts()}
	c := cfg.ConnConfig
	c.Host, c.Port = t.Server.Host, uint16(t.Server.Port)
	c.User, c.Password = t.Server.Admin, t.Password.Reveal()
	c.Database = "postgres"
	if home := t.Server.Options.Text("database"); home != "" {
		c.Database = home
	}
	c.ConnectTimeout = connectTimeout
	c.Fallbacks, c.TLSConfig = nil, transport.Config()
	// SCRAM gives nothing away and proves the server too, which must know what it
	// keeps of the password; within TLS it is bound to the connection.
	c.RequireAuth, c.ChannelBinding = "scram-sha-256", "prefer"
	if c.TLSConfig != nil {
		c.ChannelBinding = "require"
	}
	if t.Server.Options.Bool("weak_sign_in") {
		c.RequireAuth, c.ChannelBinding = "", "prefer"
	}
	if t.Server.OnSocket() {
		if c.RequireAuth != "" {
			c.RequireAuth += ",none" // the system says who asks (peer)
		}
		c.DialFunc = func(ctx context.Context, network, address string) (net.Conn, error) {
			if err := engine.CheckSocket(t.Server.Host); err != nil {
				return nil, err
			}
			return (&net.Dialer{Timeout: connectTimeout}).DialContext(ctx, network, address)
		}
	}
	c.RuntimeParams = map[string]string{
		"application_name":            "genarch",
		"client_encoding":             "UTF8",
		"standard_conforming_strings": "on",
		"statement_timeout":           strconv.Itoa(int(statementTimeout.Milliseconds())),
		"search_path":                 "pg_catalog",
		"lock_timeout":                "5000",
	}
	c.OnNotice = s.notice
	c.DefaultQueryExecMode = pgx.QueryExecModeCacheDescribe
	cfg.MinConns = 0
	cfg.MaxConnIdleTime, cfg.MaxConnLifetime = 5*time.Minute, time.Hour
	cfg.AfterConnect = s.checkIdentity
	cfg.AfterRelease = func(c *pgx.Conn) bool { return c.PgConn().CustomData()[announced] == nil }
	cfg.ShouldPing = func(_ context.Context, p pgxpool.ShouldPingParams) bool { return p.IdleDuration > pingAfter }
	s.config = c.Copy()
	readers, err := s.open(cfg, engine.Readers, engine.ReadersInside)
	if err != nil {
		return nil, err
	}
	if readers.changes, err = s.open(cfg, engine.Workers, engine.WorkersInside); err != nil {
		readers.pool.Close()
		return nil, err
	}
	alters, err := s.open(cfg, engine.Altering, 0)
	if err != nil {
		readers.pool.Close()
		readers.changes.pool.Close()
		return nil, err
	}
	s.altering = alterers{pool: alters.pool, places: make(chan struct{}, engine.Altering)}
	return readers, nil
}

// open prepares a pool of at most conns, and as many places for others.
func (s *shared) open(cfg *pgxpool.Config, conns, inside int) (*server, error) {
	cfg = cfg.Copy()
	cfg.MaxConns = int32(conns)
	pool, err := pgxpool.NewWithConfig(context.Background(), cfg)
	if err != nil {
		return nil, &engine.Error{Op: "open", Kind: engine.NotSent, Err: err}
	}
	return &server{shared: s, pool: pool, inside: make(chan struct{}, inside)}, nil
}

// Close ends the pool and the counting in the background.
func (s *server) Close() {
	if s.changes == nil {
		return // it goes with the one that reads
	}
	s.counts.Stop()
	s.pool.Close()
	s.changes.pool.Close()
	s.altering.pool.Close()
}

// checkIdentity runs on each new connection: no statement is ever sent to another
// instance than the registered one.
func (s *shared) checkIdentity(ctx context.Context, c *pgx.Conn) error {
	if s.target.SkipIdentityCheck || !s.target.Server.Identity.Known() {
		return nil
	}
	found, err := s.readIdentity(ctx, c)
	if err != nil {
		return err
	}
	known := s.target.Server.Identity
	if len(known.Differences(found)) > 0 {
		return &engine.IdentityError{Server: s.target.Server.Name, Known: known, Found: found}
	}
	return nil
}

// notice keeps what the server says on a connection until a step collects it.
func (s *shared) notice(c *pgconn.PgConn, n *pgconn.Notice) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if kept := s.notices[c]; len(kept) < maxNotices {
		s.notices[c] = append(kept, change.Message{Severity: n.Severity, Code: n.Code, Text: n.Message})
	}
}

// maxNotices bounds what is kept of one statement's notices.
const maxNotices = 100

// collect takes the notices of a connection.
func (s *shared) collect(c *pgxpool.Conn) []change.Message {
	s.mu.Lock()
	defer s.mu.Unlock()
	key := c.Conn().PgConn()
	kept := s.notices[key]
	delete(s.notices, key)
	return kept
}

// dialled is a connection to another database than the pool's.
type dialled struct {
	*pgx.Conn
	free func()
}

// Close ends the connection and gives its place back.
func (d *dialled) Close(ctx context.Context) {
	_ = d.Conn.Close(ctx)
	d.free()
}

// dialDatabase opens a connection of its own to another database of the server,
// as soon as there is a place for one. The caller closes it. What the server says
// on it goes to hear.
func (s *server) dialDatabase(ctx context.Context, name string, hear ...func(change.Message)) (*dialled, error) {
	op := "connect to " + naming.Show(name)
	select {
	case s.inside <- struct{}{}:
	case <-ctx.Done():
		return nil, engine.Classify(op, ctx.Err(), false)
	}
	free := sync.OnceFunc(func() { <-s.inside })
	cfg := s.config.Copy()
	cfg.Database = name
	cfg.OnNotice = func(_ *pgconn.PgConn, n *pgconn.Notice) {
		for _, f := range hear {
			f(change.Message{Severity: n.Severity, Code: n.Code, Text: n.Message})
		}
	}
	conn, err := pgx.ConnectConfig(ctx, cfg)
	if err != nil {
		free()
		return nil, wrap(op, err)
	}
	d := &dialled{conn, free}
	if err := s.checkIdentity(ctx, conn); err != nil {
		d.Close(context.WithoutCancel(ctx))
		return nil, err
	}
	return d, nil
}

// Package mysqlfamily is all that Genarch knows of the servers that speak the protocol and the
// language of MySQL: reading their catalogues, planning changes, carrying steps out. What they
// share is written once; where they differ stands in a product each (product.go). plan*.go
// and sql.go are pure.
package mysqlfamily

import (
	"context"
	"crypto/tls"
	"database/sql"
	"database/sql/driver"
	"io"
	"log"
	"net"
	"strconv"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/engine"
	"example.com/genarch/engine/senders"
)

// Engine is one product of the family. Its zero value is ready for use.
type Engine[P Of] struct {
	// Owns tells sessions of Genarch that this engine has not opened (those to
	// its records) by number and client; nil: there are none.
	Owns func(number int64, client string) bool
}

const (
	connectTimeout = 5 * time.Second
	// ioTimeout bounds a single read or write on the line.
	ioTimeout = 60 * time.Second
)

// server is an opened server, as seen by those who read or by changes.
type server struct {
	*shared
	db      *sql.DB
	changes *server      // the same for changes; nil: this is the one
	own     *senders.Own // by which this change alters; nil: each step by one of the pool
	// drops holds a place for each drop: it keeps a connection while it reads by
	// others, so there is always one more than there are places.
	drops chan struct{}
}

// shared is what is known of a server whoever asks.
type shared struct {
	product   *product
	target    engine.Target
	transport *engine.Transport
	config    *mysql.Config // to sign in as others
	// How many there were when last read: so much room is made the next time.
	accounts, grants, sessions atomic.Int64
	looks                      looks
	altering                   *senders.Pool
	owns                       func(number int64, client string) bool
}

func (Engine[P]) product() *product {
	var p P
	return p.product()
}

// Open prepares a small pool; it connects when first used.
func (e Engine[P]) Open(t engine.Target) (engine.Server, error) {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd = t.Server.Admin, t.Password.Reveal()
	network := "tcp"
	cfg.Addr = net.JoinHostPort(t.Server.Host, strconv.Itoa(t.Server.Port))
	if t.Server.OnSocket() {
		network, cfg.Addr = "unix", t.Server.Host
	}
	cfg.Net = network
	transport, err := engine.NewTransport(t)
	if err != nil {
		return nil, err
	}
	cfg.DialFunc, cfg.TLS = dialer(transport, network), transport.Config()
	if cfg.TLS != nil && !transport.Proven() {
		// Within TLS the line cannot be read along, so it goes no further than the
		// certificate, whose key the error names.
		verify := cfg.TLS.VerifyConnection
		cfg.TLS.VerifyConnection = func(state tls.ConnectionState) error {
			if err := verify(state); err != nil {
				return err
			}
			return transport.Unproven("TLS with a certificate that nobody vouches for")
		}
	}
	cfg.ParseTime, cfg.Loc, cfg.InterpolateParams = true, time.UTC, true
	cfg.Timeout, cfg.ReadTimeout, cfg.WriteTimeout = connectTimeout, ioTimeout, ioTimeout
	cfg.Collation = "utf8mb4_general_ci"
	cfg.Logger = log.New(io.Discard, "", 0) // errors come back as values
	s := &shared{product: e.product(), target: t, transport: transport, config: cfg, owns: e.Owns}
	if s.owns == nil {
		s.owns = func(int64, string) bool { return false }
	}
	readers, err := s.open(cfg, engine.Readers+engine.ReadersInside)
	if err != nil {
		return nil, err
	}
	// A statement of a change may take long: the others give up waiting for an
	// answer after a minute.
	long := cfg.Clone()
	long.ReadTimeout = dropSeconds * time.Second
	if readers.changes, err = s.open(long, engine.Workers+engine.WorkersInside); err != nil {
		readers.db.Close()
		return nil, err
	}
	alters, err := s.open(long, engine.Altering)
	if err != nil {
		readers.db.Close()
		readers.changes.db.Close()
		return nil, err
	}
	s.altering = senders.NewPool(alters.db, connectTimeout, wrap)
	return readers, nil
}

// open prepares a pool of at most conns.
func (s *shared) open(cfg *mysql.Config, conns int) (*server, error) {
	c, err := mysql.NewConnector(cfg)
	if err != nil {
		return nil, &engine.Error{Op: "open", Kind: engine.NotSent, Err: err}
	}
	db := sql.OpenDB(guarded{c, s.product, s.target, s.transport, s.noteOwn})
	db.SetMaxOpenConns(conns)
	db.SetMaxIdleConns(conns)
	db.SetConnMaxIdleTime(5 * time.Minute)
	db.SetConnMaxLifetime(time.Hour)
	return &server{shared: s, db: db, drops: make(chan struct{}, conns-1)}, nil
}

// Close ends the pools.
func (s *server) Close() {
	if s.changes == nil {
		return // it goes with the one that reads
	}
	s.db.Close()
	s.changes.db.Close()
	s.altering.Close()
}

// guarded is a connector that hands out a connection only after it has shown
// the registered identity: nothing is ever sent to another instance.
type guarded struct {
	driver.Connector
	product   *product
	target    engine.Target
	transport *engine.Transport
	// opened is told the number and the client of each connection.
	opened func(id int64, client string)
}

// Connect opens, sets up and checks one connection.
func (g guarded) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := g.Connector.Connect(ctx)
	if err != nil {
		if why := g.transport.Refused(); why != nil {
			return nil, why
		}
		return nil, wrap("", err)
	}
	if err = g.prepare(ctx, c); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func (g guarded) prepare(ctx context.Context, c driver.Conn) error {
	if _, err := c.(driver.ExecerContext).ExecContext(ctx, g.product.setUp, nil); err != nil {
		if row, asked := firstRow(ctx, c, "SELECT VERSION()", 1); asked == nil && !g.product.recognises(row[0]) {
			return g.product.another(row[0])
		}
		return wrap("set up the connection", err)
	}
	if row, err := firstRow(ctx, c, "SELECT @@character_set_client, @@character_set_connection", 2); err != nil ||
		row[0] != "utf8mb4" || row[1] != "utf8mb4" {
		return &engine.Error{Op: "set up the connection", Kind: engine.NotSent, Err: err,
			Text: "the server does not speak utf8mb4 on this connection, so no name could be written safely",
			Next: "Look at its settings character_set_client and init_connect."}
	}
	if row, err := firstRow(ctx, c, "SELECT ID, HOST FROM "+g.product.processlist+
		" WHERE ID = CONNECTION_ID()", 2); err == nil {
		if id, err := strconv.ParseInt(row[0], 10, 64); err == nil {
			g.opened(id, row[1])
		}
	}
	known := g.target.Server.Identity
	if g.target.SkipIdentityCheck || !known.Known() {
		return nil
	}
	found, err := identityOf(ctx, g.product, c)
	if err != nil {
		return err
	}
	found = g.transport.Marked(found)
	if len(known.Differences(found)) > 0 {
		return &engine.IdentityError{Server: g.target.Server.Name, Known: known, Found: found}
	}
	return nil
}

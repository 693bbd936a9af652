// Package sqlserver is all that Genarch knows of Microsoft SQL Server: reading its catalogue views,
// planning changes, carrying steps out. plan*.go, sql.go and rules.go are pure.
package sqlserver

import (
	"context"
	"crypto/tls"
	"database/sql"
	"database/sql/driver"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"time"

	mssql "github.com/microsoft/go-mssqldb"
	"github.com/microsoft/go-mssqldb/msdsn"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine"
	"example.com/genarch/engine/senders"
)

// Engine is SQL Server. Its zero value is ready for use.
type Engine struct{}

const (
	connectTimeout = 5 * time.Second
	// program is what Genarch calls itself in its sessions.
	program = "genarch"
)

// server is an opened server, as seen by those who read or by changes.
type server struct {
	*shared
	db      *sql.DB
	changes *server      // the same for changes; nil: this is the one
	own     *senders.Own // by which this change alters; nil: each step by one of the pool
}

// shared is what is known of a server whoever asks.
type shared struct {
	target    engine.Target
	transport *engine.Transport
	config    msdsn.Config // to sign in as others
	altering  *senders.Pool
	counts    *engine.TableCounts
	sessions  atomic.Int64 // how many there were when last read

	mu  sync.Mutex // guards own
	own map[int64]string
}

// Open prepares a small pool; it connects when first used.
func (Engine) Open(t engine.Target) (engine.Server, error) {
	transport, err := engine.NewTransport(t)
	if err != nil {
		return nil, err
	}
	cfg := msdsn.Config{Host: t.Server.Host, Port: uint64(t.Server.Port), User: t.Server.Admin,
		Password: t.Password.Reveal(), Database: master, AppName: program, Encryption: msdsn.EncryptionRequired,
		DialTimeout: connectTimeout, KeepAlive: 30 * time.Second, DisableRetry: true, Protocols: []string{"tcp"},
		TLSConfig: transport.Config(), Parameters: map[string]string{}}
	if cfg.TLSConfig != nil && !transport.Proven() {
		// The handshake goes no further than the certificate, whose key the error names.
		verify := cfg.TLSConfig.VerifyConnection
		cfg.TLSConfig.VerifyConnection = func(state tls.ConnectionState) error {
			if err := verify(state); err != nil {
				return err
			}
			return transport.Unproven("TLS with a certificate that nobody vouches for")
		}
	}
	s := &shared{target: t, transport: transport, config: cfg, own: map[int64]string{},
		counts: engine.NewTableCounts()}
	readers := s.open(engine.Readers + engine.ReadersInside)
	readers.changes = s.open(engine.Workers + engine.WorkersInside)
	s.altering = senders.NewPool(s.open(engine.Altering).db, connectTimeout, wrap)
	return readers, nil
}

// open prepares a pool of at most conns.
func (s *shared) open(conns int) *server {
	db := sql.OpenDB(guarded{s})
	db.SetMaxOpenConns(conns)
	db.SetMaxIdleConns(conns)
	db.SetConnMaxIdleTime(5 * time.Minute)
	db.SetConnMaxLifetime(time.Hour)
	return &server{shared: s, db: db}
}

// Close ends the pools.
func (s *server) Close() {
	if s.changes == nil {
		return // it goes with the one that reads
	}
	s.counts.Stop()
	s.db.Close()
	s.changes.db.Close()
	s.altering.Close()
}

// guarded is a connector that hands out a connection only after it has shown the registered
// identity: nothing is ever sent to another instance.
type guarded struct{ s *shared }

// Driver is that of the library.
func (g guarded) Driver() driver.Driver { return asLogin{g.s.config}.Driver() }

// asLogin is a connector that signs in, and looks at nothing: as another login than Genarch's own, once the server
// has shown by that one who it is.
type asLogin struct{ config msdsn.Config }

// Driver is that of the library.
func (a asLogin) Driver() driver.Driver { return mssql.NewConnectorConfig(a.config).Driver() }

// Connect opens a connection.
func (a asLogin) Connect(ctx context.Context) (driver.Conn, error) {
	connector, line := mssql.NewConnectorConfig(a.config), &dialer{signIn: ctx}
	connector.Dialer = line
	c, err := connector.Connect(ctx)
	line.over()
	return c, err
}

// dialer connects for one sign-in. The driver does not end that when its time is up, so the line gets
// a deadline, until the sign-in is over.
type dialer struct {
	signIn context.Context // the driver's own ends with the dialling
	line   net.Conn
	stop   func() bool
}

// DialContext opens the line.
func (d *dialer) DialContext(ctx context.Context, network, address string) (net.Conn, error) {
	line, err := (&net.Dialer{Timeout: connectTimeout, KeepAlive: 30 * time.Second}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	if err := line.SetDeadline(time.Now().Add(2 * connectTimeout)); err != nil {
		return nil, err
	}
	d.line = line
	d.stop = context.AfterFunc(d.signIn, func() { _ = line.SetDeadline(time.Now()) })
	return line, nil
}

// over lets the line last.
func (d *dialer) over() {
	if d.line != nil && d.stop() {
		_ = d.line.SetDeadline(time.Time{})
	}
}

// Connect opens and checks one connection. A login's password goes over the line all but in clear, so
// it is given only to a server that has proved itself.
func (g guarded) Connect(ctx context.Context) (driver.Conn, error) {
	if g.s.target.Server.TLS == catalog.TLSOff {
		e := g.s.transport.Unproven("its own protocol, without TLS")
		_ = g.s.transport.Refused()
		return nil, e
	}
	c, err := asLogin{g.s.config}.Connect(ctx)
	if err != nil {
		if why := g.s.transport.Refused(); why != nil {
			return nil, why
		}
		return nil, engine.NeverSent(wrap("", err))
	}
	if err = g.prepare(ctx, c); err != nil {
		c.Close()
		return nil, err
	}
	return c, nil
}

func (g guarded) prepare(ctx context.Context, c driver.Conn) error {
	// Without the right to see sessions one sees oneself, but no connection.
	if row, err := firstRow(ctx, c, `SELECT @@SPID, LOWER(REPLACE(CONVERT(varchar(36), connection_id), '-', ''))
		FROM sys.dm_exec_connections WHERE session_id = @@SPID`); err == nil {
		if id, ok := row[0].(int64); ok {
			g.s.noteOwn(id, text(row[1]))
		}
	}
	known := g.s.target.Server.Identity
	if g.s.target.SkipIdentityCheck || !known.Known() {
		return nil
	}
	found, err := identityOf(ctx, c)
	if err != nil {
		return err
	}
	found = g.s.transport.Marked(found)
	if len(known.Differences(found)) > 0 {
		return &engine.IdentityError{Server: g.s.target.Server.Name, Known: known, Found: found}
	}
	return nil
}

// maxOwn bounds the connections that are remembered as ours.
const maxOwn = 256

// noteOwn remembers a connection of ours; a number that is used again has another one.
func (s *shared) noteOwn(number int64, connection string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.own) >= maxOwn {
		clear(s.own) // those that are open show their program's name too
	}
	s.own[number] = connection
}

func (s *shared) isOwn(id catalog.SessionID) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.own[id.Number] == id.Mark && id.Mark != ""
}

// firstRow runs a query without parameters on a driver's connection; io.EOF when there is no row.
func firstRow(ctx context.Context, c driver.Conn, query string) ([]driver.Value, error) {
	st, err := c.(driver.ConnPrepareContext).PrepareContext(ctx, query)
	if err != nil {
		return nil, err
	}
	defer st.Close()
	rows, err := st.(driver.StmtQueryContext).QueryContext(ctx, nil)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	row := make([]driver.Value, len(rows.Columns()))
	if err := rows.Next(row); err != nil {
		return nil, err
	}
	for err == nil { // what is left unread would meet the next statement
		err = rows.Next(make([]driver.Value, len(row)))
	}
	if err != io.EOF {
		return nil, err
	}
	return row, nil
}

// text is a value as text; NULL is empty.
func text(v driver.Value) string {
	switch v := v.(type) {
	case string:
		return v
	case []byte:
		return string(v)
	}
	return ""
}

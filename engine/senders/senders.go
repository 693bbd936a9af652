// Package senders has the connections by which changes alter, for the engines whose driver is one of
// database/sql: which statement goes by which session is on record before it is sent.
package senders

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"sync"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// Sender is a connection by which a step alters.
type Sender struct {
	*sql.Conn
	ID catalog.SessionID // as the server knows it; zero: not read yet
}

// Spend lets nothing else be sent on the connection: it is closed when it is given back.
func (c *Sender) Spend() { _ = c.Raw(func(any) error { return driver.ErrBadConn }) }

// discard closes the connection, so that nobody gets it from the pool.
func (c *Sender) discard() {
	c.Spend()
	c.Close()
}

// Wrap makes a driver's error one of the engine's.
type Wrap func(op string, err error) error

// Pool has the connections by which changes alter, one change each.
type Pool struct {
	db     *sql.DB
	places chan struct{}
	ahead  time.Duration // how long opening one may take that nobody waits for
	wrap   Wrap
}

// NewPool takes db for altering.
func NewPool(db *sql.DB, ahead time.Duration, wrap Wrap) *Pool {
	return &Pool{db: db, places: make(chan struct{}, engine.Altering), ahead: ahead, wrap: wrap}
}

// Close ends the connections.
func (p *Pool) Close() { p.db.Close() }

// Take gives a change a connection of its own, opened meanwhile: it will be wanted. done gives it back,
// closed; nil: none is free.
func (p *Pool) Take() (own *Own, done func()) {
	select {
	case p.places <- struct{}{}:
	default:
		return nil, nil
	}
	ctx, cancel := context.WithTimeout(context.Background(), p.ahead)
	own = &Own{pool: p, cancel: cancel}
	go func() {
		defer cancel()
		_ = own.use(ctx, func(*Sender) error { return nil }) // an error shows when it is wanted
	}()
	return own, func() {
		own.end()
		<-p.places
	}
}

// Own is the connection by which one change alters. Between two steps it stays that change's own, and no
// other change gets it: while a step is on record as sent by it, whoever finds it there may end it, and the
// server lets it keep the rights that it began with.
type Own struct {
	pool   *Pool
	cancel context.CancelFunc // of opening it ahead

	mu   sync.Mutex // held while it is used
	conn *Sender
	over bool
}

// use lets f send on the connection. One that was lost since the last time, before anything was sent on it,
// is replaced.
func (x *Own) use(ctx context.Context, f func(*Sender) error) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.over {
		return &engine.Error{Op: "connect", Kind: engine.NotSent, Text: "the change has ended"}
	}
	if x.conn != nil && x.conn.PingContext(ctx) != nil {
		x.drop()
	}
	if x.conn == nil {
		conn, err := x.pool.db.Conn(ctx)
		if err != nil {
			return engine.NeverSent(x.pool.wrap("connect", err))
		}
		x.conn = &Sender{Conn: conn}
	}
	err := f(x.conn)
	if e, ok := err.(*engine.Error); ok && e.Kind == engine.Unknown {
		x.drop()
	}
	return err
}

func (x *Own) drop() {
	if x.conn != nil {
		x.conn.discard()
		x.conn = nil
	}
}

// end closes the connection.
func (x *Own) end() {
	x.cancel()
	x.mu.Lock()
	defer x.mu.Unlock()
	x.over = true
	x.drop()
}

// Use lets f alter by a connection: the change's own, or, without one, one of db, which is closed when its
// session is on record as the one that sent a step.
func (p *Pool) Use(ctx context.Context, own *Own, db *sql.DB, op string, step change.Step,
	f func(*Sender) error) error {
	if own != nil {
		return own.use(ctx, f)
	}
	conn, err := db.Conn(ctx)
	if err != nil {
		return engine.NeverSent(p.wrap(op, err))
	}
	c := &Sender{Conn: conn}
	defer c.Close()
	if step.Ready != nil {
		defer c.discard()
	}
	return f(c)
}

// Announce has it put on record which session is about to send a step's statement; who asks the server for
// it, once a connection, and gives errors of the engine.
func Announce(ctx context.Context, c *Sender, step change.Step,
	who func(context.Context, *Sender) (catalog.SessionID, error)) error {
	if step.Ready == nil {
		return nil
	}
	if c.ID == (catalog.SessionID{}) {
		id, err := who(ctx, c)
		if err != nil {
			return engine.NeverSent(err)
		}
		c.ID = id
	}
	return step.Announce(change.Sending{Session: c.ID})
}

package mysqlfamily

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"sync"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// alterers has the connections by which changes alter, one change each.
type alterers struct {
	db     *sql.DB
	places chan struct{}
}

// sender is a connection by which a step alters.
type sender struct {
	*sql.Conn
	id catalog.SessionID // as the server knows it; zero: not read yet
}

// session is the connection by which one change alters. Between two steps it stays
// that change's own, and no other change gets it: while a step is on record as sent
// by it, whoever finds it there may end it, and the server lets it keep the rights
// that it began with.
type session struct {
	db     *sql.DB
	cancel context.CancelFunc // of opening it ahead

	mu   sync.Mutex // held while it is used
	conn *sender
	over bool
}

// ForChange gives the connections that are kept for changes. The change's own is
// opened meanwhile: it will be wanted.
func (s *server) ForChange() (engine.Server, func(settled bool)) {
	if s.changes == nil {
		return s, func(bool) {}
	}
	select {
	case s.altering.places <- struct{}{}:
	default:
		return s.changes, func(bool) {}
	}
	mine := *s.changes
	ctx, cancel := context.WithTimeout(context.Background(), connectTimeout)
	mine.own = &session{db: s.altering.db, cancel: cancel}
	go func() {
		defer cancel()
		_ = mine.own.use(ctx, func(*sender) error { return nil }) // an error shows when it is wanted
	}()
	return &mine, func(bool) {
		mine.own.end()
		<-s.altering.places
	}
}

// use lets f send on the connection. One that was lost since the last time, before
// anything was sent on it, is replaced.
func (x *session) use(ctx context.Context, f func(*sender) error) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.over {
		return &engine.Error{Op: "connect", Kind: engine.NotSent, Text: "the change has ended"}
	}
	if x.conn != nil && x.conn.PingContext(ctx) != nil {
		x.drop()
	}
	if x.conn == nil {
		conn, err := x.db.Conn(ctx)
		if err != nil {
			return engine.NeverSent(wrap("connect", err))
		}
		x.conn = &sender{Conn: conn}
	}
	err := f(x.conn)
	if e, ok := err.(*engine.Error); ok && e.Kind == engine.Unknown {
		x.drop()
	}
	return err
}

func (x *session) drop() {
	if x.conn != nil {
		x.conn.discard()
		x.conn = nil
	}
}

// end closes the connection.
func (x *session) end() {
	x.cancel()
	x.mu.Lock()
	defer x.mu.Unlock()
	x.over = true
	x.drop()
}

// discard closes a connection, so that nobody gets it from the pool.
func (c *sender) discard() {
	_ = c.Raw(func(any) error { return driver.ErrBadConn })
	c.Close()
}

// withConn lets f alter by a connection: the change's own, or one of the pool, which
// is closed when its session is on record as the one that sent a step.
func (s *server) withConn(ctx context.Context, op string, step change.Step, f func(*sender) error) error {
	if s.own != nil {
		return s.own.use(ctx, f)
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return engine.NeverSent(wrap(op, err))
	}
	c := &sender{Conn: conn}
	defer c.Close()
	if step.Ready != nil {
		defer c.discard()
	}
	return f(c)
}

// announce has it put on record which session is about to send a step's statement.
// It is marked by account and client: a server that was restarted meanwhile may
// give the number again, but hardly to the same port of the same client.
func announce(ctx context.Context, c *sender, step change.Step) error {
	if step.Ready == nil {
		return nil
	}
	if c.id == (catalog.SessionID{}) {
		var id catalog.SessionID
		var user, client string
		err := c.QueryRowContext(ctx, `SELECT ID, USER, HOST FROM information_schema.PROCESSLIST WHERE ID = CONNECTION_ID()`).Scan(&id.Number, &user, &client)
		if err != nil {
			return engine.NeverSent(wrap(step.Title, err))
		}
		id.Mark = mark(user, client, 0)
		c.id = id
	}
	return step.Announce(change.Sending{Session: c.id})
}

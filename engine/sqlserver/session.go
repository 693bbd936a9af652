package sqlserver

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
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

// session is the connection by which one change alters. Between two steps it stays that change's own.
type session struct {
	db     *sql.DB
	cancel context.CancelFunc // of opening it ahead

	mu   sync.Mutex // held while it is used
	conn *sender
	over bool
}

// ForChange gives the connections that are kept for changes. The change's own is opened meanwhile:
// it will be wanted.
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

// use lets f send on the connection. One that was lost since the last time, before anything was sent
// on it, is replaced.
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

// withConn lets f alter by a connection: the change's own, or one of the pool, which is closed when
// its session is on record as the one that sent a step.
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
func announce(ctx context.Context, c *sender, step change.Step) error {
	if step.Ready == nil {
		return nil
	}
	if c.id == (catalog.SessionID{}) {
		err := c.QueryRowContext(ctx, "SELECT s.session_id, "+markColumn+sessionTables+" WHERE s.session_id = @@SPID").
			Scan(&c.id.Number, &c.id.Mark)
		if err != nil {
			return engine.NeverSent(wrap(step.Title, err))
		}
	}
	return step.Announce(change.Sending{Session: c.id})
}

// exec sends one command. What is not exactly one by the server's lexical rules is not even sent.
// What the server says beside its answer is not read: a driver that reads it would wait for an answer
// that was lost until its deadline.
func exec(ctx context.Context, c *sender, op, statement string) error {
	if err := engine.Single(op, statement, dialect); err != nil {
		return err
	}
	return send(ctx, c, op, statement)
}

func send(ctx context.Context, c *sender, op, text string) error {
	_, err := c.ExecContext(ctx, text)
	err = wrap(op, err)
	if e, ok := errors.AsType[*engine.Error](err); ok && e.Kind == engine.Unknown {
		// Nothing else may be sent on this connection: it is known by its session.
		_ = c.Raw(func(any) error { return driver.ErrBadConn })
	}
	return err
}

// sendStep sends the statement of a step.
func (s *server) sendStep(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.sendOne(ctx, step.Title, step.Statement, step)
}

func (s *server) sendOne(ctx context.Context, op, statement string, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.withConn(ctx, op, step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		return exec(ctx, c, op, statement)
	})
}

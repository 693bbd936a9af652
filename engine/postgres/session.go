package postgres

import (
	"context"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgxpool"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// alterers has the connections by which changes alter, one change each.
type alterers struct {
	pool   *pgxpool.Pool
	places chan struct{}
}

// session is the connection by which one change alters. Between two steps it stays
// that change's own: while a step is on record as sent by it, whoever finds it there
// may end it.
type session struct {
	pool   *pgxpool.Pool
	cancel context.CancelFunc // of opening it ahead

	mu   sync.Mutex // held while it is used
	conn *pgxpool.Conn
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
	mine.own = &session{pool: s.altering.pool, cancel: cancel}
	go func() {
		defer cancel()
		_ = mine.own.use(ctx, func(*pgxpool.Conn) error { return nil }) // an error shows when it is wanted
	}()
	return &mine, func(settled bool) {
		mine.own.end(settled)
		<-s.altering.places
	}
}

// use lets f send on the connection. One that was lost since the last time, before
// anything was sent on it, is replaced.
func (x *session) use(ctx context.Context, f func(*pgxpool.Conn) error) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	if x.over {
		return &engine.Error{Op: "connect", Kind: engine.NotSent, Text: "the change has ended"}
	}
	if x.conn != nil && x.conn.Ping(ctx) != nil {
		x.drop(ctx)
	}
	if x.conn == nil {
		conn, err := x.pool.Acquire(ctx)
		if err != nil {
			return engine.NeverSent(wrap("connect", err))
		}
		x.conn = conn
	}
	return f(x.conn)
}

// drop closes the connection.
func (x *session) drop(ctx context.Context) {
	if x.conn != nil {
		_ = x.conn.Conn().Close(context.WithoutCancel(ctx))
		x.conn.Release()
		x.conn = nil
	}
}

// end gives the connection back to the pool, for another change if it is settled.
func (x *session) end(settled bool) {
	x.cancel()
	x.mu.Lock()
	defer x.mu.Unlock()
	x.over = true
	if !settled || x.conn == nil {
		x.drop(context.Background())
		return
	}
	delete(x.conn.Conn().PgConn().CustomData(), announced)
	x.conn.Release()
	x.conn = nil
}

// The keys of what is known of a connection.
const (
	// announced marks one whose session is on record as the one that sent a step. It is
	// closed when the step is over, or when its change is: whoever finds the session
	// there later can be sure that it is still about that step, and may end it.
	announced = "announced"
	// identity is the session as the server knows it.
	identity = "identity"
)

// announce has it put on record which session is about to send a step's statement.
func announce(ctx context.Context, c *pgx.Conn, step change.Step, x change.Sending) error {
	if step.Ready == nil {
		return nil
	}
	data := c.PgConn().CustomData()
	id, known := data[identity].(catalog.SessionID)
	if !known {
		var began time.Time
		err := c.QueryRow(ctx, `SELECT backend_start FROM pg_catalog.pg_stat_get_activity(pg_catalog.pg_backend_pid())`).Scan(&began)
		if err != nil {
			return engine.NeverSent(wrap(step.Title, err))
		}
		id = catalog.SessionID{Number: int64(c.PgConn().PID()), Mark: mark(began)}
		data[identity] = id
	}
	data[announced] = true
	x.Session = id
	return step.Announce(x)
}

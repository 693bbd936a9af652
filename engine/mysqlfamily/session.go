package mysqlfamily

import (
	"context"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/senders"
)

// sender is a connection by which a step alters.
type sender = senders.Sender

// ForChange gives the connections that are kept for changes, and one of its own to alter by, if any is free.
func (s *server) ForChange() (engine.Server, func(settled bool)) {
	if s.changes == nil {
		return s, func(bool) {}
	}
	own, done := s.altering.Take()
	if own == nil {
		return s.changes, func(bool) {}
	}
	mine := *s.changes
	mine.own = own
	return &mine, func(bool) { done() }
}

// withConn lets f alter by a connection: the change's own, or one of the pool.
func (s *server) withConn(ctx context.Context, op string, step change.Step, f func(*sender) error) error {
	return s.altering.Use(ctx, s.own, s.db, op, step, f)
}

// announce has it put on record which session is about to send a step's statement.
func announce(ctx context.Context, c *sender, step change.Step) error {
	return senders.Announce(ctx, c, step, func(ctx context.Context, c *sender) (id catalog.SessionID, err error) {
		var user, client string
		err = c.QueryRowContext(ctx, "SELECT ID, USER, HOST FROM information_schema.PROCESSLIST WHERE ID = "+
			"CONNECTION_ID()").
			Scan(&id.Number, &user, &client)
		// It is marked by account and client: a server that was restarted meanwhile may give the number
		// again, but hardly to the same port of the same client.
		id.Mark = mark(user, client, 0)
		return id, wrap(step.Title, err)
	})
}

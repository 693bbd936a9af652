package sqlserver

import (
	"context"
	"errors"

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
		err = c.QueryRowContext(ctx, "SELECT s.session_id, "+markColumn+sessionTables+" WHERE s.session_id = @@SPID").
			Scan(&id.Number, &id.Mark)
		return id, wrap(step.Title, err)
	})
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
		c.Spend()
	}
	return err
}

// sendStep sends the statement of a step.
func (s *server) sendStep(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.sendOne(ctx, step.Title, step.Statement, step)
}

// sendAll sends several statements for one step, one a call.
func (s *server) sendAll(ctx context.Context, step change.Step, texts []string) error {
	return s.withConn(ctx, step.Title, step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		for _, text := range texts {
			if err := exec(ctx, c, step.Title, text); err != nil {
				return err
			}
		}
		return nil
	})
}

func (s *server) sendOne(ctx context.Context, op, statement string, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.withConn(ctx, op, step, func(c *sender) error {
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		return exec(ctx, c, op, statement)
	})
}

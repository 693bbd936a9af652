package store

import (
	"context"
	"database/sql/driver"
	"io"
	"sync"
)

// connections are the store's own, as their server numbers them. Its server may
// be one that Genarch looks after; then they are told from those of others.
type connections struct {
	mu      sync.Mutex // guards clients
	clients map[int64]string
}

// maxConnections bounds how many are remembered: far more than are ever open.
const maxConnections = 200

// noting is a connector that notes each connection it opens.
type noting struct {
	driver.Connector
	own *connections
}

// Connect opens a connection and notes its number and client. One that cannot
// be noted is used all the same.
func (n noting) Connect(ctx context.Context) (driver.Conn, error) {
	c, err := n.Connector.Connect(ctx)
	if err != nil {
		return nil, err
	}
	q, ok := c.(driver.QueryerContext)
	if !ok {
		return c, nil
	}
	rows, err := q.QueryContext(ctx, "SELECT ID, HOST FROM information_schema.PROCESSLIST WHERE ID = CONNECTION_ID()",
		nil)
	if err != nil {
		return c, nil
	}
	defer rows.Close()
	row := make([]driver.Value, 2)
	if err := rows.Next(row); err != nil {
		return c, nil
	}
	if err := rows.Next(make([]driver.Value, 2)); err != io.EOF {
		return c, nil
	}
	number, okNumber := row[0].(int64)
	client, okClient := row[1].([]byte)
	if okNumber && okClient {
		n.own.note(number, string(client))
	}
	return c, nil
}

func (o *connections) note(number int64, client string) {
	o.mu.Lock()
	defer o.mu.Unlock()
	if len(o.clients) >= maxConnections {
		clear(o.clients)
	}
	o.clients[number] = client
}

// Owns reports whether a session of a MariaDB server, by its number and client,
// is one of the store's own connections.
func (s *Store) Owns(number int64, client string) bool {
	s.own.mu.Lock()
	defer s.own.mu.Unlock()
	known, there := s.own.clients[number]
	return there && known == client
}

package mysqlfamily

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/core/catalog"
)

const markerQuery = "SELECT id FROM " + markerDatabase + "." + markerTable + " LIMIT 1"

// identityOf reads the identity on one driver connection, before it joins the pool. A marker
// row, when there is one, is a mark beside the key, so that writing it does not make the
// server a stranger.
func identityOf(ctx context.Context, p *product, c driver.Conn) (catalog.Identity, error) {
	id, err := p.identity(ctx, c)
	if err != nil {
		return id, wrap("read the identity", err)
	}
	marker, err := firstRow(ctx, c, markerQuery, 1)
	if me, refused := errors.AsType[*mysql.MySQLError](err); refused {
		switch me.Number {
		case 1044, 1049, 1142, 1146: // not there, or not for this login
			return id, nil
		}
	}
	if errors.Is(err, io.EOF) {
		return id, nil
	}
	if err != nil {
		return id, wrap("read the marker", err)
	}
	id.Marks["marker"] = marker[0]
	return id, nil
}

// firstRow runs a query without parameters and returns its first row as text;
// io.EOF when there is none.
func firstRow(ctx context.Context, c driver.Conn, query string, columns int) ([]string, error) {
	rows, err := c.(driver.QueryerContext).QueryContext(ctx, query, nil)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	raw := make([]driver.Value, columns)
	if err := rows.Next(raw); err != nil {
		return nil, err
	}
	out := make([]string, columns)
	for i, v := range raw {
		if b, ok := v.([]byte); ok {
			out[i] = string(b)
		} else {
			out[i] = fmt.Sprint(v)
		}
	}
	return out, nil
}

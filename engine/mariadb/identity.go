package mariadb

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/core/catalog"
)

// identityQuery reads what tells instances apart. No single built-in value
// does: server_uid means host and port, not data. The time of the installation
// (that of mysql.global_priv) survives restarts.
const identityQuery = `SELECT @@hostname, CAST(@@port AS CHAR), @@datadir, @@server_uid,
	COALESCE((SELECT DATE_FORMAT(CREATE_TIME, '%Y-%m-%dT%H:%i:%s') FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = 'mysql' AND TABLE_NAME = 'global_priv'), '')`

const markerQuery = "SELECT id FROM " + markerDatabase + "." + markerTable + " LIMIT 1"

// identityOf reads the identity on one driver connection, before it joins the
// pool. The key is the time of the installation; a marker row, when there is
// one, is a mark beside it, so that writing it does not make the server a stranger.
func identityOf(ctx context.Context, c driver.Conn) (catalog.Identity, error) {
	v, err := firstRow(ctx, c, identityQuery, 5)
	if err != nil {
		return catalog.Identity{}, wrap("read the identity", err)
	}
	id := catalog.Identity{Key: "installed " + v[4], Marks: map[string]string{
		"hostname": v[0], "port": v[1], "datadir": v[2], "server_uid": v[3]}}
	if v[4] == "" {
		// Without rights on mysql the table is hidden; what is left must do.
		id.Key = "server_uid " + v[3]
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

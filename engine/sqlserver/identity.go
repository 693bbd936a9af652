package sqlserver

import (
	"context"
	"database/sql/driver"
	"errors"
	"io"

	"example.com/genarch/core/catalog"
)

// markName is the extended property of master by which a server that was marked is known. A copy of
// the whole server has it too, so what the server calls itself stands beside it.
const markName = "genarch.identity"

const markQuery = "SELECT CONVERT(nvarchar(100), value) FROM master.sys.extended_properties WHERE class = 0 AND name " +
	"= N'" +
	markName + "'"

// identityOf reads the identity on one driver's connection: the server has no number of its own, so
// it is known by its name until it is marked. Sources: SERVERPROPERTY, sys.databases of msdb,
// extended properties of master.
func identityOf(ctx context.Context, c driver.Conn) (catalog.Identity, error) {
	row, err := firstRow(ctx, c, `SELECT CONVERT(nvarchar(256), SERVERPROPERTY('ServerName')),
		COALESCE((SELECT LOWER(CONVERT(varchar(36), service_broker_guid)) FROM sys.databases
			WHERE name = N'msdb'), '')`)
	if err != nil {
		return catalog.Identity{}, wrap("read the identity", err)
	}
	id := catalog.Identity{Key: "server_name " + text(row[0]),
		Marks: map[string]string{"server_name": text(row[0]), "msdb": text(row[1])}}
	row, err = firstRow(ctx, c, markQuery)
	switch {
	case errors.Is(err, io.EOF):
		return id, nil
	case err != nil:
		return id, wrap("read the mark", err)
	}
	id.Marks["mark"] = text(row[0])
	return id, nil
}

package api

import (
	"context"
	"time"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/history"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
)

// HistoryQuery says how far back a history goes.
type HistoryQuery struct {
	Days int `query:"days" minimum:"1" maximum:"90" default:"7" doc:"How many days back."`
}

func (h *Handler) registerHistory() {
	register(h, op{method: "GET", path: "/servers/{server}/history", id: "show-server-history",
		summary: "Sessions and size of a server over time", permission: policy.View}, h.serverHistory)
	register(h, op{method: "GET", path: "/servers/{server}/databases/{database}/history", id: "show-database-history",
		summary: "Sessions and size of a database over time", permission: policy.View}, h.databaseHistory)
}

func (h *Handler) serverHistory(ctx context.Context, in *struct {
	ServerPath
	HistoryQuery
}) (*body[wire.History], error) {
	srv, err := h.Fleet.Get(ctx, in.Server)
	if err != nil {
		return nil, h.noServer(ctx, in.Server, err)
	}
	out, err := h.series(ctx, srv, "", time.Duration(in.Days)*24*time.Hour, 0)
	if err != nil {
		return nil, err
	}
	return answer(out), nil
}

// databaseHistory asks the server nothing: what was kept of a database is told while the
// server is away too.
func (h *Handler) databaseHistory(ctx context.Context, in *struct {
	ServerPath
	HistoryQuery
	Database string `path:"database" maxLength:"400"`
}) (*body[wire.History], error) {
	srv, err := h.Fleet.Get(ctx, in.Server)
	if err != nil {
		return nil, h.noServer(ctx, in.Server, err)
	}
	out, err := h.series(ctx, srv, in.Database, time.Duration(in.Days)*24*time.Hour, 0)
	if err != nil {
		return nil, err
	}
	return answer(out), nil
}

// series is the history of a database, or with an empty name of the server, over this time
// until now; a step of 0 is chosen.
func (h *Handler) series(ctx context.Context, srv catalog.Server, name string, span, step time.Duration) (wire.History,
	error) {
	if step == 0 {
		step = history.Step(span)
	}
	until := time.Now().UTC()
	from := until.Add(-span).Truncate(step)
	out := wire.History{Address: naming.ServerAddress(srv.Name).String(), From: from, Until: until,
		Seconds: int(step / time.Second)}
	server, err := h.Records.History(ctx, srv.ID, "", from)
	if err != nil {
		return out, err
	}
	looked := make([]time.Time, len(server))
	for i, p := range server {
		looked[i] = p.At
	}
	kept := server
	if name != "" {
		out.Address = naming.DatabaseAddress(srv.Name, name).String()
		if kept, err = h.Records.History(ctx, srv.ID, name, from); err != nil {
			return out, err
		}
	}
	out.Points = each(history.Series(kept, looked, from, until, step),
		func(p history.Point) wire.HistoryPoint { return wire.HistoryPoint(p) })
	return out, nil
}

package api

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/events"
)

// pingEvery keeps proxies from closing a quiet stream, and notices clients that
// have gone.
const pingEvery = 20 * time.Second

func (h *Handler) registerEvents() {
	o := h.describe(op{method: "GET", path: "/events", id: "watch", summary: "What happens, as it happens", remit: policy.See})
	sse.Register(h.api, o, map[string]any{
		"change": wire.ChangeEvent{}, "database": wire.DatabaseEvent{}, "server": wire.ServerEvent{}, "ping": wire.PingEvent{},
	}, func(ctx context.Context, _ *empty, send sse.Sender) {
		sub := h.Events.Subscribe()
		defer sub.Close()
		tick := time.NewTicker(pingEvery)
		defer tick.Stop()
		// The first one tells the client that it misses nothing from now on.
		if send.Data(wire.PingEvent{At: time.Now().UTC()}) != nil {
			return
		}
		for {
			var err error
			select {
			case e, open := <-sub.C:
				if !open {
					return
				}
				err = send.Data(renderEvent(e))
			case <-tick.C:
				err = send.Data(wire.PingEvent{At: time.Now().UTC()})
			case <-ctx.Done():
				return
			}
			if err != nil {
				return
			}
		}
	})
}

func renderEvent(e events.Event) any {
	switch {
	case e.Change != nil:
		return wire.ChangeEvent{Change: renderChange(*e.Change)}
	case e.Database != "":
		a, _ := naming.ParseAddress(e.Database)
		return wire.DatabaseEvent{Server: a.Server, Address: e.Database}
	}
	return wire.ServerEvent{Server: e.Server}
}

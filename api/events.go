package api

import (
	"context"
	"sync"
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
	o := h.describe(op{method: "GET", path: "/events", id: "watch", summary: "What happens, as it happens",
		permission: policy.View})
	sse.Register(h.api, o, map[string]any{
		"change": wire.ChangeEvent{}, "database": wire.DatabaseEvent{}, "server": wire.ServerEvent{},
		"ping": wire.PingEvent{},
	}, func(ctx context.Context, in *struct {
		Change uint64 `query:"change" doc:"The number of a change that is sent whole each time; of others only a line is sent."`
	}, send sse.Sender) {
		who := from(ctx)
		leave, ok := h.streams.enter(who.Name)
		if !ok {
			return // the client finds its stream ended at once, and comes again
		}
		defer leave()
		sub := h.Events.Subscribe()
		defer sub.Close()
		tick := time.NewTicker(pingEvery)
		defer tick.Stop()
		look := time.NewTicker(lookAgain)
		defer look.Stop()
		// The first one tells the client that it misses nothing from now on.
		if send.Data(wire.PingEvent{At: time.Now().UTC()}) != nil {
			return
		}
		looked, altered := time.Now(), h.known.altered.Load()
		for {
			var what any
			select {
			case e, open := <-sub.C:
				if !open {
					return
				}
				what = renderEvent(e, in.Change)
			case <-look.C:
				if h.known.altered.Load() == altered {
					continue // nobody's access has been altered
				}
			case <-tick.C:
				what = wire.PingEvent{At: time.Now().UTC()}
			case <-ctx.Done():
				return
			}
			// Nothing goes to somebody whose access has ended since.
			if now := h.known.altered.Load(); now != altered || time.Since(looked) > lookAgain {
				if !h.still(ctx, who) {
					return
				}
				looked, altered = time.Now(), now
			}
			if what != nil && send.Data(what) != nil {
				return
			}
		}
	})
}

// lookAgain is how long a stream goes on without its caller being looked up.
const lookAgain = time.Second

// streams bounds the streams that are open.
type streams struct {
	mu  sync.Mutex // guards all and of
	all int
	of  map[string]int
}

const (
	maxStreams   = 500
	maxStreamsOf = 20 // of one operator
)

// enter takes a place for a stream of an operator, if there is one.
func (s *streams) enter(name string) (leave func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.all >= maxStreams || s.of[name] >= maxStreamsOf {
		return nil, false
	}
	if s.of == nil {
		s.of = map[string]int{}
	}
	s.all++
	s.of[name]++
	return func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		s.all--
		if s.of[name]--; s.of[name] == 0 {
			delete(s.of, name)
		}
	}, true
}

// renderEvent makes what is sent of an event; followed is the change that is sent
// whole.
func renderEvent(e events.Event, followed uint64) any {
	switch {
	case e.Change != nil:
		out := wire.ChangeEvent{Line: renderChangeLine(*e.Change), Ended: e.Change.State.Ended()}
		if e.Change.ID == followed {
			whole := renderChange(*e.Change)
			out.Change = &whole
		}
		return out
	case e.Database != "":
		a, _ := naming.ParseAddress(e.Database)
		return wire.DatabaseEvent{Server: a.Server, Address: e.Database}
	}
	return wire.ServerEvent{Server: e.Server}
}

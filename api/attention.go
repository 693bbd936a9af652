package api

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
)

const (
	// crowded is how much of the connections that a server allows may be used, in percent.
	crowded = 80
	// trapsTime is how long what was found among the accounts of a server is taken as good:
	// all of them are read for it.
	trapsTime = time.Minute
	// maxMore bounds the sentences of one thing that needs a look, maxPending the changes.
	maxMore    = 20
	maxPending = 100
	// trendStep is how far apart the points of a server's last day are.
	trendStep = 30 * time.Minute
)

// The codes of what needs a look.
const (
	lookSilent      = "server.silent"
	lookIdentity    = "server.identity"
	lookConnections = "server.connections"
	lookStuck       = "change.stuck"
	lookWaiting     = "change.waiting"
	lookTraps       = "accounts.traps"
	lookDue         = "holding.due"
)

// traps remembers what was found among the accounts of each server.
type traps struct {
	mu sync.Mutex // guards of
	of map[string]foundTraps
}

type foundTraps struct {
	list    []access.Trap
	at      time.Time
	altered uint64 // what the hub said when they were read
}

func (h *Handler) registerAttention() {
	register(h, op{method: "GET", path: "/attention", id: "list-attention",
		summary: "What needs a look: servers, changes, traps among accounts", permission: policy.View},
		h.listAttention)
}

func (h *Handler) listAttention(ctx context.Context, _ *struct{}) (*body[wire.Attention], error) {
	list, err := h.Fleet.List(ctx)
	if err != nil {
		return nil, err
	}
	out := wire.Attention{Items: []wire.AttentionItem{}, Unread: []string{}, Trends: make([]wire.History, len(list)),
		Read: time.Now().UTC()}
	found := make([][]wire.AttentionItem, len(list))
	unread := make([]bool, len(list))
	var group errgroup.Group
	group.SetLimit(statusesAtOnce)
	for i, srv := range list {
		group.Go(func() error {
			status := h.status(ctx, srv.Name)
			found[i] = lookAtStatus(srv, status)
			if status.Reachable && status.Trouble == nil {
				traps, err := h.trapsOf(ctx, srv)
				unread[i] = err != nil
				found[i] = append(found[i], lookAtTraps(srv, traps)...)
				found[i] = append(found[i], lookAtHoldings(srv, status.Due)...)
			}
			var err error
			out.Trends[i], err = h.series(ctx, srv, "", 24*time.Hour, trendStep)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return nil, err
	}
	for i, srv := range list {
		out.Items = append(out.Items, found[i]...)
		if unread[i] {
			out.Unread = append(out.Unread, srv.Name)
		}
	}
	for _, state := range []change.State{change.Stuck, change.Waiting} {
		changes, err := h.Records.Changes(ctx, change.Filter{State: state, Limit: maxPending})
		if err != nil {
			return nil, err
		}
		for _, c := range changes {
			out.Items = append(out.Items, lookAtChange(c))
		}
	}
	slices.SortStableFunc(out.Items, func(x, y wire.AttentionItem) int { return cmp.Compare(weight(x), weight(y)) })
	return answer(out), nil
}

// weight puts what is broken before what is held up, and that before what may go wrong.
func weight(x wire.AttentionItem) int {
	return slices.Index([]string{lookStuck, lookIdentity, lookSilent, lookConnections, lookWaiting, lookDue,
		lookTraps}, x.Code)
}

// lookAtStatus tells what is wrong with a server as it answered just now.
func lookAtStatus(srv catalog.Server, s *wire.Status) []wire.AttentionItem {
	item := wire.AttentionItem{Server: srv.Name, Urgent: true, Count: 1, More: []string{}}
	if t := s.Trouble; t != nil {
		item.Code, item.Text = lookSilent, srv.Name+" does not answer: "+t.Detail+"."
		item.Next, item.Actions = t.Next, t.Actions
		if t.Known != nil {
			item.Code = lookIdentity
			item.Text = srv.Name + " is another instance than the one that is registered; nothing runs there."
		}
		return []wire.AttentionItem{item}
	}
	if s.Allowed > 0 && s.Sessions*100 >= s.Allowed*crowded {
		item.Code = lookConnections
		item.Text = fmt.Sprintf("%s has %d of %s in use.", srv.Name, s.Sessions,
			naming.Count(s.Allowed, "connection"))
		item.Next, item.Actions = "Look who holds them.", do("session.list", srv.Name)
		return []wire.AttentionItem{item}
	}
	return nil
}

// lookAtHoldings tells of what was set aside and is kept no longer for certain.
func lookAtHoldings(srv catalog.Server, due int) []wire.AttentionItem {
	if due == 0 {
		return nil
	}
	return []wire.AttentionItem{{Code: lookDue, Server: srv.Name, Count: due, More: []string{},
		Text: fmt.Sprintf("On %s the keeping time is over of %s that Genarch set aside.", srv.Name,
			naming.Count(due, "holding")),
		Next: "Discard them, or keep them longer.", Actions: do("holding.list", srv.Name)}}
}

// lookAtTraps gathers what was found among the accounts of a server into one line.
func lookAtTraps(srv catalog.Server, list []access.Trap) []wire.AttentionItem {
	if len(list) == 0 {
		return nil
	}
	item := wire.AttentionItem{Code: lookTraps, Server: srv.Name, Count: len(list), Next: "Look at each.",
		Text: fmt.Sprintf("%s has %s among its accounts and grants.", srv.Name,
			naming.Count(len(list), "trap")), Actions: do("account.list", srv.Name), More: []string{}}
	for _, t := range list[:min(len(list), maxMore)] {
		item.More = append(item.More, t.Text)
	}
	return []wire.AttentionItem{item}
}

func lookAtChange(c change.Change) wire.AttentionItem {
	item := wire.AttentionItem{Code: lookStuck, Urgent: true, Server: c.Intent.Server, Change: c.ID, Count: 1,
		More: []string{}, Actions: do("change.show", strconv.FormatUint(c.ID, 10))}
	first := min(1, len(c.Brief.Summary))
	summary := strings.ToUpper(c.Brief.Summary[:first]) + c.Brief.Summary[first:]
	if c.State == change.Waiting {
		item.Code, item.Urgent, item.Next = lookWaiting, false, "Read its brief, then let it run or decline it."
		item.Text = fmt.Sprintf("%s: change %d of %s waits for somebody to let it run.", summary, c.ID, c.Operator)
		return item
	}
	item.Text = fmt.Sprintf("%s: change %d could go neither on nor back.", summary, c.ID)
	item.Next = "Read what is where, and put it right by hand."
	return item
}

// trapsOf looks through the accounts of a server, unless that was done a moment ago.
func (h *Handler) trapsOf(ctx context.Context, srv catalog.Server) ([]access.Trap, error) {
	altered := h.Events.Altered()
	h.traps.mu.Lock()
	f, there := h.traps.of[srv.Name]
	h.traps.mu.Unlock()
	if there && f.altered == altered && time.Since(f.at) < trapsTime {
		return f.list, nil
	}
	_, g, err := h.graph(ctx, srv.Name, catalog.AccessQuery{})
	if err != nil {
		return nil, err
	}
	f = foundTraps{g.Traps(), time.Now(), altered}
	h.traps.mu.Lock()
	defer h.traps.mu.Unlock()
	if h.traps.of == nil {
		h.traps.of = map[string]foundTraps{}
	}
	h.traps.of[srv.Name] = f
	return f.list, nil
}

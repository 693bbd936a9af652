package api

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
)

// maxSetAside is how many changes that set something aside are looked through on one server.
const maxSetAside = 1000

func (h *Handler) registerHoldings() {
	register(h, op{method: "GET", path: "/holdings", id: "list-holdings",
		summary: "Databases that were set aside, live", permission: policy.View}, h.listHoldings)
}

func (h *Handler) listHoldings(ctx context.Context, in *struct {
	Server string `query:"server" maxLength:"40" doc:"Of one server; absent: of all."`
}) (*body[wire.HoldingList], error) {
	list, err := h.Fleet.List(ctx)
	if err != nil {
		return nil, err
	}
	if in.Server != "" {
		srv, err := h.Fleet.Get(ctx, in.Server)
		if err != nil {
			return nil, h.noServer(ctx, in.Server, err)
		}
		list = []catalog.Server{srv}
	}
	found, failed := make([][]wire.Holding, len(list)), make([]error, len(list))
	var group errgroup.Group
	group.SetLimit(statusesAtOnce)
	for i, srv := range list {
		group.Go(func() error {
			found[i], failed[i] = h.holdings(ctx, srv.Name)
			return nil
		})
	}
	_ = group.Wait()
	out := wire.HoldingList{Holdings: slices.Concat(found...), Unread: []string{}, Read: time.Now().UTC()}
	for i, err := range failed {
		switch {
		case err != nil && in.Server != "":
			return nil, err
		case err != nil:
			out.Unread = append(out.Unread, list[i].Name)
		}
	}
	slices.SortStableFunc(out.Holdings, func(x, y wire.Holding) int {
		return cmp.Or(strings.Compare(x.Until, y.Until), strings.Compare(x.Address, y.Address))
	})
	if out.Holdings == nil {
		out.Holdings = []wire.Holding{}
	}
	return answer(out), nil
}

// holdings reads what waits on one server, and who set it aside.
func (h *Handler) holdings(ctx context.Context, server string) ([]wire.Holding, error) {
	srv, access, ctx, cancel, err := h.access(ctx, server)
	if err != nil {
		return nil, err
	}
	defer cancel()
	list, err := h.databases(ctx, srv.Name, access)
	if err != nil || len(list.Held) == 0 {
		return nil, err
	}
	changes, err := h.Records.Changes(ctx, change.Filter{Server: server, Kind: change.SetAside, State: change.Done,
		Limit: maxSetAside})
	if err != nil {
		return nil, err
	}
	var out []wire.Holding
	for _, d := range list.Held {
		x := renderHolding(srv, d, list.Read)
		i := slices.IndexFunc(changes, func(c change.Change) bool { return c.Brief.Held() == d.Name })
		if i >= 0 {
			x.SetAsideBy = &wire.MadeBy{Change: changes[i].ID, Operator: changes[i].RunBy, At: changes[i].Ended}
		}
		out = append(out, x)
	}
	return out, nil
}

func holdingAddress(server string, d catalog.Database) string {
	return naming.Address{Server: server, Kind: naming.KindHolding, Name: d.Name}.String()
}

func renderHolding(srv catalog.Server, d catalog.Database, now time.Time) wire.Holding {
	return wire.Holding{Address: holdingAddress(srv.Name, d), ID: d.Name, Server: srv.Name, Engine: string(srv.Engine),
		Environment: string(srv.Environment), Name: d.Held.Name, Owner: d.Owner,
		Since: d.Held.Since.Format(time.DateOnly), Until: d.Held.Until.Format(time.DateOnly), Due: d.Held.Due(now),
		Discard: d.Held.Discard && srv.Keeping.Discard, Hold: d.Held.Hold, Opened: d.Held.Opened,
		Size: d.Size, Tables: d.Held.Tables, Comment: d.Held.Comment}
}

package api

import (
	"cmp"
	"context"
	"errors"
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
		summary: "Databases and accounts that were set aside, live", permission: policy.View}, h.listHoldings)
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
	if err != nil {
		return nil, err
	}
	var databases, accounts []wire.Holding
	for _, d := range list.Held {
		x := renderHolding(srv, d.Name, *d.Held, list.Read)
		x.Kind, x.Owner, x.Size = "database", d.Owner, d.Size
		databases = append(databases, x)
	}
	for _, a := range list.HeldAccounts {
		x := renderHolding(srv, a.Name, *a.Held, list.Read)
		x.Kind = "account"
		accounts = append(accounts, x)
	}
	err = errors.Join(h.tellSetAside(ctx, server, change.SetAside, databases),
		h.tellSetAside(ctx, server, change.SetAsideAccount, accounts))
	return append(databases, accounts...), err
}

// tellSetAside adds by which changes of a kind they were set aside.
func (h *Handler) tellSetAside(ctx context.Context, server string, kind change.Kind, list []wire.Holding) error {
	if len(list) == 0 {
		return nil
	}
	changes, err := h.Records.Changes(ctx, change.Filter{Server: server, Kind: kind, State: change.Done,
		Limit: maxSetAside})
	if err != nil {
		return err
	}
	by := map[string]change.Change{}
	for _, c := range slices.Backward(changes) {
		by[c.Brief.Held()] = c // the latest, which comes first
	}
	for i := range list {
		if c, there := by[list[i].ID]; there {
			list[i].SetAsideBy = &wire.MadeBy{Change: c.ID, Operator: c.RunBy, At: c.Ended}
		}
	}
	return nil
}

// renderHolding renders what is kept of what waits as id.
func renderHolding(srv catalog.Server, id string, h catalog.Holding, now time.Time) wire.Holding {
	return wire.Holding{Address: naming.Address{Server: srv.Name, Kind: naming.KindHolding, Name: id}.String(), ID: id,
		Server: srv.Name, Engine: string(srv.Engine), Environment: string(srv.Environment), Name: h.Name,
		Since: h.Since.Format(time.DateOnly), Until: h.Until.Format(time.DateOnly), Due: h.Due(now),
		Discard: h.Discard && srv.Keeping.Discard, Hold: h.Hold, Opened: h.Opened, Tables: h.Tables,
		Comment: h.Comment}
}

package postgres

import (
	"context"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// accountSnapshot reads what planning for an account, a role or a grant needs.
func (s *server) accountSnapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server}
	var q catalog.AccessQuery
	var who string
	switch {
	case in.Account != nil:
		who = in.Account.Name
	case in.Grant != nil:
		who = in.Grant.To.Name
		o := in.Grant.Object()
		q = catalog.AccessQuery{Inside: []string{in.Grant.Database}, Object: &o}
	case in.Member != nil:
		who = in.Member.To.Name
	}
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		snap.Instance, err = s.Inspect(gctx)
		return err
	})
	group.Go(func() error {
		if in.Kind == change.MarkServer {
			return nil
		}
		a, err := s.Access(gctx, q)
		snap.Access = &a
		return err
	})
	if err := group.Wait(); err != nil {
		return snap, err
	}
	snap.Self = role(snap.Instance.Login.Name)
	if snap.Access == nil {
		return snap, nil
	}
	a, ok := find(snap.Access.Accounts, who)
	if !ok {
		return snap, nil
	}
	var err error
	if in.Kind != change.CreateAccount && in.Kind != change.GiveRole {
		if snap.Sessions, err = s.readSessionsOf(ctx, a.Key); err != nil {
			return snap, err
		}
	}
	if in.Kind == change.DropAccount {
		if snap.Holdings, err = s.readHoldings(ctx, a.Key); err != nil {
			return snap, err
		}
		for _, h := range snap.Holdings {
			if h.Database != "" && !h.Closed {
				q.Inside = append(q.Inside, h.Database)
			}
		}
		s.lookInside(ctx, q, snap.Access)
		snap.LastSeen = "PostgreSQL does not record when an account was last signed in"
		if len(snap.Sessions) > 0 {
			snap.LastSeen = "it is connected now"
		}
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, nil
}

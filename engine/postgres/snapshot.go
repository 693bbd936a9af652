package postgres

import (
	"context"
	"errors"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// accountSnapshot reads what planning for an account, a role or a grant needs.
//
// Long: what each kind of intent needs to have read.
func (s *server) accountSnapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server, Details: &details{}}
	var q catalog.AccessQuery
	var who string
	switch {
	case in.Account != nil:
		who = in.Account.Name
	case in.Holding != nil:
		who = in.Holding.ID
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
		if in.Kind == change.MarkServer || in.Kind == change.EndSessions {
			return nil
		}
		a, err := s.Access(gctx, q)
		snap.Access = &a
		return err
	})
	if err := group.Wait(); err != nil {
		return snap, err
	}
	if err := s.connected(ctx, in, &snap); err != nil {
		return snap, err
	}
	snap.Self = role(snap.Instance.Login.Name)
	snap.Instance.Read = time.Now().UTC()
	if snap.Access == nil {
		return snap, nil
	}
	a, ok := find(snap.Access.Accounts, who)
	if !ok {
		return snap, nil
	}
	var err error
	if in.Kind != change.CreateAccount && in.Kind != change.GrantRole {
		if snap.Sessions, err = s.readSessionsOf(ctx, a.Key); err != nil {
			return snap, err
		}
	}
	if in.Kind == change.DropAccount || in.Kind == change.Discard || in.Kind == change.SetAsideAccount {
		if detailsOf(snap.Details).Belongings, err = s.readBelongings(ctx, a.Key); err != nil {
			return snap, err
		}
		for _, h := range detailsOf(snap.Details).Belongings {
			if h.Database != "" && !h.Closed {
				q.Inside = append(q.Inside, h.Database)
			}
		}
		s.lookInside(ctx, q, snap.Access)
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, nil
}

func (s *server) databaseNames(ctx context.Context) ([]string, error) {
	return collect(ctx, s.pool, "list databases", pgx.RowTo[string], `SELECT datname::text FROM pg_catalog.pg_database`)
}

// takeSnapshot reads what planning for taking a database away, or moving it, needs.
func (s *server) takeSnapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server, Details: &details{}}
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		snap.Instance, err = s.Inspect(gctx)
		return err
	})
	group.Go(func() (err error) {
		snap.Names, err = s.databaseNames(gctx)
		return err
	})
	group.Go(func() error {
		name := ""
		if in.Holding != nil {
			name = in.Holding.ID
		} else {
			name = in.Database.Name
		}
		d, err := s.readDatabase(gctx, s.pool, name)
		if err != nil {
			return err
		}
		snap.Target = &d
		snap.DropImpact, err = s.readDropImpact(gctx, d, &snap.Target.Size)
		return err
	})
	group.Go(func() error { return s.connected(gctx, in, &snap) })
	if err := group.Wait(); err != nil && !errors.Is(err, engine.ErrNotFound) {
		return snap, err
	}
	if snap.Target == nil {
		// The other readings were given up with the first that failed.
		var err error
		if snap.Instance, err = s.Inspect(ctx); err != nil {
			return snap, err
		}
		snap.Names, err = s.databaseNames(ctx)
		return snap, err
	}
	if in.Database != nil {
		if err := s.readAsked(ctx, in, &snap); err != nil {
			return snap, err
		}
		if in.Database.Options.Bool(planning.ExportFirst) {
			d := detailsOf(snap.Details)
			d.Program, d.NoProgram = s.dumpProgram(ctx, snap.Instance.Number)
		}
	}
	if in.Kind == change.AlterDatabase {
		var err error
		if detailsOf(snap.Details).Refused, err = s.trySettings(ctx, in); err != nil {
			return snap, err
		}
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, nil
}

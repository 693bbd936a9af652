// Package keeping discards what was set aside and is kept no longer for certain, where that
// was said when it was set aside and is the rule of its server: each by a change of its own,
// asked for by the service, which stands in the records and the journal as any other.
package keeping

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
)

// Every is how often it is looked, readTime how long reading one server may take, and atOnce
// how much is discarded on one server in one look.
const (
	Every    = time.Hour
	readTime = 30 * time.Second
	atOnce   = 20
)

// Fleet is what is needed of the servers.
type Fleet interface {
	List(ctx context.Context) ([]catalog.Server, error)
	Open(ctx context.Context, name string) (catalog.Server, engine.Engine, engine.Server, error)
}

// Changes is what is needed of whoever carries changes out.
type Changes interface {
	Draft(ctx context.Context, operator, key string, in change.Intent, given map[string]secret.Text) (change.Change,
		error)
	Run(ctx context.Context, operator string, id uint64, d change.Decision) (change.Change, error)
	Wait(ctx context.Context, id uint64) (change.Change, error)
	Withdraw(ctx context.Context, operator string, id uint64) (change.Change, error)
}

// Keeper looks after what was set aside. [Keeper.Run] ends with its context.
type Keeper struct {
	Fleet   Fleet
	Changes Changes
	Log     *slog.Logger
}

// Run looks now, and then ever again.
func (k Keeper) Run(ctx context.Context) {
	tick := time.NewTicker(Every)
	defer tick.Stop()
	for {
		k.Look(ctx, time.Now())
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Look discards once whatever is to be discarded by itself.
func (k Keeper) Look(ctx context.Context, now time.Time) {
	servers, err := k.Fleet.List(ctx)
	if err != nil {
		k.warn(ctx, "looking for what was set aside and is over", err)
		return
	}
	for _, srv := range servers {
		if !srv.Keeping.Discard {
			continue
		}
		held, err := k.over(ctx, srv, now)
		if err != nil {
			k.warn(ctx, "looking for what was set aside and is over on "+srv.Name, err)
		}
		for _, x := range held[:min(len(held), atOnce)] {
			if err := k.discard(ctx, srv, x.HoldingSpec, now); err != nil {
				k.warn(ctx, "discarding "+naming.Show(x.was)+" on "+srv.Name, err)
			}
		}
	}
}

func (k Keeper) warn(ctx context.Context, what string, err error) {
	if ctx.Err() == nil {
		k.Log.Warn(what, "error", err)
	}
}

// held is what was set aside, and what it was called.
type held struct {
	change.HoldingSpec
	was string
}

// over lists what Genarch itself may discard on a server.
func (k Keeper) over(ctx context.Context, srv catalog.Server, now time.Time) ([]held, error) {
	ctx, cancel := context.WithTimeout(ctx, readTime)
	defer cancel()
	_, _, access, err := k.Fleet.Open(ctx, srv.Name)
	if err != nil {
		return nil, err
	}
	list, err := access.Databases(ctx)
	if err != nil {
		return nil, err
	}
	var out []held
	add := func(h *catalog.Holding, spec change.HoldingSpec) {
		if policy.MayDiscard(srv, *h, now) {
			out = append(out, held{spec, h.Name})
		}
	}
	for _, d := range list.Held {
		add(d.Held, change.HoldingSpec{ID: d.Name})
	}
	for _, a := range list.HeldAccounts {
		add(a.Held, change.HoldingSpec{ID: a.Name, Account: true})
	}
	return out, nil
}

// discard asks for the change once a day, and lets it run if nobody had to decide anything:
// a caution is for people.
func (k Keeper) discard(ctx context.Context, srv catalog.Server, spec change.HoldingSpec, now time.Time) error {
	in := change.Intent{Kind: change.Discard, Server: srv.Name, Holding: &spec}
	key := fmt.Sprintf("over %s %s", spec.ID, now.UTC().Format(time.DateOnly))
	c, err := k.Changes.Draft(ctx, policy.Service, key, in, nil)
	if err != nil || c.State != change.Draft {
		return err // another service of these records was first, or today's try has failed
	}
	b := c.Brief
	if b.Stopped() || len(b.Codes(change.Caution)) > 0 {
		_, err := k.Changes.Withdraw(ctx, policy.Service, c.ID)
		codes := slices.Concat(b.Codes(change.Stop), b.Codes(change.Caution))
		return errors.Join(fmt.Errorf("somebody has to decide: %v", codes), err)
	}
	if _, err := k.Changes.Run(ctx, policy.Service, c.ID,
		change.Decision{Fingerprint: b.Fingerprint, Confirm: b.Confirm}); err != nil {
		return err
	}
	_, err = k.Changes.Wait(ctx, c.ID)
	return err
}

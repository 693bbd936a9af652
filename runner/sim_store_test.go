package runner

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
)

// simStore is the records: one for all services, and it outlives them.
type simStore struct {
	mu      sync.Mutex // guards all below
	changes map[uint64]change.Change
	claims  map[string]simClaim
	stops   map[uint64]string
	journal []journal.Entry
	next    uint64
}

type simClaim struct {
	change uint64
	holder string
	until  time.Time
}

// simRecords is the records as one service reaches them: they may be slow, away,
// full or in conflict, and the service may have died meanwhile.
type simRecords struct{ service *simService }

// record takes the time of one call, which may fail; what fails has done nothing.
func (s *simService) record(ctx context.Context, what string) error {
	sim := s.sim
	wait := sim.latency("record", s.name, what)
	if sim.faulty() {
		n := sim.count("record", s.name)
		if sim.roll("slow", s.name, n) < sim.faults.storeSlow {
			wait = time.Duration(sim.roll("how slow", s.name, n)*20000) * time.Millisecond
		}
		if !s.pause(ctx, wait) {
			return s.cut(ctx, what)
		}
		if sim.roll("away", s.name, n) < sim.faults.storeAway {
			return fmt.Errorf("%w (simulated)", record.ErrUnavailable)
		}
	} else if !s.pause(ctx, wait) {
		return s.cut(ctx, what)
	}
	if s.isDead() {
		return errDead
	}
	return nil
}

var errDead = errors.New("the service is dead")

func (r simRecords) with(ctx context.Context, what string, f func(s *simStore) error) error {
	if err := r.service.record(ctx, what); err != nil {
		return err
	}
	s := r.service.sim.store
	s.mu.Lock()
	defer s.mu.Unlock()
	return f(s)
}

// kept is a change as records keep it: nothing of it is shared.
func kept(c change.Change) change.Change {
	c.Steps = slices.Clone(c.Steps)
	for i := range c.Steps {
		c.Steps[i].Ready, c.Steps[i].Secrets = nil, nil
		c.Steps[i].Args = maps.Clone(c.Steps[i].Args)
	}
	c.Secrets = nil
	return c
}

func (s *simStore) note(c change.Change, entries []journal.Entry) {
	stop := s.stops[c.ID]
	c = kept(c)
	c.StopBy = stop
	s.changes[c.ID] = c
	if *oneSeed != 0 {
		fmt.Println(time.Now().Format("05.000"), "saved", c.ID, c.State, statuses(c))
	}
	s.journal = append(s.journal, entries...)
}

func (r simRecords) AddChange(ctx context.Context, c change.Change, _ string, e journal.Entry) (change.Change, error) {
	err := r.with(ctx, "add", func(s *simStore) error {
		s.next++
		c.ID, e.Change = s.next, s.next
		s.note(c, []journal.Entry{e})
		return nil
	})
	return c, err
}

func (r simRecords) ChangeByKey(context.Context, string, string) (change.Change, error) {
	return change.Change{}, record.ErrNotFound
}

func (r simRecords) Change(ctx context.Context, id uint64) (c change.Change, err error) {
	err = r.with(ctx, "change", func(s *simStore) error {
		c = kept(s.changes[id])
		return nil
	})
	return c, err
}

func (r simRecords) Changes(context.Context, change.Filter) ([]change.Change, error) { return nil, nil }

func (r simRecords) SaveChange(ctx context.Context, c change.Change, from change.State, e ...journal.Entry) error {
	return r.with(ctx, "save", func(s *simStore) error {
		if s.changes[c.ID].State != from {
			return record.ErrStale
		}
		s.note(c, e)
		return nil
	})
}

func (s *simStore) heldBy(id uint64, holder string) error {
	for _, claim := range s.claims {
		if claim.change == id && claim.holder == holder {
			return nil
		}
	}
	return record.ErrStale
}

func (r simRecords) SaveRunning(ctx context.Context, c change.Change, holder string, e ...journal.Entry) error {
	return r.with(ctx, "save running", func(s *simStore) error {
		if err := s.heldBy(c.ID, holder); err != nil {
			return err
		}
		s.note(c, e)
		return nil
	})
}

func (r simRecords) Claim(ctx context.Context, c change.Change, from change.State, read time.Time, holder string,
	lease time.Duration, e ...journal.Entry) error {
	return r.with(ctx, "claim", func(s *simStore) error {
		if held, there := s.claims[c.Brief.Target]; there {
			return &record.Busy{Target: c.Brief.Target, Change: held.change}
		}
		for _, other := range s.changes {
			if other.Brief.Target == c.Brief.Target && !other.Started.IsZero() && !other.Ended.IsZero() &&
				!other.Ended.Before(read) {
				return record.ErrMoved
			}
		}
		if s.changes[c.ID].State != from {
			return record.ErrStale
		}
		s.claims[c.Brief.Target] = simClaim{c.ID, holder, time.Now().Add(lease)}
		s.note(c, e)
		return nil
	})
}

func (r simRecords) Renew(ctx context.Context, id uint64, holder string, lease time.Duration) error {
	return r.with(ctx, "renew", func(s *simStore) error {
		for target, claim := range s.claims {
			if claim.change == id && claim.holder == holder {
				s.claims[target] = simClaim{id, holder, time.Now().Add(lease)}
				return nil
			}
		}
		return record.ErrStale
	})
}

func (r simRecords) Finish(ctx context.Context, c change.Change, holder string, e ...journal.Entry) error {
	return r.with(ctx, "finish", func(s *simStore) error {
		if err := s.heldBy(c.ID, holder); err != nil {
			return err
		}
		s.note(c, e)
		maps.DeleteFunc(s.claims, func(_ string, claim simClaim) bool { return claim.change == c.ID })
		return nil
	})
}

func (r simRecords) Secrets(context.Context, uint64) ([]change.Secret, error) { return nil, nil }
func (r simRecords) TakeSecrets(context.Context, uint64, journal.Entry) ([]change.Secret, error) {
	return nil, record.ErrNotFound
}
func (r simRecords) ForgetSecrets(context.Context) error { return nil }

func (r simRecords) AskStop(ctx context.Context, id uint64, operator string, e journal.Entry) error {
	return r.with(ctx, "ask stop", func(s *simStore) error {
		if s.changes[id].State != change.Running {
			return record.ErrStale
		}
		if s.stops[id] == "" {
			s.stops[id] = operator
		}
		s.journal = append(s.journal, e)
		return nil
	})
}

func (r simRecords) StopAsked(ctx context.Context, id uint64) (by string, err error) {
	err = r.with(ctx, "stop asked", func(s *simStore) error {
		by = s.stops[id]
		return nil
	})
	return by, err
}

func (r simRecords) Orphans(ctx context.Context, holder string, lease time.Duration, most int) (out []change.Change,
	err error) {
	err = r.with(ctx, "orphans", func(s *simStore) error {
		for _, target := range slices.Sorted(maps.Keys(s.claims)) {
			claim := s.claims[target]
			if claim.until.Before(time.Now()) && len(out) < most {
				s.claims[target] = simClaim{claim.change, holder, time.Now().Add(lease)}
				c := kept(s.changes[claim.change])
				c.StopBy = s.stops[claim.change]
				out = append(out, c)
			}
		}
		return nil
	})
	return out, err
}

package memrecords

import (
	"context"
	"maps"
	"slices"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/record"
)

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

// note keeps a change as it is now, and the passwords that it has made; the caller holds the lock.
func (r *Records) note(c change.Change, entries []journal.Entry) {
	if len(c.Secrets) > 0 {
		r.secrets[c.ID] = slices.Clone(c.Secrets)
	}
	c = kept(c)
	c.StopBy = r.stops[c.ID]
	r.changes[c.ID] = c
	r.enter(entries...)
}

// AddChange keeps a new change under a key, which may be empty.
func (r *Records) AddChange(_ context.Context, c change.Change, key string, e journal.Entry) (change.Change, error) {
	return read(r, func() (change.Change, error) {
		if key != "" {
			if _, there := r.keys[c.Operator+" "+key]; there {
				return c, record.ErrExists
			}
		}
		c.ID = uint64(len(r.changes) + 1)
		e.Change = c.ID
		if key != "" {
			r.keys[c.Operator+" "+key] = c.ID
		}
		r.note(c, []journal.Entry{e})
		return c, nil
	})
}

// ChangeByKey is the change that was asked for with a key.
func (r *Records) ChangeByKey(_ context.Context, operator, key string) (change.Change, error) {
	return read(r, func() (change.Change, error) {
		id, err := found(r.keys, operator+" "+key)
		return kept(r.changes[id]), err
	})
}

// Change is one of them.
func (r *Records) Change(_ context.Context, id uint64) (change.Change, error) {
	return read(r, func() (change.Change, error) {
		c, err := found(r.changes, id)
		return kept(c), err
	})
}

// Changes are those that fit, the newest first.
func (r *Records) Changes(_ context.Context, f change.Filter) ([]change.Change, error) {
	return read(r, func() ([]change.Change, error) {
		var out []change.Change
		for id := uint64(len(r.changes)); id > 0; id-- {
			c := r.changes[id]
			to, renames := c.Intent.Becomes()
			if (f.Server == "" || c.Intent.Server == f.Server) && (f.State == "" || c.State == f.State) &&
				(f.Target == "" || c.Brief.Target == f.Target || renames && to.String() == f.Target) &&
				(f.Operator == "" || c.Operator == f.Operator || c.RunBy == f.Operator) &&
				(f.Kind == "" || c.Intent.Kind == f.Kind) && within(c.Created, f.Since, f.Until) &&
				(f.Before == 0 || id < f.Before) && (f.Limit == 0 || len(out) < f.Limit) {
				out = append(out, kept(c))
			}
		}
		return out, nil
	})
}

// SaveChange keeps a change that is in a state still.
func (r *Records) SaveChange(_ context.Context, c change.Change, from change.State, e ...journal.Entry) error {
	return r.with(func() error {
		if r.changes[c.ID].State != from {
			return record.ErrStale
		}
		r.note(c, e)
		return nil
	})
}

func (r *Records) heldBy(id uint64, holder string) error {
	for _, held := range r.claims {
		if held.change == id && held.holder == holder {
			return nil
		}
	}
	return record.ErrStale
}

// SaveRunning keeps a change that its holder carries out.
func (r *Records) SaveRunning(_ context.Context, c change.Change, holder string, e ...journal.Entry) error {
	return r.with(func() error {
		if err := r.heldBy(c.ID, holder); err != nil {
			return err
		}
		r.note(c, e)
		return nil
	})
}

// Claim takes the target of a change for its holder.
func (r *Records) Claim(_ context.Context, c change.Change, from change.State, _ time.Time, holder string,
	lease time.Duration, e ...journal.Entry) error {
	return r.with(func() error {
		if held, there := r.claims[c.Brief.Target]; there {
			return &record.Busy{Target: c.Brief.Target, Change: held.change}
		}
		if r.changes[c.ID].State != from {
			return record.ErrStale
		}
		r.claims[c.Brief.Target] = claim{c.ID, holder, time.Now().Add(lease)}
		r.note(c, e)
		return nil
	})
}

// Renew lengthens a claim.
func (r *Records) Renew(_ context.Context, id uint64, holder string, lease time.Duration) error {
	return r.with(func() error {
		for target, held := range r.claims {
			if held.change == id && held.holder == holder {
				r.claims[target] = claim{id, holder, time.Now().Add(lease)}
				return nil
			}
		}
		return record.ErrStale
	})
}

// Finish keeps the end of a change and gives its claim up.
func (r *Records) Finish(_ context.Context, c change.Change, holder string, e ...journal.Entry) error {
	return r.with(func() error {
		if err := r.heldBy(c.ID, holder); err != nil {
			return err
		}
		r.note(c, e)
		maps.DeleteFunc(r.claims, func(_ string, held claim) bool { return held.change == c.ID })
		return nil
	})
}

// Kept are the accounts whose passwords can still be shown.
func (r *Records) Kept(_ context.Context, id uint64) ([]string, error) {
	return read(r, func() ([]string, error) {
		var out []string
		for _, s := range r.secrets[id] {
			out = append(out, s.Account)
		}
		return out, nil
	})
}

// Secrets are the passwords of a change.
func (r *Records) Secrets(_ context.Context, id uint64) ([]change.Secret, error) {
	return read(r, func() ([]change.Secret, error) { return r.secrets[id], nil })
}

// TakeSecrets gives them once.
func (r *Records) TakeSecrets(_ context.Context, id uint64, e journal.Entry) ([]change.Secret, error) {
	return read(r, func() ([]change.Secret, error) {
		list, err := found(r.secrets, id)
		if err == nil {
			delete(r.secrets, id)
			r.enter(e)
		}
		return list, err
	})
}

// ForgetSecrets forgets none: nothing grows old here.
func (r *Records) ForgetSecrets(context.Context) error { return nil }

// AskStop asks for a running change to be stopped.
func (r *Records) AskStop(_ context.Context, id uint64, operator string, e journal.Entry) error {
	return r.with(func() error {
		if r.changes[id].State != change.Running {
			return record.ErrStale
		}
		if r.stops[id] == "" {
			r.stops[id] = operator
		}
		r.enter(e)
		return nil
	})
}

// StopAsked is who asked for that; empty: nobody.
func (r *Records) StopAsked(_ context.Context, id uint64) (string, error) {
	return read(r, func() (string, error) { return r.stops[id], nil })
}

// Orphans are none: there is one service, and it lives.
func (r *Records) Orphans(context.Context, string, time.Duration, int) ([]change.Change, error) {
	return nil, nil
}

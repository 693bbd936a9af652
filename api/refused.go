package api

import (
	"context"
	"encoding/json"
	"sync"
	"time"

	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
)

// refusals folds what is refused again and again into one entry of the journal a
// minute: a stranger must not be able to make it grow as fast as he can call.
type refusals struct {
	append func(ctx context.Context, e journal.Entry)

	mu   sync.Mutex // guards open
	open map[refusal]*folded
}

// refusal is what is told apart.
type refusal struct{ operator, action, subject, address string }

type folded struct {
	n     int
	timer *time.Timer
}

const (
	// foldTime is how long refusals of one kind go into one entry.
	foldTime = time.Minute
	// maxFolds bounds the kinds; what is beyond goes into one for all.
	maxFolds = 1000
)

// note puts the first of a kind into the journal at once, and, when the time is
// up, one entry with the number of those that followed.
func (r *refusals) note(ctx context.Context, kind refusal) {
	r.mu.Lock()
	if r.open == nil {
		r.open = map[refusal]*folded{}
	}
	if f, there := r.open[kind]; there {
		f.n++
		r.mu.Unlock()
		return
	}
	if len(r.open) >= maxFolds {
		kind.subject, kind.address, kind.operator = "(others)", "(several)", policy.Service
		if f, there := r.open[kind]; there {
			f.n++
			r.mu.Unlock()
			return
		}
	}
	r.open[kind] = &folded{timer: time.AfterFunc(foldTime, func() { r.close(kind) })}
	r.mu.Unlock()
	r.append(ctx, kind.entry(1))
}

// close ends the time of a kind.
func (r *refusals) close(kind refusal) {
	r.mu.Lock()
	f := r.open[kind]
	delete(r.open, kind)
	r.mu.Unlock()
	if f != nil && f.n > 0 {
		ctx, cancel := context.WithTimeout(context.Background(), 10*time.Second)
		defer cancel()
		r.append(ctx, kind.entry(f.n))
	}
}

func (k refusal) entry(n int) journal.Entry {
	detail, _ := json.Marshal(map[string]any{"address": k.address, "times": n})
	return journal.Entry{Operator: k.operator, Action: k.action, Subject: k.subject, Detail: string(detail)}
}

package api

import (
	"context"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// limiter slows down guessing: each name from each address may try five times
// at once and then once in ten seconds; each address forty times and then once
// a second.
type limiter struct {
	mu       sync.Mutex // guards tries and giveBack
	tries    map[string]*rate.Limiter
	giveBack *time.Timer
	// hashing bounds the memory and time that checking passwords takes.
	hashing chan struct{}
}

// giveBackAfter is how long after a sign-in the memory that hashing took goes
// back to the system.
const giveBackAfter = 2 * time.Second

// hash runs f, which takes 19 MiB, at most two at a time.
func (l *limiter) hash(ctx context.Context, f func()) error {
	select {
	case l.hashing <- struct{}{}:
	case <-ctx.Done():
		return ctx.Err()
	}
	f()
	<-l.hashing
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.giveBack == nil {
		l.giveBack = time.AfterFunc(giveBackAfter, debug.FreeOSMemory)
	}
	l.giveBack.Reset(giveBackAfter)
	return nil
}

// maxTries bounds the map; when it is full, it starts afresh. That gives a
// guesser at the most that many addresses' worth of tries.
const maxTries = 20000

func newLimiter() *limiter {
	return &limiter{tries: map[string]*rate.Limiter{}, hashing: make(chan struct{}, 2)}
}

// allow reports whether a sign-in may be tried now, and else how long to wait.
func (l *limiter) allow(name, address string) (wait time.Duration, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.tries) > maxTries {
		clear(l.tries)
	}
	get := func(key string, every time.Duration, burst int) *rate.Limiter {
		r, there := l.tries[key]
		if !there {
			r = rate.NewLimiter(rate.Every(every), burst)
			l.tries[key] = r
		}
		return r
	}
	for _, r := range []*rate.Limiter{get("name "+name+" "+address, 10*time.Second, 5), get("from "+address, time.Second, 40)} {
		reservation := r.Reserve()
		if wait := reservation.Delay(); wait > 0 {
			reservation.Cancel()
			return wait, false
		}
	}
	return 0, true
}

// forget lets a name off after it has signed in.
func (l *limiter) forget(name, address string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	delete(l.tries, "name "+name+" "+address)
}

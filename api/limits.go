package api

import (
	"container/list"
	"context"
	"errors"
	"net/netip"
	"runtime/debug"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// limiter slows down guessing. Each address may try forty times at once and then
// once a second; each name from one address five times and then once in ten
// seconds; and each name from everywhere ten times, after which every failure
// makes the wait longer, up to a few minutes. A browser that has signed in before
// has an allowance of its own, so that strangers cannot keep anybody out of it.
type limiter struct {
	mu       sync.Mutex // guards all but hashing and waiting
	tries    *recent[*rate.Limiter]
	failures *recent[failure]
	giveBack *time.Timer
	// hashing bounds the memory and time that checking passwords takes, waiting
	// how many wait for it.
	hashing, waiting chan struct{}
}

type failure struct {
	n     int
	until time.Time
}

const (
	// giveBackAfter is how long after a sign-in the memory that hashing took goes
	// back to the system.
	giveBackAfter = 2 * time.Second
	// maxHashing and maxWaiting bound the sign-ins that are checked, and that wait.
	maxHashing = 2
	maxWaiting = 16
	// freeFailures is how many failures of a name cost nothing, maxDelay the
	// longest wait after the next ones.
	freeFailures = 10
	maxDelay     = 5 * time.Minute
	// maxTries bounds what is remembered; the oldest goes first.
	maxTries = 20000
)

func newLimiter() *limiter {
	return &limiter{tries: newRecent[*rate.Limiter](maxTries), failures: newRecent[failure](maxTries),
		hashing: make(chan struct{}, maxHashing), waiting: make(chan struct{}, maxWaiting)}
}

// errBusy: too many sign-ins wait to be checked already.
var errBusy = errors.New("too many sign-ins are being checked just now")

// hash runs f, which takes 19 MiB, at most two at a time.
func (l *limiter) hash(ctx context.Context, f func()) error {
	select {
	case l.waiting <- struct{}{}:
		defer func() { <-l.waiting }()
	default:
		return errBusy
	}
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

// allow reports whether a sign-in may be tried now, and else how long to wait.
// device is a browser that has signed in as this name before; empty: none.
func (l *limiter) allow(name, address, device string) (wait time.Duration, ok bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if device != "" {
		return l.take("device "+device, 10*time.Second, 5)
	}
	// The address comes first: what it refuses leaves nothing behind.
	from := network(address)
	if wait, ok = l.take("from "+from, time.Second, 40); !ok {
		return wait, false
	}
	if f, there := l.failures.get(name); there {
		if wait = time.Until(f.until); wait > 0 {
			return wait, false
		}
	}
	return l.take("name "+name+" "+from, 10*time.Second, 5)
}

// take needs the lock.
func (l *limiter) take(key string, every time.Duration, burst int) (time.Duration, bool) {
	r, there := l.tries.get(key)
	if !there {
		r = rate.NewLimiter(rate.Every(every), burst)
		l.tries.put(key, r)
	}
	reservation := r.Reserve()
	if wait := reservation.Delay(); wait > 0 {
		reservation.Cancel()
		return wait, false
	}
	return 0, true
}

// failed counts a wrong password of a name.
func (l *limiter) failed(name string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	f, _ := l.failures.get(name)
	f.n++
	if over := f.n - freeFailures; over > 0 {
		f.until = time.Now().Add(min(time.Second<<min(over, 10), maxDelay))
	}
	l.failures.put(name, f)
}

// forget lets a name off after it has signed in.
func (l *limiter) forget(name, address, device string) {
	l.mu.Lock()
	defer l.mu.Unlock()
	l.failures.drop(name)
	l.tries.drop("name " + name + " " + network(address))
	l.tries.drop("device " + device)
}

// network is what counts as one place: this machine, whatever its address; an
// IPv4 address; the /64 that one site has of IPv6.
func network(address string) string {
	ip, err := netip.ParseAddr(address)
	if err != nil {
		return address
	}
	ip = ip.Unmap().WithZone("")
	switch {
	case ip.IsLoopback():
		return "this machine"
	case ip.Is6():
		return netip.PrefixFrom(ip, 64).Masked().String()
	}
	return ip.String()
}

// recent is a map that keeps what was used last, and no more than so much.
type recent[V any] struct {
	most  int
	order *list.List // the latest in front
	at    map[string]*list.Element
}

type kept[V any] struct {
	key   string
	value V
}

func newRecent[V any](most int) *recent[V] {
	return &recent[V]{most: most, order: list.New(), at: map[string]*list.Element{}}
}

func (r *recent[V]) get(key string) (v V, there bool) {
	e, there := r.at[key]
	if !there {
		return v, false
	}
	r.order.MoveToFront(e)
	return e.Value.(*kept[V]).value, true
}

func (r *recent[V]) put(key string, v V) {
	if e, there := r.at[key]; there {
		e.Value.(*kept[V]).value = v
		r.order.MoveToFront(e)
		return
	}
	r.at[key] = r.order.PushFront(&kept[V]{key, v})
	if r.order.Len() > r.most {
		r.drop(r.order.Back().Value.(*kept[V]).key)
	}
}

func (r *recent[V]) drop(key string) {
	if e, there := r.at[key]; there {
		r.order.Remove(e)
		delete(r.at, key)
	}
}

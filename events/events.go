// Package events passes on what just happened to whoever watches: pages and
// commands that follow a change or a list. Nothing is kept: a watcher that comes
// late, or is too slow, reads the records again.
package events

import (
	"sync"

	"example.com/genarch/core/change"
)

// Event is one thing that happened. Exactly one of the fields below is set.
type Event struct {
	// Change is a change in its new state.
	Change *change.Change
	// Server is set when its registration changed.
	Server string
	// Database is set, as an address, when a database came, went or changed.
	Database string
}

// Hub hands events to subscribers. Its zero value is ready for use.
type Hub struct {
	mu     sync.Mutex // guards subs and closed
	subs   map[*Subscription]struct{}
	closed bool
	// altered counts the databases that came, went or changed.
	altered uint64
}

// Subscription receives events until it is closed. C is closed when the hub
// closes, or when the subscriber was so slow that its buffer ran over.
type Subscription struct {
	C   <-chan Event
	c   chan Event
	hub *Hub
}

// buffer is how many events a slow subscriber may lag behind.
const buffer = 64

// Subscribe begins to receive.
func (h *Hub) Subscribe() *Subscription {
	h.mu.Lock()
	defer h.mu.Unlock()
	c := make(chan Event, buffer)
	s := &Subscription{C: c, c: c, hub: h}
	if h.closed {
		close(c)
		return s
	}
	if h.subs == nil {
		h.subs = map[*Subscription]struct{}{}
	}
	h.subs[s] = struct{}{}
	return s
}

// Close ends the subscription. It may be called more than once.
func (s *Subscription) Close() {
	s.hub.mu.Lock()
	defer s.hub.mu.Unlock()
	s.hub.drop(s)
}

// drop needs the lock.
func (h *Hub) drop(s *Subscription) {
	if _, there := h.subs[s]; there {
		delete(h.subs, s)
		close(s.c)
	}
}

// Altered is another number after each event about a database or a registration.
func (h *Hub) Altered() uint64 {
	h.mu.Lock()
	defer h.mu.Unlock()
	return h.altered
}

// Publish hands an event to all subscribers without ever waiting for one.
func (h *Hub) Publish(e Event) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if e.Database != "" || e.Server != "" {
		h.altered++
	}
	for s := range h.subs {
		select {
		case s.c <- e:
		default:
			h.drop(s)
		}
	}
}

// Subscribers is how many there are.
func (h *Hub) Subscribers() int {
	h.mu.Lock()
	defer h.mu.Unlock()
	return len(h.subs)
}

// Close ends all subscriptions, for shutdown.
func (h *Hub) Close() {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.closed = true
	for s := range h.subs {
		h.drop(s)
	}
}

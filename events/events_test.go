package events

import "testing"

// Whoever watches gets what happens; whoever is too slow is let go, and nobody waits.
func TestHub(t *testing.T) {
	var h Hub
	quick, slow := h.Subscribe(), h.Subscribe()
	before := h.Altered()
	h.Publish(Event{Database: "harbour/tickets_prod"})
	if e := <-quick.C; e.Database != "harbour/tickets_prod" {
		t.Errorf("what came was %+v", e)
	}
	if h.Altered() == before {
		t.Error("a database that changed altered nothing")
	}
	before = h.Altered()
	h.Publish(Event{}) // a change moved on
	<-quick.C
	if h.Altered() != before {
		t.Error("a change that moved on counts as an alteration")
	}
	for range buffer {
		h.Publish(Event{Server: "harbour"})
		<-quick.C
	}
	if n := h.Subscribers(); n != 1 {
		t.Errorf("%d are left; the slow one should be gone", n)
	}
	got := 0
	for range slow.C {
		got++
	}
	if got != buffer {
		t.Errorf("the slow one got %d of what it could hold, %d", got, buffer)
	}
	slow.Close() // gone already: no harm
	quick.Close()
	quick.Close()
	if _, open := <-quick.C; open || h.Subscribers() != 0 {
		t.Error("a subscription that was closed goes on")
	}
	last := h.Subscribe()
	h.Close()
	if _, open := <-last.C; open {
		t.Error("the hub is closed, and a subscription is not")
	}
	if _, open := <-h.Subscribe().C; open {
		t.Error("a closed hub takes subscriptions")
	}
	h.Publish(Event{Server: "harbour"}) // nobody is there: no harm
}

package enginetest

import (
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/testutil"
)

// testOwnSession: the steps of a change go by one session, which nobody else gets
// before the change has ended. One that was ended between two steps is replaced.
func testOwnSession(t *testing.T, e engine.Engine, target engine.Target) {
	s := Open(t, e, target)
	own, done := s.ForChange()
	if own == s {
		t.Skip("this engine keeps no connections")
	}
	other, otherDone := s.ForChange()
	defer otherDone(true)
	send := func(by engine.Server, name string, wrong bool) catalog.SessionID {
		t.Helper()
		step := Brief(t, e, s, change.DatabaseSpec{Name: name}).Steps[0]
		if wrong {
			step.Statement += " nonsense"
		}
		var sent catalog.SessionID
		step.Ready = func(x change.Sending) error { sent = x.Session; return nil }
		if _, err := by.Do(t.Context(), step); (err != nil) != wrong {
			t.Fatalf("%s: %v", name, err)
		}
		return sent
	}
	state := func(id catalog.SessionID, end bool) engine.SenderState {
		t.Helper()
		found, err := s.Sender(t.Context(), id, end)
		if err != nil {
			t.Fatal(err)
		}
		return found
	}
	gone := func(id catalog.SessionID) {
		t.Helper()
		testutil.Wait(t, "the session to be gone", func() bool { return state(id, false) == engine.SenderGone })
	}
	first := send(own, "own_one", false)
	if refused := send(own, "own_refused", true); refused != first {
		t.Errorf("the second step went by %v, the first by %v", refused, first)
	}
	// The answer can be here a moment before the server shows the session as idle.
	testutil.Wait(t, "the session to be idle between two steps",
		func() bool { return state(first, false) == engine.SenderIdle })
	elsewhere := send(other, "own_two", false)
	if elsewhere == first {
		t.Error("another change was given the session of one that runs")
	}
	gone(elsewhere)
	state(first, true)
	gone(first)
	second := send(own, "own_three", false)
	if second == first {
		t.Error("a session that was ended has sent something")
	}
	done(false)
	gone(second)
	if _, err := own.Do(t.Context(), Brief(t, e, s, change.DatabaseSpec{Name: "own_four"}).Steps[0]); err == nil {
		t.Error("a change that has ended altered something")
	}
}

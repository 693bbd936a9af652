package store

import (
	"errors"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/record"
	"example.com/genarch/core/secret"
)

// secretive is a change that makes two accounts.
func secretive() change.Change {
	return change.Change{Intent: change.Intent{Kind: change.CreateDatabase, Server: "harbour",
		Database: &change.DatabaseSpec{Name: "d", Team: &change.TeamSpec{Name: "spas"}}},
		Brief: change.Brief{Target: "harbour/d"}, State: change.Draft, Operator: "lead", Created: time.Now().UTC(),
		Secrets: []change.Secret{{Account: "spas_app", Text: secret.New("made-for-app")},
			{Account: "spas_read", Given: true, Text: secret.New("chosen-for-read")}}}
}

func testSecrets(t *testing.T, s *Store) {
	c, err := s.AddChange(t.Context(), secretive(), "", entry)
	if err != nil {
		t.Fatal(err)
	}
	kept, err := s.Secrets(t.Context(), c.ID)
	if err != nil || len(kept) != 2 || kept[0].Text.Reveal() != "made-for-app" || !kept[1].Given {
		t.Fatalf("kept %v, %v", kept, err)
	}
	// Moved to another change it cannot be opened.
	other, err := s.AddChange(t.Context(), secretive(), "", entry)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.db.Exec("UPDATE change_secrets a JOIN change_secrets b ON b.change_id = ? AND b.account = a.account SET a.sealed = b.sealed WHERE a.change_id = ?", c.ID, other.ID).Error; err != nil {
		t.Fatal(err)
	}
	if _, err := s.Secrets(t.Context(), other.ID); err == nil {
		t.Error("a sealed password was opened for another change")
	}
	// Withdrawn, nothing is kept.
	other.State = change.Withdrawn
	if err := s.SaveChange(t.Context(), other, change.Draft, entry); err != nil {
		t.Fatal(err)
	}
	if kept, _ := s.Secrets(t.Context(), other.ID); len(kept) != 0 {
		t.Errorf("a withdrawn change keeps %d passwords", len(kept))
	}
	// Done, only what was generated is kept, to be shown once, to one caller.
	for _, step := range []struct{ from, to change.State }{{change.Draft, change.Ready}, {change.Ready, change.Running},
		{change.Running, change.Done}} {
		c.State = step.to
		if err := s.SaveChange(t.Context(), c, step.from, entry); err != nil {
			t.Fatal(err)
		}
	}
	if names, err := s.Kept(t.Context(), c.ID); err != nil || len(names) != 1 || names[0] != "spas_app" {
		t.Errorf("kept for %v, %v", names, err)
	}
	var shown atomic.Int32
	var all sync.WaitGroup
	for range 6 {
		all.Go(func() {
			if got, err := s.TakeSecrets(t.Context(), c.ID, entry); err == nil &&
				got[0].Text.Reveal() == "made-for-app" {
				shown.Add(1)
			}
		})
	}
	all.Wait()
	if shown.Load() != 1 {
		t.Errorf("the passwords were shown %d times", shown.Load())
	}
	if _, err := s.TakeSecrets(t.Context(), c.ID, entry); !errors.Is(err, record.ErrNotFound) {
		t.Errorf("once more: %v", err)
	}
	// What nobody asked for in time is forgotten.
	late, err := s.AddChange(t.Context(), secretive(), "", entry)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.db.Exec("UPDATE change_secrets SET keep_until = '2020-01-01' WHERE change_id = ?", late.ID).
		Error; err != nil {
		t.Fatal(err)
	}
	if err := s.ForgetSecrets(t.Context()); err != nil {
		t.Fatal(err)
	}
	if kept, _ := s.Secrets(t.Context(), late.ID); len(kept) != 0 {
		t.Errorf("%d passwords outlive their time", len(kept))
	}
}

package spool

import (
	"context"
	"errors"
	"log/slog"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/record"
	"example.com/genarch/core/script"
)

// asked is a list with one change that waits, and asks for a script.
type asked string

func (a asked) Changes(_ context.Context, f change.Filter) ([]change.Change, error) {
	if f.State != change.Waiting {
		return nil, nil
	}
	return []change.Change{{Intent: change.Intent{Kind: change.FillDatabase,
		Database: &change.DatabaseSpec{Name: "d", Script: string(a)}}}}, nil
}

// A script that nobody asks for goes after a day, one that a change still asks for stays.
func TestScriptsSweep(t *testing.T) {
	f, _, _ := folder(t)
	now := time.Now().UTC()
	for _, id := range []string{"asked", "left"} {
		if _, err := f.Put(t.Context(), record.File{ID: id, Kind: record.ScriptFile, Created: now,
			Until: now.Add(script.KeepFor)}, strings.NewReader("SELECT 1;"), 100, whole, nil); err != nil {
			t.Fatal(err)
		}
	}
	s := &Scripts{Folder: f, Changes: asked("asked"), Log: slog.New(slog.DiscardHandler)}
	there := func(id string) bool {
		_, err := f.Record(t.Context(), id)
		return !errors.Is(err, record.ErrNotFound)
	}
	if err := s.Sweep(t.Context(), now.Add(time.Hour)); err != nil || !there("left") {
		t.Errorf("a script of an hour ago is gone: %v", err)
	}
	if err := s.Sweep(t.Context(), now.Add(2*script.KeepFor)); err != nil || there("left") || !there("asked") {
		t.Errorf("after two days: left %v, asked %v, %v", there("left"), there("asked"), err)
	}
	if err := s.Remove(t.Context(), "left"); err != nil {
		t.Errorf("one that is gone already: %v", err)
	}
}

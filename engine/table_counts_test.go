package engine

import (
	"context"
	"sync/atomic"
	"testing"

	"example.com/genarch/core/catalog"
)

// TestTableCounts: what was counted is remembered; while nobody may look into databases, the last count is given,
// and nobody waits.
func TestTableCounts(t *testing.T) {
	counts := NewTableCounts()
	var asked atomic.Int32
	count := func(context.Context, catalog.Database) (int, error) { return int(asked.Add(1)), nil }
	list := []catalog.Database{{Name: "a", Key: "1"}, {Name: "b", Key: "2", Closed: true}}
	counts.Fill(list, count)
	if list[0].Tables != nil {
		t.Error("a list waits for no count")
	}
	counts.done.Wait()
	counts.Fill(list, count)
	if list[0].Tables == nil || *list[0].Tables != 1 || list[1].Tables != nil || asked.Load() != 1 {
		t.Errorf("counted: %v, %v, asked %d times", list[0].Tables, list[1].Tables, asked.Load())
	}
	counts.Looking.Lock()
	if n, err := counts.Count(t.Context(), list[0], count); n != 1 || err != nil {
		t.Errorf("while nobody may look: %d, %v", n, err)
	}
	if _, err := counts.Count(t.Context(), list[1], count); err == nil {
		t.Error("a count from nowhere")
	}
	counts.Looking.Unlock()
	if n, err := counts.Count(t.Context(), list[0], count); n != 2 || err != nil {
		t.Errorf("counted anew: %d, %v", n, err)
	}
	counts.Stop()
}

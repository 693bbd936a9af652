package demo

import (
	"reflect"
	"testing"
	"time"

	"example.com/genarch/core/history"
)

// The made-up past is the same each time, ends where the present begins, and looks like what
// is measured: never below nought, thinned, with a night in which nobody looked.
func TestPast(t *testing.T) {
	now := time.Date(2026, 11, 27, 15, 4, 5, 0, time.UTC)
	size := int64(10 << 20)
	present := map[string]history.Point{"tickets_prod": {Size: &size, Sessions: 6}, "unmeasured": {Sessions: 3}}
	past := Past("harbour", present, now)
	if !reflect.DeepEqual(past, Past("harbour", present, now)) {
		t.Error("the same server has two pasts")
	}
	if _, there := past["unmeasured"]; there || len(past) != 2 {
		t.Errorf("it tells of %d names", len(past))
	}
	whole := map[time.Time]history.Point{}
	for _, p := range past[""] {
		whole[p.At] = p
	}
	last, gap := time.Time{}, time.Duration(0)
	for _, p := range past["tickets_prod"] {
		if !p.At.After(last) || !p.At.Equal(p.At.Truncate(history.Every)) || p.Sessions < 0 || *p.Size <= 0 ||
			*p.Size > size {
			t.Fatalf("after %s comes %+v", last, p)
		}
		if w := whole[p.At]; w.Sessions != p.Sessions || *w.Size != *p.Size {
			t.Errorf("the server comes to %+v, its only database to %+v", w, p)
		}
		if !last.IsZero() {
			gap = max(gap, p.At.Sub(last))
		}
		last = p.At
	}
	if age := now.Sub(last); age > 2*history.Every {
		t.Errorf("it ends %s before now", age)
	}
	if gap < 6*time.Hour || gap > 14*time.Hour {
		t.Errorf("the longest gap is %s", gap)
	}
}

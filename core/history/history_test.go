package history

import (
	"fmt"
	"strings"
	"testing"
	"time"
)

// A series is written as its cells: sessions/size, . for what is not known.
func text(list []Point) string {
	var out []string
	for _, p := range list {
		switch {
		case p.Missing:
			out = append(out, ".")
		case p.Size == nil:
			out = append(out, fmt.Sprintf("%d/-", p.Sessions))
		default:
			out = append(out, fmt.Sprintf("%d/%d", p.Sessions, *p.Size))
		}
	}
	return strings.Join(out, " ")
}

func TestSeries(t *testing.T) {
	start := time.Date(2026, 11, 1, 0, 0, 0, 0, time.UTC)
	at := func(tens int) time.Time { return start.Add(time.Duration(tens) * Every) }
	point := func(tens, sessions int, size int64) Point {
		return Point{At: at(tens), Sessions: sessions, Size: &size}
	}
	gone := func(tens int) Point { return Point{At: at(tens)} }
	looked := func(from, until int) (out []time.Time) {
		for i := from; i < until; i++ {
			out = append(out, at(i))
		}
		return out
	}
	for _, tt := range []struct {
		name        string
		kept        []Point
		looked      []time.Time
		from, until int
		step        time.Duration
		want        string
	}{
		{"nothing is known", nil, nil, 0, 3, Every, ". . ."},
		{"seen, and nothing of it", nil, looked(0, 3), 0, 3, Every, ". . ."},
		{"a point lasts", []Point{point(0, 2, 50)}, looked(0, 4), 0, 4, Every, "2/50 2/50 2/50 2/50"},
		{"from its time on", []Point{point(2, 2, 50)}, looked(0, 4), 0, 4, Every, ". . 2/50 2/50"},
		{"until the next one", []Point{point(0, 2, 50), point(2, 0, 60)}, looked(0, 4), 0, 4, Every,
			"2/50 2/50 0/60 0/60"},
		{"in any order", []Point{point(2, 0, 60), point(0, 2, 50)}, looked(0, 4), 0, 4, Every,
			"2/50 2/50 0/60 0/60"},
		{"nobody looked for a while", []Point{point(0, 2, 50), point(3, 1, 70)}, append(looked(0, 1), looked(3, 4)...),
			0, 4, Every, "2/50 . . 1/70"},
		{"it was gone", []Point{point(0, 2, 50), gone(1)}, looked(0, 3), 0, 3, Every, "2/50 0/- 0/-"},
		{"what held before the beginning", []Point{point(0, 2, 50)}, looked(0, 8), 6, 8, Every, "2/50 2/50"},
		{"the last that held before the beginning", []Point{point(0, 2, 50), point(3, 4, 40)}, looked(0, 8), 6, 8,
			Every, "4/40 4/40"},
		{"the highest of an hour", []Point{point(0, 1, 50), point(2, 7, 40), point(4, 0, 60)}, looked(0, 12), 0, 12,
			time.Hour, "7/60 0/60"},
		{"what lasts into an hour counts in it", []Point{point(0, 9, 90), point(7, 1, 10)}, looked(0, 18), 0, 18,
			time.Hour, "9/90 9/90 1/10"},
		{"not where the hour begins with another", []Point{point(0, 9, 90), point(6, 1, 10)}, looked(0, 12), 0, 12,
			time.Hour, "9/90 1/10"},
	} {
		t.Run(tt.name, func(t *testing.T) {
			if got := text(Series(tt.kept, tt.looked, at(tt.from), at(tt.until), tt.step)); got != tt.want {
				t.Errorf("%s; want %s", got, tt.want)
			}
		})
	}
}

// However long the time, the points of a series are few, and never closer than what is kept.
func TestStep(t *testing.T) {
	for hours := 1; hours < 24*400; hours += 7 {
		span := time.Duration(hours) * time.Hour
		if step := Step(span); step < Every || span/step > MaxPoints {
			t.Errorf("over %s a step of %s gives %d points", span, step, span/step)
		}
	}
	if Step(24*time.Hour) != Every || Step(Kept) != 6*time.Hour {
		t.Errorf("a day: %s, all that is kept: %s", Step(24*time.Hour), Step(Kept))
	}
}

// Package history makes series of what was measured over time: the size and the sessions
// of a database or of a whole server, evenly spaced, with gaps where nobody looked.
package history

import (
	"slices"
	"time"
)

const (
	// Every is the time that one kept point stands for, while it is new.
	Every = 10 * time.Minute
	// Kept is how long points are kept.
	Kept = 90 * 24 * time.Hour
	// MaxPoints bounds a series.
	MaxPoints = 400
)

// Thinned says how points are thinned as they grow old: those older than After are
// gathered into one for each Into, with the highest of each figure.
var Thinned = []struct{ After, Into time.Duration }{
	{2 * 24 * time.Hour, time.Hour},
	{14 * 24 * time.Hour, 6 * time.Hour},
}

// Point is the highest that was seen in the time from At until the next point.
type Point struct {
	At time.Time
	// Size is in bytes; nil: it could not be read, or the object was gone.
	Size *int64
	// Sessions are those of clients, without the engine's own and Genarch's.
	Sessions int
	// Missing: nobody looked, or the server did not answer.
	Missing bool
}

// Step is how far apart the points of a series over this time are: never closer than
// they are kept, and never so close that there would be too many.
func Step(span time.Duration) time.Duration {
	for _, step := range []time.Duration{Every, time.Hour, 6 * time.Hour, 24 * time.Hour} {
		if span/step <= MaxPoints {
			return step
		}
	}
	return (span/MaxPoints + 24*time.Hour - 1).Truncate(24 * time.Hour)
}

// Series spreads kept points evenly from one time to another. A point is kept only when it
// differs from the one before, so each lasts until the next one; looked are the times at
// which the server was seen at all, and where there is none, nothing is known.
func Series(kept []Point, looked []time.Time, from, until time.Time, step time.Duration) []Point {
	slices.SortFunc(kept, func(x, y Point) int { return x.At.Compare(y.At) })
	slices.SortFunc(looked, time.Time.Compare)
	var out []Point
	var last *Point
	i, j := 0, 0
	for at := from.Truncate(step); at.Before(until); at = at.Add(step) {
		end := at.Add(step)
		cell := Point{At: at, Missing: true}
		for ; j < len(looked) && looked[j].Before(end); j++ {
			cell.Missing = cell.Missing && looked[j].Before(at)
		}
		// What held before lasts into the cell, unless the cell begins with a point.
		begins := i < len(kept) && kept[i].At.Equal(at)
		if last != nil && !begins {
			cell.Size, cell.Sessions = last.Size, last.Sessions
		}
		for ; i < len(kept) && kept[i].At.Before(end); i++ {
			p := kept[i]
			if last = &p; p.At.Before(at) {
				if !begins {
					cell.Size, cell.Sessions = p.Size, p.Sessions
				}
				continue
			}
			cell.Sessions = max(cell.Sessions, p.Sessions)
			if p.Size != nil && (cell.Size == nil || *cell.Size < *p.Size) {
				cell.Size = p.Size
			}
		}
		if cell.Missing || last == nil {
			cell = Point{At: at, Missing: true}
		}
		out = append(out, cell)
	}
	return out
}

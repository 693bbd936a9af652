package demo

import (
	"hash/fnv"
	"math"
	"math/rand/v2"
	"time"

	"example.com/genarch/core/history"
)

// Past makes up what the databases of a demo server were like before today, from what they
// are now: they grew, are busy by day and quiet at night, and one night nobody looked.
// now is what they are: sizes and the sessions of this moment. The same server always has
// the same past.
func Past(server string, present map[string]history.Point, now time.Time) map[string][]history.Point {
	out := map[string][]history.Point{}
	whole := map[time.Time]*history.Point{}
	var times []time.Time
	at := now.Add(-history.Kept).Truncate(6 * time.Hour)
	for at.Before(now.Truncate(history.Every)) {
		if age := now.Sub(at); age < 130*time.Hour || age > 137*time.Hour { // one night without
			times = append(times, at)
			whole[at] = &history.Point{At: at, Size: new(int64)}
		}
		step := history.Every
		for _, t := range history.Thinned {
			if now.Sub(at) > t.After {
				step = t.Into
			}
		}
		at = at.Add(step).Truncate(step)
	}
	for name, is := range present {
		if is.Size == nil {
			continue
		}
		random := rand.New(rand.NewPCG(seedOf(server), seedOf(name)))
		most := is.Sessions + is.Sessions/2 // at noon
		growth := 0.1 + random.Float64()/2  // in ninety days
		for _, at := range times {
			share := 1 - growth*now.Sub(at).Hours()/history.Kept.Hours()
			was := int64(float64(*is.Size)*share) / 8192 * 8192
			day := math.Max(0, math.Sin((float64(at.Hour())+float64(at.Minute())/60-6)/14*math.Pi))
			if at.Weekday() == time.Sunday {
				day /= 3
			}
			p := history.Point{At: at, Size: &was, Sessions: int(day*float64(most) + random.Float64()*1.2)}
			out[name] = append(out[name], p)
			whole[at].Sessions += p.Sessions
			*whole[at].Size += was
		}
	}
	for _, at := range times {
		out[""] = append(out[""], *whole[at])
	}
	return out
}

// seedOf is a number that is always the same for a text.
func seedOf(text string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(text))
	return h.Sum64()
}

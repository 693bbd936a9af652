package testutil

import (
	"slices"
	"testing"
	"time"
)

// Beside runs two things in turn, so that both meet the same machine, and
// reports the median of each and how they compare, under these units.
func Beside(b *testing.B, turns int, bare, ours func(i int)) {
	b.Helper()
	timed := func(f func(int)) func(int) time.Duration {
		return func(i int) time.Duration {
			begun := time.Now()
			f(i)
			return time.Since(begun)
		}
	}
	BesideTimed(b, turns, timed(bare), timed(ours))
}

// BesideTimed does the same with things that know themselves how long they took,
// for only a part of what they do is to be compared.
func BesideTimed(b *testing.B, turns int, bare, ours func(i int) time.Duration) {
	b.Helper()
	var bareTimes, ourTimes []time.Duration
	for b.Loop() {
		for i := range turns {
			bareTimes = append(bareTimes, bare(i))
			ourTimes = append(ourTimes, ours(i))
		}
	}
	slices.Sort(bareTimes)
	slices.Sort(ourTimes)
	x, y := bareTimes[len(bareTimes)/2], ourTimes[len(ourTimes)/2]
	b.ReportMetric(float64(x.Microseconds())/1000, "bare-ms")
	b.ReportMetric(float64(y.Microseconds())/1000, "genarch-ms")
	b.ReportMetric(float64(y)/float64(x), "ratio")
	b.ReportMetric(float64((y-x).Microseconds())/1000, "added-ms")
	b.ReportMetric(0, "ns/op")
}

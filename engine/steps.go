package engine

import (
	"maps"
	"slices"

	"example.com/genarch/core/naming"
)

// The kinds of steps that several engines have, beside [change.Verify].
const (
	// StepStatement sends one statement; whether it took effect is found by the
	// check in its arguments.
	StepStatement = "statement"
	// StepProve signs in as accounts, does what they may, and is refused what
	// they may not.
	StepProve = "prove"
)

// Mismatches compares what was read back with what a verify step expects, and
// says each difference in words.
func Mismatches(want, have map[string]string) []string {
	var out []string
	for _, name := range slices.Sorted(maps.Keys(want)) {
		if have[name] != want[name] {
			out = append(out, name+" is "+naming.Show(have[name])+", not "+naming.Show(want[name]))
		}
	}
	return out
}

package engine

import (
	"context"
	"maps"
	"slices"

	"example.com/genarch/core/change"
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

// StepKind is how a kind of step is done on a server of an engine, how it is told
// whether it took effect, and how it is rolled back; nil: nothing has to be.
type StepKind[S any] struct {
	Do    func(S, context.Context, change.Step) (Report, error)
	Probe func(S, context.Context, change.Step) (bool, error)
	Undo  func(S, context.Context, change.Step) (Report, error)
}

// StepKinds has every kind of step that an engine's planners write.
type StepKinds[S any] map[string]StepKind[S]

// Reading is a kind that only reads: whether it took effect is told by doing it again.
func Reading[S any](read func(S, context.Context, change.Step) (Report, error)) StepKind[S] {
	return StepKind[S]{Do: read, Probe: func(s S, ctx context.Context, step change.Step) (bool, error) {
		_, err := read(s, ctx, step)
		return Verified(err)
	}}
}

// Do carries a step out: see [Server].
func (k StepKinds[S]) Do(s S, ctx context.Context, step change.Step) (Report, error) {
	if kind, known := k[step.Kind]; known {
		return kind.Do(s, ctx, step)
	}
	return Report{}, UnknownStep(step)
}

// Probe looks whether a step took effect: see [Server].
func (k StepKinds[S]) Probe(s S, ctx context.Context, step change.Step) (bool, error) {
	if kind, known := k[step.Kind]; known {
		return kind.Probe(s, ctx, step)
	}
	return false, UnknownStep(step)
}

// Undo takes a step back: see [Server].
func (k StepKinds[S]) Undo(s S, ctx context.Context, step change.Step) (Report, error) {
	if kind := k[step.Kind]; kind.Undo != nil {
		return kind.Undo(s, ctx, step)
	}
	return Report{}, UnknownStep(step)
}

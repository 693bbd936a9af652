package sqlserver

import (
	"context"

	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// steps are the kinds of steps that the planners write.
var steps = engine.StepKinds[*server]{
	stepCreate: {Do: (*server).create, Probe: (*server).probeCreate, Undo: (*server).undoCreate},
	stepOwner:  {Do: (*server).sendStep, Probe: (*server).probeAlter, Undo: (*server).undoAlter},
	stepAlter:  {Do: (*server).sendStep, Probe: (*server).probeAlter, Undo: (*server).undoAlter},
	stepOnline: {Do: (*server).sendStep, Probe: (*server).probeAlter, Undo: (*server).undoAlter},
	stepAlone:  {Do: (*server).alterAlone, Probe: (*server).probeAlone, Undo: (*server).undoAlone},
	stepDrop:   {Do: (*server).dropNow, Probe: (*server).probeDrop, Undo: (*server).undoDrop},
	stepRename: {Do: (*server).rename, Probe: (*server).probeRename, Undo: (*server).undoRename},
	stepAside:  {Do: (*server).setAside, Probe: (*server).probeAside, Undo: (*server).undoAside},
	stepBack:   {Do: (*server).bringBack, Probe: (*server).probeRename, Undo: (*server).undoBack},
	stepNote:   {Do: (*server).sendStep, Probe: (*server).probeProperty, Undo: (*server).undoProperty},
	stepMark:   {Do: (*server).sendStep, Probe: (*server).probeProperty, Undo: (*server).undoProperty},
	stepCreatePrincipal: {Do: (*server).createPrincipal, Probe: (*server).probeCreated,
		Undo: (*server).undoCreatePrincipal},
	stepBackup:           {Do: (*server).backUp, Probe: (*server).neverTook, Undo: (*server).emptyBackup},
	stepRestore:          {Do: (*server).restore, Probe: (*server).probeRestore, Undo: (*server).undoRestore},
	stepEmpty:            {Do: (*server).emptyBackup, Probe: (*server).probeEmptied},
	stepFiller:           {Do: (*server).makeFiller, Probe: (*server).probeFiller, Undo: (*server).dropFiller},
	stepFill:             {Do: (*server).fill, Probe: (*server).probeFill, Undo: (*server).undoFill},
	stepUnfill:           {Do: (*server).dropFiller, Probe: (*server).probeNoFiller},
	engine.StepStatement: {Do: (*server).sendStatement, Probe: (*server).probeCheck, Undo: (*server).undoStatement},
	engine.StepProve:     engine.Reading((*server).prove),
	change.Verify:        engine.Reading((*server).verify),
}

// Do carries a step out.
func (s *server) Do(ctx context.Context, step change.Step) (engine.Report, error) {
	return steps.Do(s, ctx, step)
}

// Probe looks whether a step took effect.
func (s *server) Probe(ctx context.Context, step change.Step) (bool, error) {
	return steps.Probe(s, ctx, step)
}

// Undo takes a step back. What is not there any more is rolled back already.
func (s *server) Undo(ctx context.Context, step change.Step) (engine.Report, error) {
	return steps.Undo(s, ctx, step)
}

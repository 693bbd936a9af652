package mysqlfamily

import (
	"context"
	"errors"
	"slices"

	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// steps are the kinds of steps that the planners write.
var steps = engine.StepKinds[*server]{
	stepCreate:           {Do: (*server).create, Probe: (*server).probeCreate, Undo: (*server).undoCreate},
	stepAlter:            {Do: (*server).sendStep, Probe: (*server).probeAlter, Undo: (*server).undoAlter},
	stepGate:             {Do: (*server).closeGate, Probe: (*server).probeGate, Undo: (*server).openGate},
	stepDrop:             {Do: (*server).dropNow, Probe: (*server).probeDrop, Undo: (*server).mendDrop},
	stepRestore:          {Do: (*server).settle, Probe: (*server).probeSettle},
	stepCreateAccount:    {Do: (*server).runStatement, Probe: (*server).probeCheck, Undo: (*server).undoCreateAccount},
	stepCreateRole:       {Do: (*server).runStatement, Probe: (*server).probeCheck, Undo: (*server).undoCreateAccount},
	stepSave:             {Do: (*server).saveDefinitions, Probe: (*server).probeSaved, Undo: (*server).undoSaved},
	stepAside:            {Do: (*server).moveAside, Probe: (*server).probeMoved, Undo: (*server).undoAside},
	stepShell:            {Do: (*server).dropShell, Probe: (*server).probeDrop, Undo: (*server).undoShell},
	stepBack:             {Do: (*server).moveBack, Probe: (*server).probeBack, Undo: (*server).undoBack},
	stepRegrant:          {Do: (*server).settle, Probe: (*server).probeSettle, Undo: (*server).openGate},
	stepHeld:             {Do: (*server).dropHeld, Probe: (*server).probeDrop},
	stepCopyTables:       {Do: (*server).copyTables, Probe: (*server).probeCopyTables, Undo: (*server).undoCopied},
	stepCopyRows:         {Do: (*server).copyRows, Probe: (*server).probeCopyRows, Undo: (*server).undoNothing},
	stepCopyRest:         {Do: (*server).copyRest, Probe: (*server).probeCopyRest, Undo: (*server).undoCopied},
	stepNote:             {Do: (*server).sendStep, Probe: (*server).probeNoted, Undo: (*server).undoStatement},
	stepMarkDatabase:     {Do: (*server).create, Probe: (*server).probeCreate, Undo: (*server).undoCreate},
	stepMarkTable:        {Do: (*server).sendStep, Probe: (*server).probeMarkTable, Undo: (*server).undoStatement},
	stepMarkRow:          {Do: (*server).sendStep, Probe: (*server).probeMark, Undo: (*server).undoStatement},
	stepMarkVerify:       {Do: (*server).readMark, Probe: (*server).probeMark},
	change.StepExport:    {Do: (*server).export, Probe: engine.NotExported[*server]},
	stepFiller:           {Do: (*server).makeFiller, Probe: (*server).probeFiller, Undo: (*server).dropFiller},
	stepFill:             {Do: (*server).fill, Probe: (*server).probeFill, Undo: (*server).undoFill},
	stepDefiner:          {Do: (*server).settleDefiners, Probe: (*server).probeDefiners},
	stepUnfill:           {Do: (*server).dropFiller, Probe: (*server).probeNoFiller},
	engine.StepStatement: {Do: (*server).runStatement, Probe: (*server).probeCheck, Undo: (*server).undoStatement},
	engine.StepProve:     engine.Reading((*server).prove),
	change.Verify:        engine.Reading((*server).readBack),
}

// Do carries a step out and brings back the server's warnings.
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

func (s *server) create(ctx context.Context, step change.Step) (engine.Report, error) {
	rep, err := s.send(ctx, "create database", step.Statement, step)
	if err == nil {
		rep.Learned = map[string]string{"made": "yes"}
	}
	return rep, err
}

func (s *server) sendStep(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.send(ctx, step.Title, step.Statement, step)
}

func (s *server) readBack(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.verify(ctx, step)
}

func (s *server) readMark(ctx context.Context, step change.Step) (engine.Report, error) {
	took, err := s.markWritten(ctx, step.Args["mark"])
	if err == nil && !took {
		err = &engine.Error{Op: "verify", Kind: engine.Differs, Text: "the mark is not there"}
	}
	return engine.Report{}, err
}

// goneCodes say that what a statement would roll back is not there: no such grant,
// account, database, table.
var goneCodes = []string{"1141", "1133", "1049", "1146", "1051"}

func (s *server) undoStatement(ctx context.Context, step change.Step) (engine.Report, error) {
	rep, err := s.send(ctx, "take a step back", step.Undo, step)
	if e, ok := errors.AsType[*engine.Error](err); ok && slices.Contains(goneCodes, e.Code) {
		err = nil
	}
	return rep, err
}

func (s *server) probeCreate(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// probeSettle does all of it again, which does no harm: what was cut off is carried to
// its end.
func (s *server) probeSettle(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.settle(ctx, step)
	return err == nil, err
}

func (s *server) probeMarkTable(ctx context.Context, step change.Step) (bool, error) {
	n, err := s.contents(ctx, step.Args["name"])
	return n > 0, err
}

func (s *server) probeMark(ctx context.Context, step change.Step) (bool, error) {
	return s.markWritten(ctx, step.Args["mark"])
}

// probeCheck asks the check that the step's arguments name.
func (s *server) probeCheck(ctx context.Context, step change.Step) (bool, error) {
	return engine.Verified(engine.Checked(s.check(ctx, step)))
}

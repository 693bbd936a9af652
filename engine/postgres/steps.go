package postgres

import (
	"context"
	"errors"

	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// steps are the kinds of steps that the planners write.
var steps = engine.StepKinds[*server]{
	stepCreate:           {Do: (*server).create, Probe: (*server).probeCreate, Undo: (*server).undoCreate},
	stepComment:          {Do: (*server).setComment, Probe: (*server).probeComment, Undo: (*server).undoStatement},
	stepCopySetting:      {Do: (*server).setComment, Probe: (*server).probeCopySetting, Undo: (*server).undoStatement},
	stepAlter:            {Do: (*server).setGate, Probe: (*server).probeAlter, Undo: (*server).undoAlter},
	stepGate:             {Do: (*server).setGate, Probe: (*server).probeTake, Undo: (*server).undoGate},
	stepOpen:             {Do: (*server).setGate, Probe: (*server).probeTake},
	stepDrop:             {Do: (*server).dropEmpty, Probe: (*server).probeTake},
	stepRename:           {Do: (*server).renameEmpty, Probe: (*server).probeTake, Undo: (*server).undoTake},
	stepNote:             {Do: (*server).setGate, Probe: (*server).probeTake, Undo: (*server).undoNote},
	stepMove:             {Do: (*server).moveEmpty, Probe: (*server).probeTake, Undo: (*server).undoTake},
	stepCreateRole:       {Do: (*server).createRole, Probe: (*server).probeRole, Undo: (*server).undoCreateRole},
	stepAccess:           {Do: (*server).alterAccess, Probe: (*server).probeCheck, Undo: (*server).undoAccess},
	stepHandOver:         {Do: (*server).alterAccess, Probe: (*server).probeCheck, Undo: (*server).undoAccess},
	change.StepExport:    {Do: (*server).export, Probe: engine.NotExported[*server]},
	stepFiller:           {Do: (*server).makeFiller, Probe: (*server).probeFiller, Undo: (*server).dropFiller},
	stepFill:             {Do: (*server).fill, Probe: (*server).probeFill, Undo: (*server).undoFill},
	stepUnfill:           {Do: (*server).dropFiller, Probe: (*server).probeNoFiller},
	engine.StepStatement: {Do: (*server).runStatement, Probe: (*server).probeCheck, Undo: (*server).undoStatement},
	engine.StepProve:     engine.Reading((*server).prove),
	change.Verify:        engine.Reading((*server).readBack),
}

// Do carries a step out on one connection, and brings back the notices.
func (s *server) Do(ctx context.Context, step change.Step) (engine.Report, error) {
	return steps.Do(s, ctx, step)
}

// Probe looks whether a step took effect.
func (s *server) Probe(ctx context.Context, step change.Step) (bool, error) {
	return steps.Probe(s, ctx, step)
}

// Undo takes a step back.
func (s *server) Undo(ctx context.Context, step change.Step) (engine.Report, error) {
	return steps.Undo(s, ctx, step)
}

func (s *server) setComment(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.alter(ctx, "set the comment", step.Statement, step)
}

func (s *server) readBack(ctx context.Context, step change.Step) (engine.Report, error) {
	return engine.Report{}, s.verify(ctx, step)
}

func (s *server) undoStatement(ctx context.Context, step change.Step) (engine.Report, error) {
	return s.rollBack(ctx, "undo: "+step.Title, step.Undo, step)
}

func (s *server) probeCreate(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.readDatabase(ctx, s.pool, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

func (s *server) probeComment(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.readDatabase(ctx, s.pool, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	return err == nil && d.Comment == step.Args["comment"], err
}

func (s *server) probeCopySetting(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.readDatabase(ctx, s.pool, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	value, there := setting(d.Properties.Rows("settings"), step.Args["setting"])
	return there && sameSetting(step.Args["setting"], value, step.Args["will"]), err
}

func (s *server) probeRole(ctx context.Context, step change.Step) (bool, error) {
	_, ok, err := s.account(ctx, step.Args["name"])
	return ok, err
}

// probeCheck asks the check that the step's arguments name.
func (s *server) probeCheck(ctx context.Context, step change.Step) (bool, error) {
	return engine.Verified(engine.Checked(s.check(ctx, step)))
}

package sqlserver

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// create makes a database, and learns by what the server tells it from others.
func (s *server) create(ctx context.Context, step change.Step) (engine.Report, error) {
	rep, err := s.sendOne(ctx, "create database", step.Statement, step)
	if err != nil {
		return rep, err
	}
	if d, err := s.readDatabase(ctx, step.Args["name"]); err == nil {
		rep.Learned = map[string]string{"made": d.Key}
	}
	return rep, nil
}

func (s *server) probeCreate(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}

// undoCreate drops the database that this change made, if it is still empty and nobody is in it; the
// server itself refuses to drop one that is in use.
func (s *server) undoCreate(ctx context.Context, step change.Step) (engine.Report, error) {
	const op = "take the database back"
	name := step.Args["name"]
	refuse := func(format string, args ...any) (engine.Report, error) {
		return engine.Report{}, &engine.Error{Op: op, Kind: engine.Refused, Text: fmt.Sprintf(format, args...),
			Next: "Look at the database, and drop it yourself if it is not needed."}
	}
	d, err := s.readDatabase(ctx, name)
	if errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	if err != nil {
		return engine.Report{}, err
	}
	if step.Args["made"] == "" || step.Args["made"] != d.Key {
		return refuse("it is not certain that this change made the database %s, so it was left alone", shown(name))
	}
	var impact catalog.DropImpact
	if err := s.readContents(ctx, name, &impact); err != nil {
		return engine.Report{}, err
	}
	inModel, err := s.count(ctx, "look into the database model",
		"SELECT COUNT(*) FROM model.sys.objects WHERE is_ms_shipped = 0")
	if err != nil {
		return engine.Report{}, err
	}
	n := 0
	for _, c := range impact.Objects {
		n += c.N
	}
	if n > inModel {
		return refuse("there are %d tables, views or procedures in %s already, so it was left alone", n, shown(name))
	}
	return s.sendOne(ctx, op, step.Undo, step)
}

// probeAlter looks whether a database is as a step makes it.
func (s *server) probeAlter(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	if err != nil {
		return false, err
	}
	bad, err := s.differences(ctx, d, step.Args)
	return len(bad) == 0, err
}

// undoAlter puts the former values back. A database that is gone has none.
func (s *server) undoAlter(ctx context.Context, step change.Step) (engine.Report, error) {
	_, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	if err != nil {
		return engine.Report{}, err
	}
	return s.sendOne(ctx, "undo: "+step.Title, step.Undo, step)
}

// asides are arguments that say how a step is done, and nothing of the database.
var asides = []string{"made", "former", "new", "check", "ends", "accept_loss", "act", "now", "statements"}

// differences compares a database with what the arguments of a step say of it, in words.
func (s *server) differences(ctx context.Context, d catalog.Database, args map[string]string) ([]string, error) {
	want, have := map[string]string{}, facts(d)
	var bad []string
	for name, value := range args {
		switch {
		case slices.Contains(asides, name):
		case name == "files":
			rows, err := readRows(value)
			if err != nil {
				return nil, err
			}
			for _, f := range differentFiles(rows, d.Properties.Rows("files")) {
				bad = append(bad, "the file "+shown(f.Text("name"))+" is not as asked")
			}
		case name == "filegroup":
			n, err := s.count(ctx, "look for the filegroup", "SELECT COUNT(*) FROM "+quoteIdent(d.Name)+
				".sys.filegroups WHERE name = @p1", value)
			if err != nil {
				return nil, err
			}
			if n == 0 {
				bad = append(bad, "there is no filegroup "+shown(value))
			}
		case name == "owner" || name == "collation":
			if !strings.EqualFold(have[name], value) {
				want[name] = value
			}
		default:
			want[name] = value
		}
	}
	return append(bad, engine.Mismatches(want, have)...), nil
}

// verify reads back what a change has come to.
func (s *server) verify(ctx context.Context, step change.Step) (engine.Report, error) {
	differs := func(text string) (engine.Report, error) {
		return engine.Report{}, &engine.Error{Op: "verify", Kind: engine.Differs, Text: text}
	}
	if check := checks[step.Args["check"]]; check != nil {
		bad, err := check(s, ctx, step)
		return engine.Report{}, engine.Checked(bad, err)
	}
	switch step.Args["check"] {
	case "property":
		took, err := s.probeProperty(ctx, step)
		if err == nil && !took {
			return differs("the note in the database master is not there, or not as it was written")
		}
		return engine.Report{}, err
	case "database_gone":
		d, err := s.byKey(ctx, step.Args["key"])
		if err == nil {
			return differs(shown(d.Name) + " is still there")
		}
		if errors.Is(err, engine.ErrNotFound) {
			err = nil
		}
		return engine.Report{}, err
	}
	d, err := s.Database(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return differs("it is not there")
	}
	if err != nil {
		return engine.Report{}, err
	}
	bad, err := s.differences(ctx, d, step.Args)
	return engine.Report{}, engine.Checked(bad, err)
}

// byKey finds a database by what the server itself tells it by, whatever it is called now.
func (s *server) byKey(ctx context.Context, key string) (catalog.Database, error) {
	list, err := s.readDatabases(ctx, "")
	for _, d := range list {
		if d.Key == key {
			return d.Database, nil
		}
	}
	if err != nil {
		return catalog.Database{}, err
	}
	return catalog.Database{}, engine.ErrNotFound
}

// property reads an extended property of master; false: there is none.
func (s *server) property(ctx context.Context, name string) (value string, there bool, err error) {
	err = s.query(ctx, "read the note", `SELECT CONVERT(nvarchar(3500), value) FROM master.sys.extended_properties
		WHERE class = 0 AND name = @p1`, func(r *sql.Rows) error {
		there = true
		return r.Scan(&value)
	}, name)
	return value, there, err
}

// probeProperty looks whether a note is as a step writes it; an empty one is none.
func (s *server) probeProperty(ctx context.Context, step change.Step) (bool, error) {
	value, there, err := s.property(ctx, step.Args["property"])
	return there == (step.Args["value"] != "") && value == step.Args["value"], err
}

// undoProperty puts back what was noted before.
func (s *server) undoProperty(ctx context.Context, step change.Step) (engine.Report, error) {
	value, there, err := s.property(ctx, step.Args["property"])
	if err != nil || value == step.Args["was"] && there == (step.Args["was"] != "") {
		return engine.Report{}, err
	}
	return s.sendOne(ctx, "undo: "+step.Title, step.Undo, step)
}

package spool

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"slices"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/record"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// Fleet is what is needed of the servers.
type Fleet interface {
	Get(ctx context.Context, name string) (catalog.Server, error)
	Engine(name catalog.Engine) (engine.Engine, error)
	Engines() []*engine.Description
}

// Changes lists changes, to see which scripts are still asked for.
type Changes interface {
	Changes(ctx context.Context, f change.Filter) ([]change.Change, error)
}

// Scripts takes scripts in by which databases are filled, and gives them out to the changes
// that ask for them.
type Scripts struct {
	Folder  *Folder
	Fleet   Fleet
	Changes Changes
	Log     *slog.Logger
	// Limit is how many bytes a script may have.
	Limit int64
}

// Take takes a script in for a server. What is wrong with it is in its summary.
func (s *Scripts) Take(ctx context.Context, operator, server, file string, from io.Reader) (script.Kept, error) {
	srv, err := s.Fleet.Get(ctx, server)
	if err != nil {
		return script.Kept{}, err
	}
	if err := s.mayTake(ctx, operator); err != nil {
		return script.Kept{}, err
	}
	eng, err := s.Fleet.Engine(srv.Engine)
	if err != nil {
		return script.Kept{}, err
	}
	kept := script.Kept{ID: NewID(), Server: server, File: file, Operator: operator,
		Created: time.Now().UTC().Truncate(time.Microsecond)}
	rec := record.File{ID: kept.ID, Kind: record.ScriptFile, Server: server,
		Subject: naming.ServerAddress(server).String(), Operator: operator, Created: kept.Created,
		Until: kept.Created.Add(script.KeepFor)}
	_, err = s.Folder.Put(ctx, rec, from, s.Limit, func(r io.Reader) (any, error) {
		var err error
		kept.Summary, err = script.Summarise(r, eng.Script)
		kept.Of = s.otherEngine(eng.Describe(), kept.Summary)
		return kept, err
	}, nil, journal.Entry{At: kept.Created, Operator: operator, Action: "script.take", Subject: rec.Subject,
		Detail: detail(map[string]any{"script": kept.ID, "file": file})})
	return kept, err
}

// maxScripts is how many scripts of one operator are kept at once.
const maxScripts = 20

func (s *Scripts) mayTake(ctx context.Context, operator string) error {
	list, err := s.Folder.List(ctx, record.ScriptFile)
	n := 0
	for _, f := range list {
		if f.Operator == operator {
			n++
		}
	}
	if n >= maxScripts {
		err = record.ErrTooMany
	}
	return err
}

// otherEngine is the engine whose dump a script says it is, if that is another one.
func (s *Scripts) otherEngine(own *engine.Description, of script.Summary) string {
	begins := func(d *engine.Description) bool {
		return slices.ContainsFunc(d.Script.Begins, func(b string) bool { return strings.HasPrefix(of.Begins, b) })
	}
	if begins(own) {
		return ""
	}
	for _, d := range s.Fleet.Engines() {
		if begins(d) {
			return d.Title
		}
	}
	return ""
}

// Script reads what is known of a script; [record.ErrNotFound] if there is none.
func (s *Scripts) Script(ctx context.Context, id string) (script.Kept, error) {
	var kept script.Kept
	rec, err := s.Folder.Record(ctx, id)
	if err == nil && rec.Kind != record.ScriptFile {
		err = record.ErrNotFound
	}
	if err != nil {
		return kept, err
	}
	return kept, json.Unmarshal([]byte(rec.About), &kept)
}

// Open opens a script for reading. The caller closes it.
func (s *Scripts) Open(ctx context.Context, id string) (io.ReadCloser, error) {
	return s.Folder.Get(ctx, id)
}

// Remove removes a script. One that is gone already is no error.
func (s *Scripts) Remove(ctx context.Context, id string) error {
	if err := s.Folder.Remove(ctx, id); !errors.Is(err, record.ErrNotFound) {
		return err
	}
	return nil
}

// sweepEvery is how often scripts are looked through that nobody asks for any more.
const sweepEvery = time.Hour

// Run sweeps now and then, until ctx ends.
func (s *Scripts) Run(ctx context.Context) {
	tick := time.NewTicker(sweepEvery)
	defer tick.Stop()
	for {
		if err := s.Sweep(ctx, time.Now()); err != nil && ctx.Err() == nil {
			s.Log.Warn("looking for scripts that nobody asks for", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// openChanges bounds the changes of a state that are looked through.
const openChanges = 1000

// Sweep removes scripts that were taken in long ago and that no change asks for which may
// still run.
func (s *Scripts) Sweep(ctx context.Context, now time.Time) error {
	list, err := s.Folder.records.FilesOver(ctx, record.ScriptFile, now)
	if err != nil {
		return err
	}
	asked := map[string]bool{}
	for _, state := range change.States {
		if state.Ended() || len(list) == 0 {
			continue
		}
		open, err := s.Changes.Changes(ctx, change.Filter{State: state, Kind: change.FillDatabase, Limit: openChanges})
		if err != nil {
			return err
		}
		for _, c := range open {
			asked[c.Intent.Database.Script] = true
		}
	}
	for _, f := range list {
		if asked[f.ID] {
			continue
		}
		if err := s.Remove(ctx, f.ID); err != nil {
			return err
		}
	}
	return s.Folder.Sweep(ctx, now)
}

// detail writes what stands beside an entry of the journal.
func detail(of map[string]any) string {
	text, err := json.Marshal(of)
	if err != nil {
		return ""
	}
	return string(text)
}

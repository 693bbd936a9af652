package spool

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"io"
	"log/slog"
	"math"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/journal"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/record"
)

// Exports keeps databases as their engines' own programs have written them.
type Exports struct {
	Folder *Folder
	Log    *slog.Logger
}

// Keep keeps what write writes, reads it once more, and gives its number. What was not written
// or read to its end is not kept.
func (x *Exports) Keep(ctx context.Context, operator, server, subject string, of change.Export,
	write func(io.Writer) error, read func(io.Reader) ([]string, error)) (string, error) {
	now := time.Now().UTC().Truncate(time.Microsecond)
	f := record.File{ID: NewID(), Kind: record.ExportFile, Server: server, Subject: subject, Operator: operator,
		Created: now, Until: now.AddDate(0, 0, of.Days)}
	from, to := io.Pipe()
	go func() { to.CloseWithError(write(to)) }()
	defer from.Close()
	_, err := x.Folder.Put(ctx, f, from, math.MaxInt64, func(r io.Reader) (any, error) {
		hash := sha256.New()
		_, err := io.Copy(hash, r)
		of.SHA256 = hex.EncodeToString(hash.Sum(nil))
		return of, err
	}, func(r io.Reader) (any, error) {
		var err error
		of.Checked, err = read(r)
		return of, err
	}, journal.Entry{At: now, Operator: operator, Action: "export.keep", Subject: subject, Change: of.Change,
		Detail: detail(map[string]any{"export": f.ID, "program": of.Program, "until": f.Until.Format(time.DateOnly)})})
	return f.ID, err
}

// List lists all exports, the newest first.
func (x *Exports) List(ctx context.Context) ([]record.File, error) {
	return x.Folder.List(ctx, record.ExportFile)
}

// Export reads what is known of one; [record.ErrNotFound] if there is none.
func (x *Exports) Export(ctx context.Context, id string) (record.File, change.Export, error) {
	var of change.Export
	f, err := x.Folder.Record(ctx, id)
	if err == nil && f.Kind != record.ExportFile {
		err = record.ErrNotFound
	}
	if err != nil {
		return f, of, err
	}
	return f, of, json.Unmarshal([]byte(f.About), &of)
}

// Open opens an export for reading. The caller closes it.
func (x *Exports) Open(ctx context.Context, id string) (io.ReadCloser, error) {
	return x.Folder.Get(ctx, id)
}

// Remove removes an export.
func (x *Exports) Remove(ctx context.Context, operator, id string) error {
	f, _, err := x.Export(ctx, id)
	if err != nil {
		return err
	}
	return x.Folder.Remove(ctx, id, journal.Entry{Operator: operator, Action: "export.remove", Subject: f.Subject,
		Detail: detail(map[string]any{"export": id})})
}

// Run removes what is over now and then, until ctx ends.
func (x *Exports) Run(ctx context.Context) {
	tick := time.NewTicker(sweepEvery)
	defer tick.Stop()
	for {
		if err := x.Sweep(ctx, time.Now()); err != nil && ctx.Err() == nil {
			x.Log.Warn("looking for exports that are over", "error", err)
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}

// Sweep removes the exports whose time is over.
func (x *Exports) Sweep(ctx context.Context, now time.Time) error {
	list, err := x.Folder.records.FilesOver(ctx, record.ExportFile, now)
	if err != nil {
		return err
	}
	for _, f := range list {
		if err := x.Remove(ctx, policy.Service, f.ID); err != nil {
			return err
		}
	}
	return nil
}

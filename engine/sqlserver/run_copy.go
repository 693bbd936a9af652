package sqlserver

import (
	"context"
	"database/sql"
	"errors"
	"slices"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// templates are the databases that can be copied.
func (s *server) readTemplates(ctx context.Context) ([]catalog.Choice, error) {
	list, err := s.readDatabases(ctx, "")
	if err != nil {
		return nil, err
	}
	notes, err := s.readNotes(ctx)
	out := []catalog.Choice{}
	for _, d := range list {
		if !d.System && !d.Closed && heldAs(d.Name, notes) == nil && d.Properties.Text("snapshot_of") == "" {
			out = append(out, catalog.Choice{Name: d.Name})
		}
	}
	return out, err
}

// maxNaming bounds the views and procedures that are told by name.
const maxNaming = 50

// readCopySide reads what planning a copy needs of the template. Sources: HAS_PERMS_BY_NAME, SERVERPROPERTY, and
// within it sys.sql_modules.
func (s *server) readCopySide(ctx context.Context, name, owner string, snap *catalog.Snapshot) error {
	if !slices.Contains(snap.Names, name) {
		return nil // which the choice says
	}
	d, err := s.Database(ctx, name)
	if err != nil || d.Closed {
		return err
	}
	more := detailsOf(snap.Details)
	x := &more.Copied
	if err := s.db.QueryRowContext(ctx, `SELECT COALESCE(HAS_PERMS_BY_NAME(@p1, 'DATABASE', 'BACKUP DATABASE'), 0),
		COALESCE(HAS_PERMS_BY_NAME('model', 'DATABASE', 'BACKUP DATABASE'), 0),
		COALESCE(CONVERT(nvarchar(260), SERVERPROPERTY('InstanceDefaultBackupPath')),
			CONVERT(nvarchar(260), SERVERPROPERTY('InstanceDefaultDataPath')), N'')`, quoteIdent(name)).
		Scan(&x.MayBackUp, &x.MayEmpty, &x.Folder); err != nil {
		return wrap("read what the login may do", err)
	}
	if separator := "/"; x.Folder != "" && !strings.HasSuffix(x.Folder, "/") && !strings.HasSuffix(x.Folder, `\`) {
		if strings.Contains(x.Folder, `\`) {
			separator = `\`
		}
		x.Folder += separator
	}
	in := quoteIdent(name) + ".sys."
	// What may not be looked at says nothing.
	_ = s.query(ctx, "look for its name in its views and procedures", "SELECT TOP (@p2) o.name FROM "+in+
		"sql_modules m JOIN "+in+"objects o ON o.object_id = m.object_id WHERE CHARINDEX(@p1, m.definition) > 0 "+
		"ORDER BY o.name", func(r *sql.Rows) error {
		var module string
		err := r.Scan(&module)
		x.Naming = append(x.Naming, module)
		return err
	}, name, maxNaming)
	if owner != "" {
		if more.OwnerUser, err = s.isUser(ctx, name, owner); err != nil {
			return err
		}
	}
	more.Volumes = s.readVolumes(ctx)
	snap.Source = &d
	return s.readTriggers(ctx, name, more) // they come along, and the copy is given an owner
}

// backUp writes the backup of a template, if it is still the one that was looked at.
func (s *server) backUp(ctx context.Context, step change.Step) (engine.Report, error) {
	if _, err := s.same(ctx, step, step.Args["from"]); err != nil {
		return engine.Report{}, err
	}
	return engine.Report{}, s.sendWatched(ctx, step, "backing up")
}

// neverTook: whether a backup was written to its end cannot be asked, and it can be made again.
func (s *server) neverTook(context.Context, change.Step) (bool, error) { return false, nil }

// emptyBackup writes over a backup, which can be done again.
func (s *server) emptyBackup(ctx context.Context, step change.Step) (engine.Report, error) {
	text := step.Undo
	if text == "" {
		text = step.Statement
	}
	return s.sendOne(ctx, step.Title, text, step)
}

func (s *server) probeEmptied(ctx context.Context, step change.Step) (bool, error) {
	_, err := s.emptyBackup(ctx, step)
	return err == nil, err
}

// sendWatched sends a step's statement, and tells how far the server is with it. Source:
// sys.dm_exec_requests.
func (s *server) sendWatched(ctx context.Context, step change.Step, what string) error {
	total, _ := strconv.ParseInt(step.Args["size"], 10, 64)
	return s.withConn(ctx, step.Title, step, func(c *sender) error {
		var session int64
		if err := c.QueryRowContext(ctx, "SELECT @@SPID").Scan(&session); err != nil {
			return engine.NeverSent(wrap(step.Title, err))
		}
		if err := announce(ctx, c, step); err != nil {
			return err
		}
		watching, stop := context.WithCancel(ctx)
		over := make(chan struct{})
		go func() {
			defer close(over)
			for engine.Pause(watching, watchEvery) {
				percent := 0.0
				if s.db.QueryRowContext(watching, "SELECT percent_complete FROM sys.dm_exec_requests WHERE "+
					"session_id = @p1", session).Scan(&percent) == nil {
					step.Worked(change.Work{What: what, Done: int64(percent * float64(total) / 100), Total: total,
						Unit: "bytes"})
				}
			}
		}()
		err := exec(ctx, c, step.Title, step.Statement)
		stop()
		<-over
		return err
	})
}

// watchEvery is how often it is asked how far a backup is.
const watchEvery = 250 * time.Millisecond

// restore makes a database of the backup, and learns by what the server tells it from others.
func (s *server) restore(ctx context.Context, step change.Step) (engine.Report, error) {
	if err := s.sendWatched(ctx, step, "restoring"); err != nil {
		return engine.Report{}, err
	}
	var rep engine.Report
	if d, err := s.readDatabase(ctx, step.Args["name"]); err == nil {
		rep.Learned = map[string]string{"made": d.Key}
	}
	return rep, nil
}

// probeRestore looks whether the copy is there, and is one of the template.
func (s *server) probeRestore(ctx context.Context, step change.Step) (bool, error) {
	d, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return false, nil
	}
	if err != nil || d.Closed {
		return false, err
	}
	return s.related(ctx, step)
}

// related reports whether a copy and its template come from the same database. Source:
// sys.database_recovery_status, family_guid.
func (s *server) related(ctx context.Context, step change.Step) (bool, error) {
	n, err := s.count(ctx, "look whether it is a copy", `SELECT COUNT(*) FROM sys.database_recovery_status x
		JOIN sys.database_recovery_status y ON y.family_guid = x.family_guid
		JOIN sys.databases dx ON dx.database_id = x.database_id JOIN sys.databases dy ON dy.database_id = y.database_id
		WHERE dx.name = @p1 AND dy.name = @p2`, step.Args["name"], step.Args["from"])
	return n > 0, err
}

// undoRestore drops the copy, if it is the one that was made, or was being made. The server refuses where somebody
// is in it.
func (s *server) undoRestore(ctx context.Context, step change.Step) (engine.Report, error) {
	d, err := s.readDatabase(ctx, step.Args["name"])
	if errors.Is(err, engine.ErrNotFound) {
		return engine.Report{}, nil
	}
	if err != nil {
		return engine.Report{}, err
	}
	ours := step.Args["made"] == d.Key
	if step.Args["made"] == "" { // its answer was lost, or it came to no end
		if ours, err = s.related(ctx, step); err != nil {
			return engine.Report{}, err
		}
		ours = ours || d.Properties.Text("state") == "restoring"
	}
	if !ours {
		return engine.Report{}, &engine.Error{Op: "take the copy back", Kind: engine.Refused,
			Text: "it is not certain that this change made the database " + shown(d.Name) + ", so it was left alone",
			Next: "Look at the database, and drop it yourself if it is not needed."}
	}
	return s.sendOne(ctx, "take the copy back", step.Undo, step)
}

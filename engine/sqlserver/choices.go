package sqlserver

import (
	"context"
	"database/sql"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// details are what only this engine's planner reads of a snapshot.
type details struct {
	// DataPath and LogPath are the folders in which the server puts files when nothing is said; they
	// end with the separator.
	DataPath, LogPath string
	// Model are the properties of the database model, which each new one is a copy of, and InModel
	// how many objects of users lie in it.
	Model   catalog.Values
	InModel int
	// Volumes are its disks, where files are asked for and the server tells.
	Volumes []volume
	// OwnerUser: the login that is to own a database is a user in it.
	OwnerUser bool
	// Joined says by what the database is tied to other servers: a stop for whatever moves it.
	Joined []string
	// Contained: the server lets databases be contained.
	Contained bool
	// Owns are the databases that belong to a login, those that were set aside among them, and Belongings
	// what else keeps it, or a user, from being dropped.
	Owns       []string
	Belongings []belonging
	// Alters and Controls: Genarch's login may alter users and roles in the database of a change, and grant there.
	Alters, Controls bool
	// Copied is read of the template of a copy.
	Copied copied
	// Filling is read for the run of a script.
	Filling filling
	// Triggers run whenever something in the database is altered, as whoever alters it.
	Triggers []string
	// ObjectAbsent: what a grant is on is not there.
	ObjectAbsent bool
}

func detailsOf(of any) *details {
	if d, ok := of.(*details); ok {
		return d
	}
	return &details{}
}

// Choices reads lists of what can be chosen.
func (s *server) Choices(ctx context.Context, keys ...string) (catalog.Choices, error) {
	return engine.ReadChoices(ctx, keys, map[string]func(context.Context) ([]catalog.Choice, error){
		"collations": s.readCollations, "owners": s.readOwners, "templates": s.readTemplates})
}

// readCollations reads the collations that a database can have: those that are for Unicode alone
// cannot be a database's. Source: sys.fn_helpcollations.
func (s *server) readCollations(ctx context.Context) ([]catalog.Choice, error) {
	var out []catalog.Choice
	err := s.query(ctx, "read collations", `SELECT name, description,
		CASE WHEN name = CONVERT(nvarchar(128), SERVERPROPERTY('Collation')) THEN 1 ELSE 0 END
		FROM sys.fn_helpcollations() WHERE COLLATIONPROPERTY(name, 'CodePage') <> 0 ORDER BY name`,
		func(r *sql.Rows) error {
			var c catalog.Choice
			err := r.Scan(&c.Name, &c.Title, &c.Default)
			out = append(out, c)
			return err
		})
	return out, err
}

// readOwners reads the logins that can own a database: no groups, and none of the server's own.
func (s *server) readOwners(ctx context.Context) ([]catalog.Choice, error) {
	out := []catalog.Choice{}
	err := s.query(ctx, "read logins", `SELECT name FROM sys.server_principals WHERE type IN ('S', 'U', 'E')
		AND name NOT LIKE N'##%' ORDER BY name`, func(r *sql.Rows) error {
		var c catalog.Choice
		err := r.Scan(&c.Name)
		out = append(out, c)
		return err
	})
	return out, err
}

// Snapshot reads what planning the intent needs.
func (s *server) Snapshot(ctx context.Context, in change.Intent) (catalog.Snapshot, error) {
	snap := catalog.Snapshot{Server: s.target.Server, Details: &details{}}
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		snap.Instance, err = s.Inspect(gctx)
		return err
	})
	group.Go(func() (err error) {
		snap.Names, err = s.readNames(gctx)
		return err
	})
	group.Go(func() error { return s.connected(gctx, in, &snap) })
	if err := group.Wait(); err != nil {
		return snap, err
	}
	snap.Self = catalog.Principal{Name: snap.Instance.Login.Name}
	var err error
	if in.Database != nil {
		err = s.readDatabaseSide(ctx, in, &snap)
	}
	if err == nil && (in.Account != nil || in.Member != nil || in.Grant != nil) {
		err = s.readAccountSide(ctx, in, &snap)
	}
	if err == nil && in.Holding != nil {
		err = s.readHoldingSide(ctx, in, &snap)
	}
	snap.Instance.Read = time.Now().UTC()
	return snap, err
}

// readNames lists all databases.
func (s *server) readNames(ctx context.Context) ([]string, error) {
	var out []string
	err := s.query(ctx, "list databases", "SELECT name FROM sys.databases", func(r *sql.Rows) error {
		var name string
		err := r.Scan(&name)
		out = append(out, name)
		return err
	})
	return out, err
}

// readDatabaseSide reads what planning for a database needs.
func (s *server) readDatabaseSide(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	spec, more := in.Database, detailsOf(snap.Details)
	if slices.Contains(snap.Names, spec.Name) {
		d, err := s.Database(ctx, spec.Name)
		if err != nil {
			return err
		}
		snap.Target = &d
		if in.Kind != change.CreateDatabase && in.Kind != change.FillDatabase {
			if err := s.readTakeSide(ctx, d, snap); err != nil {
				return err
			}
		}
		if owner := spec.Options.Text("owner"); owner != "" && in.Kind == change.AlterDatabase && !d.Closed {
			if more.OwnerUser, err = s.isUser(ctx, d.Name, owner); err != nil {
				return err
			}
			if err := s.readTriggers(ctx, d.Name, more); err != nil {
				return err
			}
		}
	}
	if from := spec.Options.Text(template); from != "" && in.Kind == change.CreateDatabase {
		if err := s.readCopySide(ctx, from, spec.Options.Text("owner"), snap); err != nil {
			return err
		}
	}
	lists := description.Needs(in)
	if len(lists) > 0 {
		var err error
		if snap.Choices, err = s.Choices(ctx, lists...); err != nil {
			return err
		}
	}
	if spec.Team != nil {
		a, err := s.Access(ctx, catalog.AccessQuery{})
		if err != nil {
			return err
		}
		snap.Access = &a
	}
	switch in.Kind {
	case change.FillDatabase:
		return s.readFillSide(ctx, snap)
	case change.CreateDatabase, change.AlterDatabase:
	default:
		return nil
	}
	return s.readDefaults(ctx, spec.Options.Has("files"), more)
}

// readDefaults reads what a new database gets where nothing is said. Sources: SERVERPROPERTY, sys.configurations,
// and the database model.
func (s *server) readDefaults(ctx context.Context, files bool, more *details) error {
	err := s.db.QueryRowContext(ctx, `SELECT
		COALESCE(CONVERT(nvarchar(260), SERVERPROPERTY('InstanceDefaultDataPath')), N''),
		COALESCE(CONVERT(nvarchar(260), SERVERPROPERTY('InstanceDefaultLogPath')), N''),
		(SELECT CONVERT(int, value_in_use) FROM sys.configurations WHERE name = N'contained database authentication'),
		(SELECT COUNT(*) FROM model.sys.objects WHERE is_ms_shipped = 0)`).
		Scan(&more.DataPath, &more.LogPath, &more.Contained, &more.InModel)
	if err != nil {
		return wrap("read the server's defaults", err)
	}
	if files {
		more.Volumes = s.readVolumes(ctx)
	}
	list, err := s.readDatabases(ctx, "model")
	if err == nil && len(list) == 1 {
		more.Model = list[0].Properties
	}
	return err
}

// readVolumes reads the disks on which files of databases lie; none where the server does not tell. Source:
// sys.dm_os_volume_stats.
func (s *server) readVolumes(ctx context.Context) (out []volume) {
	_ = s.query(ctx, "look for room", `SELECT DISTINCT v.volume_mount_point, v.available_bytes FROM sys.master_files f
		CROSS APPLY sys.dm_os_volume_stats(f.database_id, f.file_id) v`, func(r *sql.Rows) error {
		var v volume
		err := r.Scan(&v.Mount, &v.Free)
		out = append(out, v)
		return err
	})
	return out
}

// isUser reports whether a login is a user of a database other than as its owner.
func (s *server) isUser(ctx context.Context, database, login string) (bool, error) {
	n, err := s.count(ctx, "look for the owner's user", "SELECT COUNT(*) FROM "+quoteIdent(database)+
		`.sys.database_principals u JOIN sys.server_principals l ON l.sid = u.sid WHERE l.name = @p1
		AND u.principal_id <> 1`, login)
	return n > 0, err
}

// readTakeSide reads what planning needs of a database that is to go, to move, or to be altered.
// Sources: HAS_PERMS_BY_NAME, sys.databases, sys.database_mirroring, sys.dm_hadr_database_replica_states,
// msdb.dbo.log_shipping_primary_databases, msdb.dbo.log_shipping_secondary_databases.
//
// Long: each thing that ties a database to others is kept elsewhere.
func (s *server) readTakeSide(ctx context.Context, d catalog.Database, snap *catalog.Snapshot) error {
	login, more := snap.Instance.Login, detailsOf(snap.Details)
	out := &catalog.DropImpact{}
	snap.DropImpact = out
	var controls bool
	err := s.db.QueryRowContext(ctx, "SELECT COALESCE(HAS_PERMS_BY_NAME("+quoteText(quoteIdent(d.Name))+
		", 'DATABASE', 'CONTROL'), 0)").Scan(&controls)
	if err != nil {
		return wrap("read what the login may do", err)
	}
	out.MayDrop = controls || login.May("alter_database") || d.Owner == login.Name
	out.Denied, out.Remedy = "it has neither CONTROL on it nor ALTER ANY DATABASE", login.Remedy("alter_database")
	if d.Closed {
		out.Unseen = append(out.Unseen, "What is in "+shown(d.Name)+" cannot be looked at while it is not online.")
	} else if err := s.readContents(ctx, d.Name, out); err != nil {
		out.Unseen = append(out.Unseen, "What is in "+shown(d.Name)+" could not be looked at: "+err.Error())
	}
	joined := func(what, text string, args ...any) {
		n, err := s.count(ctx, "look for "+what, text, args...)
		switch {
		case err != nil:
			out.Unseen = append(out.Unseen, "Whether it is part of "+what+" could not be looked at: "+err.Error())
		case n > 0:
			more.Joined = append(more.Joined, what)
		}
	}
	if by := d.Properties.Text("replicated"); by != "" {
		for _, what := range strings.Split(by, ", ") {
			if what != "change data capture" {
				more.Joined = append(more.Joined, "replication ("+what+")")
			}
		}
	}
	joined("a mirroring", `SELECT COUNT(*) FROM sys.database_mirroring m JOIN sys.databases d ON
		d.database_id = m.database_id WHERE d.name = @p1 AND m.mirroring_guid IS NOT NULL`, d.Name)
	joined("an availability group", "SELECT COUNT(*) FROM sys.databases WHERE name = @p1 AND replica_id IS NOT NULL",
		d.Name)
	joined("log shipping", `SELECT (SELECT COUNT(*) FROM msdb.dbo.log_shipping_primary_databases
		WHERE primary_database = @p1) + (SELECT COUNT(*) FROM msdb.dbo.log_shipping_secondary_databases
		WHERE secondary_database = @p1)`, d.Name)
	joined("a snapshot", `SELECT COUNT(*) FROM sys.databases s JOIN sys.databases d ON
		d.database_id = s.source_database_id WHERE d.name = @p1`, d.Name)
	if err := s.query(ctx, "look for logins", "SELECT name FROM sys.server_principals WHERE default_database_name = "+
		"@p1"+
		" AND type IN ('S', 'U', 'G') ORDER BY name", func(r *sql.Rows) error {
		var name string
		err := r.Scan(&name)
		out.Dependents = append(out.Dependents, "the login "+shown(name)+", whose default database it is")
		return err
	}, d.Name); err != nil {
		return err
	}
	jobs := s.query(ctx, "look for jobs", `SELECT DISTINCT j.name FROM msdb.dbo.sysjobs j
		JOIN msdb.dbo.sysjobsteps p ON p.job_id = j.job_id WHERE p.database_name = @p1 ORDER BY j.name`,
		func(r *sql.Rows) error {
			var name string
			err := r.Scan(&name)
			out.Dependents = append(out.Dependents, "the job "+shown(name))
			return err
		}, d.Name)
	if jobs != nil {
		out.Unseen = append(out.Unseen, "Jobs that run in it could not be looked at: "+jobs.Error())
	}
	list, err := s.readPrepared(ctx)
	if err != nil {
		return err
	}
	for _, p := range list {
		if p.Database == d.Name {
			out.Prepared = append(out.Prepared, p)
		}
	}
	return nil
}

// readContents counts what is in a database. Sources: sys.objects and sys.partitions within it.
func (s *server) readContents(ctx context.Context, name string, out *catalog.DropImpact) error {
	counts := map[string]int{}
	err := s.query(ctx, "count what it holds", "SELECT type, COUNT(*) FROM "+quoteIdent(name)+
		".sys.objects WHERE is_ms_shipped = 0 GROUP BY type", func(r *sql.Rows) error {
		var kind string
		var n int
		err := r.Scan(&kind, &n)
		counts[strings.TrimSpace(kind)] += n
		return err
	})
	if err != nil {
		return err
	}
	out.Objects = []catalog.Count{{What: "tables", N: counts["U"]}, {What: "views", N: counts["V"]},
		{What: "procedures", N: counts["P"]}, {What: "functions", N: counts["FN"] + counts["IF"] + counts["TF"]},
		{What: "triggers", N: counts["TR"]}}
	var rows int64
	err = s.query(ctx, "count its rows", "SELECT COALESCE(SUM(p.rows), 0) FROM "+quoteIdent(name)+
		".sys.partitions p JOIN "+quoteIdent(name)+
		".sys.tables t ON t.object_id = p.object_id WHERE p.index_id IN (0, 1)",
		func(r *sql.Rows) error { return r.Scan(&rows) })
	if err == nil {
		out.Rows = &rows
	}
	return err
}

// readHoldingSide reads what planning needs of a database that waits.
func (s *server) readHoldingSide(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	if !slices.Contains(snap.Names, in.Holding.ID) {
		return nil
	}
	d, err := s.Database(ctx, in.Holding.ID)
	if err != nil || d.Held == nil {
		return err
	}
	snap.Target = &d
	return s.readTakeSide(ctx, d, snap)
}

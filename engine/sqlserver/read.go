package sqlserver

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// query runs a query and scans its rows.
func (s *server) query(ctx context.Context, op, text string, scan func(*sql.Rows) error, args ...any) error {
	rows, err := s.db.QueryContext(ctx, text, args...)
	if err != nil {
		return wrap(op, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return wrap(op, err)
		}
	}
	return wrap(op, rows.Err())
}

// count runs a query that counts.
func (s *server) count(ctx context.Context, op, text string, args ...any) (n int, err error) {
	err = s.query(ctx, op, text, func(r *sql.Rows) error { return r.Scan(&n) }, args...)
	return n, err
}

// editions are the numbers of SERVERPROPERTY('EngineEdition') that are looked after.
var editions = []int{2, 3, 4}

// Inspect reads what the instance says of itself and what the login may do. Sources: SERVERPROPERTY,
// sys.databases (tempdb is made when the server starts), sys.configurations, sys.dm_exec_sessions.
func (s *server) Inspect(ctx context.Context) (catalog.Instance, error) {
	in := catalog.Instance{Engine: ID, Read: time.Now().UTC()}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return in, wrap("connect", err)
	}
	defer conn.Close()
	if err := conn.Raw(func(c any) error {
		in.Identity, err = identityOf(ctx, c.(driver.Conn))
		in.Identity = s.transport.Marked(in.Identity)
		return err
	}); err != nil {
		return in, wrap("read the identity", err)
	}
	var edition int
	var single bool
	var started time.Time
	err = conn.QueryRowContext(ctx, `SELECT CONVERT(nvarchar(128), SERVERPROPERTY('ProductVersion')),
		CONVERT(int, SERVERPROPERTY('EngineEdition')), CONVERT(nvarchar(128), SERVERPROPERTY('Collation')),
		COALESCE(CONVERT(int, SERVERPROPERTY('IsSingleUser')), 0),
		(SELECT create_date FROM sys.databases WHERE database_id = 2),
		(SELECT CONVERT(int, value_in_use) FROM sys.configurations WHERE name = N'user connections'),
		(SELECT COUNT(*) FROM sys.dm_exec_sessions WHERE is_user_process = 1)`).
		Scan(&in.Version, &edition, &in.Collation, &single, &started, &in.Sessions.Allowed, &in.Sessions.Open)
	if err != nil {
		return in, wrap("read the server", err)
	}
	if in.Sessions.Allowed == 0 {
		in.Sessions.Allowed = 32767 // the most that any server takes
	}
	in.Number = numberOf(in.Version)
	if in.Number/1_000_000 < oldest || !slices.Contains(editions, edition) {
		return in, &engine.Error{Op: "read the server", Kind: engine.Refused,
			Text: fmt.Sprintf("this is version %s, edition %d; Genarch looks after %s", in.Version, edition,
				description.Versions), Next: "Look after this one with the tools of who runs it."}
	}
	in.Started, in.TLS = started.UTC(), true // it would not have connected without
	if single {
		in.ReadOnly = "the server was started for a single session (option -m)"
	}
	in.Login, err = readLogin(ctx, conn)
	return in, err
}

// numberOf makes a version comparable: 16.0.4125.3 is 16004125.
func numberOf(version string) int {
	parts := strings.Split(version, ".")
	major, _ := strconv.Atoi(parts[0])
	build := 0
	if len(parts) > 2 {
		build, _ = strconv.Atoi(parts[2])
	}
	return major*1_000_000 + build
}

// databaseColumns are read of sys.databases AS d, with the owner's login AS o.
const databaseColumns = `SELECT d.database_id, d.name, COALESCE(o.name, SUSER_SNAME(d.owner_sid), N''),
	COALESCE(d.collation_name, N''), d.recovery_model_desc, d.compatibility_level, d.containment_desc,
	d.snapshot_isolation_state, d.is_read_committed_snapshot_on, d.is_auto_create_stats_on, d.is_auto_update_stats_on,
	d.is_auto_update_stats_async_on, d.is_auto_close_on, d.is_auto_shrink_on, d.page_verify_option_desc,
	d.is_trustworthy_on, d.user_access_desc, d.is_read_only, d.state_desc, d.is_in_standby, d.log_reuse_wait_desc,
	d.is_encrypted, CONVERT(varchar(23), d.create_date, 126), d.is_published, d.is_merge_published, d.is_subscribed,
	d.is_distributor, d.is_cdc_enabled, COALESCE(sd.name, N'')
	FROM sys.databases d LEFT JOIN sys.server_principals o ON o.sid = d.owner_sid
	LEFT JOIN sys.databases sd ON sd.database_id = d.source_database_id`

// entry is a database with its number.
type entry struct {
	catalog.Database
	id int
}

func scanDatabase(r *sql.Rows) (entry, error) {
	var d entry
	var recovery, containment, pages, access, state, waits, made, snapshotOf string
	var level, snapshots int
	var rcsi, create, update, async, closes, shrinks, trusted, readOnly, standby, encrypted bool
	var published, merged, subscribed, distributor, captured bool
	err := r.Scan(&d.id, &d.Name, &d.Owner, &d.Collation, &recovery, &level, &containment, &snapshots, &rcsi, &create,
		&update, &async, &closes, &shrinks, &pages, &trusted, &access, &readOnly, &state, &standby, &waits, &encrypted,
		&made, &published, &merged, &subscribed, &distributor, &captured, &snapshotOf)
	if err != nil {
		return d, err
	}
	d.Key = strconv.Itoa(d.id) + " " + made
	d.System = d.id <= 4 || distributor
	d.Closed = state != "ONLINE"
	d.Properties = catalog.Values{"recovery": strings.ToLower(recovery), "compatibility": strconv.Itoa(level),
		"containment": strings.ToLower(containment), "snapshot_isolation": snapshots == 1 || snapshots == 3,
		"read_committed_snapshot": rcsi, "auto_create_statistics": create, "auto_update_statistics": update,
		"auto_update_statistics_async": async, "auto_close": closes, "auto_shrink": shrinks,
		"page_verify": strings.ToLower(pages), "trustworthy": trusted, "access": strings.ToLower(access),
		"read_only": readOnly, "offline": state == "OFFLINE", "state": strings.ToLower(state), "encrypted": encrypted,
		"made": made}
	if d.System {
		delete(d.Properties, "offline")
	}
	d.Properties.Put("log_waits_for", strings.ToLower(strings.TrimPrefix(waits, "NOTHING")))
	d.Properties.Put("snapshot_of", snapshotOf)
	var by []string
	for _, way := range []struct {
		name string
		on   bool
	}{{"change data capture", captured}, {"merge", merged}, {"published", published}, {"subscribed", subscribed}} {
		if way.on {
			by = append(by, way.name)
		}
	}
	d.Properties.Put("replicated", strings.Join(by, ", "))
	d.Trouble = troubleOf(d.Database, state, standby)
	return d, nil
}

// troubleOf says what is wrong with a database.
func troubleOf(d catalog.Database, state string, standby bool) string {
	switch {
	case standby:
		return "it waits for more of its backups to be restored, and can only be read"
	case state == "OFFLINE", state == "ONLINE" && d.Owner != "":
		return ""
	case state == "ONLINE":
		return "its owner is not a login here"
	case state == "RESTORING":
		return "it is being restored: more of its backups are to come"
	}
	return "its state is " + strings.ToLower(state) + ": look at the server's error log"
}

// Databases lists all databases that the login can see, with their sizes and sessions. Sources:
// sys.databases, sys.master_files, sys.dm_exec_sessions, msdb.dbo.backupset.
func (s *server) Databases(ctx context.Context) (catalog.Listing, error) {
	out := catalog.Listing{}
	list, err := s.readDatabases(ctx, "")
	if err != nil {
		return out, err
	}
	var sizes map[int][2]int64
	var sessions map[int]int
	var backups map[string]string
	var sizesErr, sessionsErr error
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(engine.Readers)
	group.Go(func() error { sizes, sizesErr = s.readSizes(gctx); return nil })
	group.Go(func() error { sessions, sessionsErr = s.countSessions(gctx); return nil })
	group.Go(func() error { backups = s.readBackups(gctx); return nil })
	notes, err := s.readNotes(ctx)
	if waited := group.Wait(); waited != nil {
		return out, waited
	}
	if err != nil {
		out.Partial = append(out.Partial, "what was set aside could not be told from the others: "+err.Error())
	}
	if sizesErr != nil {
		out.Partial = append(out.Partial, "sizes could not be read: "+sizesErr.Error())
	}
	if sessionsErr != nil {
		out.Partial = append(out.Partial, "sessions could not be counted: "+sessionsErr.Error())
	}
	for _, d := range list {
		if size, known := sizes[d.id]; known {
			total := size[0] + size[1]
			d.Size = &total
			d.Properties.Put("data_size", size[0])
			d.Properties.Put("log_size", size[1])
		}
		if sessions != nil {
			n := sessions[d.id]
			d.Sessions = &n
		}
		d.Properties.Put("backed_up", backups[d.Name])
		if h := heldAs(d.Name, notes); h != nil {
			d.Held = h
			out.Held = append(out.Held, d.Database)
			continue
		}
		out.Databases = append(out.Databases, d.Database)
	}
	s.counts.Fill(out.Databases, s.countTables)
	out.Read = time.Now().UTC()
	return out, nil
}

// countTables counts the tables of a database. Source: sys.tables within it.
func (s *server) countTables(ctx context.Context, d catalog.Database) (int, error) {
	return s.count(ctx, "count its tables", "SELECT COUNT(*) FROM "+quoteIdent(d.Name)+
		".sys.tables WHERE is_ms_shipped = 0")
}

// readDatabases reads one database, or all, in the order of their names.
func (s *server) readDatabases(ctx context.Context, only string) ([]entry, error) {
	var out []entry
	text, args := databaseColumns+" ORDER BY d.name", []any(nil)
	if only != "" {
		text, args = databaseColumns+" WHERE d.name = @p1", []any{only}
	}
	err := s.query(ctx, "list databases", text, func(r *sql.Rows) error {
		d, err := scanDatabase(r)
		if only == "" || d.Name == only { // the server compares without case, and without blanks at the end
			out = append(out, d)
		}
		return err
	}, args...)
	return out, err
}

// readSizes reads what data and log of each database take, by its number. Without the right to see
// definitions there are no rows.
func (s *server) readSizes(ctx context.Context) (map[int][2]int64, error) {
	out := map[int][2]int64{}
	err := s.query(ctx, "read sizes", `SELECT database_id, type, SUM(CAST(size AS bigint)) * 8192
		FROM sys.master_files GROUP BY database_id, type`, func(r *sql.Rows) error {
		var id, kind int
		var bytes int64
		err := r.Scan(&id, &kind, &bytes)
		sizes := out[id]
		sizes[min(kind, 1)] += bytes
		out[id] = sizes
		return err
	})
	return out, err
}

// countSessions counts the clients that are in each database.
func (s *server) countSessions(ctx context.Context) (map[int]int, error) {
	out := map[int]int{}
	err := s.query(ctx, "count sessions", `SELECT database_id, COUNT(*) FROM sys.dm_exec_sessions
		WHERE is_user_process = 1 GROUP BY database_id`, func(r *sql.Rows) error {
		var id, n int
		err := r.Scan(&id, &n)
		out[id] = n
		return err
	})
	return out, err
}

// readBackups reads when a whole backup of each database ended last; none where the login may not
// look.
func (s *server) readBackups(ctx context.Context) map[string]string {
	out := map[string]string{}
	_ = s.query(ctx, "read backups", `SELECT database_name, CONVERT(varchar(19), MAX(backup_finish_date), 120)
		FROM msdb.dbo.backupset WHERE type = 'D' GROUP BY database_name`, func(r *sql.Rows) error {
		var name, at string
		err := r.Scan(&name, &at)
		out[name] = at
		return err
	})
	return out
}

// Database reads one database with its files, tables counted.
func (s *server) Database(ctx context.Context, name string) (catalog.Database, error) {
	d, err := s.readDatabase(ctx, name)
	if err != nil {
		return d, err
	}
	if !d.Closed {
		n, err := s.counts.Count(ctx, d, s.countTables)
		if err == nil { // one that the login may not enter has none that it sees
			d.Tables, d.TablesAt = &n, time.Now().UTC()
		}
	}
	notes, err := s.readNotes(ctx)
	d.Held = heldAs(name, notes)
	return d, err
}

// readDatabase reads one without what takes long.
func (s *server) readDatabase(ctx context.Context, name string) (catalog.Database, error) {
	if name == "" {
		return catalog.Database{}, engine.ErrNotFound
	}
	list, err := s.readDatabases(ctx, name)
	if err != nil {
		return catalog.Database{}, err
	}
	if len(list) == 0 {
		return catalog.Database{}, engine.ErrNotFound
	}
	d := list[0]
	files, err := s.readFiles(ctx, d.id, name, d.Closed)
	if err != nil {
		return d.Database, err
	}
	var size [2]int64
	for _, f := range files {
		bytes, _ := f.Int("size")
		if f.Text("kind") == fileLog {
			size[1] += bytes
		} else {
			size[0] += bytes
		}
	}
	if len(files) > 0 {
		total := size[0] + size[1]
		d.Size = &total
		d.Properties = d.Properties.With("files", files).With("data_size", size[0]).With("log_size", size[1])
	}
	sessions, err := s.countSessions(ctx)
	if n := sessions[d.id]; err == nil {
		d.Sessions = &n
	}
	d.Properties = d.Properties.With("backed_up", s.readBackups(ctx)[name])
	return d.Database, nil
}

// readFiles reads the files of a database. Sources: sys.master_files, and within it sys.filegroups.
func (s *server) readFiles(ctx context.Context, id int, name string, closed bool) ([]catalog.Values, error) {
	groups := map[int]string{}
	if !closed {
		// One that the login may not enter shows its files without their groups.
		_ = s.query(ctx, "read filegroups", "SELECT data_space_id, name FROM "+quoteIdent(name)+".sys.filegroups",
			func(r *sql.Rows) error {
				var id int
				var group string
				err := r.Scan(&id, &group)
				groups[id] = group
				return err
			})
	}
	var out []catalog.Values
	err := s.query(ctx, "read its files", `SELECT name, type, physical_name, CAST(size AS bigint) * 8192, max_size,
		growth, is_percent_growth, data_space_id FROM sys.master_files WHERE database_id = @p1 ORDER BY file_id`,
		func(r *sql.Rows) error {
			var file, path string
			var kind, limit, growth, group int64
			var size int64
			var share bool
			if err := r.Scan(&file, &kind, &path, &size, &limit, &growth, &share, &group); err != nil {
				return err
			}
			f := catalog.Values{"name": file, "kind": "data", "path": path, "size": size, "max_size": "unlimited",
				"growth": growthText(growth, share)}
			if kind == 1 {
				f["kind"] = fileLog
			}
			if limit > 0 && limit < 268435456 { // 2 TB, the most that a log can have
				f["max_size"] = limit * 8192
			}
			if g := groups[int(group)]; g != "" && kind == 0 {
				f["filegroup"] = g
			}
			out = append(out, f)
			return nil
		}, id)
	return out, err
}

// growthText writes by how much a file grows; pages are of 8 KB.
func growthText(growth int64, share bool) string {
	switch {
	case share:
		return strconv.FormatInt(growth, 10) + "%"
	case growth == 0:
		return "0"
	case growth%128 == 0:
		return strconv.FormatInt(growth/128, 10) + " MB"
	}
	return strconv.FormatInt(growth*8, 10) + " KB"
}

// growthOf reads what growthText writes, and "64 MB" however it is written.
func growthOf(text string) (bytes, share int64, ok bool) {
	if text == "" {
		return 0, 0, false
	}
	if digits, is := strings.CutSuffix(strings.TrimSpace(text), "%"); is {
		n, err := strconv.ParseInt(strings.TrimSpace(digits), 10, 64)
		return 0, n, err == nil && n > 0 && n <= 100
	}
	n, err := engine.ParseSize(text)
	return n, 0, err == nil
}

// shown is a name in a sentence.
func shown(name string) string { return naming.Show(name) }

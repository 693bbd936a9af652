package mysqlfamily

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// recordTables are tables that only the records of a Genarch have together.
var recordTables = []string{"change_steps", "journal_head", "claims", "goose_db_version"}

// readDropImpact reads what has to be known of a database before it is dropped. The
// server looks at none of this itself: it takes away what it can, and half of it
// if something is in the way. all are the names of the server's databases.
func (s *server) readDropImpact(ctx context.Context, name string, all []string) (*catalog.DropImpact, error) {
	out := &catalog.DropImpact{Details: &dropDetails{}}
	group, gctx := errgroup.WithContext(ctx) // each part fills fields of its own
	group.Go(func() error { return s.readContents(gctx, name, out) })
	group.Go(func() (err error) {
		out.Dependents, err = s.readDependents(gctx, name, all)
		return err
	})
	group.Go(func() error { return s.readBlockers(gctx, name, out) })
	err := group.Wait()
	out.Unseen = append(out.Unseen,
		"The server does not tell which database a prepared transaction belongs to, so any of them stops this.")
	return out, err
}

// readBlockers reads what would make a drop fail after it has begun. It is read
// again right before the drop, so it is kept quick.
func (s *server) readBlockers(ctx context.Context, name string, out *catalog.DropImpact) error {
	if err := s.readOutsideKeys(ctx, name, out); err != nil {
		out.Unseen = append(out.Unseen, "Foreign keys of other databases cannot be read: "+err.Error())
	}
	var err error
	if out.Prepared, err = s.readPrepared(ctx); err != nil {
		return err
	}
	dropDetailsOf(out.Details).Detached = s.readDetached(ctx)
	held, err := s.readMetadataLocks(ctx)
	if err != nil {
		return err
	}
	for id, locks := range held {
		for _, l := range locks {
			if s.product.isBackup(l) {
				out.Backup = fmt.Sprintf("Session %d holds a lock of a backup (%s) on the whole server.", id, l.mode)
			}
		}
	}
	var cluster bool
	if err := s.db.QueryRowContext(ctx, s.product.cluster).Scan(&cluster); err == nil && cluster {
		dropDetailsOf(out.Details).Cluster = true
	}
	return nil
}

// readDetached counts transactions that no session has any more. One that shows
// is looked for once more, in a picture that is surely new.
func (s *server) readDetached(ctx context.Context) int {
	n := 0
	for range 2 {
		if _, err := s.readTransactions(ctx, true); err != nil {
			return 0 // said beside the sessions: transactions cannot be seen
		}
		s.looks.mu.Lock()
		n = s.looks.detached
		s.looks.mu.Unlock()
		if n == 0 {
			break
		}
		engine.Pause(ctx, trxFresh)
	}
	return n
}

// readContents counts what is in a database, and lists its enabled events.
func (s *server) readContents(ctx context.Context, name string, out *catalog.DropImpact) error {
	var tables, views, sequences, routines, triggers, events, records int
	var rows sql.NullInt64
	err := s.db.QueryRowContext(ctx,
		`SELECT COUNT(CASE WHEN TABLE_TYPE NOT IN ('VIEW', 'SEQUENCE') THEN 1 END), COUNT(CASE WHEN TABLE_TYPE = 'VIEW' THEN 1 END), COUNT(CASE WHEN TABLE_TYPE = 'SEQUENCE' THEN 1 END),
		CAST(SUM(CASE WHEN TABLE_TYPE NOT IN ('VIEW', 'SEQUENCE') THEN TABLE_ROWS END) AS SIGNED), COUNT(CASE WHEN TABLE_NAME IN ('`+strings.Join(recordTables, "', '")+`') THEN 1 END),
		(SELECT COUNT(*) FROM information_schema.ROUTINES WHERE ROUTINE_SCHEMA = ?), (SELECT COUNT(*) FROM information_schema.TRIGGERS WHERE TRIGGER_SCHEMA = ?), (SELECT COUNT(*) FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ?)
		FROM information_schema.TABLES WHERE TABLE_SCHEMA = ?`, name, name, name, name).Scan(&tables, &views,
		&sequences, &rows, &records, &routines, &triggers, &events)
	if err != nil {
		return wrap("count what it holds", err)
	}
	if records == len(recordTables) {
		out.Own = "it holds the records of a Genarch: its journal, its servers and their secrets"
	}
	out.Objects = []catalog.Count{{What: "tables", N: tables}, {What: "views", N: views},
		{What: "sequences", N: sequences}, {What: "routines", N: routines}, {What: "triggers", N: triggers},
		{What: "events", N: events}}
	out.Rows = &rows.Int64
	return s.query(ctx, "look for events",
		`SELECT EVENT_NAME, DEFINER FROM information_schema.EVENTS WHERE EVENT_SCHEMA = ? AND STATUS = 'ENABLED' ORDER BY 1`,
		func(r *sql.Rows) error {
			var event scheduled
			err := r.Scan(&event.Name, &event.Definer)
			dropDetailsOf(out.Details).Events = append(dropDetailsOf(out.Details).Events, event)
			return err
		}, name)
}

// readOutsideKeys finds foreign keys of other databases that point into this
// one: a drop would take every table but those, and then fail. Source:
// INNODB_SYS_FOREIGN, whose names are in the form of folders.
func (s *server) readOutsideKeys(ctx context.Context, name string, out *catalog.DropImpact) error {
	dir, certain := directoryName(name)
	err := s.query(ctx, "look for foreign keys",
		s.product.outsideKeys, func(r *sql.Rows) error {
			var from, to string
			err := r.Scan(&from, &to)
			if strings.HasPrefix(to, dir+"/") && !strings.HasPrefix(from, dir+"/") {
				dropDetailsOf(out.Details).OutsideKeys = append(dropDetailsOf(out.Details).OutsideKeys,
					strings.Replace(from, "/", ".", 1)+" to "+strings.Replace(to, "/", ".", 1))
			}
			return err
		}, likeText(dir), likeText(dir))
	if err == nil && !certain {
		out.Unseen = append(out.Unseen,
			"The name has characters whose folder is not known, so foreign keys from outside cannot be looked for.")
	}
	return err
}

// likeText writes a text for LIKE, so that it stands for itself.
func likeText(text string) string {
	return strings.NewReplacer(`\`, `\\`, `%`, `\%`, `_`, `\_`).Replace(text)
}

// fewDatabases is up to how many databases each is searched by itself: the server
// then opens the views and triggers of that one only, and not the hundred of sys.
const fewDatabases = 40

// readDependents finds what other databases have that names this one: views,
// whose texts hold full names, and routines, triggers and events, whose texts can
// only be searched. all are the names of the server's databases.
func (s *server) readDependents(ctx context.Context, name string, all []string) ([]string, error) {
	others := slices.DeleteFunc(slices.Sorted(slices.Values(all)), func(other string) bool {
		return other == name || slices.Contains(system, other) || other == markerDatabase
	})
	if len(others) > fewDatabases {
		others = []string{""}
	}
	found := make([][]string, len(others))
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(engine.Readers)
	for i, other := range others {
		group.Go(func() (err error) {
			found[i], err = s.searchDependents(gctx, name, other)
			return err
		})
	}
	err := group.Wait()
	return slices.Concat(found...), err
}

// searchDependents searches one database, or with an empty name all.
func (s *server) searchDependents(ctx context.Context, name, in string) ([]string, error) {
	var out []string
	exact := "%" + likeText(quoteIdent(name)+".") + "%"
	plain := "%" + likeText(name+".") + "%"
	where := func(column string) string {
		if in == "" {
			return column + " NOT IN (" + quoteText(name) + ", 'sys', 'mysql')"
		}
		return column + " = " + quoteText(in)
	}
	err := s.query(ctx, "look for what depends on it", `SELECT * FROM (
		SELECT 'view' AS k, TABLE_SCHEMA AS d, TABLE_NAME AS n FROM information_schema.VIEWS WHERE `+
		where("TABLE_SCHEMA")+` AND VIEW_DEFINITION LIKE ?
		UNION ALL SELECT LOWER(ROUTINE_TYPE), ROUTINE_SCHEMA, ROUTINE_NAME FROM information_schema.ROUTINES WHERE `+
		where("ROUTINE_SCHEMA")+` AND (ROUTINE_DEFINITION LIKE ? OR ROUTINE_DEFINITION LIKE ?)
		UNION ALL SELECT 'trigger', TRIGGER_SCHEMA, TRIGGER_NAME FROM information_schema.TRIGGERS WHERE `+
		where("TRIGGER_SCHEMA")+` AND (ACTION_STATEMENT LIKE ? OR ACTION_STATEMENT LIKE ?)
		UNION ALL SELECT 'event', EVENT_SCHEMA, EVENT_NAME FROM information_schema.EVENTS WHERE `+where("EVENT_SCHEMA")+
		` AND (EVENT_DEFINITION LIKE ? OR EVENT_DEFINITION LIKE ?)) o ORDER BY 1, 2, 3 LIMIT 100`,
		func(r *sql.Rows) error {
			var kind, database, object string
			err := r.Scan(&kind, &database, &object)
			out = append(out, kind+" "+naming.Show(database)+"."+naming.Show(object))
			return err
		}, exact, exact, plain, exact, plain, exact, plain)
	return out, err
}

// onlyFor finds accounts that were given something in one database, and nothing
// anywhere else.
func onlyFor(a catalog.Access, name string) []string {
	here, elsewhere := map[catalog.Principal]bool{}, map[catalog.Principal]bool{}
	for _, g := range a.Grants {
		if onName(g, name) {
			here[g.Grantee] = true
		} else {
			elsewhere[g.Grantee] = true
		}
	}
	for _, m := range a.Memberships {
		if m.Grantor == byMandatory {
			continue
		}
		elsewhere[m.Member] = true
	}
	var out []string
	for _, x := range a.Accounts {
		if here[x.Principal] && !elsewhere[x.Principal] && x.Global.Empty() && x.Login {
			out = append(out, x.Principal.String())
		}
	}
	slices.Sort(out)
	return out
}

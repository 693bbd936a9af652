package sqlserver

import (
	"context"
	"database/sql"
	"fmt"
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// belonging is what keeps a principal from being dropped.
type belonging struct {
	Who   catalog.Principal
	What  string // in words, in the plural
	Names []string
	Give  string // the statement that gives the first of them to somebody else
}

// ownedByLogin and ownedByUser are what the server asks before it drops one, by the words for it; %s is the
// database. Sources: sys.endpoints, sys.server_principals, sys.server_permissions, msdb.dbo.sysjobs;
// sys.database_principals, sys.objects.
var (
	ownedByLogin = []struct{ what, text string }{
		{"endpoints", "SELECT e.name FROM sys.endpoints e JOIN sys.server_principals p ON p.principal_id = " +
			"e.principal_id WHERE p.name = @p1 ORDER BY e.name"},
		{"server roles", "SELECT r.name FROM sys.server_principals r JOIN sys.server_principals p ON p.principal_id " +
			"= " +
			"r.owning_principal_id WHERE p.name = @p1 AND r.type = 'R' ORDER BY r.name"},
		{"grants to others on the server", "SELECT x.permission_name FROM sys.server_permissions x JOIN " +
			"sys.server_principals p ON p.principal_id = x.grantor_principal_id WHERE p.name = @p1 ORDER BY " +
			"x.permission_name"},
	}
	ownedByUser = []struct{ what, text string }{
		{"roles", "SELECT r.name FROM %[1]s.sys.database_principals r JOIN %[1]s.sys.database_principals p ON " +
			"p.principal_id = r.owning_principal_id WHERE p.name = @p1 AND r.type = 'R' ORDER BY r.name"},
		{"tables, views or procedures", "SELECT o.name FROM %[1]s.sys.objects o JOIN %[1]s.sys.database_principals p " +
			"ON " +
			"p.principal_id = o.principal_id WHERE p.name = @p1 ORDER BY o.name"},
	}
)

// readOwned reads what would keep somebody from being dropped: the server refuses the last step else, when
// those before it cannot be taken back.
func (s *server) readOwned(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	more, who := detailsOf(snap.Details), in.Account.Principal()
	names := func(text string, args ...any) (out []string, err error) {
		err = s.query(ctx, "look what it owns", text, func(r *sql.Rows) error {
			var name string
			err := r.Scan(&name)
			out = append(out, name)
			return err
		}, args...)
		return slices.Compact(out), err
	}
	users := []catalog.Principal{who}
	if who.Database == "" {
		users = usersOf(snap.Access, who.Name)
		var err error
		if more.Owns, err = names(`SELECT d.name FROM sys.databases d
			JOIN sys.server_principals p ON p.sid = d.owner_sid WHERE p.name = @p1 ORDER BY d.name`,
			who.Name); err != nil {
			return err
		}
		if in.Account.Options.Has("reassign_to") { // what it owns is given to somebody else
			for _, name := range more.Owns {
				if err := s.readTriggers(ctx, name, more); err != nil {
					return err
				}
			}
		}
		for _, o := range ownedByLogin {
			list, err := names(o.text, who.Name)
			if err != nil {
				return err
			}
			more.Belongings = append(more.Belongings, belonging{Who: who, What: o.what, Names: list})
		}
		// Where msdb may not be looked at, only the server itself can tell.
		if jobs, err := names(`SELECT j.name FROM msdb.dbo.sysjobs j JOIN sys.server_principals p ON p.sid = j.owner_sid
			WHERE p.name = @p1 ORDER BY j.name`, who.Name); err == nil && len(jobs) > 0 {
			more.Belongings = append(more.Belongings, belonging{Who: who, What: "jobs of the server's " +
				"agent", Names: jobs,
				Give: "EXEC msdb.dbo.sp_update_job @job_name = " + quoteText(jobs[0]) + ", @owner_login_name = N'sa'"})
		}
	}
	for _, u := range users {
		if u != who { // its own database is looked at anyway
			if err := s.readTriggers(ctx, u.Database, more); err != nil {
				return err
			}
		}
		for _, o := range ownedByUser {
			list, err := names(fmt.Sprintf(o.text, quoteIdent(u.Database)), u.Name)
			if err != nil {
				return err
			}
			more.Belongings = append(more.Belongings, belonging{Who: u, What: o.what, Names: list})
		}
	}
	return nil
}

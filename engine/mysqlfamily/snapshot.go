package mysqlfamily

import (
	"context"
	"database/sql"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// readAccountSide reads what planning for accounts, roles, grants and teams
// needs beside the databases.
func (s *server) readAccountSide(ctx context.Context, in change.Intent, snap *catalog.Snapshot) error {
	var who catalog.Principal
	switch {
	case in.Account != nil:
		who = in.Account.Principal()
	case in.Grant != nil:
		who = in.Grant.To
	case in.Member != nil:
		who = in.Member.To
	case in.Database != nil && (in.Database.Team != nil || in.Database.Options.Bool("clear_leftovers") ||
		in.Database.Options.Bool("copy_grants") ||
		in.Kind == change.DropDatabase || in.Kind == change.SetAside || in.Kind == change.FillDatabase ||
		in.Kind == change.AlterDatabase && in.Database.Options.Has("owner")):
	case in.Kind == change.BringBack:
	default:
		return nil
	}
	a, err := s.Access(ctx, catalog.AccessQuery{})
	if err != nil {
		return err
	}
	snap.Access = &a
	name, host := splitAccount(snap.Instance.Login.Name)
	snap.Self = catalog.Principal{Name: name, Host: host}
	if err := s.readPlainNames(ctx, snap); err != nil {
		return err
	}
	if in.Kind == change.DropDatabase || in.Kind == change.AlterDatabase || in.Kind == change.SetAside ||
		in.Kind == change.BringBack {
		return nil
	}
	if err := s.readServerSide(ctx, snap); err != nil || in.Database != nil {
		return err
	}
	return s.readAccountUse(ctx, in, who, snap)
}

// readPlainNames reads whether the database of a grant is no pattern.
func (s *server) readPlainNames(ctx context.Context, snap *catalog.Snapshot) error {
	if s.product.plainNames == "" {
		return nil
	}
	return wrap("read the server",
		s.db.QueryRowContext(ctx, s.product.plainNames).Scan(&detailsOf(snap.Details).PlainNames))
}

// readServerSide reads what decides on how accounts can be made.
func (s *server) readServerSide(ctx context.Context, snap *catalog.Snapshot) error {
	var strict bool
	err := s.db.QueryRowContext(ctx,
		s.product.signIn).
		Scan(&detailsOf(snap.Details).Client, &detailsOf(snap.Details).TLSReady, &strict)
	if err != nil {
		return wrap("read the server", err)
	}
	var checks []string
	err = s.query(ctx, "read plugins",
		`SELECT PLUGIN_NAME, PLUGIN_TYPE FROM information_schema.PLUGINS WHERE PLUGIN_STATUS = 'ACTIVE' AND PLUGIN_TYPE IN ('AUTHENTICATION', 'PASSWORD VALIDATION')`, func(r *sql.Rows) error {
			var name, kind string
			err := r.Scan(&name, &kind)
			if kind == "AUTHENTICATION" {
				detailsOf(snap.Details).Methods = append(detailsOf(snap.Details).Methods, name)
			} else {
				checks = append(checks, name)
			}
			return err
		})
	if strict {
		detailsOf(snap.Details).Strict = strings.Join(checks, ", ")
	}
	return err
}

// readAccountUse reads what an account is used for now: sessions, definers,
// and whether the object of a grant is there.
func (s *server) readAccountUse(ctx context.Context, in change.Intent, who catalog.Principal,
	snap *catalog.Snapshot) error {
	found := catalog.Candidates(snap.Access.Accounts, who)
	if len(found) == 1 {
		who = found[0].Principal
	}
	list, err := s.readConnected(ctx)
	if err != nil {
		return err
	}
	holders := map[catalog.Principal]bool{who: true}
	if who.Role {
		g := s.product.graph(*snap.Access)
		for _, a := range snap.Access.Accounts {
			if atOnce, _ := g.Roles(a.Principal); contains(atOnce, who) {
				holders[a.Principal] = true
			}
		}
	}
	for _, c := range list {
		a, ok := s.product.hosts.accountOf(snap.Access.Accounts, c)
		if ok && holders[a.Principal] && (in.Grant == nil || c.database == in.Grant.Database) {
			snap.Sessions = append(snap.Sessions, c.text)
		}
	}
	if in.Account != nil && !who.Role {
		host := who.Host
		if host == "" {
			host = "%"
		}
		if detailsOf(snap.Details).Definers, err = s.readDefiners(ctx, who.Name, host); err != nil {
			return err
		}
	}
	if in.Grant != nil {
		detailsOf(snap.Details).ObjectAbsent, detailsOf(snap.Details).Routine, err = s.objectAbsent(ctx,
			in.Grant.Object())
	}
	return err
}

func contains(list []catalog.Principal, p catalog.Principal) bool {
	for _, x := range list {
		if x == p {
			return true
		}
	}
	return false
}

// objectAbsent looks whether the table, column or routine of a grant is there (and
// what kind of routine, a procedure before a function of the same name):
// the server itself takes some grants on what does not exist.
func (s *server) objectAbsent(ctx context.Context, o catalog.Object) (absent bool, routine string, err error) {
	var n int
	switch o.Scope {
	case catalog.ScopeTable:
		err = s.db.QueryRowContext(ctx,
			`SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ?`, o.Database,
			o.Name).Scan(&n)
	case catalog.ScopeColumn:
		err = s.db.QueryRowContext(ctx,
			`SELECT COUNT(*) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = ? AND TABLE_NAME = ? AND COLUMN_NAME = ?`, o.Database, o.Name, o.Column).Scan(&n)
	case catalog.ScopeRoutine:
		err = s.db.QueryRowContext(ctx,
			`SELECT COUNT(*), COALESCE(MIN(IF(ROUTINE_TYPE = 'PROCEDURE', '', ROUTINE_TYPE)), '') FROM information_schema.ROUTINES
			WHERE ROUTINE_SCHEMA = ? AND ROUTINE_NAME = ?`, o.Database, o.Name).Scan(&n, &routine)
	default:
		return false, "", nil
	}
	return n == 0, routine, wrap("look for the object", err)
}

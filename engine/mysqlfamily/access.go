package mysqlfamily

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// databaseColumn is a privilege of mysql.db, by its column.
type databaseColumn struct {
	column string
	set    privilege.Set
}

// flagsOf writes all flags of a row of a grant table as one text, the right to
// pass on last: twenty columns a row would take several times as long to read.
func flagsOf(columns []databaseColumn) string {
	text := "CONCAT("
	for _, c := range columns {
		text += c.column + "_priv, "
	}
	return text + "Grant_priv)"
}

// readAccounts reads all accounts and roles; the
// sessions of each are inferred, since the server shows only the user's name
// and the client: the account is the one that this client would get.
func (s *server) readAccounts(ctx context.Context) ([]catalog.Account, error) {
	list, err := s.product.entries(ctx, s, nil)
	out := make([]catalog.Account, 0, len(list))
	for _, e := range list {
		if e.Principal != catalog.Public {
			out = append(out, e.Account)
		}
	}
	s.accounts.Store(int64(len(out)))
	slices.SortFunc(out, func(a, b catalog.Account) int {
		return cmp.Or(strings.Compare(a.Name, b.Name), strings.Compare(a.Host, b.Host))
	})
	return out, err
}

// connected is one session, as far as it bears on accounts.
type connected struct {
	id             int64
	user, client   string
	database, text string
}

func (s *server) readConnected(ctx context.Context) ([]connected, error) {
	var out []connected
	err := s.query(ctx, "look who is connected",
		`SELECT ID, USER, HOST, COALESCE(DB, ''), COMMAND FROM `+s.product.processlist+`
		WHERE USER <> 'system user' AND COMMAND <> 'Daemon' LIMIT 20000`, func(r *sql.Rows) error {
			var c connected
			var command string
			err := r.Scan(&c.id, &c.user, &c.client, &c.database, &command)
			c.client = clearing.Address(shownClient(c.client))
			c.text = fmt.Sprintf("session %d", c.id)
			if c.database != "" {
				c.text += " in " + naming.Show(c.database)
			}
			c.text += " from " + c.client
			out = append(out, c)
			return err
		})
	return out, err
}

func (h hosts) countSessions(accounts []catalog.Account, list []connected) {
	wanted := map[string]bool{"": true}
	for _, c := range list {
		wanted[c.user] = true
	}
	at := map[catalog.Principal]int{}
	byName := map[string][]catalog.Account{}
	counts := make([]int, len(accounts))
	for i, a := range accounts {
		if a.Login {
			accounts[i].Sessions = &counts[i]
		}
		if wanted[a.Name] {
			at[a.Principal] = i
			byName[a.Name] = append(byName[a.Name], a)
		}
	}
	for _, c := range list {
		if a, ok := h.accountOf(slices.Concat(byName[c.user], byName[""]), c); ok {
			counts[at[a.Principal]]++
		}
	}
}

// readGrants reads the grants below the server. database narrows the levels
// under it; patterns are always read whole.
//
// Long: a query and its rows for each table that grants are kept in.
func (s *server) readGrants(ctx context.Context) ([]catalog.Grant, error) {
	var onTables, onColumns, onRoutines []catalog.Grant
	onDatabases := make([]catalog.Grant, 0, s.grants.Load()+100)
	principal, err := s.product.holders(ctx, s)
	if err != nil {
		return nil, err
	}
	columns := s.product.databaseColumns
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(engine.Readers)
	group.Go(func() error {
		// The same few names come tens of thousands of times.
		names := map[string]string{}
		one := func(b []byte) string {
			if s, ok := names[string(b)]; ok {
				return s
			}
			s := string(b)
			names[s] = s
			return s
		}
		var user, host, database, flags sql.RawBytes
		return s.query(gctx, "read grants on databases",
			`SELECT User, Host, Db, `+flagsOf(columns)+` FROM mysql.db`,
			func(r *sql.Rows) error {
				if err := r.Scan(&user, &host, &database, &flags); err != nil {
					return err
				}
				g := catalog.Grant{Entry: catalog.Entry{Grantee: principal(one(user), one(host))},
					Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: one(database)}}
				for i, c := range columns {
					if i < len(flags) && flags[i] == 'Y' {
						g.Privileges = g.Privileges.Or(c.set)
					}
				}
				if len(flags) > len(columns) && flags[len(columns)] == 'Y' {
					g.Grantable = g.Privileges
				}
				onDatabases = append(onDatabases, g)
				return nil
			})
	})
	below := func(into *[]catalog.Grant, scope catalog.Scope, op, text string) {
		group.Go(func() error {
			return s.query(gctx, op, text, func(r *sql.Rows) error {
				var g catalog.Grant
				var user, host, words string
				err := r.Scan(&user, &host, &g.Database, &g.Name, &g.Column, &g.Grantor, &words)
				g.Grantee, g.Scope = principal(user, host), scope
				if scope == catalog.ScopeRoutine {
					g.Routine, g.Column = strings.TrimPrefix(g.Column, procedure), ""
				}
				grantOption := false
				for word := range strings.SplitSeq(words, ",") {
					if strings.EqualFold(word, "Grant") {
						grantOption = true
					} else if set, ok := table.Named(word); ok {
						g.Privileges = g.Privileges.Or(set)
					}
				}
				if grantOption {
					g.Grantable = g.Privileges
				}
				if !g.Privileges.Empty() || grantOption {
					*into = append(*into, g)
				}
				return err
			})
		})
	}
	below(&onTables, catalog.ScopeTable, "read grants on tables",
		`SELECT User, Host, Db, Table_name, '', Grantor, Table_priv FROM mysql.tables_priv`)
	below(&onColumns, catalog.ScopeColumn, "read grants on columns",
		`SELECT User, Host, Db, Table_name, Column_name, '', Column_priv FROM mysql.columns_priv`)
	below(&onRoutines, catalog.ScopeRoutine, "read grants on routines",
		`SELECT User, Host, Db, Routine_name, Routine_type, Grantor, Proc_priv FROM mysql.procs_priv`)
	err = group.Wait()
	s.grants.Store(int64(len(onDatabases)))
	return append(append(append(onDatabases, onTables...), onColumns...), onRoutines...), err
}

// Access reads accounts, memberships and all grants, from the tables in which
// MariaDB keeps them. The server lets an open session keep the rights that it
// began with; so what was refused is tried once more in new sessions: the login
// may have been given more since.
func (s *server) Access(ctx context.Context, _ catalog.AccessQuery) (catalog.Access, error) {
	a, err := s.readAccess(ctx)
	if !hidden(err) {
		return a, err
	}
	s.db.SetMaxIdleConns(0)
	s.db.SetMaxIdleConns(engine.MaxConns)
	if a, err = s.readAccess(ctx); hidden(err) {
		e, _ := errors.AsType[*engine.Error](err)
		e.Next = "Who may do what is not known without it: GRANT SELECT ON mysql.* TO Genarch's login"
	}
	return a, err
}

// hidden reports whether the grant tables were refused to the login.
func hidden(err error) bool {
	e, ok := errors.AsType[*engine.Error](err)
	return ok && (e.Code == "1142" || e.Code == "1044" || e.Code == "1143")
}

func (s *server) readAccess(ctx context.Context) (catalog.Access, error) {
	a := catalog.Access{Read: time.Now().UTC()}
	var sessions []connected
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() (err error) {
		if a.Accounts, err = s.readAccounts(gctx); err != nil {
			return err
		}
		a.Memberships, err = s.product.memberships(gctx, s)
		return err
	})
	group.Go(func() (err error) {
		a.Grants, err = s.readGrants(gctx)
		return err
	})
	group.Go(func() (err error) {
		if err = s.query(gctx, "list databases", `SELECT SCHEMA_NAME FROM information_schema.SCHEMATA ORDER BY 1`,
			func(r *sql.Rows) error {
				var d catalog.AccessDatabase
				err := r.Scan(&d.Name)
				d.System = slices.Contains(system, d.Name) || d.Name == markerDatabase
				a.Databases = append(a.Databases, d)
				return err
			}); err != nil {
			return err
		}
		a.Databases = slices.DeleteFunc(a.Databases,
			func(d catalog.AccessDatabase) bool { return s.waits(gctx, d.Name) })
		sessions, err = s.readConnected(gctx)
		return err
	})
	if s.product.restrictions != nil {
		group.Go(func() (err error) {
			a.Denials, a.Unknown, err = s.product.restrictions(gctx, s)
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return a, err
	}
	s.product.hosts.countSessions(a.Accounts, sessions)
	return a, nil
}

// readDefiners lists what runs with the rights of an account, in words.
func (s *server) readDefiners(ctx context.Context, name, host string) ([]string, error) {
	var out []string
	if !storable(name) || !storable(host) {
		return nil, nil // no definer can be called so
	}
	err := s.query(ctx, "look for definers", `SELECT * FROM (
		SELECT 'view' AS k, TABLE_SCHEMA AS d, TABLE_NAME AS n FROM information_schema.VIEWS WHERE DEFINER = ?
		UNION ALL SELECT LOWER(ROUTINE_TYPE), ROUTINE_SCHEMA, ROUTINE_NAME FROM information_schema.ROUTINES WHERE DEFINER = ?
		UNION ALL SELECT 'trigger', TRIGGER_SCHEMA, TRIGGER_NAME FROM information_schema.TRIGGERS WHERE DEFINER = ?
		UNION ALL SELECT 'event', EVENT_SCHEMA, EVENT_NAME FROM information_schema.EVENTS WHERE DEFINER = ?) o ORDER BY 1, 2, 3 LIMIT 100`, func(r *sql.Rows) error {
		var kind, database, object string
		err := r.Scan(&kind, &database, &object)
		out = append(out, kind+" "+naming.Show(database)+"."+naming.Show(object))
		return err
	}, name+"@"+host, name+"@"+host, name+"@"+host, name+"@"+host)
	return out, err
}

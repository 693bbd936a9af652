package mariadb

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
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

// globalBits are the privileges of $.access in mysql.global_priv, in the order
// of their bits. Source: sql/privilege.h, compared with SHOW GRANTS on 10.11.
// The eleventh is the right to pass on.
var globalBits = [...]privilege.Set{may.Select, may.Insert, may.Update, may.Delete, may.Create, may.Drop,
	may.Reload, may.Shutdown, may.Process, may.File, privilege.Set{}, may.References, may.Index, may.Alter,
	may.ShowDatabases, may.Super, may.CreateTemporaryTables, may.LockTables, may.Execute, may.ReplicationSlave,
	may.BinlogMonitor, may.CreateView, may.ShowView, may.CreateRoutine, may.AlterRoutine, may.CreateUser,
	may.Event, may.Trigger, may.CreateTablespace, may.DeleteHistory, may.SetUser, may.FederatedAdmin,
	may.ConnectionAdmin, may.ReadOnlyAdmin, may.ReplicationSlaveAdmin, may.ReplicationMasterAdmin, may.BinlogAdmin,
	may.BinlogReplay, may.SlaveMonitor, may.ShowCreateRoutine}

const grantBit = 10

// databaseColumns are the privileges of mysql.db, in the order in which
// [databaseFlags] puts them together.
var databaseColumns = [...]struct {
	column string
	set    privilege.Set
}{{"Select", may.Select}, {"Insert", may.Insert}, {"Update", may.Update}, {"Delete", may.Delete},
	{"Create", may.Create},
	{"Drop", may.Drop}, {"References", may.References}, {"Index", may.Index}, {"Alter", may.Alter},
	{"Create_tmp_table", may.CreateTemporaryTables}, {"Lock_tables", may.LockTables}, {"Create_view", may.CreateView},
	{"Show_view", may.ShowView}, {"Create_routine", may.CreateRoutine}, {"Alter_routine", may.AlterRoutine},
	{"Execute", may.Execute}, {"Event", may.Event}, {"Trigger", may.Trigger}, {"Delete_history", may.DeleteHistory}}

// databaseFlags writes all flags of a row of mysql.db as one text, the right to
// pass on last: twenty columns a row would take several times as long to read.
var databaseFlags = func() string {
	text := "CONCAT("
	for _, c := range databaseColumns {
		text += c.column + "_priv, "
	}
	return text + "Grant_priv)"
}()

// priv is what mysql.global_priv keeps of an account.
type priv struct {
	Access         json.Number `json:"access"`
	Plugin         string      `json:"plugin"`
	Authentication string      `json:"authentication_string"`
	AuthOr         []any       `json:"auth_or"`
	Locked         bool        `json:"account_locked"`
	Changed        *int64      `json:"password_last_changed"`
	Lifetime       *int64      `json:"password_lifetime"`
	DefaultRole    string      `json:"default_role"`
	IsRole         bool        `json:"is_role"`
	Limit          int         `json:"max_user_connections"`
	SSL            int         `json:"ssl_type"`
}

// account reads one row of mysql.global_priv.
func accountFrom(user, host, text string, now time.Time) (catalog.Account, error) {
	var p priv
	if err := json.Unmarshal([]byte(text), &p); err != nil {
		return catalog.Account{}, fmt.Errorf("the entry of %s@%s cannot be read: %w", user, host, err)
	}
	a := catalog.Account{Principal: catalog.Principal{Name: user, Host: host,
		Role: p.IsRole || user == catalog.Public.Name && host == ""},
		Login: !p.IsRole, Inherit: true, Locked: p.Locked, DefaultRole: p.DefaultRole, ConnectionLimit: -1,
		System: user == "mariadb.sys" || user == catalog.Public.Name && host == ""}
	var bits uint64
	_, _ = fmt.Sscan(p.Access.String(), &bits)
	for i, set := range globalBits {
		if bits&(1<<i) != 0 {
			a.Global = a.Global.Or(set)
		}
	}
	a.GlobalGrant = bits&(1<<grantBit) != 0
	a.Super = a.Global.Has(ownPrivileges.Or(may.CreateUser)) && a.GlobalGrant
	if a.Role {
		a.Login = false
		return a, nil
	}
	a.Method = p.Plugin
	if a.Method == "" {
		a.Method = methodNative
	}
	switch {
	case a.Method == "unix_socket" || a.Method == "gssapi" || a.Method == "pam":
	default:
		has := p.Authentication != "" && p.Authentication != "invalid"
		a.Password, a.Open = &has, p.Authentication == "" && !a.System
	}
	if len(p.AuthOr) > 0 {
		a.Method += " and others"
	}
	switch {
	case p.Limit > 0:
		a.ConnectionLimit = p.Limit
	case p.Limit < 0:
		a.ConnectionLimit = 0 // no new sign-ins at all
	}
	if p.SSL >= 1 && p.SSL <= 3 {
		a.TLS = []string{"ANY", "X509", "SPECIFIED"}[p.SSL-1]
	}
	if p.Lifetime != nil && *p.Lifetime >= 0 {
		days := int(*p.Lifetime)
		a.PasswordDays = &days
	}
	if p.Changed != nil && *p.Changed == 0 && !a.System {
		a.Expired = true
	}
	if p.Changed != nil && *p.Changed > 0 && p.Lifetime != nil && *p.Lifetime > 0 {
		a.Expires = time.Unix(*p.Changed, 0).UTC().AddDate(0, 0, int(*p.Lifetime))
		a.Expired = a.Expires.Before(now)
	}
	return a, nil
}

// readAccounts reads all accounts and roles. Source: mysql.global_priv; the
// sessions of each are inferred, since the server shows only the user's name
// and the client: the account is the one that this client would get.
func (s *server) readAccounts(ctx context.Context) ([]catalog.Account, error) {
	out := make([]catalog.Account, 0, s.accounts.Load()+100)
	now := time.Now().UTC()
	err := s.query(ctx, "read accounts", `SELECT User, Host, Priv FROM mysql.global_priv`, func(r *sql.Rows) error {
		var user, host string
		var text sql.RawBytes
		if err := r.Scan(&user, &host, &text); err != nil {
			return err
		}
		a, err := accountFrom(user, host, string(text), now)
		if err == nil && a.Principal != catalog.Public {
			out = append(out, a)
		}
		return err
	})
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
		`SELECT ID, USER, HOST, COALESCE(DB, ''), COMMAND FROM information_schema.PROCESSLIST
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

// accountOf is the account that a session most probably signed in as.
func accountOf(accounts []catalog.Account, c connected) (catalog.Account, bool) {
	a, ok := signsInAs(accounts, c.user, c.client)
	if c.client == "localhost" {
		// A client that is shown as localhost may have come as 127.0.0.1.
		if b, also := signsInAs(accounts, c.user, "127.0.0.1"); also && (!ok || b.Host == "127.0.0.1") {
			return b, true
		}
	}
	return a, ok
}

func countSessions(accounts []catalog.Account, list []connected) {
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
		if a, ok := accountOf(slices.Concat(byName[c.user], byName[""]), c); ok {
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
	principal := func(user, host string) catalog.Principal {
		return catalog.Principal{Name: user, Host: host, Role: host == ""}
	}
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
		return s.query(gctx, "read grants on databases", `SELECT User, Host, Db, `+databaseFlags+` FROM mysql.db`,
			func(r *sql.Rows) error {
				if err := r.Scan(&user, &host, &database, &flags); err != nil {
					return err
				}
				g := catalog.Grant{Entry: catalog.Entry{Grantee: principal(one(user), one(host))},
					Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: one(database)}}
				for i, c := range databaseColumns {
					if i < len(flags) && flags[i] == 'Y' {
						g.Privileges = g.Privileges.Or(c.set)
					}
				}
				if len(flags) > len(databaseColumns) && flags[len(databaseColumns)] == 'Y' {
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
	err := group.Wait()
	s.grants.Store(int64(len(onDatabases)))
	return append(append(append(onDatabases, onTables...), onColumns...), onRoutines...), err
}

func (s *server) readMemberships(ctx context.Context) ([]catalog.Membership, error) {
	var out []catalog.Membership
	err := s.query(ctx, "read memberships", `SELECT Host, User, Role, Admin_option FROM mysql.roles_mapping`,
		func(r *sql.Rows) error {
			var m catalog.Membership
			var admin string
			err := r.Scan(&m.Member.Host, &m.Member.Name, &m.Role.Name, &admin)
			m.Member.Role, m.Role.Role, m.Admin, m.Set = m.Member.Host == "", true, admin == "Y", true
			out = append(out, m)
			return err
		})
	return out, err
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
		a.Memberships, err = s.readMemberships(gctx)
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
	if err := group.Wait(); err != nil {
		return a, err
	}
	countSessions(a.Accounts, sessions)
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

package mysqlfamily

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
)

// What MySQL keeps otherwise than its relatives.

// mysqlIdentity is known by the server's own number, which lies in its data folder: a copy
// of that has it too, so the marks stand beside it.
func mysqlIdentity(ctx context.Context, c driver.Conn) (catalog.Identity, error) {
	v, err := firstRow(ctx, c, `SELECT @@server_uuid, @@hostname, CAST(@@port AS CHAR), @@datadir,
		CAST(@@server_id AS CHAR)`, 5)
	if err != nil {
		return catalog.Identity{}, err
	}
	return catalog.Identity{Key: "server_uuid " + v[0], Marks: map[string]string{"hostname": v[1], "port": v[2],
		"datadir": v[3], "server_id": v[4]}}, nil
}

func mysqlCollationName(context.Context, *server) (string, error) { return "COLLATION_NAME", nil }

// mysqlGlobal are the privileges on the whole server that mysql.user has as columns.
var mysqlGlobal = []databaseColumn{{"Select", may.Select}, {"Insert", may.Insert}, {"Update", may.Update},
	{"Delete", may.Delete}, {"Create", may.Create}, {"Drop", may.Drop}, {"Reload", may.Reload},
	{"Shutdown", may.Shutdown}, {"Process", may.Process}, {"File", may.File}, {"References", may.References},
	{"Index", may.Index}, {"Alter", may.Alter}, {"Show_db", may.ShowDatabases}, {"Super", may.Super},
	{"Create_tmp_table", may.CreateTemporaryTables}, {"Lock_tables", may.LockTables}, {"Execute", may.Execute},
	{"Repl_slave", may.ReplicationSlave}, {"Repl_client", may.BinlogMonitor}, {"Create_view", may.CreateView},
	{"Show_view", may.ShowView}, {"Create_routine", may.CreateRoutine}, {"Alter_routine", may.AlterRoutine},
	{"Create_user", may.CreateUser}, {"Event", may.Event}, {"Trigger", may.Trigger},
	{"Create_tablespace", may.CreateTablespace}}

// mysqlDatabaseColumns are the privileges of mysql.db.
var mysqlDatabaseColumns = mariaDatabaseColumns[:len(mariaDatabaseColumns)-1]

// isRoleSQL finds those that nobody signs in as in mysql.user AS u: MySQL has no mark for a
// role, so an account that is locked counts as one when it was never meant to be signed in
// as, or when others belong to it.
const isRoleSQL = `(u.account_locked = 'Y' AND (u.password_expired = 'Y' AND u.authentication_string = ''
	OR EXISTS (SELECT 1 FROM mysql.role_edges e WHERE e.FROM_USER = u.User AND e.FROM_HOST = u.Host)))`

// mysqlEntries reads mysql.user, global_grants and default_roles.
//
// Long: three tables are one account each time.
func mysqlEntries(ctx context.Context, s *server, only *catalog.Principal) ([]entry, error) {
	where := func(user, host string) (string, []any) {
		if only == nil {
			return "", nil
		}
		return " WHERE " + user + " = ? AND " + host + " = ?", []any{only.Name, only.Host}
	}
	flags := flagsOf(mysqlGlobal)
	text, args := where("u.User", "u.Host")
	var out []entry
	at := map[[2]string]int{}
	now := time.Now().UTC()
	err := s.query(ctx, "read accounts", `SELECT u.User, u.Host, `+flags+`, u.plugin, u.authentication_string,
		u.account_locked, u.password_expired, COALESCE(UNIX_TIMESTAMP(u.password_last_changed), 0),
		u.password_lifetime, u.max_user_connections, u.ssl_type, `+isRoleSQL+`,
		COALESCE(JSON_UNQUOTE(JSON_EXTRACT(u.User_attributes, '$.metadata.comment')), ''),
		COALESCE(JSON_CONTAINS_PATH(u.User_attributes, 'one', '$.additional_password'), 0),
		COALESCE(JSON_EXTRACT(u.User_attributes, '$.Password_locking.failed_login_attempts'), 0),
		COALESCE(JSON_EXTRACT(u.User_attributes, '$.Password_locking.password_lock_time_days'), 0),
		u.Password_reuse_history, u.Password_reuse_time FROM mysql.user u`+text,
		func(r *sql.Rows) error {
			var e entry
			var bits, locked, expired, tls string
			var changed float64
			var lifetime *int
			var limit int
			var policy passwordPolicy
			if err := r.Scan(&e.Name, &e.Host, &bits, &e.Method, &e.kept, &locked, &expired, &changed, &lifetime,
				&limit, &tls, &e.Role, &e.Comment, &policy.second, &policy.attempts, &policy.days, &policy.former,
				&policy.age); err != nil {
				return err
			}
			readMySQLAccount(&e, bits, locked == "Y", expired == "Y", int64(changed), lifetime, limit, tls, now)
			e.Properties = policy.values()
			at[[2]string{e.Name, e.Host}] = len(out)
			out = append(out, e)
			return nil
		}, args...)
	if err != nil {
		return nil, err
	}
	text, args = where("USER", "HOST")
	err = s.query(ctx, "read privileges on the whole server",
		`SELECT USER, HOST, PRIV FROM mysql.global_grants`+text+` ORDER BY 3`, func(r *sql.Rows) error {
			var user, host, word string
			err := r.Scan(&user, &host, &word)
			if i, there := at[[2]string{user, host}]; there {
				out[i].Attributes = append(out[i].Attributes, word)
			}
			return err
		}, args...)
	if err != nil {
		return nil, err
	}
	err = s.query(ctx, "read default roles",
		`SELECT USER, HOST, DEFAULT_ROLE_USER FROM mysql.default_roles`+text+` ORDER BY 3`, func(r *sql.Rows) error {
			var user, host, role string
			err := r.Scan(&user, &host, &role)
			if i, there := at[[2]string{user, host}]; there {
				out[i].DefaultRoles = append(out[i].DefaultRoles, role)
				out[i].DefaultRole = strings.Join(out[i].DefaultRoles, ", ")
			}
			return err
		}, args...)
	return out, err
}

// passwordPolicy is what MySQL keeps of an account's passwords beside the verifier. Sources:
// User_attributes, Password_reuse_history and Password_reuse_time of mysql.user.
type passwordPolicy struct {
	second         bool
	attempts, days int  // days below 0: until it is unlocked
	former, age    *int // nil: as the server's default says
}

func (p passwordPolicy) values() catalog.Values {
	v := catalog.Values{secondPassword: p.second}
	switch {
	case p.attempts > 0 && p.days < 0:
		v["blocked_after"] = fmt.Sprintf("%s, until it is unlocked", naming.Count(p.attempts, "wrong password"))
	case p.attempts > 0:
		v["blocked_after"] = fmt.Sprintf("%s, for %s", naming.Count(p.attempts, "wrong password"),
			naming.Count(p.days, "day"))
	}
	var reuse []string
	if p.former != nil && *p.former > 0 {
		reuse = append(reuse, "none of the last "+naming.Count(*p.former, "password"))
	}
	if p.age != nil && *p.age > 0 {
		reuse = append(reuse, "none of the last "+naming.Count(*p.age, "day"))
	}
	return v.With("password_reuse", strings.Join(reuse, ", "))
}

// systemMySQL are the server's own accounts.
var systemMySQL = map[string]bool{"mysql.sys": true, "mysql.session": true, "mysql.infoschema": true}

// readMySQLAccount puts an account together of its columns.
func readMySQLAccount(e *entry, flags string, locked, expired bool, changed int64, lifetime *int, limit int, tls string,
	now time.Time) {
	var all privilege.Set
	for i, c := range mysqlGlobal {
		if i < len(flags) && flags[i] == 'Y' {
			all = all.Or(c.set)
		}
	}
	e.Global, e.Inherit, e.ConnectionLimit, e.System = all, true, -1, systemMySQL[e.Name]
	e.GlobalGrant = len(flags) > len(mysqlGlobal) && flags[len(mysqlGlobal)] == 'Y'
	e.Super = all.Has(mysqlBundles["own"].Or(may.CreateUser)) && e.GlobalGrant
	if e.Role {
		e.Method, e.kept = "", ""
		return
	}
	e.Login, e.Locked, e.Expired = true, locked, expired && !e.System
	switch e.Method {
	case methodSHA2, methodNative, "sha256_password":
		has := e.kept != "" && e.kept != mysqlNobody
		e.Password, e.Open = &has, e.kept == "" && !locked
	}
	if limit > 0 {
		e.ConnectionLimit = limit
	}
	e.TLS = tls
	e.PasswordDays = lifetime
	if changed > 0 && lifetime != nil && *lifetime > 0 {
		e.Expires = time.Unix(changed, 0).UTC().AddDate(0, 0, *lifetime)
		e.Expired = e.Expired || e.Expires.Before(now)
	}
}

// mysqlMemberships reads mysql.role_edges. Where all roles are active from the sign-in on, each
// membership holds at once.
func mysqlMemberships(ctx context.Context, s *server) ([]catalog.Membership, error) {
	who, err := mysqlHolders(ctx, s)
	if err != nil {
		return nil, err
	}
	var all bool
	if err := s.db.QueryRowContext(ctx, "SELECT @@activate_all_roles_on_login").Scan(&all); err != nil {
		return nil, wrap("read memberships", err)
	}
	mandatory, err := mysqlMandatory(ctx, s)
	if err != nil {
		return nil, err
	}
	var out []catalog.Membership
	err = s.query(ctx, "read memberships", `SELECT FROM_USER, FROM_HOST, TO_USER, TO_HOST, WITH_ADMIN_OPTION
		FROM mysql.role_edges`, func(r *sql.Rows) error {
		m := catalog.Membership{Set: true, Inherit: all}
		var role, roleHost, member, host, admin string
		err := r.Scan(&role, &roleHost, &member, &host, &admin)
		m.Role = catalog.Principal{Name: role, Host: roleHost, Role: true}
		m.Member, m.Admin = who(member, host), admin == "Y"
		out = append(out, m)
		return err
	})
	if err != nil || len(mandatory) == 0 {
		return out, err
	}
	var accounts []catalog.Principal
	err = s.query(ctx, "read who has the mandatory roles", `SELECT User, Host FROM mysql.user LIMIT 100000`,
		func(r *sql.Rows) error {
			var user, host string
			err := r.Scan(&user, &host)
			if p := who(user, host); !p.Role && !systemMySQL[user] {
				accounts = append(accounts, p)
			}
			return err
		})
	return everybodyIn(mandatory, accounts, out, all), err
}

// mysqlHolders tells roles from accounts.
func mysqlHolders(ctx context.Context, s *server) (func(user, host string) catalog.Principal, error) {
	roles := map[[2]string]bool{}
	err := s.query(ctx, "read roles", `SELECT u.User, u.Host FROM mysql.user u WHERE `+isRoleSQL,
		func(r *sql.Rows) error {
			var user, host string
			err := r.Scan(&user, &host)
			roles[[2]string{user, host}] = true
			return err
		})
	return func(user, host string) catalog.Principal {
		return catalog.Principal{Name: user, Host: host, Role: roles[[2]string{user, host}]}
	}, err
}

// mysqlRestrictions reads partial revokes. Source: User_attributes of mysql.user, $.Restrictions.
func mysqlRestrictions(ctx context.Context, s *server) (out []catalog.Grant, unknown []string, err error) {
	var plain bool
	if err := s.db.QueryRowContext(ctx, "SELECT @@partial_revokes").Scan(&plain); err != nil {
		return nil, nil, wrap("read the server", err)
	}
	if plain {
		unknown = append(unknown, "which databases a grant opens whose name has _ or %: with partial_revokes these are "+
			"no wildcards, and are shown as if they were")
	}
	err = s.query(ctx, "read partial revokes", `SELECT User, Host, JSON_EXTRACT(User_attributes, '$.Restrictions')
		FROM mysql.user WHERE JSON_EXTRACT(User_attributes, '$.Restrictions') IS NOT NULL`, func(r *sql.Rows) error {
		var user, host, text string
		if err := r.Scan(&user, &host, &text); err != nil {
			return err
		}
		var list []struct {
			Database   string
			Privileges []string
		}
		if err := json.Unmarshal([]byte(text), &list); err != nil {
			return fmt.Errorf("the partial revokes of %s@%s cannot be read: %w", user, host, err)
		}
		for _, x := range list {
			g := catalog.Grant{Entry: catalog.Entry{Grantee: catalog.Principal{Name: user, Host: host}},
				Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: x.Database}}
			for _, word := range x.Privileges {
				if set, known := table.Named(word); known {
					g.Denied = g.Denied.Or(set)
				}
			}
			out = append(out, g)
		}
		return nil
	})
	return out, unknown, err
}

// mysqlPrepared lists XA transactions that wait for their second phase.
func mysqlPrepared(ctx context.Context, s *server) ([]catalog.Prepared, error) {
	var out []catalog.Prepared
	err := s.query(ctx, "look for prepared transactions", `XA RECOVER CONVERT XID`, func(r *sql.Rows) error {
		var format, gtrid, bqual int64
		var name string
		err := r.Scan(&format, &gtrid, &bqual, &name)
		out = append(out, catalog.Prepared{Name: name})
		return err
	})
	return out, err
}

// mysqlBackup reports whether a lock is one that a backup takes: LOCK INSTANCE FOR BACKUP, or
// FLUSH TABLES WITH READ LOCK.
func mysqlBackup(l metadataLock) bool {
	return l.mode == "SHARED" && (l.kind == "BACKUP LOCK" || l.kind == "GLOBAL")
}

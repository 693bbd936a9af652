package mysqlfamily

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"encoding/json"
	"fmt"
	"strings"
	"time"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// What MariaDB keeps otherwise than its relatives.

// mariaIdentityQuery reads what tells instances apart. No single built-in value
// does: server_uid means host and port, not data. The time of the installation
// (that of mysql.global_priv) survives restarts.
const mariaIdentityQuery = `SELECT @@hostname, CAST(@@port AS CHAR), @@datadir, @@server_uid,
	COALESCE((SELECT DATE_FORMAT(CREATE_TIME, '%Y-%m-%dT%H:%i:%s') FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = 'mysql' AND TABLE_NAME = 'global_priv'), '')`

// mariaIdentity is known by the time of the installation.
func mariaIdentity(ctx context.Context, c driver.Conn) (catalog.Identity, error) {
	v, err := firstRow(ctx, c, mariaIdentityQuery, 5)
	if err != nil {
		return catalog.Identity{}, err
	}
	id := catalog.Identity{Key: "installed " + v[4], Marks: map[string]string{
		"hostname": v[0], "port": v[1], "datadir": v[2], "server_uid": v[3]}}
	if v[4] == "" {
		// Without rights on mysql the table is hidden; what is left must do.
		id.Key = "server_uid " + v[3]
	}
	return id, nil
}

// mariaCollationName is the column of the full names, where there is one.
func mariaCollationName(ctx context.Context, s *server) (string, error) {
	full := "FULL_COLLATION_NAME"
	var has int
	if err := s.db.QueryRowContext(ctx,
		`SELECT COUNT(*) FROM information_schema.COLUMNS WHERE TABLE_SCHEMA = 'information_schema'
		AND TABLE_NAME = 'COLLATION_CHARACTER_SET_APPLICABILITY' AND COLUMN_NAME = 'FULL_COLLATION_NAME'`).
		Scan(&has); err != nil {
		return "", wrap("read collations", err)
	}
	if has == 0 {
		full = "COLLATION_NAME"
	}
	return full, nil
}

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

// mariaDatabaseColumns are the privileges of mysql.db, in the order in which
// [flagsOf] puts them together.
var mariaDatabaseColumns = []databaseColumn{{"Select", may.Select}, {"Insert", may.Insert}, {"Update", may.Update},
	{"Delete", may.Delete},
	{"Create", may.Create},
	{"Drop", may.Drop}, {"References", may.References}, {"Index", may.Index}, {"Alter", may.Alter},
	{"Create_tmp_table", may.CreateTemporaryTables}, {"Lock_tables", may.LockTables}, {"Create_view", may.CreateView},
	{"Show_view", may.ShowView}, {"Create_routine", may.CreateRoutine}, {"Alter_routine", may.AlterRoutine},
	{"Execute", may.Execute}, {"Event", may.Event}, {"Trigger", may.Trigger}, {"Delete_history", may.DeleteHistory}}

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
func accountFrom(user, host, text string, now time.Time) (catalog.Account, string, error) {
	var p priv
	if err := json.Unmarshal([]byte(text), &p); err != nil {
		return catalog.Account{}, "", fmt.Errorf("the entry of %s@%s cannot be read: %w", user, host, err)
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
	a.Super = a.Global.Has(mariaBundles[access.BundleOwn].Or(may.CreateUser)) && a.GlobalGrant
	if a.Role {
		a.Login = false
		return a, "", nil
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
	return a, p.Authentication, nil
}

// mariaEntries reads mysql.global_priv.
func mariaEntries(ctx context.Context, s *server, only *catalog.Principal) ([]entry, error) {
	text, args := `SELECT User, Host, Priv FROM mysql.global_priv`, []any(nil)
	if only != nil {
		text, args = text+` WHERE BINARY User = ? AND Host = ?`, []any{only.Name, only.Host}
	}
	var out []entry
	now := time.Now().UTC()
	err := s.query(ctx, "read accounts", text, func(r *sql.Rows) error {
		var user, host string
		var text sql.RawBytes
		if err := r.Scan(&user, &host, &text); err != nil {
			return err
		}
		a, kept, err := accountFrom(user, host, string(text), now)
		out = append(out, entry{a, kept})
		return err
	}, args...)
	return out, err
}

// mariaMemberships reads mysql.roles_mapping.
func mariaMemberships(ctx context.Context, s *server) ([]catalog.Membership, error) {
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

// mariaHolders: a row without a host is about a role.
func mariaHolders(context.Context, *server) (func(user, host string) catalog.Principal, error) {
	return func(user, host string) catalog.Principal {
		return catalog.Principal{Name: user, Host: host, Role: host == ""}
	}, nil
}

// mariaPrepared lists XA transactions.
func mariaPrepared(ctx context.Context, s *server) ([]catalog.Prepared, error) {
	var out []catalog.Prepared
	err := s.query(ctx, "look for prepared transactions", `XA RECOVER FORMAT='SQL'`, func(r *sql.Rows) error {
		var format, gtrid, bqual int64
		var name string
		err := r.Scan(&format, &gtrid, &bqual, &name)
		out = append(out, catalog.Prepared{Name: name})
		return err
	})
	return out, err
}

// mariaBackup reports whether a lock is one that a backup takes; MDL_BACKUP_DDL and
// the like are those of ordinary statements.
func mariaBackup(l metadataLock) bool {
	for _, mode := range []string{"MDL_BACKUP_START", "MDL_BACKUP_FLUSH", "MDL_BACKUP_WAIT", "MDL_BACKUP_FTWRL"} {
		if strings.HasPrefix(l.mode, mode) {
			return true
		}
	}
	return false
}

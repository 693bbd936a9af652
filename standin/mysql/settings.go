package mysql

import (
	"regexp"
	"strings"

	"github.com/dolthub/vitess/go/sqltypes"
)

// settable are the variables that can be set for the whole server.
var settable = regexp.MustCompile(`(?is)^SET\s+(GLOBAL|PERSIST)\s+(mandatory_roles|partial_revokes|offline_mode|` +
	`activate_all_roles_on_login)\s*=\s*(ON|OFF|0|1|'(?:[^'\\]|''|\\.)*')\s*;?$`)

// variable is what a system variable says, as SQL writes it; "" when it is the server's behind.
func (f *face) variable(name string) string {
	f.settings.RLock()
	defer f.settings.RUnlock()
	return f.variables[name]
}

// set is SET GLOBAL and SET PERSIST, which also holds after a restart.
func (f *face) set(m []string) (*sqltypes.Result, error) {
	name, value := strings.ToLower(m[2]), m[3]
	switch strings.ToUpper(value) {
	case "ON":
		value = "1"
	case "OFF":
		value = "0"
	}
	if name == "activate_all_roles_on_login" && value == "1" {
		f.lent.Store(true)
	}
	if name == "partial_revokes" && value == "0" {
		if r, err := f.ask("SELECT 1 FROM mysql8.restrictions LIMIT 1"); err != nil || len(r.Rows) > 0 {
			return nil, refuse(3896, "HY000", "At least one partial revoke exists on a database. The system variable "+
				"'@@partial_revokes' must be set to ON.")
		}
	}
	if strings.EqualFold(m[1], "PERSIST") {
		_, err := f.ask("REPLACE INTO mysql8.settings VALUES (" + quote(name) + ", " + quote(value) + ")")
		if err != nil {
			return nil, err
		}
	}
	return &sqltypes.Result{}, f.apply(name, value)
}

// roleName is a role in the text of mandatory_roles: quoted or not, with a host or without.
var roleName = regexp.MustCompile("(" + part[1:len(part)-1] + `|[^\s,@'` + "`" + `]+)(?:@(?:` + part + `|[^\s,]+))?`)

func (f *face) apply(name, value string) error {
	f.settings.Lock()
	f.variables[name] = value
	f.settings.Unlock()
	if name != "mandatory_roles" {
		return nil
	}
	if _, err := f.ask("DELETE FROM mysql8.mandatory"); err != nil {
		return err
	}
	for _, r := range roleName.FindAllStringSubmatch(unquote(value), -1) {
		role := r[1]
		if strings.ContainsAny(role[:1], "'`") {
			role = unquote(role)
		}
		if _, err := f.ask("REPLACE INTO mysql8.mandatory VALUES (" + quote(role) + ")"); err != nil {
			return err
		}
	}
	return nil
}

// restore takes what was set to stay.
func (f *face) restore() error {
	r, err := f.ask("SELECT 1 FROM mysql8.restrictions LIMIT 1")
	if err != nil {
		return err
	}
	f.restrictions.Store(len(r.Rows) > 0)
	kept, err := f.ask("SELECT name, value FROM mysql8.settings")
	if err != nil {
		return err
	}
	for _, row := range kept.Rows {
		if err := f.apply(row[0].ToString(), row[1].ToString()); err != nil {
			return err
		}
	}
	return nil
}

// exempt reports whether an account signs in although the server is offline.
func (f *face) exempt(user, host string) bool {
	r, err := f.ask("SELECT 1 FROM mysql8.global_grants WHERE PRIV = 'CONNECTION_ADMIN' AND USER = " + quote(user) +
		" AND HOST = " + quote(host))
	return err == nil && len(r.Rows) > 0
}

// optional refuses to take a role away that everybody has.
func (f *face) optional(roles []string) error {
	r, err := f.ask("SELECT Role FROM mysql8.mandatory WHERE Role IN (" + strings.Join(roles, ", ") + ") LIMIT 1")
	if err == nil && len(r.Rows) > 0 {
		return refuse(3628, "HY000", "The role `%s`@`%%` is a mandatory role and can't be revoked or dropped. The "+
			"restriction can be lifted by excluding the role identifier from the global variable mandatory_roles.",
			r.Rows[0][0].ToString())
	}
	return err
}

// activate settles which roles hold for an account that signs in: all that it has, where the
// server says so, otherwise its default roles; the mandatory ones count as had.
func (f *face) activate(user, host string) error {
	mandatory := "SELECT Role FROM mysql8.mandatory JOIN mysql.global_priv p ON p.User = Role AND p.Host = ''"
	all := f.variable("activate_all_roles_on_login") == "1"
	if f.variable("mandatory_roles") != "''" {
		f.lent.Store(true)
	}
	if !all && !f.lent.Load() {
		return nil // as SET DEFAULT ROLE has left it
	}
	who := " WHERE User = " + quote(user) + " AND Host = " + quote(host)
	roles := "SELECT Role FROM mysql8.defaults" + who + " AND Role IN (" + mandatory +
		" UNION SELECT Role FROM mysql.roles_mapping" + who + ")"
	if all {
		roles = mandatory + " UNION SELECT Role FROM mysql.roles_mapping" + who + " AND Role NOT LIKE '" +
			together + "%'"
	}
	r, err := f.ask(roles)
	if err != nil {
		return err
	}
	var list []string
	for _, row := range r.Rows {
		list = append(list, row[0].ToString())
	}
	return f.hold(quote(user), quote(host), list, true)
}

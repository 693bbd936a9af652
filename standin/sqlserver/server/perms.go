package server

import (
	"bytes"
	"slices"
	"strings"
)

// who is a security context.
type who struct {
	login *Principal // nil: a contained user, or EXECUTE AS USER
	user  *User      // fixed by EXECUTE AS USER or a contained log-in
	db    int
}

var serverRolePerms = map[string][]string{
	"sysadmin":      {"CONTROL SERVER"},
	"dbcreator":     {"ALTER ANY DATABASE", "CREATE ANY DATABASE"},
	"securityadmin": {"ALTER ANY LOGIN"},
	"processadmin":  {"ALTER ANY CONNECTION", "ALTER SERVER STATE"},
	"serveradmin":   {"ALTER ANY ENDPOINT", "ALTER RESOURCES", "ALTER SERVER STATE", "ALTER SETTINGS", "SHUTDOWN"},
	"setupadmin":    {"ALTER ANY LINKED SERVER"},
	"diskadmin":     {"ALTER RESOURCES"},
	"bulkadmin":     {"ADMINISTER BULK OPERATIONS"},
}

// serverParents says which permission covers which.
var serverParents = map[string]string{
	"CREATE ANY DATABASE": "ALTER ANY DATABASE", "VIEW ANY DATABASE": "VIEW ANY DEFINITION", "VIEW SERVER " +
		"STATE": "ALTER SERVER STATE",
	"VIEW SERVER PERFORMANCE STATE": "VIEW SERVER STATE", "VIEW SERVER SECURITY STATE": "VIEW SERVER STATE",
	"CREATE SERVER ROLE": "ALTER ANY SERVER ROLE", "CREATE LOGIN": "ALTER ANY LOGIN", "VIEW ANY SECURITY " +
		"DEFINITION": "VIEW ANY DEFINITION",
}

var serverPerms = strings.Split(
	"CONNECT SQL,SHUTDOWN,CREATE ENDPOINT,CREATE ANY DATABASE,CREATE AVAILABILITY GROUP,ALTER ANY LOGIN,ALTER ANY "+
		"CREDENTIAL,ALTER ANY ENDPOINT,ALTER ANY LINKED SERVER,ALTER ANY CONNECTION,ALTER ANY DATABASE,ALTER "+
		"RESOURCES,ALTER SETTINGS,ALTER TRACE,ALTER ANY AVAILABILITY GROUP,ADMINISTER BULK OPERATIONS,AUTHENTICATE "+
		"SERVER,EXTERNAL ACCESS ASSEMBLY,VIEW ANY DATABASE,VIEW ANY DEFINITION,VIEW SERVER STATE,CREATE DDL EVENT "+
		"NOTIFICATION,CREATE TRACE EVENT NOTIFICATION,ALTER ANY EVENT NOTIFICATION,ALTER SERVER STATE,UNSAFE "+
		"ASSEMBLY,ALTER ANY SERVER AUDIT,CREATE SERVER ROLE,ALTER ANY SERVER ROLE,ALTER ANY EVENT SESSION,CONNECT "+
		"ANY DATABASE,IMPERSONATE ANY LOGIN,SELECT ALL USER SECURABLES,CONTROL SERVER",
	",",
)

func (i *Instance) serverSet(p *Principal) map[int]bool {
	set := map[int]bool{p.ID: true, 2: true}
	for grown := true; grown; {
		grown = false
		for _, r := range i.principals {
			for m := range r.Members {
				if set[m] && !set[r.ID] {
					set[r.ID], grown = true, true
				}
			}
		}
	}
	return set
}

func (i *Instance) inServerRole(p *Principal, role string) bool {
	if p == nil {
		return false
	}
	r := i.principal(role)
	return r != nil && r.Type == "R" && i.serverSet(p)[r.ID]
}

func (i *Instance) sysadmin(p *Principal) bool { return p != nil && i.serverSet(p)[3] }

// serverHas says whether the permission is effective: DENY wins, save for sysadmin.
func (i *Instance) serverHas(w who, perm string) bool {
	p := w.login
	if p == nil {
		return false
	}
	set := i.serverSet(p)
	if set[3] {
		return true
	}
	covers := []string{perm, "CONTROL SERVER"}
	for q := serverParents[perm]; q != ""; q = serverParents[q] {
		covers = append(covers, q)
	}
	has := false
	for _, g := range i.perms {
		if g.Class != 100 || !set[g.Grantee] || !slices.Contains(covers, g.Name) {
			continue
		}
		if g.State == "D" {
			return false
		}
		has = true
	}
	for id := range set {
		if r := i.principals[id]; r.Fixed {
			for _, q := range serverRolePerms[r.Name] {
				has = has || slices.Contains(covers, q)
			}
		}
	}
	return has
}

func (i *Instance) hasGrantOption(w who, perm string) bool {
	if w.login == nil {
		return false
	}
	set := i.serverSet(w.login)
	for _, g := range i.perms {
		if g.Class == 100 && set[g.Grantee] && g.State == "W" && g.Name == perm {
			return true
		}
	}
	return i.serverHas(w, "CONTROL SERVER") || set[4] && perm != "CONTROL SERVER"
}

var dbRolePerms = map[string][]string{
	"db_owner":         {"CONTROL"},
	"db_accessadmin":   {"ALTER ANY USER", "CREATE SCHEMA", "CONNECT"},
	"db_securityadmin": {"ALTER ANY APPLICATION ROLE", "ALTER ANY ROLE", "CREATE SCHEMA", "VIEW DEFINITION"},
	"db_ddladmin": {
		"ALTER ANY SCHEMA",
		"CREATE TABLE",
		"CREATE VIEW",
		"CREATE PROCEDURE",
		"CREATE FUNCTION",
		"CREATE SCHEMA",
		"CREATE SYNONYM",
		"CREATE TYPE",
		"REFERENCES",
		"CHECKPOINT",
	},
	"db_backupoperator": {"BACKUP DATABASE", "BACKUP LOG", "CHECKPOINT"},
	"db_datareader":     {"SELECT"},
	"db_datawriter":     {"INSERT", "UPDATE", "DELETE"},
}

var dbRoleDenies = map[string][]string{
	"db_denydatareader": {"SELECT"},
	"db_denydatawriter": {"INSERT", "UPDATE", "DELETE"},
}

// dbParents says which permission of a database covers which.
var dbParents = map[string]string{
	"CREATE SCHEMA": "ALTER ANY SCHEMA", "CREATE ROLE": "ALTER ANY ROLE", "CREATE TABLE": "ALTER", "CREATE " +
		"VIEW": "ALTER", "CREATE PROCEDURE": "ALTER",
	"CREATE FUNCTION": "ALTER", "CREATE SYNONYM": "ALTER", "CREATE TYPE": "ALTER", "ALTER ANY " +
		"SCHEMA": "ALTER", "ALTER ANY USER": "ALTER", "ALTER ANY ROLE": "ALTER",
	"ALTER ANY APPLICATION ROLE": "ALTER", "CONNECT": "CONNECT REPLICATION", "VIEW DATABASE PERFORMANCE " +
		"STATE": "VIEW DATABASE STATE",
}

// dbServerParents says which permission of the server covers one of a database.
var dbServerParents = map[string]string{
	"ALTER": "ALTER ANY DATABASE", "VIEW DEFINITION": "VIEW ANY DEFINITION", "VIEW DATABASE STATE": "VIEW SERVER " +
		"STATE", "CREATE DATABASE": "CREATE ANY DATABASE",
	"CONNECT": "CONNECT ANY DATABASE", "SELECT": "SELECT ALL USER SECURABLES",
}

var dbPerms = strings.Split(
	"CREATE TABLE,CREATE VIEW,CREATE PROCEDURE,CREATE FUNCTION,CREATE RULE,CREATE DEFAULT,BACKUP DATABASE,BACKUP "+
		"LOG,CREATE DATABASE,CREATE TYPE,CREATE XML SCHEMA COLLECTION,"+
		"CREATE ASSEMBLY,CREATE SCHEMA,CREATE SYNONYM,CREATE ROLE,CONNECT,CONNECT "+
		"REPLICATION,CHECKPOINT,SHOWPLAN,ALTER ANY APPLICATION ROLE,ALTER ANY ROLE,ALTER ANY SCHEMA,ALTER ANY "+
		"ASSEMBLY,ALTER ANY DATASPACE,ALTER ANY USER,VIEW DATABASE STATE,KILL DATABASE CONNECTION,VIEW "+
		"DEFINITION,DELETE,EXECUTE,INSERT,REFERENCES,SELECT,UPDATE,TAKE OWNERSHIP,ALTER,CONTROL,UNMASK",
	",",
)

var schemaPerms = strings.Split(
	"SELECT,INSERT,UPDATE,DELETE,EXECUTE,REFERENCES,CREATE SEQUENCE,VIEW DEFINITION,ALTER,TAKE "+
		"OWNERSHIP,CONTROL,VIEW CHANGE TRACKING",
	",",
)

var objectPerms = strings.Split(
	"SELECT,UPDATE,REFERENCES,INSERT,DELETE,EXECUTE,VIEW CHANGE TRACKING,VIEW DEFINITION,ALTER,TAKE "+
		"OWNERSHIP,CONTROL,RECEIVE",
	",",
)

// userOf says who somebody is in a database: nil: he cannot enter.
func (i *Instance) userOf(w who, d *Database) *User {
	if w.user != nil {
		if w.db == d.ID {
			return w.user
		}
		if w.login == nil {
			if d.guest {
				return d.Users[2]
			}
			return nil
		}
	}
	if w.login == nil {
		return nil
	}
	if i.sysadmin(w.login) || bytes.Equal(d.Owner, w.login.SID) {
		return d.Users[1]
	}
	for _, u := range d.Users {
		if u.Type == "S" && u.ID > 4 && bytes.Equal(u.SID, w.login.SID) {
			return u
		}
	}
	if d.guest {
		return d.Users[2]
	}
	if i.serverHas(w, "CONNECT ANY DATABASE") || i.serverHas(w, "CONTROL SERVER") {
		return d.Users[2]
	}
	return nil
}

func (i *Instance) dbSet(d *Database, u *User) map[int]bool {
	set := map[int]bool{u.ID: true, 0: true}
	for grown := true; grown; {
		grown = false
		for _, r := range d.Users {
			for m := range r.Members {
				if set[m] && !set[r.ID] {
					set[r.ID], grown = true, true
				}
			}
		}
	}
	return set
}

// mayEnter says whether HAS_DBACCESS would be 1.
func (i *Instance) mayEnter(w who, d *Database) bool {
	u := i.userOf(w, d)
	if u == nil || d.State != "ONLINE" {
		return false
	}
	if u.ID == 1 || d.system() {
		return true
	}
	if d.Access == "RESTRICTED_USER" {
		set := i.dbSet(d, u)
		if !set[16384] && !i.inServerRole(w.login, "dbcreator") && !i.sysadmin(w.login) {
			return false
		}
	}
	return i.dbHas(w, d, "CONNECT", 0, 0, 0)
}

// dbHas says whether a permission is effective on a securable of a database.
// class 0 is the database, 1 an object (minor: a column), 3 a schema, 4 a principal.
//
// Long: the rules stand in the order in which the server looks at them.
func (i *Instance) dbHas(w who, d *Database, perm string, class, major, minor int) bool {
	u := i.userOf(w, d)
	if u == nil {
		return false
	}
	if u.ID == 1 {
		return true
	}
	if w.login != nil && i.serverHas(w, "CONTROL SERVER") {
		return true
	}
	set := i.dbSet(d, u)
	type level struct {
		class, major, minor int
		names               []string
	}
	var levels []level
	object := []string{perm, "CONTROL"}
	if class == 1 {
		o := d.Objects[major]
		if o == nil {
			return false
		}
		owner := o.Owner
		if owner == 0 {
			owner = d.Schemas[o.Schema].Owner
		}
		if set[owner] {
			return true
		}
		if minor != 0 {
			levels = append(levels, level{1, major, minor, object})
		}
		levels = append(levels, level{1, major, 0, object}, level{3, o.Schema, 0, object})
	}
	if class == 3 {
		if s := d.Schemas[major]; s == nil || set[s.Owner] {
			return s != nil
		}
		levels = append(levels, level{3, major, 0, object})
	}
	if class == 4 {
		p := d.Users[major]
		if p != nil && p.Type == "R" && set[p.Owner] && p.Owner != 0 {
			return true
		}
		levels = append(levels, level{4, major, 0, object})
	}
	covers := []string{perm, "CONTROL"}
	if class == 4 && perm == "ALTER" {
		covers = append(covers, "ALTER ANY USER", "ALTER ANY ROLE", "ALTER")
		if p := d.Users[major]; p != nil && p.Type == "R" {
			covers = []string{"ALTER ANY ROLE", "ALTER", "CONTROL"}
		}
	}
	if (class == 1 || class == 3) && perm == "ALTER" {
		covers = append(covers, "ALTER ANY SCHEMA")
	}
	for q := dbParents[perm]; q != ""; q = dbParents[q] {
		covers = append(covers, q)
	}
	levels = append(levels, level{0, 0, 0, covers})
	has := false
	for _, l := range levels {
		for _, g := range d.Perms {
			if g.Class != l.class || g.Major != l.major || g.Minor != l.minor || !set[g.Grantee] ||
				!slices.Contains(l.names, g.Name) {
				continue
			}
			if g.State == "D" {
				// A grant on a column stands against a denial on its table.
				if has && l.class == 1 && l.minor == 0 && minor != 0 {
					continue
				}
				return false
			}
			has = true
		}
	}
	for id := range set {
		if r := d.Users[id]; r != nil && r.Fixed {
			for _, q := range dbRoleDenies[r.Name] {
				if q == perm {
					return false
				}
			}
			for _, q := range dbRolePerms[r.Name] {
				has = has || slices.Contains(covers, q)
			}
		}
	}
	if w.login != nil {
		for _, q := range covers {
			if p := dbServerParents[q]; p != "" && i.serverHas(w, p) {
				has = true
			}
		}
	}
	return has
}

// mayAlterDB says whether ALTER DATABASE is open to somebody.
func (i *Instance) mayAlterDB(w who, d *Database) bool {
	return i.serverHas(w, "ALTER ANY DATABASE") || d.State == "ONLINE" && i.dbHas(w, d, "ALTER", 0, 0, 0) ||
		w.login != nil && bytes.Equal(w.login.SID, d.Owner)
}

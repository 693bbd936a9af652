package mysql

import (
	"regexp"
	"slices"
	"strings"

	"github.com/dolthub/vitess/go/mysql"
)

// onDatabase is GRANT and REVOKE on a database to or from one account.
var onDatabase = regexp.MustCompile(`(?is)^(GRANT|REVOKE)\s+(.+?)\s+ON\s+` + database + `\.\*\s+(?:TO|FROM)\s+` + part +
	`\s*@\s*` + part + `\s*(WITH\s+GRANT\s+OPTION)?\s*;?$`)

// restricted carries a partial revoke out, or takes one back: what an account holds on all
// databases, and is to have or not on one. It reports whether nothing else is left to do.
func (f *face) restricted(m []string) (bool, error) {
	if f.variable("partial_revokes") != "1" {
		return false, nil
	}
	user, host, db := unquote(m[4]), unquote(m[5]), name(m[3])
	plain := quote(strings.ReplaceAll(db, `\`, ""))
	at := " WHERE User = " + quote(user) + " AND Host = " + quote(host) + " AND Db = " + plain
	held, err := f.ask("SELECT PRIVILEGE_TYPE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE = " +
		quote("'"+user+"'@'"+host+"'"))
	if err != nil {
		return false, err
	}
	var global []string
	for _, row := range held.Rows {
		global = append(global, row[0].ToString())
	}
	rest := false
	for _, word := range strings.Split(m[2], ",") {
		word = strings.ToUpper(strings.Join(strings.Fields(word), " "))
		if !slices.Contains(global, word) {
			rest = true
			continue
		}
		q := "DELETE FROM mysql8.restrictions" + at + " AND Privilege = " + quote(word)
		if strings.EqualFold(m[1], "REVOKE") {
			q = "REPLACE INTO mysql8.restrictions VALUES (" + quote(user) + ", " + quote(host) + ", " +
				plain + ", " + quote(word) + ")"
		}
		if _, err := f.ask(q); err != nil {
			return false, err
		}
	}
	f.restrictions.Store(true)
	own, err := f.ask("SELECT 1 FROM mysql.db" + at)
	return !rest && (err != nil || len(own.Rows) == 0), err
}

// mayUse refuses a statement that would use, in a database, what a partial revoke has taken. It
// looks at the first word and at the databases that are named, and no further.
func (f *face) mayUse(c *mysql.Conn, q string) error {
	l := c.UserData.(*login)
	r, err := f.ask("SELECT r.Db, GROUP_CONCAT(r.Privilege) FROM mysql8.restrictions r WHERE r.User = " +
		quote(l.user) + " AND r.Host = " + quote(l.host) + " AND NOT EXISTS (SELECT 1 FROM mysql.db d WHERE " +
		"d.User = r.User AND d.Host = r.Host AND REPLACE(d.Db, '\\\\', '') = r.Db) GROUP BY r.Db")
	if err != nil || len(r.Rows) == 0 {
		return err
	}
	word, _, _ := strings.Cut(strings.ToUpper(strings.TrimSpace(q)), " ")
	for _, row := range r.Rows {
		db, taken := row[0].ToString(), strings.Split(row[1].ToString(), ",")
		quoted := "`" + strings.ReplaceAll(db, "`", "``") + "`"
		switch {
		case word == "USE" && (strings.Contains(q, quoted) || strings.HasSuffix(strings.TrimRight(q, " ;"), " "+db)) &&
			slices.Contains(taken, "SELECT"):
			return refuse(1044, "42000", "Access denied for user '%s'@'%s' to database '%s'", l.user, l.host, db)
		case (strings.Contains(q, quoted+".") || strings.Contains(q, " "+db+".")) && slices.Contains(taken, word):
			return refuse(1142, "42000", "%s command denied to user '%s'@'%s' for table in '%s'", word, l.user, l.host,
				db)
		}
	}
	return nil
}

// aboveAll are statements on accounts, which need SYSTEM_USER where the account has it.
var aboveAll = regexp.MustCompile(`(?i)^((CREATE|ALTER|DROP|RENAME)\s+USER|GRANT|REVOKE|SET\s+DEFAULT\s+ROLE)\b`)

// mayAlter refuses statements on the accounts of administrators to whoever is none.
func (f *face) mayAlter(c *mysql.Conn, q string) error {
	if !aboveAll.MatchString(q) {
		return nil
	}
	var names []string
	for _, m := range account.FindAllStringSubmatch(q, -1) {
		names = append(names, "USER = "+quote(unquote(m[1]))+" AND HOST = "+quote(unquote(m[2])))
	}
	if len(names) == 0 || f.administers(c.UserData.(*login)) {
		return nil
	}
	r, err := f.ask("SELECT 1 FROM mysql8.global_grants WHERE PRIV = 'SYSTEM_USER' AND (" +
		strings.Join(names, " OR ") + ") LIMIT 1")
	if err == nil && len(r.Rows) > 0 {
		return refuse(1227, "42000", "Access denied; you need (at least one of) the SYSTEM_USER privilege(s) for "+
			"this operation")
	}
	return err
}

// administers reports whether a client has SYSTEM_USER itself.
func (f *face) administers(l *login) bool {
	r, err := f.ask("SELECT 1 FROM mysql8.global_grants WHERE PRIV = 'SYSTEM_USER' AND USER = " + quote(l.user) +
		" AND HOST = " + quote(l.host))
	return err == nil && len(r.Rows) > 0
}

// mayEnd refuses to end the session of an administrator to whoever is none.
func (f *face) mayEnd(c *mysql.Conn, id string) error {
	f.mu.Lock()
	of := f.clients[id]
	f.mu.Unlock()
	if of == nil || f.administers(c.UserData.(*login)) || !f.administers(of.UserData.(*login)) {
		return nil
	}
	return refuse(1095, "HY000", "You are not owner of thread %s", id)
}

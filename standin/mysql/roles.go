package mysql

import (
	"crypto/sha1"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"github.com/dolthub/vitess/go/mysql"
	"github.com/dolthub/vitess/go/sqltypes"
)

// roles writes 'r'@'%' as MariaDB's r wherever r is a role.
func (f *face) roles(q string) string {
	known := map[string]bool{}
	if r, err := f.ask("SELECT User FROM mysql.global_priv WHERE Host = '' AND COALESCE(JSON_VALUE(Priv, " +
		"'$.is_role'), 0) = 1"); err == nil {
		for _, row := range r.Rows {
			known[row[0].ToString()] = true
		}
	}
	dropRole := strings.HasPrefix(strings.ToUpper(q), "DROP ROLE")
	q = account.ReplaceAllStringFunc(q, func(a string) string {
		m := account.FindStringSubmatch(a)
		if n := unquote(m[1]); unquote(m[2]) == "%" && (known[n] || dropRole) {
			return "`" + strings.ReplaceAll(n, "`", "``") + "`"
		}
		return a
	})
	if i := strings.Index(strings.ToUpper(q), " USING "); i > 0 && strings.HasPrefix(strings.ToUpper(q), "SHOW "+
		"GRANTS") {
		q = q[:i]
	}
	return q
}

// dynamic is GRANT and REVOKE of dynamic privileges: kept in a table; only
// CONNECTION_ADMIN means anything behind.
func (f *face) dynamic(m []string) (*sqltypes.Result, error) {
	user, host := unquote(m[3]), unquote(m[4])
	for _, p := range strings.Split(m[2], ",") {
		p = strings.ToUpper(strings.TrimSpace(p))
		q := "DELETE FROM mysql8.global_grants WHERE USER = " + quote(user) + " AND HOST = " +
			"" + quote(host) + " AND PRIV = " + quote(p)
		if strings.EqualFold(m[1], "GRANT") {
			q = "REPLACE INTO mysql8.global_grants VALUES (" + quote(user) + ", " + quote(host) + ", " +
				"" + quote(p) + ", 'N')"
		}
		if _, err := f.ask(q); err != nil {
			return nil, err
		}
		if p == "CONNECTION_ADMIN" {
			to := map[bool]string{true: " TO ", false: " FROM "}[strings.EqualFold(m[1], "GRANT")]
			if _, err := f.ask(strings.ToUpper(m[1]) + " CONNECTION ADMIN ON " +
				"*.*" + to + quote(user) + "@" + quote(host)); err != nil {
				return nil, err
			}
		}
	}
	return &sqltypes.Result{}, nil
}

// defaultRole is SET DEFAULT ROLE. Behind, an account has one default role: where there are to be
// several, it is a role of the stand-in's that has all of them, and shows nowhere.
func (f *face) defaultRole(m []string) (*sqltypes.Result, error) {
	user, host := quote(unquote(m[2])), quote(unquote(m[3]))
	held, err := f.ask("SELECT Role FROM mysql.roles_mapping WHERE User = " + user + " AND Host = " + host +
		" AND Role NOT LIKE '" + together + "%'")
	if err != nil {
		return nil, err
	}
	var has, want []string
	for _, row := range held.Rows {
		has = append(has, row[0].ToString())
	}
	switch list := strings.TrimSpace(m[1]); strings.ToUpper(list) {
	case "NONE":
	case "ALL":
		want = has
	default:
		for _, x := range account.FindAllStringSubmatch(list, -1) {
			role := unquote(x[1])
			if !slices.Contains(has, role) {
				return nil, refuse(3530, "HY000", "`%s`@`%%` is not granted to %s@%s", role, user, host)
			}
			want = append(want, role)
		}
	}
	return &sqltypes.Result{}, f.setDefaults(user, host, want)
}

// together begins the names of roles that stand for several.
const together = "standin:"

// setDefaults settles the default roles of an account, whose name and host are quoted.
func (f *face) setDefaults(user, host string, roles []string) error {
	where := " WHERE User = " + user + " AND Host = " + host
	do := []string{"DELETE FROM mysql8.defaults" + where}
	for _, r := range roles {
		do = append(do, "INSERT INTO mysql8.defaults VALUES ("+user+", "+host+", "+quote(r)+")")
	}
	for _, q := range do {
		if _, err := f.ask(q); err != nil {
			return err
		}
	}
	return f.hold(user, host, roles, false)
}

// hold makes some roles those that are active behind from the next sign-in on. lent: the account
// has not all of them itself.
func (f *face) hold(user, host string, roles []string, lent bool) error {
	who := user + "@" + host
	all := "`" + together + fmt.Sprintf("%x", sha1.Sum([]byte(who))) + "`"
	ident := func(role string) string { return "`" + strings.ReplaceAll(role, "`", "``") + "`" }
	var do []string
	switch {
	case len(roles) == 0:
		do = append(do, "SET DEFAULT ROLE NONE FOR "+who)
	case len(roles) == 1 && !lent:
		do = append(do, "SET DEFAULT ROLE "+ident(roles[0])+" FOR "+who)
	default:
		do = append(do, "DROP ROLE IF EXISTS "+all, "CREATE ROLE "+all)
		for _, r := range roles {
			do = append(do, "GRANT "+ident(r)+" TO "+all)
		}
		do = append(do, "GRANT "+all+" TO "+who, "SET DEFAULT ROLE "+all+" FOR "+who)
	}
	for _, q := range do {
		if _, err := f.ask(q); err != nil {
			return err
		}
	}
	return nil
}

// refresh makes a session feel that roles were taken from its account: those hold that would from
// a sign-in on.
func (f *face) refresh(l *login) error {
	r, err := f.ask("SELECT JSON_VALUE(Priv, '$.default_role') FROM mysql.global_priv WHERE User = " + quote(l.user) +
		" AND Host = " + quote(l.host))
	if err != nil || len(r.Rows) == 0 {
		return err
	}
	role := "NONE"
	if r.Rows[0][0].ToString() != "" {
		role = "`" + strings.ReplaceAll(r.Rows[0][0].ToString(), "`", "``") + "`"
	}
	_, err = l.conn.ExecuteFetch("SET ROLE "+role, 1, false)
	return err
}

// forget takes roles out of the default roles of whoever has them no longer, and out of the
// sessions.
func (f *face) forget() error {
	defer func() {
		f.mu.Lock()
		defer f.mu.Unlock()
		for _, c := range f.clients {
			c.UserData.(*login).stale.Store(true)
		}
	}()
	gone, err := f.ask("SELECT DISTINCT d.User, d.Host FROM mysql8.defaults d LEFT JOIN mysql.roles_mapping m" +
		" ON m.User = d.User AND m.Host = d.Host AND m.Role = d.Role WHERE m.Role IS NULL")
	if err != nil {
		return err
	}
	for _, row := range gone.Rows {
		user, host := quote(row[0].ToString()), quote(row[1].ToString())
		kept, err := f.ask("SELECT d.Role FROM mysql8.defaults d JOIN mysql.roles_mapping m ON m.User = d.User AND" +
			" m.Host = d.Host AND m.Role = d.Role WHERE d.User = " + user + " AND d.Host = " + host)
		if err != nil {
			return err
		}
		var roles []string
		for _, r := range kept.Rows {
			roles = append(roles, r[0].ToString())
		}
		there, err := f.ask("SELECT 1 FROM mysql.global_priv WHERE User = " + user + " AND Host = " + host)
		if err == nil && len(there.Rows) == 0 {
			_, err = f.ask("DELETE FROM mysql8.defaults WHERE User = " + user + " AND Host = " + host)
		} else if err == nil {
			err = f.setDefaults(user, host, roles)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// roleTo is GRANT and REVOKE of roles: who has ROLE_ADMIN, or the role WITH ADMIN
// OPTION, may; behind, the stand-in does it.
func (f *face) roleTo(c *mysql.Conn, q string) (*sqltypes.Result, error) {
	l := c.UserData.(*login)
	var roles []string
	before, _, _ := strings.Cut(strings.ToUpper(q), " TO ")
	if strings.HasPrefix(before, "REVOKE") {
		before, _, _ = strings.Cut(strings.ToUpper(q), " FROM ")
	}
	for _, m := range account.FindAllStringSubmatch(q[:len(before)], -1) {
		roles = append(roles, quote(unquote(m[1])))
	}
	if len(roles) == 0 {
		return nil, refuse(1235, "42000", "stand-in: write roles as 'name'@'host'")
	}
	if strings.HasPrefix(before, "REVOKE") {
		if err := f.optional(roles); err != nil {
			return nil, err
		}
	}
	who := "User = " + quote(l.user) + " AND Host = " + quote(l.host)
	r, err := f.ask("SELECT (SELECT COUNT(*) FROM mysql8.global_grants WHERE PRIV = 'ROLE_ADMIN' AND " +
		"" + who + ") + (SELECT COUNT(*) FROM mysql.roles_mapping WHERE Admin_option = 'Y' AND " + who +
		" AND Role IN (" + strings.Join(roles, ", ") +
		")), (SELECT COUNT(*) FROM mysql.global_priv WHERE Host = '' AND User IN (" + strings.Join(roles, ", ") + "))")
	if err != nil {
		return nil, err
	}
	if r.Rows[0][1].ToString() == "0" {
		return nil, refuse(3523, "HY000", "Unknown authorization ID `%s`@`%%`", strings.Trim(roles[0], "'"))
	}
	if r.Rows[0][0].ToString() == "0" {
		return nil, refuse(1227, "42000", "Access denied; you need (at least one of) the WITH ADMIN, "+
			"ROLE_ADMIN, SUPER privilege(s) for this operation")
	}
	r, err = f.ask(f.roles(q))
	if e, ok := err.(*mysql.SQLError); ok && e.Num == 1959 {
		return nil, refuse(3523, "HY000", "Unknown authorization ID")
	}
	if err == nil {
		err = f.forget()
	}
	return r, err
}

var (
	mariaOnly = regexp.MustCompile(` IDENTIFIED (BY PASSWORD|VIA) .*?( WITH GRANT OPTION| REQUIRE .*|$)`)
	mariaWord = regexp.MustCompile(`(, )?\b(DELETE HISTORY|CONNECTION ADMIN|READ_ONLY ADMIN|SET USER|BINLOG MONITOR)\b`)
	roleLine  = regexp.MustCompile("^GRANT (`(?:[^`]|``)*`) TO ")
)

// showGrants writes the lines as MySQL does: no verifier, roles with a host,
// dynamic privileges in a line of their own.
func (f *face) showGrants(c *mysql.Conn, q string) (*sqltypes.Result, error) {
	m := account.FindStringSubmatch(q)
	r, err := f.run(c, f.roles(q))
	if err != nil {
		return r, err
	}
	rows := r.Rows[:0]
	for _, row := range altered(r, func(s string) string {
		s = mariaWord.ReplaceAllString(mariaOnly.ReplaceAllString(s, "$2"), "")
		s = strings.Replace(s, "GRANT  ON *.*", "GRANT USAGE ON *.*", 1)
		return roleLine.ReplaceAllString(s, "GRANT $1@`%` TO ")
	}).Rows {
		if line := row[0].ToString(); !strings.HasPrefix(line, "SET DEFAULT ROLE") &&
			!strings.Contains(line, " TO `PUBLIC`") && !strings.Contains(line, "`"+together) {
			rows = append(rows, row)
		}
	}
	if m != nil {
		if d, err := f.ask("SELECT GROUP_CONCAT(PRIV ORDER BY PRIV SEPARATOR ',') FROM mysql8.global_grants " +
			"WHERE USER = " + quote(unquote(m[1])) + " AND HOST = " + quote(unquote(m[2]))); err == nil &&
			!d.Rows[0][0].IsNull() {
			rows = append(rows, []sqltypes.Value{sqltypes.NewVarChar("GRANT " + d.Rows[0][0].ToString() +
				" ON *.* TO `" + unquote(m[1]) + "`@`" + unquote(m[2]) + "`")})
		}
	}
	r.Rows = rows
	return r, nil
}

// Package handover writes the sheet for the team that will use a database: where
// it is and how to connect, in the forms that clients and libraries take.
package handover

import (
	"net/url"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
)

// Login is one account's way into one database.
type Login struct {
	Engine   catalog.Engine
	Host     string
	Port     int
	Database string
	Account  string
	// Password is empty when it is not shown (any more): a blank is left for it.
	Password string
	TLS      catalog.TLSMode
}

// Form is one way of writing a login down.
type Form struct {
	// Name is stable: url, dsn, jdbc, env, options, passwords.
	Name  string
	Title string
	// File is where the text belongs; empty for one that is no file.
	File string
	Text string
}

// Forms writes a login in every form of its engine.
func (l Login) Forms() []Form {
	if l.Engine == catalog.MariaDB {
		return l.mariaDB()
	}
	return l.postgreSQL()
}

func (l Login) address() string {
	host := l.Host
	if strings.Contains(host, ":") {
		host = "[" + host + "]" // IPv6
	}
	return host + ":" + strconv.Itoa(l.Port)
}

// user is the userinfo of a URL; without a password there is none in it.
func (l Login) user() *url.Userinfo {
	if l.Password == "" {
		return url.User(l.Account)
	}
	return url.UserPassword(l.Account, l.Password)
}

func (l Login) url(scheme, option, value string) string {
	u := url.URL{Scheme: scheme, User: l.user(), Host: l.address(), Path: "/" + l.Database, RawQuery: url.Values{option: {value}}.Encode()}
	return u.String()
}

// jdbc writes a JDBC address: the account goes into the query there.
func (l Login) jdbc(scheme, option, value string) string {
	q := url.Values{"user": {l.Account}, option: {value}}
	if l.Password != "" {
		q.Set("password", l.Password)
	}
	return "jdbc:" + scheme + "://" + l.address() + "/" + url.PathEscape(l.Database) + "?" + q.Encode()
}

func (l Login) postgreSQL() []Form {
	mode := map[catalog.TLSMode]string{catalog.TLSRequired: "require", catalog.TLSVerified: "verify-full"}[l.TLS]
	if mode == "" {
		mode = "prefer"
	}
	pairs := [][2]string{{"host", l.Host}, {"port", strconv.Itoa(l.Port)}, {"dbname", l.Database}, {"user", l.Account}, {"password", l.Password}, {"sslmode", mode}}
	var dsn, service []string
	for _, p := range pairs {
		if p[1] == "" {
			continue
		}
		dsn = append(dsn, p[0]+"="+keyValue(p[1]))
		if p[0] != "password" {
			service = append(service, p[0]+"="+p[1])
		}
	}
	env := environment([][2]string{{"PGHOST", l.Host}, {"PGPORT", strconv.Itoa(l.Port)}, {"PGDATABASE", l.Database}, {"PGUSER", l.Account}, {"PGPASSWORD", l.Password}, {"PGSSLMODE", mode}})
	escaped := strings.NewReplacer(`\`, `\\`, ":", `\:`)
	password := escaped.Replace(l.Password)
	if password == "" {
		password = "PASSWORD"
	}
	database, name := escaped.Replace(l.Database), l.Database
	if database == "" {
		database, name = "*", l.Account // any database
	}
	return []Form{
		{"url", "URL", "", l.url("postgresql", "sslmode", mode)},
		{"dsn", "key-value DSN", "", strings.Join(dsn, " ")},
		{"jdbc", "JDBC URL", "", l.jdbc("postgresql", "sslmode", mode)},
		{"env", "environment", "", env},
		{"options", "service file", "~/.pg_service.conf", "[" + section(name) + "]\n" + strings.Join(service, "\n") + "\n"},
		{"passwords", "password file (mode 600)", "~/.pgpass", strings.Join([]string{escaped.Replace(l.Host), strconv.Itoa(l.Port), database, escaped.Replace(l.Account), password}, ":") + "\n"},
	}
}

// section keeps a name from ending the header of a file's section.
func section(name string) string {
	return strings.Map(func(c rune) rune {
		if strings.ContainsRune("[]\n\r", c) {
			return '_'
		}
		return c
	}, name)
}

// keyValue quotes a value of a key-value DSN as libpq reads it.
func keyValue(v string) string {
	if !strings.ContainsAny(v, ` '\`) {
		return v
	}
	return "'" + strings.NewReplacer(`\`, `\\`, `'`, `\'`).Replace(v) + "'"
}

func (l Login) mariaDB() []Form {
	mode := map[catalog.TLSMode]string{catalog.TLSRequired: "trust", catalog.TLSVerified: "verify-full"}[l.TLS]
	if mode == "" {
		mode = "disable"
	}
	var dsn []string
	for _, p := range [][2]string{{"host", l.Host}, {"port", strconv.Itoa(l.Port)}, {"database", l.Database}, {"user", l.Account}, {"password", l.Password}} {
		if p[1] == "" {
			continue
		}
		v := p[1]
		if strings.ContainsAny(v, ` ;="'`) {
			v = `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
		}
		dsn = append(dsn, p[0]+"="+v)
	}
	options := "[client]\nhost=" + option(l.Host) + "\nport=" + strconv.Itoa(l.Port) + "\nuser=" + option(l.Account) + "\n"
	if l.Password != "" {
		options += "password=" + option(l.Password) + "\n"
	} else {
		options += "# password=\n"
	}
	if l.TLS == catalog.TLSRequired || l.TLS == catalog.TLSVerified {
		options += "ssl\n"
	}
	if l.TLS == catalog.TLSVerified {
		options += "ssl-verify-server-cert\n"
	}
	if l.Database != "" {
		options += "\n[mariadb-client]\ndatabase=" + option(l.Database) + "\n"
	}
	return []Form{
		{"url", "URL", "", l.url("mariadb", "sslMode", mode)},
		{"dsn", "key-value DSN", "", strings.Join(dsn, ";")},
		{"jdbc", "JDBC URL", "", l.jdbc("mariadb", "sslMode", mode)},
		{"env", "environment", "", environment([][2]string{{"DB_HOST", l.Host}, {"DB_PORT", strconv.Itoa(l.Port)}, {"DB_NAME", l.Database}, {"DB_USER", l.Account}, {"DB_PASSWORD", l.Password}})},
		{"options", "client option file, with the password (mode 600)", "~/.my.cnf", options},
	}
}

// option quotes a value of an option file: what # and \ mean there is taken away.
func option(v string) string {
	if !strings.ContainsAny(v, " #\\\"'\t") {
		return v
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) + `"`
}

// environment writes lines for a shell, each value in single quotes.
func environment(pairs [][2]string) string {
	var b strings.Builder
	for _, p := range pairs {
		if p[1] != "" {
			b.WriteString(p[0] + "='" + strings.ReplaceAll(p[1], "'", `'\''`) + "'\n")
		}
	}
	return b.String()
}

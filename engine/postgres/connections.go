package postgres

import (
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/handover"
)

// Connections writes one login in the forms of PostgreSQL's clients. Source: the
// manual of libpq, connection strings and the files that it reads.
func (Engine) Connections(l handover.Login) []handover.Form {
	mode := map[catalog.TLSMode]string{catalog.TLSRequired: "require", catalog.TLSVerified: "verify-full"}[l.TLS]
	if mode == "" {
		mode = "prefer"
	}
	pairs := [][2]string{{"host", l.Host}, {"port", strconv.Itoa(l.Port)}, {"dbname", l.Database}, {"user", l.Account},
		{"password", l.Password}, {"sslmode", mode}}
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
	env := handover.Environment([][2]string{{"PGHOST", l.Host}, {"PGPORT", strconv.Itoa(l.Port)},
		{"PGDATABASE", l.Database}, {"PGUSER", l.Account}, {"PGPASSWORD", l.Password}, {"PGSSLMODE", mode}})
	escaped := strings.NewReplacer(`\`, `\\`, ":", `\:`)
	password := escaped.Replace(l.Password)
	if password == "" {
		password = "PASSWORD"
	}
	database, name := escaped.Replace(l.Database), l.Database
	if database == "" {
		database, name = "*", l.Account // any database
	}
	return []handover.Form{
		{Name: "url", Title: "URL", File: "", Text: l.URL("postgresql", "sslmode", mode)},
		{Name: "dsn", Title: "key-value DSN", File: "", Text: strings.Join(dsn, " ")},
		{Name: "jdbc", Title: "JDBC URL", File: "", Text: l.JDBC("postgresql", "sslmode", mode)},
		{Name: "env", Title: "environment", File: "", Text: env},
		{Name: "options", Title: "service file", File: "~/.pg_service.conf",
			Text: "[" + section(name) + "]\n" + strings.Join(service, "\n") + "\n"},
		{Name: "passwords", Title: "password file (mode 600)", File: "~/.pgpass",
			Text: strings.Join([]string{escaped.Replace(l.Host), strconv.Itoa(l.Port), database,
				escaped.Replace(l.Account), password}, ":") + "\n"},
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

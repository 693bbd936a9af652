package mysqlfamily

import (
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/handover"
)

// Connections writes one login in the forms of MariaDB's clients. Source: the manuals
// of its connectors, and of option files.
func (Engine[P]) Connections(l handover.Login) []handover.Form {
	mode := map[catalog.TLSMode]string{catalog.TLSRequired: "trust", catalog.TLSVerified: "verify-full"}[l.TLS]
	if mode == "" {
		mode = "disable"
	}
	var dsn []string
	for _, p := range [][2]string{{"host", l.Host}, {"port", strconv.Itoa(l.Port)}, {"database", l.Database},
		{"user", l.Account}, {"password", l.Password}} {
		if p[1] == "" {
			continue
		}
		v := p[1]
		if strings.ContainsAny(v, ` ;="'`) {
			v = `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
		}
		dsn = append(dsn, p[0]+"="+v)
	}
	options := "[client]\nhost=" + option(l.Host) + "\nport=" + strconv.Itoa(l.Port) + "\nuser=" + option(l.Account) +
		"\n"
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
	return []handover.Form{
		{Name: "url", Title: "URL", File: "", Text: l.URL("mariadb", "sslMode", mode)},
		{Name: "dsn", Title: "key-value DSN", File: "", Text: strings.Join(dsn, ";")},
		{Name: "jdbc", Title: "JDBC URL", File: "", Text: l.JDBC("mariadb", "sslMode", mode)},
		{Name: "env", Title: "environment", File: "",
			Text: handover.Environment([][2]string{{"DB_HOST", l.Host}, {"DB_PORT", strconv.Itoa(l.Port)},
				{"DB_NAME", l.Database}, {"DB_USER", l.Account}, {"DB_PASSWORD", l.Password}})},
		{Name: "options", Title: "client option file, with the password (mode 600)", File: "~/.my.cnf", Text: options},
	}
}

// option quotes a value of an option file: what # and \ mean there is taken away.
func option(v string) string {
	if !strings.ContainsAny(v, " #\\\"'\t") {
		return v
	}
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(v) + `"`
}

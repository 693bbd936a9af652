package mysqlfamily

import (
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/handover"
)

// clientWords are how the clients of a product write a login.
type clientWords struct {
	// scheme begins addresses, tls is the word for the use of TLS in them, and modes are its
	// values: none, required, verified.
	scheme, tls string
	modes       [3]string
	// options are the lines of an option file for TLS, required and verified; client is the part
	// of it that the product's own client reads.
	options [2]string
	client  string
}

// Connections writes one login in the forms of the product's clients. Source: the manuals
// of its connectors, and of option files.
func (e Engine[P]) Connections(l handover.Login) []handover.Form {
	words, used := e.product().clients, 0
	switch l.TLS {
	case catalog.TLSRequired:
		used = 1
	case catalog.TLSVerified:
		used = 2
	}
	mode := words.modes[used]
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
	if used > 0 {
		options += words.options[used-1]
	}
	if l.Database != "" {
		options += "\n[" + words.client + "]\ndatabase=" + option(l.Database) + "\n"
	}
	return []handover.Form{
		{Name: "url", Title: "URL", File: "", Text: l.URL(words.scheme, words.tls, mode)},
		{Name: "dsn", Title: "key-value DSN", File: "", Text: strings.Join(dsn, ";")},
		{Name: "jdbc", Title: "JDBC URL", File: "", Text: l.JDBC(words.scheme, "sslMode", mode)},
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

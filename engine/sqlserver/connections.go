package sqlserver

import (
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/handover"
)

// Connections writes one login in the forms of the engine's own clients. Sources: the manuals of its
// drivers for Go, .NET, Java and ODBC.
func (Engine) Connections(l handover.Login) []handover.Form {
	encrypt, trust := "true", "false"
	switch l.TLS {
	case catalog.TLSOff:
		encrypt = "false"
	case catalog.TLSRequired:
		trust = "true"
	}
	at := l.Host + "," + strconv.Itoa(l.Port)
	yesNo := map[string]string{"true": "yes", "false": "no"}
	title := map[string]string{"true": "True", "false": "False"}
	ado := pairs(";", adoValue, [][2]string{{"Server", "tcp:" + at}, {"Database", l.Database}, {"User ID", l.Account},
		{"Password", l.Password}, {"Encrypt", title[encrypt]}, {"TrustServerCertificate", title[trust]}})
	jdbc := "jdbc:sqlserver://" + l.Host + ":" + strconv.Itoa(l.Port) + ";" +
		pairs(";", jdbcValue, [][2]string{{"databaseName", l.Database}, {"user", l.Account}, {"password", l.Password},
			{"encrypt", encrypt}, {"trustServerCertificate", trust}})
	odbc := "Driver={ODBC Driver 18 for SQL Server};" + pairs(";", odbcValue, [][2]string{{"Server", "tcp:" + at},
		{"Database", l.Database}, {"UID", l.Account}, {"PWD", l.Password}, {"Encrypt", yesNo[encrypt]},
		{"TrustServerCertificate", yesNo[trust]}})
	return []handover.Form{
		{Name: "url", Title: "URL", Text: l.URL("sqlserver", "encrypt", encrypt)},
		{Name: "ado", Title: "ADO.NET", Text: ado},
		{Name: "jdbc", Title: "JDBC URL", Text: jdbc},
		{Name: "odbc", Title: "ODBC", Text: odbc},
		{Name: "env", Title: "environment", Text: handover.Environment([][2]string{{"DB_HOST", l.Host},
			{"DB_PORT", strconv.Itoa(l.Port)}, {"DB_NAME", l.Database}, {"DB_USER", l.Account},
			{"DB_PASSWORD", l.Password}})},
	}
}

// pairs joins what is not empty.
func pairs(end string, quote func(string) string, list [][2]string) string {
	var out []string
	for _, p := range list {
		if p[1] != "" {
			out = append(out, p[0]+"="+quote(p[1]))
		}
	}
	return strings.Join(out, end)
}

// adoValue stands in double quotes where it holds anything that has a meaning.
func adoValue(v string) string {
	if strings.ContainsAny(v, `;"'=`) || strings.TrimSpace(v) != v {
		return `"` + strings.ReplaceAll(v, `"`, `""`) + `"`
	}
	return v
}

// jdbcValue and odbcValue stand in braces.
func jdbcValue(v string) string {
	if strings.ContainsAny(v, `;{}=`) || strings.TrimSpace(v) != v {
		return "{" + strings.ReplaceAll(v, "}", "}}") + "}"
	}
	return v
}

func odbcValue(v string) string {
	if strings.ContainsAny(v, `;{}[]()?*=!@`) || strings.TrimSpace(v) != v {
		return "{" + strings.ReplaceAll(v, "}", "}}") + "}"
	}
	return v
}

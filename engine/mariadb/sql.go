package mariadb

import "strings"

// quoteIdent writes a name as a back-quoted identifier, right in every sql_mode.
func quoteIdent(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// quoteText writes a text literal for the sql_mode that every connection sets:
// without NO_BACKSLASH_ESCAPES, so a backslash is doubled.
func quoteText(text string) string {
	return "'" + strings.ReplaceAll(strings.ReplaceAll(text, `\`, `\\`), "'", "''") + "'"
}

// quoteAccount writes an account as 'name'@'host'.
func quoteAccount(name, host string) string { return quoteText(name) + "@" + quoteText(host) }

// escapePattern writes a database name so that a grant opens that database
// alone: in a grant _ and % are wildcards, and \ takes their meaning away.
func escapePattern(name string) string {
	return strings.NewReplacer(`\`, `\\`, `_`, `\_`, `%`, `\%`).Replace(name)
}

// matches reports whether the database pattern of a grant opens the database
// with this name: _ is any one character, % any number, \ makes the next plain.
func matches(pattern, name string) bool { return matchRunes([]rune(pattern), []rune(name)) }

func matchRunes(p, n []rune) bool {
	for len(p) > 0 {
		switch c := p[0]; {
		case c == '%':
			for i := 0; i <= len(n); i++ {
				if matchRunes(p[1:], n[i:]) {
					return true
				}
			}
			return false
		case len(n) == 0:
			return false
		case c == '\\' && len(p) > 1:
			p = p[1:]
			if p[0] != n[0] {
				return false
			}
		case c != '_' && c != n[0]:
			return false
		}
		p, n = p[1:], n[1:]
	}
	return len(n) == 0
}

func createDatabase(name, encoding, collation, comment string) string {
	text := "CREATE DATABASE " + quoteIdent(name) + "\n  CHARACTER SET " + encoding + "\n  COLLATE " + collation
	if comment != "" {
		text += "\n  COMMENT " + quoteText(comment)
	}
	return text
}

func dropDatabase(name string) string { return "DROP DATABASE " + quoteIdent(name) }

// ownPrivileges is the bundle own: everything that can be given on one
// database. DROP is among them, for tables cannot be dropped without it; so its
// holder could drop the database itself, which the brief says.
var ownPrivileges = []string{"SELECT", "INSERT", "UPDATE", "DELETE", "CREATE", "DROP", "REFERENCES", "INDEX", "ALTER",
	"CREATE TEMPORARY TABLES", "LOCK TABLES", "CREATE VIEW", "SHOW VIEW", "CREATE ROUTINE", "ALTER ROUTINE", "EXECUTE",
	"EVENT", "TRIGGER", "DELETE HISTORY"}

func grantOwn(database, name, host string) string {
	return "GRANT " + strings.Join(ownPrivileges, ", ") + "\n  ON " + quoteIdent(escapePattern(database)) + ".*\n  TO " + quoteAccount(name, host)
}

func revokeOwn(database, name, host string) string {
	return "REVOKE " + strings.Join(ownPrivileges, ", ") + "\n  ON " + quoteIdent(escapePattern(database)) + ".*\n  FROM " + quoteAccount(name, host)
}

// directoryLength is how many bytes the server's folder for a database takes:
// letters, digits and _ stay, everything else becomes five bytes.
func directoryLength(name string) int {
	n := 0
	for _, c := range name {
		if c == '_' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z' {
			n++
		} else {
			n += 5
		}
	}
	return n
}

// system lists the server's own databases, compared with case.
var system = []string{"information_schema", "mysql", "performance_schema", "sys"}

// The marker: a small table by which a server is known for certain, since
// nothing that MariaDB tells of itself survives a copy or a move.
const (
	markerDatabase = "genarch_identity"
	markerTable    = "marker"
)

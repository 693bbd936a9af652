package mysqlfamily

import "strings"

// quoteIdent writes a name as a back-quoted identifier, right in every sql_mode.
func quoteIdent(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// quoteText writes a text literal for the sql_mode that every connection sets:
// without NO_BACKSLASH_ESCAPES, so a backslash is doubled.
func quoteText(text string) string {
	return "'" + strings.ReplaceAll(strings.ReplaceAll(text, `\`, `\\`), "'", "''") + "'"
}

// quoteWord writes the name of a character set or collation: as it is where it is a word, else
// as a text, which the server takes for a name too. What was noted of a database that waits
// can be anything.
func quoteWord(name string) string {
	for _, c := range name {
		if c != '_' && (c < '0' || c > '9') && (c < 'a' || c > 'z') && (c < 'A' || c > 'Z') {
			return quoteText(name)
		}
	}
	return name
}

// quoteAccount writes an account as 'name'@'host'.
func quoteAccount(name, host string) string { return quoteText(name) + "@" + quoteText(host) }

func createDatabase(name, encoding, collation, comment string) string {
	text := "CREATE DATABASE " + quoteIdent(name) + "\n  CHARACTER SET " + quoteWord(encoding) +
		"\n  COLLATE " + quoteWord(collation)
	if comment != "" {
		text += "\n  COMMENT " + quoteText(comment)
	}
	return text
}

// alterCharacters sets what later tables get: one alone would reset the other.
func alterCharacters(name, encoding, collation string) string {
	return "ALTER DATABASE " + quoteIdent(name) + "\n  CHARACTER SET " + quoteWord(encoding) +
		"\n  COLLATE " + quoteWord(collation)
}

// alterCollation sets the character set too: a collation belongs to one.
func alterCollation(name, collation string) string {
	return "ALTER DATABASE " + quoteIdent(name) + " COLLATE " + quoteText(collation)
}

func alterComment(name, comment string) string {
	return "ALTER DATABASE " + quoteIdent(name) + " COMMENT " + quoteText(comment)
}

// inOracleMode sends a statement that only the grammar of sql_mode ORACLE has: those that
// name a package. SET STATEMENT alone comes too late, as the text is read before it.
func inOracleMode(text string) string {
	return "SET STATEMENT sql_mode = 'ORACLE' FOR EXECUTE IMMEDIATE " + quoteText(text)
}

func dropDatabase(name string) string { return "DROP DATABASE " + quoteIdent(name) }

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

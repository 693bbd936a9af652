package mysql

import (
	"regexp"
	"strings"

	"github.com/dolthub/vitess/go/mysql"
)

func refuse(number int, state, format string, args ...any) error {
	return mysql.NewSQLError(number, state, format, args...)
}

// refused are MariaDB's own words: what a MySQL server says to them.
var refused = []struct {
	what   *regexp.Regexp
	number int
	state  string
	text   string
}{
	{regexp.MustCompile(`(?is)^SET\s+STATEMENT\b|^BEGIN\s+NOT\s+ATOMIC|\bIDENTIFIED\s+VIA\b` +
		`|^CREATE\s+OR\s+REPLACE\s+(DATABASE|SCHEMA|USER|ROLE)\b|^KILL\s+(SOFT|HARD|USER|QUERY\s+ID)\b` +
		`|^KILL\s+\w+\s+(USER|ID)\b|^SET\s+DEFAULT\s+ROLE\s.*\sFOR\s|\bWITH\s+ADMIN\s+(CURRENT|'|` + "`" +
		`|\w+@)|^(CREATE|ALTER)\s+(DATABASE|SCHEMA)\s.*\bCOMMENT\b|\bDELETE\s+HISTORY\b|\b(CONNECTION|READ_ONLY` +
		`|BINLOG)\s+ADMIN\b|^XA\s+RECOVER\s+FORMAT|^BACKUP\s+STAGE|^SHOW\s+ALL\s+|^INSTALL\s+SONAME` +
		`|^GRANT\s.*\bTO\s+PUBLIC\b|^RENAME\s+TABLE\s.*\s(WAIT|NOWAIT)\b|^GRANT\s.*\sIDENTIFIED\s`),
		1064, "42000", "You have an error in your SQL syntax; check the manual that corresponds to your MySQL " +
			"server version for the right syntax to use near '%s' at line 1"},
	{regexp.MustCompile(`(?i)sql_mode\s*=\s*'[^']*NO_AUTO_CREATE_USER`), 1231, "42000",
		"Variable 'sql_mode' can't be set to the value of 'NO_AUTO_CREATE_USER'"},
	{regexp.MustCompile(`(?i)\b(@@(\w+\.)?)?(max_statement_time|server_uid|wsrep_\w+|strict_password_validation` +
		`|extra_port|extra_max_connections|have_ssl84)\b`), 1193, "HY000", "Unknown system variable '%[2]s'"},
	{regexp.MustCompile(`(?i)\binformation_schema\.(GLOBAL_STATUS|SESSION_STATUS|GLOBAL_VARIABLES|SESSION_VARIABLES` +
		`|INNODB_LOCKS|INNODB_LOCK_WAITS|INNODB_SYS_\w+|METADATA_LOCK_INFO)\b`), 1109, "42S02",
		"Unknown table '%[3]s' in information_schema"},
	{regexp.MustCompile(`(?i)\bmysql\.(global_priv|roles_mapping)\b`), 1146, "42S02", "Table '%[2]s' doesn't exist"},
	{regexp.MustCompile(`(?i)\bmysql\.(schemata|tables|columns|tablespaces)\b`), 3554, "HY000",
		"Access to data dictionary table '%[2]s' is rejected."},
	{regexp.MustCompile(`(?i)\b(SCHEMA_COMMENT|FULL_COLLATION_NAME)\b`), 1054, "42S22",
		"Unknown column '%[2]s' in 'field list'"},
}

func checkWords(q string) error {
	bare := blankTexts(q)
	for _, r := range refused {
		text := bare
		if r.number == 1231 {
			text = q
		}
		if at := r.what.FindStringIndex(text); at != nil {
			near := q[at[0]:min(len(q), at[0]+60)]
			word := strings.TrimPrefix(q[at[0]:at[1]], "@@")
			last := word[strings.LastIndexByte(word, '.')+1:]
			switch {
			case strings.Contains(r.text, "%[3]"):
				return refuse(r.number, r.state, strings.Replace(r.text, "%[3]s", "%s", 1), last)
			case strings.Contains(r.text, "%[2]"):
				return refuse(r.number, r.state, strings.Replace(r.text, "%[2]s", "%s", 1), word)
			case strings.Contains(r.text, "%s"):
				return refuse(r.number, r.state, r.text, near)
			}
			return refuse(r.number, r.state, "%s", r.text)
		}
	}
	return nil
}

// blankTexts replaces what stands in single quotes, byte for byte.
func blankTexts(q string) string {
	b := []byte(q)
	in := byte(0)
	for i := 0; i < len(b); i++ {
		switch {
		case in == 0 && (b[i] == '\'' || b[i] == '`'):
			in = b[i]
		case in == '\'' && b[i] == '\\' && i+1 < len(b):
			b[i], b[i+1] = '_', '_'
			i++
		case in != 0 && b[i] == in:
			in = 0
		case in == '\'':
			b[i] = '_'
		}
	}
	return string(b)
}

var catalogues = []struct {
	what *regexp.Regexp
	with string
}{
	{regexp.MustCompile(`(?i)\bmysql\.(user|role_edges|default_roles|global_grants|password_history|db)\b`),
		"mysql8.$1"},
	{regexp.MustCompile(`(?i)\binformation_schema\.(SCHEMATA|SCHEMATA_EXTENSIONS|USER_ATTRIBUTES|APPLICABLE_ROLES` +
		`|PROCESSLIST|COLLATION_CHARACTER_SET_APPLICABILITY|CHARACTER_SETS|USER_PRIVILEGES|PLUGINS)\b`), "mysql8.$1"},
	{regexp.MustCompile(`(?i)\bperformance_schema\.(processlist|metadata_locks|data_lock_waits` +
		`|replication_group_members|replication_connection_status|tls_channel_status)\b`), "mysql8.$1"},
	{regexp.MustCompile(`(?i)\binformation_schema\.(INNODB_TABLESPACES)\b`),
		"information_schema.INNODB_SYS_TABLESPACES"},
	{regexp.MustCompile(`(?i)\binformation_schema\.(INNODB_FOREIGN)\b`), "information_schema.INNODB_SYS_FOREIGN"},
}

var versionCall = regexp.MustCompile(`(?i)\b(VERSION\(\)|@@version)(\W|$)`)
var variable = regexp.MustCompile(`(?i)@@(?:global\.|session\.)?([a-z0-9_]+)`)

// assigned is a mode that is set: by its name alone, so that it is not taken for one that is read.
var assigned = regexp.MustCompile(`(?i)@@(sql_mode\s*=)`)
var onlyMySQL = regexp.MustCompile(`(?i)(,\s*)?\b(max_execution_time|print_identified_with_as_hex` +
	`|information_schema_stats_expiry)\s*=\s*[^,]+(,\s*)?`)
var modes = regexp.MustCompile(`(?i)\bsql_mode\s*=\s*'([^']*)'`)
var noWait = regexp.MustCompile(`(?i)\block_wait_timeout\s*=\s*0\b`)

func (f *face) rewrite(q string) string {
	for _, c := range catalogues {
		q = c.what.ReplaceAllStringFunc(q, func(m string) string {
			out := c.what.ReplaceAllString(m, c.with)
			if strings.HasPrefix(out, "mysql8.") {
				out = strings.ToLower(out)
			}
			return out
		})
	}
	if strings.HasPrefix(strings.ToUpper(q), "SET ") {
		q = onlyMySQL.ReplaceAllStringFunc(q, func(m string) string {
			if strings.HasPrefix(m, ",") && strings.HasSuffix(strings.TrimSpace(m), ",") {
				return ", "
			}
			return ""
		})
		if strings.TrimSpace(strings.ToUpper(q)) == "SET SESSION" || strings.TrimSpace(strings.ToUpper(q)) == "SET" {
			return "DO 1"
		}
		// Behind, GRANT must not make accounts.
		q = modes.ReplaceAllString(q, "sql_mode = '$1,NO_AUTO_CREATE_USER'")
		q = noWait.ReplaceAllString(q, "lock_wait_timeout = 1")
	}
	q = versionCall.ReplaceAllString(q, "'"+f.version+"'$2")
	q = assigned.ReplaceAllString(q, "$1")
	q = variable.ReplaceAllStringFunc(q, func(m string) string {
		name := strings.ToLower(variable.FindStringSubmatch(m)[1])
		if v := f.variable(name); v != "" {
			return v
		}
		if name == "sql_mode" {
			return "REPLACE(" + m + ", ',NO_AUTO_CREATE_USER', '')"
		}
		return m
	})
	return q
}

// quoted matches an account: 'name'@'host', each part quoted in either way.
const part = "('(?:[^'\\\\]|''|\\\\.)*'|`(?:[^`]|``)*`)"

var account = regexp.MustCompile(part + `\s*@\s*` + part)

func unquote(s string) string {
	q := s[:1]
	s = strings.ReplaceAll(s[1:len(s)-1], q+q, q)
	if q == "'" {
		s = strings.NewReplacer(`\\`, `\`, `\'`, `'`).Replace(s)
	}
	return s
}

func quote(s string) string {
	return "'" + strings.ReplaceAll(strings.ReplaceAll(s, `\`, `\\`), "'", "''") + "'"
}

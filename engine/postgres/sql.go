package postgres

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
)

// quoteIdent writes a name as a quoted identifier, correct whatever is in it.
// NUL, which no server can store, is refused by the name rule before.
func quoteIdent(name string) string {
	return `"` + strings.ReplaceAll(name, `"`, `""`) + `"`
}

// quoteText writes a text literal. With a backslash in it the E form is taken,
// so that it is right whatever standard_conforming_strings says.
func quoteText(text string) string {
	quoted := strings.ReplaceAll(text, "'", "''")
	if strings.Contains(quoted, `\`) {
		return ` E'` + strings.ReplaceAll(quoted, `\`, `\\`) + `'`
	}
	return `'` + quoted + `'`
}

// createDatabase renders the statement from what was asked for and what it all comes
// to: what nobody asked for is left to the server, what decides on the text in it is
// always written. It is sent alone: a transaction or a second statement beside it is
// refused by the server.
func createDatabase(name string, asked, settled catalog.Values) string {
	var b strings.Builder
	b.WriteString("CREATE DATABASE " + quoteIdent(name) + " WITH")
	add := func(option, value string) { fmt.Fprintf(&b, "\n  %s = %s", option, strings.TrimSpace(value)) }
	text := func(option, name string, quote func(string) string) {
		if value := settled.Text(name); value != "" {
			add(option, quote(value))
		}
	}
	plain := func(s string) string { return s }
	text("OWNER", "owner", quoteIdent)
	text("TEMPLATE", "template", quoteIdent)
	if asked.Has("strategy") {
		text("STRATEGY", "strategy", strings.ToUpper)
	}
	text("ENCODING", "encoding", quoteText)
	text("LOCALE_PROVIDER", "provider", plain)
	text("LC_COLLATE", "collation", quoteText)
	text("LC_CTYPE", "ctype", quoteText)
	switch settled.Text("provider") {
	case providerICU:
		text("ICU_LOCALE", "locale", quoteText)
	case providerBuiltin:
		text("BUILTIN_LOCALE", "locale", quoteText)
	}
	if asked.Has("tablespace") {
		text("TABLESPACE", "tablespace", quoteIdent)
	}
	if asked.Has("allow_connections") {
		add("ALLOW_CONNECTIONS", strconv.FormatBool(settled.Bool("allow_connections")))
	}
	if asked.Has("connection_limit") {
		add("CONNECTION LIMIT", limitNumber(settled["connection_limit"]))
	}
	if asked.Has("is_template") {
		add("IS_TEMPLATE", strconv.FormatBool(settled.Bool("is_template")))
	}
	return b.String()
}

func dropDatabase(name string) string { return "DROP DATABASE " + quoteIdent(name) }

// alterDatabase sets one option of a database that is there.
func alterDatabase(name, option string, value any) string {
	text := "ALTER DATABASE " + quoteIdent(name)
	switch option {
	case "owner":
		return text + " OWNER TO " + quoteIdent(catalog.WriteValue(value))
	case "connection_limit":
		return text + " CONNECTION LIMIT " + limitNumber(value)
	case "allow_connections":
		return text + " ALLOW_CONNECTIONS " + strconv.FormatBool(value == true)
	case "is_template":
		return text + " IS_TEMPLATE " + strconv.FormatBool(value == true)
	}
	panic("no statement sets the option " + option)
}

// setParameter sets a setting with which new sessions in a database begin, or takes
// it away.
func setParameter(database, name, value string, set bool) string {
	text := "ALTER DATABASE " + quoteIdent(database)
	if !set {
		return text + " RESET " + quoteIdent(name)
	}
	return text + " SET " + quoteIdent(name) + " TO " + settingValue(name, value)
}

// listSettings take a list of names, each quoted by itself: one text that holds them
// all would be one name. Source: GUC_LIST_QUOTE in the server's guc tables.
var listSettings = []string{"local_preload_libraries", "search_path", "session_preload_libraries",
	"shared_preload_libraries", "temp_tablespaces",
	"unix_socket_directories"}

// settingValue writes the value of a setting.
func settingValue(name, value string) string {
	if !slices.Contains(listSettings, strings.ToLower(name)) {
		return strings.TrimSpace(quoteText(value))
	}
	var out []string
	for _, element := range settingList(value) {
		out = append(out, strings.TrimSpace(quoteText(element)))
	}
	if len(out) == 0 {
		return "''"
	}
	return strings.Join(out, ", ")
}

// settingList reads a list of names as the server does: a name in double quotes
// stands as it is, others in lower case, and commas stand between them.
func settingList(value string) []string {
	var out []string
	for rest := strings.TrimSpace(value); rest != ""; {
		var name string
		if rest[0] == '"' {
			i := 1
			for i < len(rest) {
				if rest[i] != '"' {
					i++
				} else if i+1 < len(rest) && rest[i+1] == '"' {
					i += 2
				} else {
					break
				}
			}
			name, rest = strings.ReplaceAll(rest[1:i], `""`, `"`), rest[min(i+1, len(rest)):]
			_, rest, _ = strings.Cut(rest, ",")
		} else {
			name, rest, _ = strings.Cut(rest, ",")
			name = strings.ToLower(strings.TrimSpace(name))
		}
		out = append(out, name)
		rest = strings.TrimSpace(rest)
	}
	return out
}

// sameSetting compares two values of a setting.
func sameSetting(name, x, y string) bool {
	if slices.Contains(listSettings, strings.ToLower(name)) {
		return slices.Equal(settingList(x), settingList(y))
	}
	return x == y
}

// commentOnDatabase sets the comment; an empty one takes it away.
func commentOnDatabase(name, comment string) string {
	text := "NULL"
	if comment != "" {
		text = strings.TrimSpace(quoteText(comment))
	}
	return "COMMENT ON DATABASE " + quoteIdent(name) + " IS " + text
}

// The providers of a database's locale.
const (
	providerLibc    = "libc"
	providerICU     = "icu"
	providerBuiltin = "builtin"
)

// keyOf writes an oid as a key, and oidOf reads it back; a key that is none is the oid
// that nothing has.
func keyOf[N int64 | uint32](oid N) string { return strconv.FormatInt(int64(oid), 10) }

func oidOf(key string) uint32 {
	oid, _ := strconv.ParseUint(key, 10, 32)
	return uint32(oid)
}

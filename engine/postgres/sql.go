package postgres

import (
	"fmt"
	"strconv"
	"strings"
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

// creation is every option of CREATE DATABASE; empty ones are left out.
type creation struct {
	name, owner, template, encoding, provider, collate, ctype, locale string
	tablespace, strategy                                              string
	limit                                                             *int
	allow, isTemplate                                                 *bool
}

// createDatabase renders the statement. It is sent alone: a transaction or a
// second statement beside it is refused by the server.
func createDatabase(c creation) string {
	var b strings.Builder
	b.WriteString("CREATE DATABASE " + quoteIdent(c.name) + " WITH")
	add := func(option, value string) {
		if value != "" {
			fmt.Fprintf(&b, "\n  %s = %s", option, strings.TrimSpace(value))
		}
	}
	ident := func(name string) string {
		if name == "" {
			return ""
		}
		return quoteIdent(name)
	}
	text := func(s string) string {
		if s == "" {
			return ""
		}
		return quoteText(s)
	}
	add("OWNER", ident(c.owner))
	add("TEMPLATE", ident(c.template))
	add("STRATEGY", strings.ToUpper(c.strategy))
	add("ENCODING", text(c.encoding))
	add("LOCALE_PROVIDER", c.provider)
	add("LC_COLLATE", text(c.collate))
	add("LC_CTYPE", text(c.ctype))
	switch c.provider {
	case providerICU:
		add("ICU_LOCALE", text(c.locale))
	case providerBuiltin:
		add("BUILTIN_LOCALE", text(c.locale))
	}
	add("TABLESPACE", ident(c.tablespace))
	if c.allow != nil {
		add("ALLOW_CONNECTIONS", strconv.FormatBool(*c.allow))
	}
	if c.limit != nil {
		add("CONNECTION LIMIT", strconv.Itoa(*c.limit))
	}
	if c.isTemplate != nil {
		add("IS_TEMPLATE", strconv.FormatBool(*c.isTemplate))
	}
	return b.String()
}

func dropDatabase(name string) string { return "DROP DATABASE " + quoteIdent(name) }

func commentOnDatabase(name, comment string) string {
	return "COMMENT ON DATABASE " + quoteIdent(name) + " IS " + strings.TrimSpace(quoteText(comment))
}

func removeComment(name string) string { return "COMMENT ON DATABASE " + quoteIdent(name) + " IS NULL" }

// The providers of a database's locale.
const (
	providerLibc    = "libc"
	providerICU     = "icu"
	providerBuiltin = "builtin"
)

package mysqlfamily

import (
	"strings"

	"example.com/genarch/core/lexical"
	"example.com/genarch/core/script"
)

// modifiers stand between CREATE and what is created.
var modifiers = []string{"OR", "REPLACE", "TEMPORARY", "UNIQUE", "FULLTEXT", "SPATIAL", "AGGREGATE", "ONLINE",
	"OFFLINE",
	"IGNORE"}

const letters = "abcdefghijklmnopqrstuvwxyz_"

// readName writes a name as the server keeps it.
func readName(t lexical.Token) (string, bool) {
	switch {
	case t.Kind == lexical.Name && t.Text[0] == '`':
		return strings.ReplaceAll(t.Text[1:len(t.Text)-1], "``", "`"), true
	case t.Kind == lexical.Name:
		return strings.ReplaceAll(t.Text[1:len(t.Text)-1], `""`, `"`), true
	case t.Kind == lexical.Other && (len(t.Text) > 1 || strings.Trim(strings.ToLower(t.Text), letters) == ""):
		return t.Text, true
	}
	return "", false
}

// readPart writes a part of an account, which can be a text too.
func readPart(t lexical.Token) (string, bool) {
	if t.Kind == lexical.Text {
		q := t.Text[:1]
		return strings.ReplaceAll(t.Text[1:len(t.Text)-1], q+q, q), true
	}
	return readName(t)
}

// definer is where a DEFINER clause stands among the words of a statement that creates; both
// 0: there is none.
func definer(w lexical.Words) (from, to int, account string) {
	if !w.Is(0, "CREATE") {
		return 0, 0, ""
	}
	at := 1
	at = w.Pass(at, "OR", "REPLACE", "ALGORITHM", "=", "UNDEFINED", "MERGE", "TEMPTABLE", "AGGREGATE")
	if !w.Is(at, "DEFINER", "=") {
		return 0, 0, ""
	}
	from = at
	at += 2
	name, ok := "", false
	if at < len(w) {
		name, ok = readPart(w[at].Token)
	}
	if !ok {
		return 0, 0, ""
	}
	at++
	if w.Is(at, "(", ")") {
		at += 2
	}
	if w.Is(at, "@") && at+1 < len(w) {
		host, ok := readPart(w[at+1].Token)
		if !ok {
			return 0, 0, ""
		}
		name += "@" + host
		at += 2
		for w.Is(at, ".") && at+1 < len(w) { // a host without quotes
			name += "." + w[at+1].Text
			at += 2
		}
	}
	return from, at, name
}

// undefined is a statement's text without its DEFINER clause.
func undefined(text string, w lexical.Words) string {
	from, to, _ := definer(w)
	if to == 0 || to >= len(w) {
		return text
	}
	last := w[to-1]
	return text[:w[from].At] + text[last.At+len(last.Text):]
}

// judge says what a statement is, and what is to be known of it before it is run.
//
// Long: a list of what statements do.
func judge(st *script.Statement, w lexical.Words) {
	mark := func(m script.Mark) { st.Marks = append(st.Marks, m) }
	name := func(role script.Role, schema, text string) {
		st.Names = append(st.Names, script.Name{Role: role, Schema: schema, Text: text})
	}
	if from, to, account := definer(w); to > 0 {
		name(script.Definer, "", account)
		st.Text = undefined(st.Text, w)
		w = append(append(lexical.Words{}, w[:from]...), w[to:]...)
	}
	if at := w.Find(0, "SQL", "SECURITY"); at > 0 && w.Is(0, "CREATE") && at < 8 {
		w = append(append(lexical.Words{}, w[:at]...), w[min(len(w), at+3):]...)
	}
	if w.Is(0, "CREATE", "ALGORITHM", "=") {
		w = append(lexical.Words{w[0]}, w[min(len(w), 4):]...)
	}
	st.Kind = w.Kind(modifiers)
	for _, t := range w {
		if t.Kind == lexical.Other && strings.ContainsAny(t.Text, "“”‘’„") {
			mark(script.Typographic)
			break
		}
	}
	if len(w) == 0 {
		st.Kind, st.Text = "", "" // only a comment
		return
	}
	judgeTransaction(w, mark)
	judgeOutside(st, w, mark)
	at := w.Pass(1, modifiers...)
	switch {
	case w.Is(0, "CREATE") && w.Is(at, "TABLE"):
		at++
		present := w.PassIf(at, "IF", "NOT", "EXISTS")
		if schema, table, _, ok := w.Called(present, readName); ok && w.Find(1, "TEMPORARY") != 1 {
			otherDatabase(schema, name)
			if present == at && !w.Is(1, "OR", "REPLACE") {
				name(script.Makes, schema, table)
			} else if present == at {
				name(script.Replaces, schema, table)
			}
		}
	case w.Is(0, "CREATE") && w.Any(at, "VIEW", "PROCEDURE", "FUNCTION", "TRIGGER", "EVENT", "PACKAGE") != "":
		mark(script.Defines)
	case w.Is(0, "DROP", "TABLE"):
		at := w.PassIf(2, "IF", "EXISTS")
		role := script.Drops
		if at > 2 {
			role = script.Replaces
		}
		for {
			schema, table, next, ok := w.Called(at, readName)
			if !ok {
				break
			}
			otherDatabase(schema, name)
			name(role, schema, table)
			if !w.Is(next, ",") {
				break
			}
			at = next + 1
		}
	case w.Any(0, "INSERT", "REPLACE", "DELETE") != "", w.Is(0, "ALTER", "TABLE"), w.Is(0, "TRUNCATE"):
		at := w.Pass(1, "LOW_PRIORITY", "DELAYED", "HIGH_PRIORITY", "QUICK", "IGNORE", "INTO", "FROM", "TABLE",
			"ONLINE")
		if schema, _, _, ok := w.Called(at, readName); ok {
			otherDatabase(schema, name)
		}
	}
}

// otherDatabase notes the database that stands before a table.
func otherDatabase(schema string, name func(script.Role, string, string)) {
	if schema != "" {
		name(script.Database, "", schema)
	}
}

// judgeTransaction finds what begins or ends a transaction, or what the server ends one for
// (its documentation: "SQL statements that cause an implicit commit").
func judgeTransaction(w lexical.Words, mark func(script.Mark)) {
	auto := w.Is(0, "SET") && setsVariable(w, "autocommit")
	switch {
	case w.Any(0, "BEGIN", "COMMIT", "ROLLBACK", "XA") != "" && !w.Is(1, "TO") && !w.Is(2, "TO"),
		w.Is(0, "START", "TRANSACTION"), auto:
		mark(script.Transaction)
	case w.Any(0, "INSERT", "REPLACE", "UPDATE", "DELETE", "SELECT", "WITH", "VALUES", "SET", "DO", "SAVEPOINT",
		"ROLLBACK", "SHOW", "EXPLAIN") == "":
		mark(script.Alone)
	}
}

// judgeOutside finds what is about more than one database, and what reaches a machine.
func judgeOutside(st *script.Statement, w lexical.Words, mark func(script.Mark)) {
	verb := w.Any(0, "CREATE", "ALTER", "DROP", "RENAME")
	at := w.Pass(1, modifiers...)
	switch {
	case w.Is(0, "LOAD") && w.Find(1, "LOCAL") > 0:
		mark(script.Refused)
	case w.Is(0, "LOAD"), w.Find(1, "INTO", "OUTFILE") > 0, w.Find(1, "INTO", "DUMPFILE") > 0:
		mark(script.Outside)
	case verb != "" && w.Any(at, "DATABASE", "SCHEMA") != "":
		if _, name, _, ok := w.Called(at+1, readName); ok && verb == "ALTER" {
			st.Names = append(st.Names, script.Name{Role: script.Database, Text: name})
		} else {
			mark(script.Outside)
		}
	case verb != "" && w.Any(at, "USER", "ROLE", "SERVER", "TABLESPACE", "LOGFILE") != "",
		w.Any(0, "FLUSH", "RESET", "PURGE", "CHANGE", "KILL", "SHUTDOWN", "INSTALL", "UNINSTALL",
			"BACKUP", "BINLOG") != "",
		w.Any(0, "START", "STOP") != "" && w.Any(1, "SLAVE", "REPLICA", "ALL") != "":
		mark(script.Outside)
	case w.Any(0, "GRANT", "REVOKE") != "":
		mark(script.Outside)
	case w.Is(0, "SET"):
		if w.Any(1, "GLOBAL", "PASSWORD", "ROLE", "PERSIST") != "" || w.Is(1, "DEFAULT", "ROLE") ||
			w.Is(1, "@", "@", "GLOBAL") || setsVariable(w, "sql_log_bin") {
			mark(script.Outside)
		}
	}
}

// setsVariable reports whether SET gives a variable a value, and does not only read it.
func setsVariable(w lexical.Words, name string) bool {
	i := w.Find(1, name)
	return i > 0 && (w.Is(i+1, "=") || w.Is(i+1, ":", "="))
}

package postgres

import (
	"strings"

	"example.com/genarch/core/lexical"
	"example.com/genarch/core/script"
)

// modifiers stand between CREATE and what is created.
var modifiers = []string{"OR", "REPLACE", "GLOBAL", "LOCAL", "TEMP", "TEMPORARY", "UNLOGGED", "UNIQUE", "RECURSIVE",
	"TRUSTED", "PROCEDURAL", "CONSTRAINT"}

// readName writes a name as the server keeps it.
func readName(t lexical.Token) (string, bool) {
	switch {
	case t.Kind == lexical.Name:
		return strings.ReplaceAll(t.Text[1:len(t.Text)-1], `""`, `"`), true
	case t.Kind == lexical.Other && (len(t.Text) > 1 || isLetter(t.Text)):
		return strings.ToLower(t.Text), true
	}
	return "", false
}

func isLetter(s string) bool {
	return len(s) == 1 && (s[0] == '_' || s[0]|0x20 >= 'a' && s[0]|0x20 <= 'z')
}

// takesRows reports whether rows follow the statement in the script: COPY … FROM STDIN.
func takesRows(w lexical.Words) bool {
	at := outsideParens(w, "FROM")
	return w.Is(0, "COPY") && at > 0 && w.Is(at+1, "STDIN")
}

// outsideParens is where a word stands first outside of parentheses; -1: nowhere.
func outsideParens(w lexical.Words, word string) int {
	depth := 0
	for i := range w {
		switch {
		case w.Is(i, "("):
			depth++
		case w.Is(i, ")"):
			depth--
		case depth == 0 && w.Is(i, word):
			return i
		}
	}
	return -1
}

// temporary reports whether a table that is created goes with the session.
func temporary(w lexical.Words) bool {
	for i := 1; i < w.Find(1, "TABLE"); i++ {
		if w.Any(i, "TEMP", "TEMPORARY") != "" {
			return true
		}
	}
	return false
}

// judge says what a statement is, and what is to be known of it before it is run.
func judge(st *script.Statement, w lexical.Words) {
	st.Kind = w.Kind(modifiers)
	mark := func(m script.Mark) { st.Marks = append(st.Marks, m) }
	for _, t := range w {
		if t.Kind == lexical.Other && strings.ContainsAny(t.Text, "“”‘’„") {
			mark(script.Typographic)
			break
		}
	}
	judgeTransaction(st, w, mark)
	judgeOutside(st, w, mark)
	switch w.Upper(0) {
	case "COPY":
		judgeCopy(w, mark)
	case "CREATE":
		at := w.Pass(1, modifiers...)
		if w.Is(at, "TABLE") {
			at++
			present := w.PassIf(at, "IF", "NOT", "EXISTS")
			if schema, name, _, ok := w.Called(present, readName); ok && present == at && !temporary(w) {
				st.Names = append(st.Names, script.Name{Role: script.Makes, Schema: schema, Text: name})
			}
		}
	case "DROP":
		if w.Is(1, "TABLE") {
			at := w.PassIf(2, "IF", "EXISTS")
			role := script.Drops
			if at > 2 {
				role = script.Replaces
			}
			for {
				schema, name, next, ok := w.Called(at, readName)
				if !ok {
					break
				}
				st.Names = append(st.Names, script.Name{Role: role, Schema: schema, Text: name})
				if !w.Is(next, ",") {
					break
				}
				at = next + 1
			}
		}
	case "ALTER":
		if i := w.Find(2, "OWNER", "TO"); i > 0 && !w.Is(1, "DEFAULT") {
			mark(script.GivesAway)
			if _, name, _, ok := w.Called(i+2, readName); ok {
				st.Names = append(st.Names, script.Name{Role: script.Owner, Text: name})
			}
		}
		if w.Is(1, "DEFAULT", "PRIVILEGES") {
			mark(script.Grants)
		}
	case "GRANT", "REVOKE":
		mark(script.Grants)
	}
}

func judgeCopy(w lexical.Words, mark func(script.Mark)) {
	at := outsideParens(w, "FROM")
	if at < 0 {
		at = outsideParens(w, "TO")
	}
	if at < 0 || !w.Is(at, "FROM") || !w.Is(at+1, "STDIN") {
		mark(script.Refused) // a file or a program of the server's machine, or rows that nobody takes
	}
}

// judgeTransaction finds what begins, ends or does without a transaction.
func judgeTransaction(st *script.Statement, w lexical.Words, mark func(script.Mark)) {
	switch {
	case w.Any(0, "BEGIN", "COMMIT", "END", "ROLLBACK", "ABORT") != "", w.Is(0, "START", "TRANSACTION"),
		w.Is(0, "PREPARE", "TRANSACTION"):
		if !w.Is(1, "TO") && !w.Is(2, "TO") { // ROLLBACK TO a savepoint
			mark(script.Transaction)
		}
	case w.Any(0, "VACUUM", "CHECKPOINT") != "", w.Is(0, "ALTER", "SYSTEM"), len(w) == 1 && w.Is(0, "CLUSTER"),
		w.Any(0, "CREATE", "DROP") != "" && w.Any(1, "DATABASE", "TABLESPACE", "SUBSCRIPTION") != "",
		w.Any(0, "CREATE", "DROP", "REINDEX") != "" && w.Find(1, "CONCURRENTLY") > 0,
		w.Is(0, "DISCARD", "ALL"):
		mark(script.Alone)
	}
}

// serverWide are things that belong to the whole server.
var serverWide = []string{"ROLE", "USER", "GROUP", "TABLESPACE", "SYSTEM", "SUBSCRIPTION"}

// about notes the database that a statement is about, or, where none can be read, that it is outside.
func about(st *script.Statement, w lexical.Words, at int) {
	if _, name, _, ok := w.Called(at, readName); ok {
		st.Names = append(st.Names, script.Name{Role: script.Database, Text: name})
	} else {
		st.Marks = append(st.Marks, script.Outside)
	}
}

// judgeOutside finds what is about more than one database.
func judgeOutside(st *script.Statement, w lexical.Words, mark func(script.Mark)) {
	verb := w.Any(0, "CREATE", "ALTER", "DROP")
	on := w.Find(1, "ON")
	switch {
	case verb != "" && w.Is(1, "DATABASE"):
		at := w.PassIf(2, "IF", "EXISTS")
		if verb != "ALTER" || w.Is(at+1, "RENAME") {
			mark(script.Outside)
		} else {
			about(st, w, at)
		}
	case w.Is(0, "COMMENT", "ON", "DATABASE"), w.Is(0, "SECURITY", "LABEL") && w.Find(2, "ON", "DATABASE") > 0:
		about(st, w, w.Find(1, "DATABASE")+1)
	case verb != "" && w.Any(1, serverWide...) != "" && !w.Is(1, "USER", "MAPPING"),
		w.Is(0, "COMMENT", "ON", "ROLE"), w.Is(0, "COMMENT", "ON", "TABLESPACE"),
		w.Is(0, "DROP", "OWNED"), w.Is(0, "REASSIGN"), w.Is(0, "LOAD"),
		w.Is(0, "SET", "SESSION", "AUTHORIZATION"), w.Any(0, "SET", "RESET") != "" && w.Is(1, "ROLE"),
		w.Is(0, "SET", "LOCAL", "ROLE"), w.Is(0, "SET", "SESSION", "ROLE"),
		w.Any(0, "GRANT", "REVOKE") != "" && on < 0:
		mark(script.Outside)
	case w.Any(0, "GRANT", "REVOKE") != "" && w.Is(on+1, "DATABASE"):
		about(st, w, on+2)
	case w.Any(0, "GRANT", "REVOKE") != "" && w.Any(on+1, "TABLESPACE", "PARAMETER") != "":
		mark(script.Outside)
	}
	// With it off a backslash means something else, and statements end elsewhere.
	if i := w.Find(0, "standard_conforming_strings"); w.Is(0, "SET") && i > 0 {
		if last := w[len(w)-1].Text; !strings.EqualFold(strings.Trim(last, "'"), "on") {
			mark(script.Refused)
		}
	}
}

package catalog

import (
	"regexp"
	"strings"
)

// Literals says how a dialect writes texts within a statement.
type Literals struct {
	// Backslash: a backslash within '…' takes the next character with it.
	Backslash bool
	// DoubleQuoted: "…" is a text, not a name.
	DoubleQuoted bool
	// Dollar: $tag$…$tag$ is a text.
	Dollar bool
}

// hidesSecret finds statements whose texts are, or may be, passwords.
var hidesSecret = regexp.MustCompile(`(?i)passw|identified|secret|pwd|passphrase|api_?key|token|credential|_key\b|crypt|conninfo|\bdblink`)

// Guarded is a statement of somebody else's as it may be shown to those who work
// with sessions: where a password may stand in it, without any of its texts.
func (l Literals) Guarded(statement string) string {
	if hidesSecret.MatchString(statement) {
		return l.Shape(statement)
	}
	return statement
}

// Shape is a statement without its texts: what it does, and not to what data. It
// is all that is ever kept of the statements of others. A text that has no end
// (the statement was cut) is masked to the end.
func (l Literals) Shape(statement string) string {
	var b strings.Builder
	for i := 0; i < len(statement); {
		c := statement[i]
		switch {
		case c == '\'', c == '"' && l.DoubleQuoted:
			b.WriteString(string(c) + "•" + string(c))
			i = l.skip(statement, i, l.Backslash || c == '\'' && i > 0 && (statement[i-1] == 'E' || statement[i-1] == 'e'))
		case c == '"', c == '`' && l.DoubleQuoted: // a name
			end := l.skip(statement, i, false)
			b.WriteString(statement[i:end])
			i = end
		case c == '$' && l.Dollar:
			end := dollarEnd(statement[i:])
			if end == 0 {
				b.WriteByte(c)
				i++
				continue
			}
			b.WriteString("'•'")
			i += end
		default:
			b.WriteByte(c)
			i++
		}
	}
	return b.String()
}

// skip finds what stands behind the text that begins at i.
func (l Literals) skip(s string, i int, backslash bool) int {
	quote := s[i]
	for i++; i < len(s); i++ {
		switch {
		case backslash && s[i] == '\\':
			i++
		case s[i] != quote:
		case i+1 < len(s) && s[i+1] == quote:
			i++
		default:
			return i + 1
		}
	}
	return len(s)
}

// dollarEnd is how long the dollar-quoted text at the front is; 0: there is none.
func dollarEnd(s string) int {
	tag := 1
	for tag < len(s) && (s[tag] == '_' || s[tag] >= 0x80 || s[tag] >= 'a' && s[tag] <= 'z' || s[tag] >= 'A' && s[tag] <= 'Z' || tag > 1 && s[tag] >= '0' && s[tag] <= '9') {
		tag++
	}
	if tag == len(s) || s[tag] != '$' {
		return 0
	}
	end := strings.Index(s[tag+1:], s[:tag+1])
	if end < 0 {
		return len(s)
	}
	return tag + 1 + end + tag + 1
}

package lexical

import (
	"regexp"
	"strings"
)

// hidesSecret finds statements whose texts are, or may be, passwords.
var hidesSecret = regexp.MustCompile(
	`(?i)passw|identified|secret|pwd|passphrase|api_?key|token|credential|_key\b|crypt|conninfo|\bdblink`)

// Guarded is a statement of somebody else's as it may be shown to those who work
// with sessions: where a password may stand in it, without any of its texts.
func (d Dialect) Guarded(statement string) string {
	if hidesSecret.MatchString(statement) {
		return d.Shape(statement)
	}
	return statement
}

// Shape is a statement without its texts and comments: what it does, and not to
// what data. It is all that is ever kept of the statements of others. Where it is
// not certain what is a text, nothing of the rest is shown: behind one that has no
// end (the statement was cut), and behind one with a backslash before a quote,
// since a session can have another setting for what that means.
func (d Dialect) Shape(statement string) string {
	var b strings.Builder
	for i := 0; i < len(statement); {
		k, end := d.next(statement, i)
		switch k {
		case Text:
			b.WriteString(masked(statement[i:]))
			if end < 0 {
				return b.String()
			}
			if escapes := d.Escaped && (statement[i] == 'E' || statement[i] == 'e'); !escapes && statement[i] != '$' &&
				uncertain(statement[i:end]) {
				return b.String() + " …"
			}
		case Comment:
			b.WriteByte(' ')
			if end < 0 {
				return b.String()
			}
		default:
			if end < 0 {
				return b.String() + "…"
			}
			b.WriteString(statement[i:end])
		}
		i = end
	}
	return b.String()
}

// masked is what stands for the text at the front.
func masked(s string) string {
	switch s[0] {
	case 'E', 'e':
		return s[:1] + "'•'"
	case '$':
		return "'•'"
	}
	return s[:1] + "•" + s[:1]
}

// uncertain: whether the text ends here depends on a setting of the session.
func uncertain(s string) bool { return strings.Contains(s, `\'`) || strings.Contains(s, `\"`) }

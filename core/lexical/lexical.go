// Package lexical takes SQL apart by the lexical rules of a dialect: it counts the
// commands in a text, and hides the texts in a statement. It knows no grammar.
package lexical

import (
	"errors"
	"strings"
)

// Dialect is the lexical rules of an engine, as it reads what is sent to it.
type Dialect struct {
	// Backslash: within a text a backslash takes the next character with it.
	Backslash bool
	// Escaped: it does so in E'…'.
	Escaped bool
	// DoubleQuoted: "…" is a text, and `…` a name. Else "…" is a name.
	DoubleQuoted bool
	// Backquoted: `…` is a name, whatever "…" is.
	Backquoted bool
	// Bracketed: […] is a name, whatever "…" is.
	Bracketed bool
	// Dollar: $tag$…$tag$ is a text.
	Dollar bool
	// Nested: comments within /* … */ nest.
	Nested bool
	// Code: what stands in /*! … */ and /*M! … */ is run.
	Code bool
	// Hash: # begins a comment to the end of the line.
	Hash bool
	// SpacedDashes: -- begins a comment only before a blank or at the end.
	SpacedDashes bool
	// LineEnds are the characters that end a comment to the end of the line.
	LineEnds string
}

var (
	// ErrUnended: a quoted text, a quoted name or a comment has no end.
	ErrUnended = errors.New("a quoted text, a quoted name or a comment has no end")
	// ErrHidden: a comment that the server would run.
	ErrHidden = errors.New("a comment holds code")
)

// Kind is what kind of thing stands somewhere in a text.
type Kind int

// The kinds. Code is the beginning of a comment that is run, Text a quoted text, Name a
// quoted name.
const (
	Other Kind = iota
	Blank
	Comment
	Code
	Text
	Name
	Semicolon
)

// Commands counts the commands in a text. What holds only blanks and comments is
// none. A comment that is run is an error ([ErrHidden]).
func (d Dialect) Commands(s string) (int, error) {
	n, any := 0, false
	for i := 0; i < len(s); {
		k, end := d.next(s, i)
		switch {
		case end < 0:
			return n, ErrUnended
		case k == Code:
			return n, ErrHidden
		case k == Semicolon && any:
			n++
			any = false
		case k == Text, k == Name, k == Other:
			any = true
		}
		i = end
	}
	if any {
		n++
	}
	return n, nil
}

// next says what begins at i, and where it ends; -1: it has no end.
func (d Dialect) next(s string, i int) (Kind, int) {
	rest := s[i:]
	at := func(k Kind, end int) (Kind, int) {
		if end < 0 {
			return k, -1
		}
		return k, i + end
	}
	switch c := s[i]; {
	case c == ';':
		return at(Semicolon, 1)
	case strings.IndexByte(" \t\n\r\f\v", c) >= 0:
		return at(Blank, 1)
	case d.Hash && c == '#', d.dashes(rest):
		end := strings.IndexAny(rest, d.LineEnds)
		if end < 0 {
			end = len(rest)
		}
		return at(Comment, end)
	case d.Code && strings.HasPrefix(rest, "/*!"), d.Code && strings.HasPrefix(rest, "/*M!"):
		return at(Code, strings.IndexByte(rest, '!')+1)
	case strings.HasPrefix(rest, "/*"):
		return at(Comment, d.commentEnd(rest))
	case c == '\'':
		return at(Text, quoteEnd(rest, 1, c, d.Backslash))
	case c == '"' && d.DoubleQuoted:
		return at(Text, quoteEnd(rest, 1, c, d.Backslash))
	case c == '"', c == '`' && (d.DoubleQuoted || d.Backquoted):
		return at(Name, quoteEnd(rest, 1, c, false))
	case c == '[' && d.Bracketed:
		return at(Name, quoteEnd(rest, 1, ']', false))
	case d.Escaped && (c == 'E' || c == 'e') && strings.HasPrefix(rest[1:], "'") && !insideWord(s, i):
		return at(Text, quoteEnd(rest, 2, '\'', true))
	case d.Dollar && c == '$' && !insideWord(s, i):
		if end := dollarEnd(rest); end != 0 {
			return at(Text, end)
		}
	}
	return at(Other, 1)
}

// dashes reports whether a comment to the end of the line begins with dashes.
func (d Dialect) dashes(rest string) bool {
	return strings.HasPrefix(rest, "--") && (!d.SpacedDashes || len(rest) == 2 || rest[2] <= ' ')
}

// commentEnd is where the comment at the front ends; -1: nowhere.
func (d Dialect) commentEnd(s string) int {
	if !d.Nested {
		if end := strings.Index(s[2:], "*/"); end >= 0 {
			return end + 4
		}
		return -1
	}
	depth := 0
	for i := 0; i+1 < len(s); i++ {
		switch s[i : i+2] {
		case "/*":
			depth++
			i++
		case "*/":
			depth--
			i++
		}
		if depth == 0 {
			return i + 1
		}
	}
	return -1
}

// quoteEnd is where what a quote opened before from ends; a doubled quote, and with
// backslashes whatever follows one, belongs to it. -1: nowhere.
func quoteEnd(s string, from int, quote byte, backslash bool) int {
	for i := from; i < len(s); i++ {
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
	return -1
}

// dollarEnd is where the dollar-quoted text at the front ends; 0: the dollar opens
// none; -1: nowhere.
func dollarEnd(s string) int {
	tag := 1
	for tag < len(s) && wordByte(s[tag]) && s[tag] != '$' && !(tag == 1 && s[tag] >= '0' && s[tag] <= '9') {
		tag++
	}
	if tag == len(s) || s[tag] != '$' {
		return 0
	}
	end := strings.Index(s[tag+1:], s[:tag+1])
	if end < 0 {
		return -1
	}
	return tag + 1 + end + tag + 1
}

// wordByte: a byte that continues a name which is not quoted.
func wordByte(c byte) bool {
	return c == '_' || c == '$' || c >= 0x80 || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

func insideWord(s string, i int) bool { return i > 0 && wordByte(s[i-1]) }

// Package tsql reads the part of Transact-SQL that an administrator's programs
// send: catalogue queries, statements about databases, principals, permissions
// and sessions, and what goes around them.
package tsql

import (
	"encoding/hex"
	"fmt"
	"strings"
	"unicode"
	"unicode/utf8"
)

// Error is a text that is no statement, with the server's number for it.
type Error struct {
	Number, Class, State, Line int
	Text                       string
}

func (e *Error) Error() string { return fmt.Sprintf("%d: %s", e.Number, e.Text) }

type kind int

const (
	eof kind = iota
	word
	quoted // [x] or "x": never a keyword
	str
	num
	bin
	variable
	sym
)

type token struct {
	kind  kind
	text  string // as meant: unquoted
	upper string // of words and symbols
	n     bool   // N'…'
	bytes []byte
	line  int
	at    int
	end   int
}

// lex: Long: one case for each kind of token.
func lex(src string) ([]token, error) {
	var out []token
	line := 1
	for i := 0; i < len(src); {
		c := src[i]
		start := i
		switch {
		case c == '\n':
			line++
			i++
			continue
		case c == ' ' || c == '\t' || c == '\r' || c == 0xC2 && strings.HasPrefix(src[i:], "\u00a0"):
			i++
			if c == 0xC2 {
				i++
			}
			continue
		case strings.HasPrefix(src[i:], "--"):
			for i < len(src) && src[i] != '\n' {
				i++
			}
			continue
		case strings.HasPrefix(src[i:], "/*"):
			depth := 0
			for ; i < len(src); i++ {
				if strings.HasPrefix(src[i:], "/*") {
					depth++
					i++
				} else if strings.HasPrefix(src[i:], "*/") {
					depth--
					i++
					if depth == 0 {
						i++
						break
					}
				} else if src[i] == '\n' {
					line++
				}
			}
			if depth > 0 {
				return nil, &Error{113, 15, 1, line, "Missing end comment mark '*/'."}
			}
			continue
		case c == '\'' || (c == 'N' || c == 'n') && i+1 < len(src) && src[i+1] == '\'':
			t := token{kind: str, n: c != '\'', line: line, at: i}
			if t.n {
				i++
			}
			text, next, ok := until(src, i+1, '\'')
			if !ok {
				return nil, &Error{
					105,
					15,
					1,
					line,
					fmt.Sprintf("Unclosed quotation mark after the character string '%s'.", text),
				}
			}
			line += strings.Count(text, "\n")
			t.text, i = text, next
			t.end = i
			out = append(out, t)
			continue
		case c == '[' || c == '"':
			end := byte(']')
			if c == '"' {
				end = '"'
			}
			text, next, ok := until(src, i+1, end)
			if !ok {
				return nil, &Error{
					105,
					15,
					1,
					line,
					fmt.Sprintf("Unclosed quotation mark after the character string '%s'.", text),
				}
			}
			if text == "" {
				return nil, &Error{
					1038,
					15,
					4,
					line,
					"An object or column name is missing or empty. For SELECT INTO statements, verify each column " +
						"has a name. For other statements, look for empty alias names. Aliases defined as \"\" or [] " +
						"are not allowed. Change the alias to a valid name.",
				}
			}
			if n := utf16Len(text); n > 128 {
				return nil, &Error{
					103,
					15,
					4,
					line,
					fmt.Sprintf(
						"The identifier that starts with '%s' is too long. Maximum length is 128.",
						cut(text, 128),
					),
				}
			}
			out = append(out, token{kind: quoted, text: text, line: line, at: start, end: next})
			line += strings.Count(text, "\n")
			i = next
			continue
		case c == '0' && i+1 < len(src) && (src[i+1] == 'x' || src[i+1] == 'X'):
			i += 2
			for i < len(src) && isHex(src[i]) {
				i++
			}
			h := src[start+2 : i]
			if len(h)%2 == 1 {
				h = "0" + h
			}
			b, _ := hex.DecodeString(h)
			out = append(out, token{kind: bin, text: src[start:i], bytes: b, line: line, at: start, end: i})
			continue
		case c >= '0' && c <= '9' || c == '.' && i+1 < len(src) && src[i+1] >= '0' && src[i+1] <= '9':
			for i < len(src) && (src[i] >= '0' && src[i] <= '9' || src[i] == '.') {
				i++
			}
			if i < len(src) && (src[i] == 'e' || src[i] == 'E') {
				i++
				if i < len(src) && (src[i] == '+' || src[i] == '-') {
					i++
				}
				for i < len(src) && src[i] >= '0' && src[i] <= '9' {
					i++
				}
			}
			out = append(out, token{kind: num, text: src[start:i], line: line, at: start, end: i})
			continue
		}
		r, size := utf8.DecodeRuneInString(src[i:])
		if r == '@' || r == '_' || r == '#' || unicode.IsLetter(r) {
			for i < len(src) {
				r, size = utf8.DecodeRuneInString(src[i:])
				if r != '_' && r != '@' && r != '#' && r != '$' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
					break
				}
				i += size
			}
			t := token{kind: word, text: src[start:i], line: line, at: start, end: i}
			if t.text[0] == '@' {
				t.kind = variable
			}
			if n := utf16Len(t.text); n > 128 {
				return nil, &Error{
					103,
					15,
					4,
					line,
					fmt.Sprintf(
						"The identifier that starts with '%s' is too long. Maximum length is 128.",
						cut(t.text, 128),
					),
				}
			}
			t.upper = strings.ToUpper(t.text)
			out = append(out, t)
			continue
		}
		for _, s := range []string{"<>", "!=", "<=", ">=", "::", "+=", "-="} {
			if strings.HasPrefix(src[i:], s) {
				size = 2
			}
		}
		i += size
		out = append(out, token{kind: sym, text: src[start:i], upper: src[start:i], line: line, at: start, end: i})
	}
	return append(out, token{kind: eof, line: line, at: len(src), end: len(src)}), nil
}

func until(src string, i int, end byte) (string, int, bool) {
	var b strings.Builder
	for ; i < len(src); i++ {
		if src[i] == end {
			if i+1 < len(src) && src[i+1] == end {
				i++
			} else {
				return b.String(), i + 1, true
			}
		}
		b.WriteByte(src[i])
	}
	return b.String(), i, false
}

func isHex(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

func utf16Len(s string) (n int) {
	for _, r := range s {
		n++
		if r > 0xFFFF {
			n++
		}
	}
	return n
}

func cut(s string, n int) string {
	r := []rune(s)
	return string(r[:min(n, len(r))])
}

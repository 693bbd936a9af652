package postgres

import (
	"strings"

	"example.com/genarch/engine"
)

// commands counts the commands in a text by PostgreSQL's own lexical rules
// (manual, "Lexical Structure", with standard_conforming_strings on, which every
// connection of ours sets): '…' with doubled quotes, E'…' with backslashes too,
// "…", $tag$…$tag$, -- to the end of the line, and /* … */ that nest. What holds
// only blanks and comments is no command.
func commands(text string) (int, error) {
	n, any := 0, false
	for i := 0; i < len(text); {
		rest := text[i:]
		end := 1
		switch c := text[i]; {
		case c == ';':
			if any {
				n++
			}
			any = false
			i++
			continue
		case strings.HasPrefix(rest, "--"):
			if end = strings.IndexAny(rest, "\n\r"); end < 0 {
				end = len(rest)
			}
			i += end
			continue
		case strings.HasPrefix(rest, "/*"):
			end = nested(rest)
			if end < 0 {
				return n, engine.ErrUnended
			}
			i += end
			continue
		case c == ' ', c == '\t', c == '\n', c == '\r', c == '\f', c == '\v':
			i++
			continue
		case c == '"':
			end = closing(rest, 1, '"', false)
		case c == '\'':
			end = closing(rest, 1, '\'', false)
		case (c == 'E' || c == 'e') && len(rest) > 1 && rest[1] == '\'' && !insideWord(text, i):
			end = closing(rest, 2, '\'', true)
		case c == '$' && !insideWord(text, i):
			end = dollar(rest)
		}
		if end < 0 {
			return n, engine.ErrUnended
		}
		any = true
		i += end
	}
	if any {
		n++
	}
	return n, nil
}

// closing finds the end of what a quote opened before from; a doubled quote, and
// with escapes whatever follows a backslash, belongs to it. It is -1 without end.
func closing(text string, from int, quote byte, escapes bool) int {
	for i := from; i < len(text); i++ {
		switch {
		case escapes && text[i] == '\\':
			i++
		case text[i] != quote:
		case i+1 < len(text) && text[i+1] == quote:
			i++
		default:
			return i + 1
		}
	}
	return -1
}

// nested finds the end of a comment, in which comments may stand.
func nested(text string) int {
	depth := 0
	for i := 0; i+1 < len(text); i++ {
		switch text[i : i+2] {
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

// dollar finds the end of a dollar-quoted text; a dollar that opens none is one
// character by itself.
func dollar(text string) int {
	tag := 1
	for tag < len(text) && (wordByte(text[tag]) && text[tag] != '$') && !(tag == 1 && text[tag] >= '0' && text[tag] <= '9') {
		tag++
	}
	if tag == len(text) || text[tag] != '$' {
		return 1
	}
	mark := text[:tag+1]
	end := strings.Index(text[tag+1:], mark)
	if end < 0 {
		return -1
	}
	return tag + 1 + end + len(mark)
}

// wordByte: a byte that continues a name which is not quoted.
func wordByte(c byte) bool {
	return c == '_' || c == '$' || c >= 0x80 || c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

func insideWord(text string, i int) bool { return i > 0 && wordByte(text[i-1]) }

package mariadb

import (
	"errors"
	"strings"

	"example.com/genarch/engine"
)

// errHidden: a comment that the server would run.
var errHidden = errors.New("a comment holds code")

// commands counts the commands in a text by MariaDB's own lexical rules for the
// sql_mode and character set that every connection of ours sets: '…' and "…" with
// backslashes and doubled quotes, `…` with doubled ones, # and -- followed by a
// blank to the end of the line, /* … */ that do not nest. Comments whose inside
// is run (/*! … */ and /*M! … */) are an error: no statement of ours has one.
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
		case c == '#', strings.HasPrefix(rest, "--") && (len(rest) == 2 || rest[2] <= ' '):
			if end = strings.IndexByte(rest, '\n'); end < 0 {
				end = len(rest)
			}
			i += end
			continue
		case strings.HasPrefix(rest, "/*!"), strings.HasPrefix(rest, "/*M!"):
			return n, errHidden
		case strings.HasPrefix(rest, "/*"):
			if end = strings.Index(rest[2:], "*/"); end < 0 {
				return n, engine.ErrUnended
			}
			i += end + 4
			continue
		case c == ' ', c == '\t', c == '\n', c == '\r', c == '\f', c == '\v':
			i++
			continue
		case c == '`':
			end = closing(rest, c, false)
		case c == '\'', c == '"':
			end = closing(rest, c, true)
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

// closing finds the end of what the quote at the front opens; -1 without end.
func closing(text string, quote byte, escapes bool) int {
	for i := 1; i < len(text); i++ {
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

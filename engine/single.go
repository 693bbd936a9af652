package engine

import "errors"

// ErrUnended: a quoted text, a quoted name or a comment has no end.
var ErrUnended = errors.New("a quoted text, a quoted name or a comment has no end")

// Single refuses a text that is not exactly one command, as commands counts by an
// engine's own lexical rules: the last line of defence before anything is sent.
func Single(op, text string, commands func(text string) (int, error)) error {
	if n, err := commands(text); err != nil || n != 1 {
		return &Error{Op: op, Kind: NotSent, Err: err, Text: "the statement is not exactly one command, so it was not sent",
			Next: "report this: a name was taken for a part of a statement"}
	}
	return nil
}

package engine

import "example.com/genarch/core/lexical"

// Single refuses a text that is not exactly one command by the engine's own lexical
// rules: the last line of defence before anything is sent.
func Single(op, text string, d lexical.Dialect) error {
	if n, err := d.Commands(text); err != nil || n != 1 {
		return &Error{Op: op, Kind: NotSent, Err: err,
			Text: "the statement is not exactly one command, so it was not sent",
			Next: "Report this: a name was taken for a part of a statement."}
	}
	return nil
}

// Package script holds what is known of a file of statements by which a database is filled:
// its statements one by one, as an engine takes it apart, and what all of them come to. It is
// pure: engines say what their statements are, and nobody is asked.
package script

import (
	"fmt"
	"io"
	"strings"
	"time"
)

// Statement is one command of a script.
type Statement struct {
	// Text is what is sent, without the mark that ends it; empty: there is nothing to be sent.
	Text string
	// Line and Column are where it begins in the file, counted from 1.
	Line, Column int
	// Rows follow it in the file, up to their own end; nil: none do. They are read before the
	// next statement is asked for, or passed over.
	Rows io.Reader
	// Kind is what it is by its first words: "CREATE TABLE".
	Kind string
	// Names are what it says of names, and Marks of what it does.
	Names []Name
	Marks []Mark
}

// Name is one that a statement speaks of.
type Name struct {
	Role Role
	// Text is the name as the server keeps it; Schema is what stands before it.
	Schema, Text string
}

// Role is what a statement does with a name.
type Role string

// The roles.
const (
	// Makes and Drops are of tables.
	Makes Role = "makes"
	Drops Role = "drops"
	// Replaces: a table is dropped if it is there, to be made anew.
	Replaces Role = "replaces"
	// Database is one that the statement goes to or is about, Owner the account that an object
	// is given to, and Definer the one as which it is to run.
	Database Role = "database"
	Owner    Role = "owner"
	Definer  Role = "definer"
)

// Mark is something that bears on whether a statement can be run.
type Mark string

// The marks.
const (
	// Refused: it would reach the machine that Genarch runs on, or is for the engine's own
	// client alone.
	Refused Mark = "refused"
	// Outside: it is about more than this one database, and than those that are among its names.
	Outside Mark = "outside"
	// Grants: it gives or takes privileges, GivesAway an object.
	Grants    Mark = "grants"
	GivesAway Mark = "gives_away"
	// Alone: the server does not run it in a transaction, or ends one for it.
	Alone Mark = "alone"
	// Transaction: it begins or ends a transaction.
	Transaction Mark = "transaction"
	// Placeholder: it has one that was to be filled in.
	Placeholder Mark = "placeholder"
	// Typographic: it has typographic quotes where quotes are meant.
	Typographic Mark = "typographic"
	// Defines: what it makes runs with the rights of an account.
	Defines Mark = "defines"
)

// Splitter takes a script apart.
type Splitter interface {
	// Next gives the next statement, [io.EOF] after the last, and an [*Error] for what is no
	// script of the engine.
	Next() (Statement, error)
	// Offset is how many bytes of the file were passed.
	Offset() int64
}

// Error says what is wrong with a script, and where.
type Error struct {
	Line, Column int
	Text         string
}

// Error says it in words.
func (e *Error) Error() string {
	return fmt.Sprintf("line %d, column %d: %s", e.Line, e.Column, e.Text)
}

// MaxStatement is the longest statement of a script, in bytes.
const MaxStatement = 64 << 20

// Kept is a script that was taken in.
type Kept struct {
	ID string `json:"id"`
	// Server is the one whose engine it was taken apart for.
	Server string `json:"server"`
	// File is its name on the machine of whoever sent it.
	File     string    `json:"file"`
	Operator string    `json:"operator"`
	Created  time.Time `json:"created"`
	Summary  Summary   `json:"summary"`
	// Of is the engine whose dump it says it is, in its first line, if that is another one.
	Of string `json:"of,omitempty"`
}

// KeepFor is how long a script is kept that no change asks for.
const KeepFor = 24 * time.Hour

// DefaultLimit is how many bytes a script may have, unless the service is told otherwise.
const DefaultLimit int64 = 2 << 30

// At is where in the file a character of a statement stands, counted from 1.
func At(st Statement, character int) (line, column int) {
	line, column = st.Line, st.Column
	for _, r := range st.Text {
		if character--; character <= 0 {
			break
		}
		if column++; r == '\n' {
			line, column = line+1, 1
		}
	}
	return line, column
}

// Excerpt is the beginning of a text on one line.
func Excerpt(text string) string {
	const most = 200
	if len(text) > 4*most {
		text = text[:4*most]
	}
	runes := []rune(strings.ToValidUTF8(strings.Join(strings.Fields(text), " "), "�"))
	if len(runes) > most {
		return string(runes[:most]) + " …"
	}
	return string(runes)
}

// None is the splitter of an engine that has no scripts: there is never a statement.
type None struct{}

// Next is always at the end.
func (None) Next() (Statement, error) { return Statement{}, io.EOF }

// Offset is always 0.
func (None) Offset() int64 { return 0 }

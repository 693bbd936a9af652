package postgres

import (
	"errors"
	"io"
	"strings"

	"example.com/genarch/core/lexical"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// A script is taken apart as psql does it (its documentation, and that of COPY): a statement
// ends with a semicolon outside of quotes, comments, parentheses and the bodies of functions in
// standard form (BEGIN ATOMIC … END); rows of COPY … FROM STDIN follow up to a line \. ; a
// backslash is a command of psql's own.

// Script takes a script for PostgreSQL apart.
func (Engine) Script(from io.Reader) script.Splitter {
	return &splitter{in: lexical.NewStream(from, script.MaxStatement)}
}

// splitter is a script that is taken apart.
type splitter struct {
	in   *lexical.Stream
	rows *copied // of the last statement, until they are passed
	// next is a statement that was met with another one.
	next *script.Statement
}

// Offset is how many bytes were passed.
func (s *splitter) Offset() int64 { return s.in.Offset() }

// Next gives the next statement.
func (s *splitter) Next() (script.Statement, error) {
	if s.rows != nil {
		if _, err := io.Copy(io.Discard, s.rows); err != nil {
			return script.Statement{}, err
		}
		s.rows = nil
	}
	if s.next != nil {
		st := *s.next
		s.next = nil
		return st, nil
	}
	return s.statement()
}

// statement: Long: the ways in which a statement ends, which belong together.
func (s *splitter) statement() (script.Statement, error) {
	var st script.Statement
	var words lexical.Words
	parens, blocks, begun := 0, 0, false
	end := func() (script.Statement, error) {
		st.Text = strings.TrimRight(st.Text, " \t\r\n\f\v")
		judge(&st, words)
		return st, nil
	}
	skims := false
	for {
		switch {
		case !begun:
			s.in.Mark()
		case skims:
			if err := s.in.Skim(dialect, ""); err != nil {
				return st, engine.ScriptError(lexical.Token{}, st, err)
			}
		}
		t, err := s.in.Next(dialect, "")
		switch {
		case err == io.EOF && begun:
			st.Text = s.in.Kept()
			return end()
		case err != nil:
			return st, engine.ScriptError(t, st, err)
		}
		if t.Kind == lexical.Blank || t.Kind == lexical.Comment {
			continue
		}
		if t.Text == `\` {
			line, err := s.in.Rest()
			if err != nil {
				return st, err
			}
			command := clientCommand(t, line)
			if !begun {
				return command, nil
			}
			// What is sent by a command of the client is not sent here.
			s.next = &command
			kept := s.in.Kept()
			st.Text = kept[:strings.LastIndexByte(kept, '\\')]
			if st, err = end(); err == nil {
				st.Marks = append(st.Marks, script.Refused)
			}
			return st, err
		}
		if t.Kind == lexical.Semicolon && parens == 0 && blocks == 0 {
			if !begun {
				continue // an empty statement
			}
			st.Text = strings.TrimSuffix(s.in.Kept(), ";")
			if st, err = end(); err != nil || !takesRows(words) {
				return st, err
			}
			if _, err := s.in.Rest(); err != nil {
				return st, err
			}
			s.rows = &copied{in: s.in, line: st.Line}
			st.Rows = s.rows
			return st, nil
		}
		if !begun {
			begun, st.Line, st.Column = true, t.Line, t.Column
		}
		if len(words) < lexical.MaxWords {
			words = append(words, lexical.Word{Token: t, At: len(s.in.Kept()) - len(t.Text)})
			// The bodies of functions are read word by word.
			skims = len(words) == lexical.MaxWords && !words.Is(0, "CREATE")
		}
		switch {
		case t.Text == "(":
			parens++
		case t.Text == ")" && parens > 0:
			parens--
		case t.Kind == lexical.Other && len(t.Text) <= 5:
			blocks = inBody(words, t, blocks)
		}
	}
}

// inBody is how deep in the blocks of a function's body in standard form the statement is
// after a word.
func inBody(words lexical.Words, t lexical.Token, blocks int) int {
	switch strings.ToUpper(t.Text) {
	case "BEGIN":
		at := words.PassIf(1, "OR", "REPLACE")
		if words.Is(0, "CREATE") && words.Any(at, "FUNCTION", "PROCEDURE") != "" {
			return blocks + 1
		}
	case "CASE":
		if blocks > 0 {
			return blocks + 1
		}
	case "END":
		return max(0, blocks-1)
	}
	return blocks
}

// copied are the rows of a COPY.
type copied struct {
	in   *lexical.Stream
	line int // of the statement
	part string
	done bool
}

// Read reads on, up to the line that ends the rows.
func (c *copied) Read(into []byte) (int, error) {
	for c.part == "" {
		if c.done {
			return 0, io.EOF
		}
		var err error
		c.part, c.done, err = c.in.Lines(`\.`)
		if errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, lexical.ErrTooLong) {
			c.done = true
			return 0, &script.Error{Line: c.line, Column: 1,
				Text: `the rows of the COPY that begins here have no end: no line \. follows`}
		}
		if err != nil {
			return 0, err
		}
	}
	n := copy(into, c.part)
	c.part = c.part[n:]
	return n, nil
}

// harmless are commands of psql that plain dumps carry, or that only say how psql shows things.
var harmless = map[string]bool{"restrict": true, "unrestrict": true, "echo": true, "qecho": true, "pset": true,
	"timing": true, "x": true, "t": true}

// clientCommand is a line that is for psql.
func clientCommand(t lexical.Token, line string) script.Statement {
	word, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	st := script.Statement{Line: t.Line, Column: t.Column, Kind: `\` + word}
	rest = strings.TrimSpace(rest)
	switch {
	case harmless[word]:
	case word == "set" && !strings.HasPrefix(rest, "AUTOCOMMIT") && plainSetting(rest):
	case (word == "connect" || word == "c") && rest != "" && !strings.ContainsAny(rest, " ="):
		name := strings.Trim(rest, `"'`)
		st.Names = []script.Name{{Role: script.Database, Text: name}}
	default:
		st.Marks = []script.Mark{script.Refused}
	}
	return st
}

// plainSetting: variables that say how psql goes on and shows things, and that no statement
// uses.
func plainSetting(rest string) bool {
	name, _, _ := strings.Cut(rest, " ")
	switch name {
	case "ON_ERROR_STOP", "QUIET", "ECHO", "VERBOSITY", "SHOW_CONTEXT":
		return true
	}
	return false
}

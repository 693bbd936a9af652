package mysqlfamily

import (
	"io"
	"strings"

	"example.com/genarch/core/lexical"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// A script is taken apart as the engine's own client does it (its documentation, "Delimiters",
// and that of comments): a statement ends with the delimiter outside of quotes and comments;
// DELIMITER on a line of its own gives another one; what stands in /*! … */ and /*M! … */ is
// part of the statement. Unlike the client, it follows what the script says of sql_mode.

// Script takes a script apart.
func (Engine[P]) Script(from io.Reader) script.Splitter { return newSplitter(from) }

func newSplitter(from io.Reader) script.Splitter {
	return &splitter{in: lexical.NewStream(from, script.MaxStatement), delimiter: ";", rules: dialect,
		modes: map[string]string{}}
}

// splitter is a script that is taken apart.
type splitter struct {
	in        *lexical.Stream
	delimiter string
	rules     lexical.Dialect
	mode      string            // the sql_mode that the script has set
	modes     map[string]string // what it keeps in variables, by their names
	next      *script.Statement // met with another one
}

// Offset is how many bytes were passed.
func (s *splitter) Offset() int64 { return s.in.Offset() }

// clientCommands are words that the engine's own client takes for itself at the beginning of
// a line: they read or write files, or run programs, of the machine that it runs on.
var clientCommands = map[string]bool{"source": true, "system": true, "tee": true, "notee": true, "pager": true,
	"nopager": true, "edit": true, "connect": true, "charset": true}

// Next gives the next statement.
func (s *splitter) Next() (script.Statement, error) {
	if s.next != nil {
		st := *s.next
		s.next = nil
		return st, nil
	}
	return s.statement()
}

// statement reads up to the end of the next one.
//
// Long: the ways in which a statement ends, which belong together.
func (s *splitter) statement() (script.Statement, error) {
	var st script.Statement
	var words lexical.Words
	code := codeComment{}
	begun := false
	end := func() (script.Statement, error) {
		st.Text = strings.TrimRight(st.Text, " \t\r\n\f\v")
		judge(&st, words)
		s.follow(words)
		return st, nil
	}
	for {
		if !begun {
			s.in.Mark()
		} else if len(words) == lexical.MaxWords {
			if err := s.in.Skim(s.rules, s.delimiter); err != nil {
				return st, engine.ScriptError(lexical.Token{}, st, err)
			}
		}
		if head, err := s.in.Peek(max(len(s.delimiter), 2)); err != nil {
			return st, engine.ScriptError(lexical.Token{}, st, err)
		} else if !begun && s.in.Column == 1 && strings.HasPrefix(head, "--") {
			// To the client a line of dashes is a comment too, where a statement could begin.
			if _, err := s.in.Rest(); err != nil {
				return st, engine.ScriptError(lexical.Token{}, st, err)
			}
			continue
		} else if long := strings.HasPrefix(head, s.delimiter); long ||
			begun && (head == `\g` || head == `\G`) && s.delimiter == ";" {
			st.Text = s.in.Kept()
			n := 2
			if long {
				n = len(s.delimiter)
			}
			s.in.Skip(n)
			if !begun {
				continue // an empty statement
			}
			return end()
		}
		t, err := s.in.Next(s.rules, s.delimiter)
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
		if !begun {
			if done, err := s.command(t, &st); done || err != nil {
				return st, err
			}
			if s.in.Kept() == "" {
				continue // it was a line for the client
			}
			begun, st.Line, st.Column = true, t.Line, t.Column
		}
		if code.passes(t) && len(words) < lexical.MaxWords {
			words = append(words, lexical.Word{Token: t, At: len(s.in.Kept()) - len(t.Text)})
		}
	}
}

// command takes a line that is for the client and not for the server. done: it gave the
// statement that stands for it.
func (s *splitter) command(t lexical.Token, st *script.Statement) (done bool, err error) {
	word := strings.ToLower(t.Text)
	next, err := s.in.Peek(1)
	if err != nil {
		return false, err
	}
	own := next == "" || strings.ContainsAny(next, " \t\r\n")
	switch {
	case t.Kind != lexical.Other:
		return false, nil
	case word == "delimiter" && own:
		line, err := s.in.Rest()
		if err != nil {
			return false, err
		}
		fields := strings.Fields(line)
		if len(fields) == 0 {
			return false, &script.Error{Line: t.Line, Column: t.Column, Text: "DELIMITER says not which"}
		}
		s.delimiter = fields[0]
		s.in.Mark()
		return false, nil
	case word == `\`, clientCommands[word] && own:
		line, err := s.in.Rest()
		if err != nil {
			return false, err
		}
		kind := word
		if word == `\` {
			kind = `\` + strings.SplitN(line+" ", " ", 2)[0]
		}
		*st = script.Statement{Line: t.Line, Column: t.Column, Kind: kind, Marks: []script.Mark{script.Refused}}
		return true, nil
	case word == "use" && own:
		// The client takes the line, with or without a delimiter.
		line, err := s.in.Rest()
		if err != nil {
			return false, err
		}
		name := strings.TrimSpace(strings.TrimSuffix(strings.TrimSpace(line), s.delimiter))
		if unquoted, quoted := strings.CutPrefix(name, "`"); quoted {
			name = strings.ReplaceAll(strings.TrimSuffix(unquoted, "`"), "``", "`")
		}
		*st = script.Statement{Line: t.Line, Column: t.Column, Kind: "USE",
			Names: []script.Name{{Role: script.Database, Text: name}}}
		return true, nil
	}
	return false, nil
}

// codeComment follows the comments whose content is run, to leave out what is only their mark.
type codeComment struct {
	open, version, never bool
	star                 bool
}

// passes reports whether a token is part of what is run.
func (c *codeComment) passes(t lexical.Token) bool {
	if t.Kind == lexical.Code {
		*c = codeComment{open: true, version: true}
		return false
	}
	if !c.open {
		return true
	}
	if c.version {
		c.version = false
		if t.Kind == lexical.Other && strings.Trim(t.Text, "0123456789") == "" {
			c.never = len(t.Text) == 6 && t.Text >= "990000" // for no server: what the client alone reads
			return false
		}
	}
	star := c.star
	c.star = t.Text == "*"
	if star && t.Text == "/" {
		*c = codeComment{}
		return false
	}
	return !c.never && !c.star
}

// follow notes what the script sets the sql_mode to: it says what quotes mean from then on.
func (s *splitter) follow(w lexical.Words) {
	if !w.Is(0, "SET") {
		return
	}
	for i := 1; i < len(w); i++ {
		// SET @kept = @@sql_mode
		if w.Is(i, "@") && i+5 <= len(w) && w.Is(i+2, "=") && w.Is(i+3, "@", "@") {
			at := i + 5
			for w.Any(at, "SESSION", "LOCAL", ".") != "" {
				at++
			}
			if w.Is(at, "sql_mode") {
				s.modes[strings.ToLower(w[i+1].Text)] = s.mode
			}
			i = at
			continue
		}
		if !w.Is(i, "sql_mode") {
			continue
		}
		at := i + 1
		for w.Any(at, ":", "=") != "" {
			at++
		}
		switch {
		case at == i+1 || at >= len(w):
		case w.Is(at, "@") && at+1 < len(w):
			s.mode = s.modes[strings.ToLower(w[at+1].Text)]
		case w[at].Kind == lexical.Text:
			s.mode = strings.ToUpper(strings.Trim(w[at].Text, `'"`))
		default:
			s.mode = w.Upper(at) // DEFAULT
		}
		i = at
	}
	s.rules = dialectFor(s.mode)
}

// dialectFor is how a text is read with an sql_mode. The names of whole sets of modes, which
// hold ANSI_QUOTES, are documented with sql_mode.
func dialectFor(mode string) lexical.Dialect {
	d := dialect
	for _, m := range strings.Split(mode, ",") {
		switch strings.TrimSpace(m) {
		case "ANSI_QUOTES", "ANSI", "DB2", "MAXDB", "MSSQL", "ORACLE", "POSTGRESQL":
			d.DoubleQuoted = false
			d.Backquoted = true
		case "NO_BACKSLASH_ESCAPES":
			d.Backslash = false
		}
	}
	return d
}

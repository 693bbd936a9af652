package sqlserver

import (
	"bufio"
	"io"
	"regexp"
	"strconv"
	"strings"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"example.com/genarch/core/lexical"
	"example.com/genarch/core/script"
	"example.com/genarch/engine"
)

// A script is taken apart as the engine's own client does it (its manual, "Commands other than
// Transact-SQL: GO"): what is sent is a batch, which ends at a line that holds GO alone, outside of texts,
// quoted names and comments, with the number of times that it is to run at most.

// Script takes a script apart.
func (Engine) Script(from io.Reader) script.Splitter {
	raw := &counted{from: from}
	text, wide := decoded(raw)
	s := &splitter{in: lexical.NewStream(text, script.MaxStatement)}
	if wide {
		s.raw = raw
	}
	return s
}

// decoded is a script as UTF-8: the engine's own programs write files in UTF-16 too, with a byte order mark.
func decoded(from io.Reader) (text io.Reader, wide bool) {
	whole := bufio.NewReader(from)
	head, _ := whole.Peek(2) // an error shows again when it is read on
	if mark := string(head); mark != "\xFF\xFE" && mark != "\xFE\xFF" {
		return whole, false
	}
	return transform.NewReader(whole, unicode.UTF16(unicode.LittleEndian, unicode.UseBOM).NewDecoder()), true
}

// counted counts what was read.
type counted struct {
	from io.Reader
	n    int64
}

// Read reads on.
func (c *counted) Read(into []byte) (int, error) {
	n, err := c.from.Read(into)
	c.n += int64(n)
	return n, err
}

// splitter is a script that is taken apart.
type splitter struct {
	in  *lexical.Stream
	raw *counted // nil: what is passed is as it is in the file
	// again is how often the batch last is still to be given; next was met with another statement.
	again int
	last  script.Statement
	next  *script.Statement
	ended error // what came at the end
}

// The bounds of a batch that runs several times.
const (
	maxTimes   = 100_000
	maxRepeats = 256 << 20 // bytes, all times together
	// lineAhead is how far it is looked for the end of a line.
	lineAhead = 4 << 10
)

// Offset is how many bytes were passed.
func (s *splitter) Offset() int64 {
	if s.raw != nil {
		return s.raw.n
	}
	return s.in.Offset()
}

// Next gives the next batch.
func (s *splitter) Next() (script.Statement, error) {
	switch {
	case s.again > 0:
		s.again--
		return s.last, nil
	case s.next != nil:
		st := *s.next
		s.next = nil
		return st, nil
	case s.ended != nil:
		return script.Statement{}, s.ended
	}
	return s.batch()
}

// afterGo is what may stand behind GO on its line.
var afterGo = regexp.MustCompile(`^[ \t]*([0-9]*)[ \t\r]*(--.*)?$`)

// batch reads up to the end of the next one.
//
// Long: the ways in which a batch ends, which belong together.
func (s *splitter) batch() (script.Statement, error) {
	var st script.Statement
	judge := newJudge(&st)
	begun, first := false, true // first on its line
	end := func(text string) script.Statement {
		st.Text = strings.TrimRight(text, " \t\r\n\f\v")
		judge.end()
		return st
	}
	for {
		if !begun {
			s.in.Mark()
		}
		t, err := s.in.Next(dialect, "")
		if err == io.EOF && begun {
			s.ended = io.EOF
			return end(s.in.Kept()), nil
		}
		if err != nil {
			return st, engine.ScriptError(t, st, err)
		}
		switch t.Kind {
		case lexical.Blank:
			first = first || strings.Contains(t.Text, "\n")
			continue
		case lexical.Comment:
			first = false
			continue
		}
		if first && t.Kind == lexical.Other && mayEnd[strings.ToLower(t.Text)] {
			line, err := s.restOfLine()
			if err != nil {
				return st, engine.ScriptError(t, st, err)
			}
			if strings.EqualFold(t.Text, "GO") && separates(line) {
				text := strings.TrimSuffix(s.in.Kept(), t.Text)
				times, err := s.times(t, line, len(text))
				if err != nil {
					return st, err
				}
				if !begun || times == 0 {
					begun, st = false, script.Statement{}
					judge = newJudge(&st)
					continue
				}
				s.last, s.again = end(text), times-1
				return s.last, nil
			}
			if kind := clientCommand(t.Text, line); kind != "" {
				text := strings.TrimSuffix(s.in.Kept(), t.Text)
				if _, err := s.in.Rest(); err != nil {
					return st, engine.ScriptError(t, st, err)
				}
				command := script.Statement{Line: t.Line, Column: t.Column, Kind: kind,
					Marks: []script.Mark{script.Refused}}
				if !begun {
					return command, nil
				}
				s.next = &command
				return end(text), nil
			}
		}
		first = false
		if !begun {
			begun, st.Line, st.Column = true, t.Line, t.Column
		}
		judge.take(lexical.Word{Token: t, At: len(s.in.Kept()) - len(t.Text)})
	}
}

// mayEnd are the words at the beginning of a line that may be no Transact-SQL.
var mayEnd = map[string]bool{"go": true, ":": true, "!": true, "exit": true, "quit": true}

// restOfLine is what stands up to the end of the line, if that is not too far; it is not taken.
func (s *splitter) restOfLine() (string, error) {
	text, err := s.in.Peek(lineAhead)
	line, _, _ := strings.Cut(text, "\n")
	return line, err
}

// separates reports whether GO with this behind it is there to end a batch. A table or a column may be called
// so too: then an operator, a dot or a comma follows.
func separates(line string) bool {
	rest := strings.TrimSpace(line)
	return rest == "" || strings.HasPrefix(rest, "--") || !strings.Contains("=.,()+-*/%<>!&|^", rest[:1])
}

// times takes what stands behind GO: how often the batch is to run.
func (s *splitter) times(at lexical.Token, line string, size int) (int, error) {
	wrong := func(text string) error { return &script.Error{Line: at.Line, Column: at.Column, Text: text} }
	found := afterGo.FindStringSubmatch(line)
	if found == nil {
		return 0, wrong("behind GO stands something else than how often the batch is to run")
	}
	times := 1
	if found[1] != "" {
		var err error
		if times, err = strconv.Atoi(found[1]); err != nil || times > maxTimes || times*size > maxRepeats {
			return 0, wrong("the batch is to run too often; write a loop")
		}
	}
	if _, err := s.in.Rest(); err != nil {
		return 0, engine.ScriptError(at, script.Statement{}, err)
	}
	return times, nil
}

// clientCommand is what a line is that the engine's own client takes for itself: they read or write files,
// run programs, go to other servers or fill something in. Empty: it is none.
func clientCommand(word, line string) string {
	letter := func(text string) bool {
		return text != "" && (text[0] >= 'a' && text[0] <= 'z' || text[0] >= 'A' && text[0] <= 'Z')
	}
	rest := strings.TrimSpace(line)
	switch {
	case word == ":" && (letter(line) || strings.HasPrefix(line, "!!")):
		name, _, _ := strings.Cut(strings.TrimRight(line, "\r"), " ")
		if !letter(name) || strings.Trim(strings.ToLower(name), letters) != "" {
			name = "…"
		}
		return ":" + strings.ToLower(name)
	case word == "!" && strings.HasPrefix(line, "!"):
		return "!!"
	case (strings.EqualFold(word, "exit") || strings.EqualFold(word, "quit")) &&
		(rest == "" || strings.HasPrefix(rest, "(")):
		return strings.ToLower(word)
	}
	return ""
}

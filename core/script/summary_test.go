package script

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

// lines is a splitter of a made-up language: a line is a statement.
type lines struct {
	from io.Reader
	text []string
	line int
}

func (l *lines) Offset() int64 { return 0 }

func (l *lines) Next() (Statement, error) {
	if l.text == nil {
		all, err := io.ReadAll(l.from)
		if err != nil {
			return Statement{}, err
		}
		l.text = strings.Split(strings.TrimSuffix(string(all), "\n"), "\n")
	}
	if l.line == len(l.text) {
		return Statement{}, io.EOF
	}
	text := l.text[l.line]
	l.line++
	if text == "broken" {
		return Statement{}, &Error{Line: l.line, Column: 1, Text: "no end"}
	}
	st := Statement{Text: text, Line: l.line, Column: 1, Kind: strings.Fields(text + " ?")[0]}
	if st.Kind == "MAKE" {
		st.Names = []Name{{Role: Makes, Text: strings.TrimPrefix(text, "MAKE ")}}
	}
	if st.Kind == "CREATE" {
		st.Marks = []Mark{Outside}
	}
	return st, nil
}

func split(from io.Reader) Splitter { return &lines{from: from} }

func TestSummarise(t *testing.T) {
	text := "-- a script\nMAKE fares\nMAKE fares\nMAKE seats\nCREATE it\nSET x = 'CHANGE_ME'\nSET y = '<db " +
		"password>'\nINSERT '<password>'\n"
	s, err := Summarise(strings.NewReader(text), split)
	if err != nil || s.Statements != 8 || s.Lines != 8 || s.Size != int64(len(text)) || len(s.SHA256) != 64 {
		t.Errorf("%+v, %v", s, err)
	}
	if s.Kinds[0] != (Count{"MAKE", 3}) || s.Names[Makes].N != 2 ||
		s.Names[Makes].List[1] != (Named{Text: "seats", Line: 4}) {
		t.Errorf("kinds %v, names %v", s.Kinds, s.Names)
	}
	if s.Marks[Outside].N != 1 || s.Marks[Outside].First[0] != (Place{5, "CREATE"}) || s.Marks[Placeholder].N != 2 {
		t.Errorf("marks %v", s.Marks)
	}
	if s.Begins != "-- a script" || s.Encoding != "ASCII" || s.BOM || s.CRLF || s.Broken != nil {
		t.Errorf("as a file: %+v", s)
	}
	broken, err := Summarise(strings.NewReader("MAKE a\nbroken\nMAKE b\n"), split)
	if err != nil || broken.Broken == nil || broken.Broken.Line != 2 || broken.Lines != 3 {
		t.Errorf("a script that is broken is looked at as a file to its end: %+v, %v", broken, err)
	}
	if _, err := Summarise(iotest.ErrReader(io.ErrClosedPipe), split); err == nil {
		t.Error("a script that cannot be read has a summary")
	}
}

func TestSummariseCharacters(t *testing.T) {
	for _, tt := range []struct {
		text, encoding string
		bom, crlf      bool
		invalid        int
	}{
		{"SET é\n", "UTF-8", false, false, 0},
		{"\xEF\xBB\xBFSET é\r\n", "UTF-8", true, true, 0},
		{"SET a\nSET \xE9t\xE9\n", "unknown", false, false, 2},
		{"SET a\nSET \xC3", "unknown", false, false, 2},
		{"\xFF\xFES\x00E\x00", "UTF-16", true, false, 0},
		{"S\x00E\x00T\x00", "UTF-16", false, false, 0},
		{"", "ASCII", false, false, 0},
	} {
		for name, from := range map[string]io.Reader{"at once": strings.NewReader(tt.text),
			"byte by byte": iotest.OneByteReader(strings.NewReader(tt.text))} {
			s, err := Summarise(from, split)
			if err != nil || s.Encoding != tt.encoding || s.BOM != tt.bom ||
				s.Invalid != tt.invalid && tt.encoding != "UTF-16" {
				t.Errorf("%q %s: %s, BOM %v, invalid from %d, %v", tt.text, name, s.Encoding, s.BOM, s.Invalid, err)
			}
			if name == "at once" && s.CRLF != tt.crlf {
				t.Errorf("%q: line ends as on Windows: %v", tt.text, s.CRLF)
			}
		}
	}
}

func TestAt(t *testing.T) {
	st := Statement{Line: 10, Column: 5, Text: "SELECT é,\n  x"}
	for character, want := range map[int][2]int{1: {10, 5}, 8: {10, 12}, 11: {11, 1}, 13: {11, 3}, 99: {11, 4}} {
		if line, column := At(st, character); [2]int{line, column} != want {
			t.Errorf("character %d: line %d, column %d; want %v", character, line, column, want)
		}
	}
	if got := Excerpt("a\n\t " +
		"b" + strings.Repeat(" x", 500)); len([]rune(got)) > 210 || !strings.HasPrefix(got, "a b x") {
		t.Errorf("an excerpt: %q", got)
	}
}

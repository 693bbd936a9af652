package enginetest

import (
	"io"
	"strings"
	"testing"
	"testing/iotest"

	"example.com/genarch/core/script"
)

// Split takes a script apart to its end, and writes each statement as it is sent, with its
// rows; an error stands for the rest.
func Split(split func(io.Reader) script.Splitter, from io.Reader) (list []script.Statement, rows []string, err error) {
	s := split(from)
	for {
		st, err := s.Next()
		if err != nil {
			if err == io.EOF {
				err = nil
			}
			return list, rows, err
		}
		text := ""
		if st.Rows != nil {
			all, err := io.ReadAll(st.Rows)
			if err != nil {
				return list, rows, err
			}
			text = string(all)
		}
		list, rows = append(list, st), append(rows, text)
	}
}

// SplitInParts checks that a script is taken apart the same wherever its parts end, and that
// every statement stands where it is said to.
func SplitInParts(t *testing.T, split func(io.Reader) script.Splitter, text string) {
	t.Helper()
	whole, rows, err := Split(split, strings.NewReader(text))
	parts, rows2, err2 := Split(split, iotest.OneByteReader(strings.NewReader(text)))
	if len(whole) != len(parts) || (err == nil) != (err2 == nil) {
		t.Fatalf("%q: %d statements (%v), byte by byte %d (%v)", text, len(whole), err, len(parts), err2)
	}
	lines := strings.Split(text, "\n")
	for i, st := range whole {
		p := parts[i]
		if st.Text != p.Text || st.Line != p.Line || st.Column != p.Column || st.Kind != p.Kind ||
			i < len(rows) && rows[i] != rows2[i] {
			t.Fatalf("%q: statement %d is %+v, byte by byte %+v", text, i+1, st, p)
		}
		if st.Line < 1 || st.Line > len(lines) || i > 0 && st.Line < whole[i-1].Line {
			t.Fatalf("%q: statement %d is said to begin in line %d", text, i+1, st.Line)
		}
		if first, _, _ := strings.Cut(st.Text, "\n"); len(first) > 0 && !strings.Contains(lines[st.Line-1], first[:1]) {
			t.Fatalf("%q: statement %d, %q, is not in line %d", text, i+1, st.Text, st.Line)
		}
	}
}

// Wanted is a statement that a script is to hold.
type Wanted struct {
	Line  int
	Kind  string
	Text  string // empty: it is not looked at
	Marks []script.Mark
	Names []script.Name
	Rows  string
}

// SplitInto checks what a script is taken apart into.
func SplitInto(t *testing.T, split func(io.Reader) script.Splitter, text string, want []Wanted) {
	t.Helper()
	list, rows, err := Split(split, strings.NewReader(text))
	if err != nil {
		t.Error(err)
	}
	for i, w := range want {
		if i >= len(list) {
			t.Errorf("line %d, %s: it is missing", w.Line, w.Kind)
			continue
		}
		st := list[i]
		same := len(st.Marks) == len(w.Marks) && len(st.Names) == len(w.Names)
		for j := 0; same && j < len(w.Marks); j++ {
			same = st.Marks[j] == w.Marks[j]
		}
		for j := 0; same && j < len(w.Names); j++ {
			same = st.Names[j] == w.Names[j]
		}
		if !same || st.Line != w.Line || st.Kind != w.Kind || w.Text != "" && st.Text != w.Text || rows[i] != w.Rows {
			t.Errorf("got  %d %s %q %v %v %q\nwant %d %s %q %v %v %q", st.Line, st.Kind, st.Text, st.Marks, st.Names,
				rows[i], w.Line, w.Kind, w.Text, w.Marks, w.Names, w.Rows)
		}
	}
	if len(list) > len(want) {
		t.Errorf("%d statements more, the first of them %+v", len(list)-len(want), list[len(want)])
	}
	SplitInParts(t, split, text)
}

package lexical

import (
	"errors"
	"io"
	"strings"
	"testing"
	"testing/iotest"
)

// tokens takes a text apart by a stream; a word, which the dialect gives letter by letter,
// comes whole.
func tokens(d Dialect, from io.Reader) (list []Token, err error) {
	s := NewStream(from, 1<<20)
	for {
		s.Mark()
		t, err := s.Next(d, "")
		if err != nil {
			return list, err
		}
		list = append(list, t)
	}
}

func TestStream(t *testing.T) {
	text := "SELECT 'a;\nb', $x$ ; $x$;\n  -- é; \nINSERT INTO \"t\"\n"
	list, err := tokens(postgres, strings.NewReader(text))
	if err != io.EOF {
		t.Fatal(err)
	}
	at := map[string][2]int{}
	for _, x := range list {
		at[x.Text] = [2]int{x.Line, x.Column}
	}
	for word, want := range map[string][2]int{"SELECT": {1, 1}, "'a;\nb'": {1, 8}, "$x$ ; $x$": {2, 5}, ";": {2, 14},
		"INSERT": {4, 1}, `"t"`: {4, 13}} {
		if at[word] != want {
			t.Errorf("%q begins at %v, not %v", word, at[word], want)
		}
	}
	if _, err := tokens(postgres, strings.NewReader("SELECT 'no end")); !errors.Is(err, ErrUnended) {
		t.Errorf("a text without an end: %v", err)
	}
	s := NewStream(strings.NewReader("'"+strings.Repeat("x", 3<<20)+"'"), 1<<20)
	s.Mark()
	if _, err := s.Next(postgres, ""); !errors.Is(err, ErrTooLong) {
		t.Errorf("a text longer than what is kept: %v", err)
	}
	s = NewStream(strings.NewReader("'"+strings.Repeat("x\n", 300<<10)+"' END"), 1<<20)
	s.Mark()
	if x, err := s.Next(postgres, ""); err != nil || len(x.Text) != 600<<10+2 || s.Line != 300<<10+1 {
		t.Errorf("a text longer than what is read at once: %d bytes, line %d, %v", len(x.Text), s.Line, err)
	}
}

func TestStreamLines(t *testing.T) {
	const last = `\.`
	for _, tt := range []struct{ in, want, rest string }{
		{"a\nb\n\\.\nc", "a\nb\n", "c"}, {"\\.\n", "", ""}, {"a\r\n\\.\r\nc", "a\r\n", "c"},
		{"a\\.\nx\\.\n\\.\n", "a\\.\nx\\.\n", ""},
		{"a\n\\.", "a\n", ""}, {"\\.x\n\\.\n", "\\.x\n", ""},
	} {
		for name, from := range map[string]io.Reader{"at once": strings.NewReader(tt.in),
			"byte by byte": iotest.OneByteReader(strings.NewReader(tt.in))} {
			s := NewStream(from, 1<<20)
			got := ""
			for done := false; !done; {
				part, end, err := s.Lines(last)
				if err != nil {
					t.Fatalf("%q: %v", tt.in, err)
				}
				got, done = got+part, end
			}
			if rest, _ := s.Rest(); got != tt.want || rest != tt.rest {
				t.Errorf("%q %s: %q and then %q", tt.in, name, got, rest)
			}
		}
	}
	s := NewStream(strings.NewReader("a\nb\n"), 1<<20)
	for {
		if _, _, err := s.Lines(last); err != nil {
			if !errors.Is(err, io.ErrUnexpectedEOF) {
				t.Error(err)
			}
			break
		}
	}
}

// FuzzStream: a stream gives the text back, wherever its parts end, and never more tokens
// than the text has characters.
func FuzzStream(f *testing.F) {
	f.Add("SELECT 'a' /* b */ -- c\n; $x$ d $x$ E'\\'' `q` # r", 3)
	f.Fuzz(func(t *testing.T, text string, part int) {
		for _, d := range []Dialect{postgres, mariadb} {
			whole, err := tokens(d, strings.NewReader(text))
			parts, err2 := tokens(d, &slow{text, max(1, part%7)})
			if len(whole) != len(parts) || (err == io.EOF) != (err2 == io.EOF) {
				t.Fatalf("%q: %d tokens (%v), in parts %d (%v)", text, len(whole), err, len(parts), err2)
			}
			var b strings.Builder
			for i, x := range whole {
				b.WriteString(x.Text)
				if x != parts[i] {
					t.Fatalf("%q: %v, in parts %v", text, x, parts[i])
				}
			}
			if got := b.String(); !strings.HasPrefix(text, got) || err == io.EOF && got != text {
				t.Fatalf("%q comes back as %q", text, got)
			}
		}
	})
}

// slow gives so many bytes at a time.
type slow struct {
	text string
	n    int
}

func (s *slow) Read(into []byte) (int, error) {
	if s.text == "" {
		return 0, io.EOF
	}
	n := copy(into[:min(s.n, len(into))], s.text)
	s.text = s.text[n:]
	return n, nil
}

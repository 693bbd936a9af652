package script

import (
	"bytes"
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"io"
	"regexp"
	"slices"
	"strings"
	"unicode/utf8"
)

// Summary is what a script holds.
type Summary struct {
	Size   int64  `json:"size"` // bytes
	Lines  int    `json:"lines"`
	SHA256 string `json:"sha256"`
	// Encoding is "UTF-8", "UTF-16", "ASCII", or "unknown": it has bytes that are no UTF-8, the
	// first of them in the line Invalid. BOM: a byte order mark is before it.
	Encoding string `json:"encoding"`
	BOM      bool   `json:"bom,omitempty"`
	Invalid  int    `json:"invalid,omitempty"`
	CRLF     bool   `json:"crlf,omitempty"`
	// Begins is the first line that is not empty, cut.
	Begins string `json:"begins,omitempty"`

	Statements int     `json:"statements"`
	Kinds      []Count `json:"kinds,omitempty"`
	// Marks are the places where a mark stands, and Names the names, by what is done with them.
	Marks map[Mark]Places `json:"marks,omitempty"`
	Names map[Role]Names  `json:"names,omitempty"`
	// Longest is the length of the longest statement in bytes, LongestAt its line.
	Longest   int `json:"longest"`
	LongestAt int `json:"longest_at"`
	// Broken is why it could not be taken apart to its end.
	Broken *Error `json:"broken,omitempty"`
}

// Count is how many statements of a kind there are.
type Count struct {
	Kind string `json:"kind"`
	N    int    `json:"n"`
}

// Place is where something stands.
type Place struct {
	Line int    `json:"line"`
	Text string `json:"text"` // the kind of the statement, which holds nothing that a tenant wrote
}

// Places are the first of N places.
type Places struct {
	N     int     `json:"n"`
	First []Place `json:"first"`
}

// Named is a name and the line where it stands first.
type Named struct {
	Schema string `json:"schema,omitempty"`
	Text   string `json:"text"`
	Line   int    `json:"line"`
}

// Names are the first of N names that differ; N counts no further than what is looked at.
type Names struct {
	N    int     `json:"n"`
	List []Named `json:"list"`
}

// The bounds of what a summary keeps one by one.
const (
	maxPlaces = 20
	maxNames  = 2000
	maxKinds  = 60
	maxBegin  = 120
)

// Has reports whether a mark stands anywhere.
func (s Summary) Has(m Mark) bool { return s.Marks[m].N > 0 }

// Summarise reads a script to its end, and says what it holds. An error is one of reading;
// what is wrong with the script itself is in the summary.
func Summarise(from io.Reader, split func(io.Reader) Splitter) (Summary, error) {
	look := &looking{hash: sha256.New()}
	through := io.TeeReader(from, look)
	s := Summary{Marks: map[Mark]Places{}, Names: map[Role]Names{}}
	t := tally{kinds: map[string]int{}, names: map[Role]map[Named]bool{}}
	splitter := split(through)
	for {
		st, err := splitter.Next()
		if err == io.EOF {
			break
		}
		if broken, is := errors.AsType[*Error](err); is {
			s.Broken = broken
			break
		}
		if err != nil {
			return s, err
		}
		t.add(&s, st)
	}
	if _, err := io.Copy(io.Discard, through); err != nil {
		return s, err
	}
	s.Kinds = t.counts()
	look.tell(&s)
	return s, nil
}

// tally counts while a script is read.
type tally struct {
	kinds map[string]int
	names map[Role]map[Named]bool
}

func (t *tally) add(s *Summary, st Statement) {
	if st.Text != "" {
		s.Statements++
		t.kinds[st.Kind]++
	}
	if len(st.Text) > s.Longest {
		s.Longest, s.LongestAt = len(st.Text), st.Line
	}
	marks := st.Marks
	if hasPlaceholder(st) {
		marks = append(marks, Placeholder)
	}
	for _, m := range marks {
		p := s.Marks[m]
		if p.N++; len(p.First) < maxPlaces {
			p.First = append(p.First, Place{st.Line, cmp.Or(st.Kind, "?")})
		}
		s.Marks[m] = p
	}
	for _, n := range st.Names {
		if t.names[n.Role] == nil {
			t.names[n.Role] = map[Named]bool{}
		}
		key := Named{Schema: n.Schema, Text: n.Text}
		if t.names[n.Role][key] || len(t.names[n.Role]) >= maxNames {
			continue
		}
		t.names[n.Role][key] = true
		list := s.Names[n.Role]
		list.N++
		list.List = append(list.List, Named{n.Schema, n.Text, st.Line})
		s.Names[n.Role] = list
	}
}

// counts are the kinds, the most frequent first.
func (t *tally) counts() []Count {
	var out []Count
	for kind, n := range t.kinds {
		out = append(out, Count{kind, n})
	}
	slices.SortFunc(out, func(x, y Count) int {
		if x.N != y.N {
			return y.N - x.N
		}
		return strings.Compare(x.Kind, y.Kind)
	})
	if len(out) > maxKinds {
		rest := 0
		for _, c := range out[maxKinds:] {
			rest += c.N
		}
		out = append(out[:maxKinds:maxKinds], Count{"others", rest})
	}
	return out
}

var (
	shouted = regexp.MustCompile(`CHANGE_?ME|CHANGEIT|REPLACE_?ME|FILL_?ME|YOUR_PASSWORD|` +
		`your_password|change_me|changeme`)
	brackets = regexp.MustCompile(`['"]<(?i:[a-z_ -]*(?:password|passwd|secret|user|username|host|database))>['"]`)
)

// hasPlaceholder reports whether something was to be filled in that was not: CHANGE_ME,
// '<password>'. In rows only what is shouted counts.
func hasPlaceholder(st Statement) bool {
	rows := st.Kind == "INSERT" || st.Kind == "REPLACE"
	if rows && len(st.Text) > 4096 {
		return false
	}
	return shouted.MatchString(st.Text) || !rows && strings.Contains(st.Text, "<") && brackets.MatchString(st.Text)
}

// looking notes what a script is as a file.
type looking struct {
	hash interface {
		io.Writer
		Sum([]byte) []byte
	}
	size    int64
	lines   int
	head    []byte
	rest    []byte // of a character that is not whole yet
	wide    bool
	invalid int
	crlf    bool
	ended   bool // with a line end
}

// Write takes the next part of the file.
func (l *looking) Write(part []byte) (int, error) {
	_, _ = l.hash.Write(part)
	l.size += int64(len(part))
	if len(l.head) < 512 {
		l.head = append(l.head, part[:min(len(part), 512-len(l.head))]...)
	}
	if !l.crlf {
		l.crlf = bytes.Contains(part, []byte("\r\n"))
	}
	if l.invalid == 0 {
		l.characters(part)
	}
	l.lines += bytes.Count(part, []byte("\n"))
	if n := len(part); n > 0 {
		l.ended = part[n-1] == '\n'
	}
	return len(part), nil
}

// characters looks for bytes that are no UTF-8.
func (l *looking) characters(part []byte) {
	text := part
	if len(l.rest) > 0 {
		text = append(l.rest, part...)
	}
	keep := 0
	for n := 1; n < utf8.UTFMax && n <= len(text); n++ {
		if c := text[len(text)-n]; utf8.RuneStart(c) {
			if c >= utf8.RuneSelf && !utf8.FullRune(text[len(text)-n:]) {
				keep = n
			}
			break
		}
	}
	whole := text[:len(text)-keep]
	l.rest = slices.Clone(text[len(text)-keep:])
	if utf8.Valid(whole) {
		for i := 0; i < len(whole) && !l.wide; i++ {
			l.wide = whole[i] >= utf8.RuneSelf
		}
		return
	}
	line := l.lines + 1
	for len(whole) > 0 {
		r, n := utf8.DecodeRune(whole)
		if r == utf8.RuneError && n == 1 {
			break
		}
		if r == '\n' {
			line++
		}
		whole = whole[n:]
	}
	l.invalid = line
}

func (l *looking) tell(s *Summary) {
	s.Size, s.Lines, s.CRLF = l.size, l.lines, l.crlf
	if l.size > 0 && !l.ended {
		s.Lines++
	}
	s.SHA256 = hex.EncodeToString(l.hash.Sum(nil))
	head := l.head
	if rest, is := bytes.CutPrefix(head, []byte("\xEF\xBB\xBF")); is {
		s.BOM, head = true, rest
	}
	if len(l.rest) > 0 && l.invalid == 0 {
		l.invalid = s.Lines
	}
	switch {
	case bytes.HasPrefix(head, []byte("\xFF\xFE")), bytes.HasPrefix(head, []byte("\xFE\xFF")):
		s.Encoding, s.BOM = "UTF-16", true
	case len(head) > 3 && bytes.IndexByte(head[:4], 0) >= 0:
		s.Encoding = "UTF-16"
	case l.invalid > 0:
		s.Encoding, s.Invalid = "unknown", l.invalid
	case l.wide:
		s.Encoding = "UTF-8"
	default:
		s.Encoding = "ASCII"
	}
	for line := range bytes.Lines(head) {
		text := strings.TrimSpace(strings.ToValidUTF8(string(line), "�"))
		if strings.Trim(text, "-") != "" {
			if runes := []rune(text); len(runes) > maxBegin {
				text = string(runes[:maxBegin]) + " …"
			}
			s.Begins = text
			break
		}
	}
}

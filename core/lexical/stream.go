package lexical

import (
	"errors"
	"io"
	"strings"
)

// Token is one piece of a script. Words, which no quotes are around, come whole as [Other];
// every other character that means nothing here comes alone.
type Token struct {
	Kind Kind
	Text string
	// Line and Column are where it begins in the file, counted from 1, the column in
	// characters.
	Line, Column int
}

// Stream takes a script apart that need not fit into memory. What is kept is the part from
// the last [Stream.Mark] on.
type Stream struct {
	// Line and Column are of what comes next, counted from 1, the column in characters.
	Line, Column int
	// Most is the longest part that is kept, in bytes.
	Most int

	from io.Reader
	buf  string
	pos  int // of what comes next in buf
	kept int // where what is kept begins in buf
	past int64
	eof  bool

	// What can begin something when it is skimmed, and for which rules.
	skimmed  Dialect
	skimStop string
	begins   [256]bool
}

// NewStream reads a script of which at most so many bytes are kept at once. A byte order mark
// before it is passed over.
func NewStream(from io.Reader, most int) *Stream {
	return &Stream{Line: 1, Column: 1, Most: most, from: from}
}

// ErrTooLong: a part of a script is longer than what is kept at once.
var ErrTooLong = errors.New("a part of the script is too long")

// byteOrderMark stands before some files in UTF-8, and is no part of what they say.
const byteOrderMark = "\xEF\xBB\xBF"

// ahead is how far the stream looks before it takes the end of what it has for the end of a
// token: beyond the tag of a dollar quote, which has 63 bytes at most.
const ahead = 256

// readAtOnce is how much is read at least.
const readAtOnce = 256 << 10

// Mark forgets what came before: what comes next is kept.
func (s *Stream) Mark() { s.kept = s.pos }

// Kept is what was passed since the last [Stream.Mark].
func (s *Stream) Kept() string { return s.buf[s.kept:s.pos] }

// Offset is how many bytes of the script were passed.
func (s *Stream) Offset() int64 { return s.past + int64(s.pos) }

// more reads on. At the end it says so by eof.
func (s *Stream) more() error {
	if s.eof {
		return nil
	}
	keep := s.buf[s.kept:]
	if len(keep) > s.Most {
		return ErrTooLong
	}
	// So much more as there is already, so that a long part is not copied too often.
	part := make([]byte, len(keep)+max(readAtOnce, len(keep)))
	copy(part, keep)
	n, err := io.ReadFull(s.from, part[len(keep):])
	first := s.buf == "" && s.past == 0
	s.past += int64(s.kept)
	s.pos -= s.kept
	s.kept, s.buf = 0, string(part[:len(keep)+n])
	if first && strings.HasPrefix(s.buf, byteOrderMark) {
		s.pos, s.kept = len(byteOrderMark), len(byteOrderMark)
	}
	switch {
	case err == io.EOF, err == io.ErrUnexpectedEOF:
		s.eof = true
		return nil
	}
	return err
}

// has makes sure that n bytes are there to be looked at, or that the script ends before.
func (s *Stream) has(n int) error {
	for len(s.buf)-s.pos < n && !s.eof {
		if err := s.more(); err != nil {
			return err
		}
	}
	return nil
}

// Peek is what comes next, up to n bytes of it.
func (s *Stream) Peek(n int) (string, error) {
	err := s.has(n)
	return s.buf[s.pos:min(len(s.buf), s.pos+n)], err
}

// Next takes the next token by the rules of a dialect. Where stop begins (if it is not
// empty), a word ends. [io.EOF] at the end, [ErrUnended] for what has no end.
func (s *Stream) Next(d Dialect, stop string) (Token, error) {
	if err := s.has(ahead); err != nil {
		return Token{}, err
	}
	if s.pos == len(s.buf) {
		return Token{}, io.EOF
	}
	for {
		k, end := d.next(s.buf, s.pos)
		if k == Other && end > 0 && wordByte(s.buf[s.pos]) {
			for end < len(s.buf) && wordByte(s.buf[end]) && (stop == "" || !strings.HasPrefix(s.buf[end:], stop)) {
				end++
			}
		}
		if k == Blank {
			for end < len(s.buf) && strings.IndexByte(" \t\n\r\f\v", s.buf[end]) >= 0 {
				end++
			}
		}
		if (end < 0 || end > len(s.buf)-ahead) && !s.eof {
			if err := s.more(); err != nil {
				return Token{}, err
			}
			continue
		}
		if end < 0 {
			return Token{Kind: k, Line: s.Line, Column: s.Column}, ErrUnended
		}
		t := Token{k, s.buf[s.pos:end], s.Line, s.Column}
		s.pass(end)
		return t, nil
	}
}

// Skim passes what can begin nothing but words, numbers and blanks, by the rules of a dialect
// and before stop. It is for the long rest of a statement whose beginning says what it is.
func (s *Stream) Skim(d Dialect, stop string) error {
	if err := s.has(ahead); err != nil {
		return err
	}
	if d != s.skimmed || stop != s.skimStop || !s.begins['\''] {
		s.skimmed, s.skimStop, s.begins = d, stop, [256]bool{}
		for _, c := range []byte("'\"`;-/#$\\()" + stop) {
			s.begins[c] = true
		}
	}
	end := len(s.buf)
	if !s.eof {
		end = max(s.pos, end-ahead)
	}
	i := s.pos
	for i < end && !s.begins[s.buf[i]] {
		i++
	}
	// The letter before a quote may belong to it: E'…'.
	for i > s.pos && i < len(s.buf) && s.buf[i] == '\'' && wordByte(s.buf[i-1]) {
		i--
	}
	s.pass(i)
	return nil
}

// Rest takes what is left of the line, without its end.
func (s *Stream) Rest() (string, error) {
	for {
		i := strings.IndexByte(s.buf[s.pos:], '\n')
		if i < 0 && !s.eof {
			if err := s.more(); err != nil {
				return "", err
			}
			continue
		}
		end, next := s.pos+i, s.pos+i+1
		if i < 0 {
			end, next = len(s.buf), len(s.buf)
		}
		text := strings.TrimSuffix(s.buf[s.pos:end], "\r")
		s.pass(next)
		return text, nil
	}
}

// Lines takes whole lines, as many as are there, up to one that is only last, which is
// taken too and not given; done says that it was. [io.ErrUnexpectedEOF]: it did not come.
func (s *Stream) Lines(last string) (text string, done bool, err error) {
	s.Mark()
	for {
		part := s.buf[s.pos:]
		if whole := strings.LastIndexByte(part, '\n') + 1; whole > 0 || s.eof {
			if s.eof {
				whole = len(part)
			}
			at, end := lastLine(part[:whole], last)
			if at >= 0 {
				text = part[:at]
				s.pass(s.pos + end)
				return text, true, nil
			}
			s.pass(s.pos + whole)
			if s.eof {
				return part[:whole], false, io.ErrUnexpectedEOF
			}
			return part[:whole], false, nil
		}
		if err := s.more(); err != nil {
			return "", false, err
		}
	}
}

// lastLine is where a line that is only last begins and ends in a text of whole lines; -1:
// nowhere.
func lastLine(text, last string) (at, end int) {
	for from := 0; from < len(text); {
		i := strings.Index(text[from:], last)
		if i < 0 {
			return -1, 0
		}
		i += from
		rest := text[i+len(last):]
		after := len(rest) - len(strings.TrimPrefix(rest, "\r"))
		if (i == 0 || text[i-1] == '\n') && (rest == "" || strings.HasPrefix(rest[after:], "\n") || rest == "\r") {
			return i, min(len(text), i+len(last)+after+1)
		}
		from = i + len(last)
	}
	return -1, 0
}

// Skip passes n bytes, which [Stream.Peek] has shown.
func (s *Stream) Skip(n int) { s.pass(min(len(s.buf), s.pos+n)) }

// pass goes on to a place in buf, and counts lines and characters.
func (s *Stream) pass(to int) {
	text := s.buf[s.pos:to]
	if n := strings.Count(text, "\n"); n > 0 {
		s.Line += n
		s.Column = 1
		text = text[strings.LastIndexByte(text, '\n')+1:]
	}
	for i := range len(text) {
		if text[i]&0xC0 != 0x80 { // the first byte of a character
			s.Column++
		}
	}
	s.pos = to
}

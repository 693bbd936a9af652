package cli

import (
	"crypto/rand"
	"fmt"
	"io"
	"os"
	"strings"
	"unicode"
	"unicode/utf8"
)

// terminal is the one way to a person's screen. What it is given may hold names,
// statements and errors that a stranger chose, so every control and format
// character in it is shown and never sent; styles are put in only by [style].
type terminal struct {
	out    io.Writer
	colour bool
	rest   []byte // the beginning of a character, to be continued by the next write
}

func newTerminal(out io.Writer) *terminal {
	if t, already := out.(*terminal); already {
		return t
	}
	f, isFile := out.(*os.File)
	return &terminal{out: out, colour: isFile && isTerminal(f) && os.Getenv("NO_COLOR") == "" &&
		os.Getenv("TERM") != "dumb"}
}

// Write cleans what it is given and passes it on.
func (t *terminal) Write(p []byte) (int, error) {
	text := append(t.rest, p...)
	t.rest = nil
	if n := incomplete(text); n > 0 {
		t.rest = append(t.rest, text[len(text)-n:]...)
		text = text[:len(text)-n]
	}
	_, err := io.WriteString(t.out, t.clean(string(text)))
	return len(p), err
}

// incomplete is how many bytes at the end begin a character that is not whole.
func incomplete(text []byte) int {
	for n := 1; n <= min(len(text), utf8.UTFMax-1); n++ {
		b := text[len(text)-n]
		if utf8.RuneStart(b) {
			if b >= utf8.RuneSelf && !utf8.FullRune(text[len(text)-n:]) {
				return n
			}
			return 0
		}
	}
	return 0
}

// clean shows what is hidden, and turns the marks of our own styles into colours.
func (t *terminal) clean(text string) string {
	var b strings.Builder
	for len(text) > 0 {
		mark, after, found := strings.Cut(text, nonce)
		b.WriteString(hiddenShown(mark))
		if !found {
			break
		}
		code, rest, _ := strings.Cut(after, "\a")
		switch {
		case code == "K":
			b.WriteString("\r\x1b[K")
		case t.colour:
			b.WriteString("\x1b[" + code + "m")
		}
		text = rest
	}
	return b.String()
}

// nonce begins the mark of a style: nobody else can know it. To whoever measures
// the width of a text it is an escape sequence, which has none.
var nonce = "\x1b]" + rand.Text() + ";"

// style is a look of the terminal, as the parameters of SGR (ECMA-48).
type style string

// The looks. None is the only sign of anything.
const (
	bold    style = "1"
	faint   style = "2"
	wrong   style = "1;31"
	fine    style = "1;32"
	caution style = "1;33"
	strict  style = "1;35" // production
	calm    style = "34"   // staging
)

// lineAnew begins the present line of a terminal anew: what stood there goes
// (ECMA-48: CR, EL).
var lineAnew = nonce + "K\a"

// Render puts a text into the look.
func (s style) Render(text string) string { return nonce + string(s) + "\a" + text + nonce + "0\a" }

// hiddenShown writes control and format characters, and bytes that are no text, as
// \u{…}: but for line ends and tabs.
func hiddenShown(text string) string { return shown(text, "\n\t") }

// visible shows them all: for a name within a line.
func visible(text string) string { return shown(text, "") }

func shown(text, keep string) string {
	if !strings.ContainsFunc(text, hidden) {
		return text
	}
	var b strings.Builder
	for i, r := range text {
		switch {
		case r == utf8.RuneError && !strings.HasPrefix(text[i:], "\ufffd"):
			fmt.Fprintf(&b, "\\x%02x", text[i])
		case hidden(r) && !strings.ContainsRune(keep, r):
			fmt.Fprintf(&b, "\\u{%x}", r)
		default:
			b.WriteRune(r)
		}
	}
	return b.String()
}

// hidden reports whether a character shows nothing by itself: controls, what
// changes the direction or joins, line separators, what is no character.
func hidden(r rune) bool {
	return unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == '\u2028' || r == '\u2029' || r == utf8.RuneError ||
		unicode.Is(unicode.Co, r) || unicode.Is(unicode.Variation_Selector, r) || r == '\u115f' || r == '\u1160' ||
		r == '\u3164' || r == '\uffa0'
}

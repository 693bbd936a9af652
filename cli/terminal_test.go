package cli

import (
	"bytes"
	"encoding/json"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"go.yaml.in/yaml/v3"

	"example.com/genarch/api/wire"
)

// tricks are names that move the cursor, hide what follows, turn the direction
// round or set the title of a window.
var tricks = []string{"zz\x1b]0;PWNED\a\x1b[31mred", "f() from public;/*\x1b[8m*/reset role", "\u202etxt.exe",
	"a\u200bb", "\u009b31m", "x\rY", "bell\a", "\u2028line", "\xff\xfe", "del\x7f", "a\u0600", "🏴\U000e0067"}

func TestTerminalShowsWhatIsHidden(t *testing.T) {
	for _, colour := range []bool{false, true} {
		var out bytes.Buffer
		w := &terminal{out: &out, colour: colour}
		a := app{Streams{Out: w, Err: w}}
		for _, trick := range tricks {
			a.say("%s", bold.Render("STOP")+" "+trick)
			a.showBrief(wire.Brief{Summary: trick, Identity: trick, Environment: "production",
				Settings: []wire.Setting{{Name: trick, Value: trick, Source: trick}},
				Findings: []wire.Finding{{Level: "note", Code: trick, Text: trick, Next: trick},
					{Level: "note", Unseen: true, Text: trick}},
				Steps: []wire.Step{{Title: trick, Statement: "REVOKE EXECUTE ON ROUTINE \"" + trick + "\"",
					Undo: trick}}})
		}
		text := out.String()
		for _, style := range []string{"1", "2", "1;31", "1;32", "1;33", "1;35", "0"} {
			text = strings.ReplaceAll(text, "\x1b["+style+"m", "")
		}
		if colour == (text == out.String()) {
			t.Errorf("colour %v: styles are there: %v", colour, text != out.String())
		}
		for i, r := range text {
			if r != '\n' && (unicode.IsControl(r) || unicode.Is(unicode.Cf, r) || r == utf8.RuneError) {
				t.Fatalf("colour %v: %q reaches the terminal: …%q", colour, r, text[max(0, i-20):min(len(text), i+20)])
			}
		}
		has := func(want string) {
			t.Helper()
			if !strings.Contains(text, want) {
				t.Errorf("colour %v: %q is not shown", colour, want)
			}
		}
		has(`f() from public;/*\u{1b}[8m*/reset role`)
		has(`\u{202e}txt.exe`)
		has(`\xff\xfe`)
	}
}

// What is written in pieces is cleaned as if it were whole.
func TestTerminalInPieces(t *testing.T) {
	var out bytes.Buffer
	w := &terminal{out: &out}
	for _, b := range []byte("日本 \u202e\u009b ⛴") {
		if _, err := w.Write([]byte{b}); err != nil {
			t.Fatal(err)
		}
	}
	if want := `日本 \u{202e}\u{9b} ⛴`; out.String() != want {
		t.Errorf("%q; want %q", out.String(), want)
	}
}

// JSON and YAML stay what they are, and show nothing hidden either.
func TestHiddenInForms(t *testing.T) {
	for _, trick := range tricks {
		trick = strings.ToValidUTF8(trick, "\ufffd")
		for _, form := range []string{"json", "yaml"} {
			var out bytes.Buffer
			a := app{Streams{Out: newTerminal(&out)}}
			var err error
			if form == "json" {
				err = a.printJSON(map[string]string{"name": trick})
			} else {
				err = a.printYAML(map[string]string{"name": trick})
			}
			if err != nil {
				t.Fatal(err)
			}
			if strings.ContainsFunc(strings.ReplaceAll(out.String(), "\n", ""), hidden) {
				t.Errorf("%s of %q: %q", form, trick, out.String())
			}
			var back map[string]string
			if form == "json" {
				err = json.Unmarshal(out.Bytes(), &back)
			} else {
				err = yaml.Unmarshal(out.Bytes(), &back)
			}
			if err != nil || back["name"] != trick {
				t.Errorf("%s of %q reads back %q, %v from %s", form, trick, back["name"], err, out.String())
			}
		}
	}
}

func TestNoFormula(t *testing.T) {
	for text, want := range map[string]string{"=1+1": "'=1+1", "+x": "'+x", "-1": "-1", "-1.5": "-1.5", "-x": "'-x",
		"@SUM(A1)": "'@SUM(A1)", "tickets": "tickets", "": "", "\tx": "'\tx"} {
		if got := noFormula(text); got != want {
			t.Errorf("noFormula(%q) = %q; want %q", text, got, want)
		}
	}
}

func FuzzTerminal(f *testing.F) {
	for _, trick := range tricks {
		f.Add(trick)
	}
	f.Fuzz(func(t *testing.T, text string) {
		if strings.Contains(text, nonce) {
			return
		}
		var out bytes.Buffer
		_, _ = (&terminal{out: &out, colour: true}).Write([]byte(text))
		if i := strings.IndexFunc(strings.NewReplacer("\n", "", "\t", "").Replace(out.String()), hidden); i >= 0 {
			t.Errorf("%q reaches the terminal as %q", text, out.String())
		}
	})
}

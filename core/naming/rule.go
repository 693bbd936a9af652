// Package naming holds what Genarch knows about names: the addresses by which
// everything is reached, the rule that new database names keep, which names a
// person would confuse, and suggestions for names that do not fit.
package naming

import (
	"fmt"
	"strings"
	"unicode"
	"unicode/utf16"
	"unicode/utf8"
)

// Length says how an engine counts the length of a name.
type Length string

// The ways of counting. One unit of UTF-16 is a character up to U+FFFF; those beyond are two.
const (
	Bytes      Length = "bytes"
	Characters Length = "characters"
	UTF16      Length = "UTF-16 units"
)

// Rule is what a server asks of the names of new databases. The zero value
// lets everything through that the engine itself can store.
type Rule struct {
	// Free lets any name through that the engine takes. When false (the
	// careful choice) a name has lower-case letters, digits and underscores
	// and starts with a letter.
	Free bool `json:"free"`
	// Suffix must end every name, for example "_prod"; empty asks for none.
	Suffix string `json:"suffix"`
	// MaxLength is the longest name; 0 leaves it to the engine.
	MaxLength int `json:"max_length"`
}

// Limits are what an engine can store, whatever the rule says.
type Limits struct {
	MaxLength int    `json:"max_length"`
	Counted   Length `json:"counted"`
	// BMPOnly: characters beyond U+FFFF are refused.
	BMPOnly bool `json:"bmp_only,omitempty"`
	// Reserved names can never be used, compared without case.
	Reserved []string `json:"reserved,omitempty"`
}

// Problem is one reason why a name does not fit.
type Problem struct {
	// Code is stable: name.empty, name.control, name.characters, name.start,
	// name.length, name.suffix, name.reserved, name.edge.
	Code string
	// Text says what is wrong and why.
	Text string
}

// Check collects everything that speaks against name as a new name.
func (r Rule) Check(name string, lim Limits) []Problem {
	var out []Problem
	add := func(code, format string, args ...any) {
		out = append(out, Problem{Code: code, Text: fmt.Sprintf(format, args...)})
	}
	if name == "" {
		add("name.empty", "The name is empty.")
		return out
	}
	for _, c := range name {
		if c == 0 {
			add("name.control", "The name holds a NUL byte, which no engine can store.")
			return out
		}
		if unicode.IsControl(c) || unicode.Is(unicode.Cf, c) || c == utf8.RuneError {
			add("name.control", "The name holds %U, which is invisible (or is no valid UTF-8).", c)
			break
		}
	}
	if strings.TrimSpace(name) != name {
		add("name.edge", "The name begins or ends with a blank.")
	}
	if lim.BMPOnly {
		for _, c := range name {
			if c > 0xFFFF {
				add("name.characters", "The engine cannot store %q in a name.", c)
				break
			}
		}
	}
	if !r.Free {
		if bad := oddCharacters(name); bad != "" {
			add("name.characters", "The rule here allows lower-case letters, digits and _, not %s.", bad)
		}
		if first := name[0]; first < 'a' || first > 'z' {
			add("name.start", "The rule here asks for a lower-case letter first.")
		}
	}
	if longest := r.longest(lim); longest > 0 && lim.count(name) > longest {
		add("name.length", "The name has %d %s; at most %d fit.", lim.count(name), lim.Counted, longest)
	}
	if r.Suffix != "" && (!strings.HasSuffix(name, r.Suffix) || name == r.Suffix) {
		add("name.suffix", "Names on this server end in %q.", r.Suffix)
	}
	for _, word := range lim.Reserved {
		if strings.EqualFold(word, name) {
			add("name.reserved", "%q is the name of a system database or a word that the engine reserves.", name)
		}
	}
	return out
}

// Suggest makes a name that fits from one that does not, avoiding the names
// that taken reports. It returns "" if nothing sensible is left of the name.
func (r Rule) Suggest(name string, lim Limits, taken func(string) bool) string {
	base := strings.TrimSuffix("_"+plain(name), strings.ToLower(r.Suffix))
	base = strings.Trim(base, "_")
	for base != "" && (base[0] < 'a' || base[0] > 'z') {
		base = base[1:]
	}
	if base == "" {
		return ""
	}
	room := len(base)
	if longest := r.longest(lim); longest > 0 {
		room = longest - len(r.Suffix)
	}
	for n := 1; n < 100; n++ {
		tail := r.Suffix
		if n > 1 {
			tail = fmt.Sprintf("_%d%s", n, r.Suffix)
		}
		cut := base[:max(0, min(len(base), room+len(r.Suffix)-len(tail)))]
		candidate := strings.TrimRight(cut, "_") + tail
		if !taken(candidate) && len(r.Check(candidate, lim)) == 0 {
			return candidate
		}
	}
	return ""
}

// longest is the smaller of the rule's and the engine's limits; 0 is none.
func (r Rule) longest(lim Limits) int {
	if r.MaxLength > 0 && (lim.MaxLength == 0 || r.MaxLength < lim.MaxLength) {
		return r.MaxLength
	}
	return lim.MaxLength
}

func (l Limits) count(name string) int {
	switch l.Counted {
	case Bytes:
		return len(name)
	case UTF16:
		return len(utf16.Encode([]rune(name)))
	}
	return utf8.RuneCountInString(name)
}

// oddCharacters lists, quoted and at most five, what the careful rule refuses.
func oddCharacters(name string) string {
	var odd []string
	seen := map[rune]bool{}
	for _, c := range name {
		if (c < 'a' || c > 'z') && (c < '0' || c > '9') && c != '_' && !seen[c] {
			seen[c] = true
			word := fmt.Sprintf("%q", c)
			if c == ' ' {
				word = "a blank"
			}
			odd = append(odd, word)
		}
	}
	if len(odd) > 5 {
		odd = append(odd[:5], "…")
	}
	return strings.Join(odd, " ")
}

// plain turns a name into lower-case ASCII letters, digits and single
// underscores, reading look-alikes as what they look like.
func plain(name string) string {
	var b strings.Builder
	for _, c := range strings.ToLower(name) {
		c = latin(c)
		switch {
		case c >= 'a' && c <= 'z', c >= '0' && c <= '9':
			b.WriteRune(c)
		case unicode.Is(unicode.Mn, c), unicode.Is(unicode.Cf, c):
		default:
			if b.Len() > 0 && !strings.HasSuffix(b.String(), "_") {
				b.WriteByte('_')
			}
		}
	}
	return b.String()
}

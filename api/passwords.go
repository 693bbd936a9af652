package api

import (
	_ "embed"
	"math"
	"slices"
	"strings"
	"sync"

	"github.com/alexedwards/argon2id"

	"example.com/genarch/core/policy"
)

// argon are the parameters of OWASP's first choice: 19 MiB, two passes. Checking
// takes about 65 ms on a small machine.
var argon = &argon2id.Params{Memory: 19 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// HashPassword checks an operator's password against the policy and returns the
// hash that is kept.
func HashPassword(password, operator string) (string, error) {
	if err := policy.CheckPassword(password, strength(password, operator)); err != nil {
		return "", err
	}
	return argon2id.CreateHash(password, argon)
}

// stems are what guessers try first. Each counts like two letters, whatever its
// length.
var stems = strings.Fields(stemsFile)

//go:embed stems.txt
var stemsFile string

// walks are rows and columns of keyboards: fingers find them in either direction.
var walks = []string{"1234567890", "qwertyuiop", "qwertzuiop", "azertyuiop", "asdfghjkl", "zxcvbnm", "yxcvbnm",
	"abcdefghijklmnopqrstuvwxyz",
	"1qaz2wsx3edc4rfv5tgb6yhn7ujm8ik9ol0p", "1q2w3e4r5t6y7u8i9o0p", "zaq1xsw2cde3vfr4bgt5nhy6mju7",
	"zaq12wsxcde34rfvbgt56yhnmju78"}

// leet undoes the usual spellings of letters.
var leet = strings.NewReplacer("@", "a", "4", "a", "3", "e", "1", "i", "!", "i", "0", "o", "$", "s", "5", "s", "7", "t",
	"+", "t", "8", "b", "9", "g", "|", "l")

// minWalk is from how many characters on a walk counts as one.
const minWalk = 4

// minRepeat is from how many characters on a piece counts as one that came before.
const minRepeat = 3

// strength estimates how hard a password is to guess, in bits: what is known to
// guessers counts for little, and the rest as if each character was drawn from
// the kinds that occur. words are further stems, such as the operator's own name.
func strength(password string, words ...string) float64 {
	plain := shorten(strings.ToLower(password), words)
	// The same with the usual spellings undone, where that finds more.
	if undone := shorten(leet.Replace(strings.ToLower(password)), words); len([]rune(undone)) < len([]rune(plain)) {
		plain = undone
	}
	if repeats(plain) {
		return 0
	}
	if plain == strings.ToLower(password) {
		plain = password // upper case counts where nothing was known
	}
	kinds, distinct := 0.0, map[rune]bool{}
	var lower, upper, digit, other, foreign bool
	for _, r := range plain {
		distinct[r] = true
		switch {
		case r >= 'a' && r <= 'z':
			lower = true
		case r >= 'A' && r <= 'Z':
			upper = true
		case r >= '0' && r <= '9':
			digit = true
		case r < 0x80:
			other = true
		default:
			foreign = true
		}
	}
	for _, k := range []struct {
		there bool
		n     float64
	}{{lower, 26}, {upper, 26}, {digit, 10}, {other, 33}, {foreign, 100}} {
		if k.there {
			kinds += k.n
		}
	}
	// A character that came before counts half: repeats are guessed early.
	length := float64(len(distinct)) + float64(len([]rune(plain))-len(distinct))/2
	return length * math.Log2(max(kinds, 1))
}

// shorten puts two characters for each stem, and for each walk over a keyboard.
func shorten(text string, words []string) string {
	known := append(slices.Clone(words), stems...)
	slices.SortStableFunc(known, func(a, b string) int { return len(b) - len(a) }) // administrator before admin
	for _, stem := range known {
		if len(stem) > 2 {
			text = strings.ReplaceAll(text, strings.ToLower(stem), "xy")
		}
	}
	for i := 0; i < len(text); i++ {
		if n := walk(text[i:]); n >= minWalk {
			text = text[:i] + "xy" + text[i+n:]
			i++
		}
	}
	// A piece that came before counts as one character.
	for i := minRepeat; i+minRepeat <= len(text); i++ {
		n := minRepeat
		for i+n <= len(text) && strings.Contains(text[:i], text[i:i+n]) {
			n++
		}
		if n--; n >= minRepeat {
			text = text[:i] + "z" + text[i+n:]
		}
	}
	return text
}

// walk is how long the longest walk at the front of a text is.
func walk(text string) int {
	longest := 0
	for _, row := range walks {
		for _, w := range []string{row, reversed(row)} {
			for at := range len(w) {
				n := 0
				for n < len(text) && at+n < len(w) && text[n] == w[at+n] {
					n++
				}
				longest = max(longest, n)
			}
		}
	}
	return longest
}

func reversed(text string) string {
	r := []rune(text)
	slices.Reverse(r)
	return string(r)
}

// repeats reports whether a text is one short piece over and over.
func repeats(text string) bool {
	for n := 1; n <= 8 && 2*n <= len(text); n++ {
		if strings.HasPrefix(strings.Repeat(text[:n], len(text)/n+1), text) {
			return true
		}
	}
	return false
}

// nobody is a hash that is compared with when there is no such operator, so
// that the answer takes as long. It is made when it is first needed: a hash
// takes longer than most commands of the CLI.
var nobody = sync.OnceValue(func() string {
	hash, err := argon2id.CreateHash("no operator has this password", argon)
	if err != nil {
		panic("argon2id: " + err.Error()) // no randomness: nothing is safe then
	}
	return hash
})

package policy

import (
	"bytes"
	"errors"
	"math/rand/v2"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
)

type source struct{ r *rand.ChaCha8 }

func (s source) Read(p []byte) (int, error) { return s.r.Read(p) }

func TestGenerate(t *testing.T) {
	random := source{rand.NewChaCha8([32]byte{7})}
	count := map[rune]int{}
	seen := map[string]bool{}
	for range 2000 {
		p, err := AccountPasswords.Generate(random)
		if err != nil || len(p) != AccountPasswords.Length || seen[p] {
			t.Fatalf("%q, %v", p, err)
		}
		seen[p] = true
		for _, c := range p {
			count[c]++
		}
	}
	for _, c := range AccountPasswords.Alphabet {
		// 48,000 characters of 56: about 857 each.
		if n := count[c]; n < 700 || n > 1020 {
			t.Errorf("%c comes %d times", c, n)
		}
	}
	if strings.ContainsAny(AccountPasswords.Alphabet, `lIO01'"\$@:/ `) {
		t.Error("the alphabet has what is mistaken or quoted")
	}
	if _, err := AccountPasswords.Generate(bytes.NewReader([]byte("short"))); err == nil {
		t.Error("no randomness, and a password all the same")
	}
}

func TestGiven(t *testing.T) {
	for _, bad := range []string{"", "a\x00b", "bell\a", "new\nline", string([]byte{0xff}),
		strings.Repeat("x", MaxPassword+1)} {
		if CheckGiven(bad) == nil {
			t.Errorf("%q passes", bad)
		}
	}
	if err := errors.Join(CheckGiven(" with blanks "), CheckGiven("Ålesund 日本 '\"\\")); err != nil {
		t.Error(err)
	}
	for env, want := range map[catalog.Environment]bool{catalog.Production: true, catalog.Staging: false,
		catalog.Development: false} {
		if weak, forbidden := AccountPasswords.Weak(env, 20); !weak || forbidden != want {
			t.Errorf("a weak password on %s: %v %v", env, weak, forbidden)
		}
	}
	if weak, _ := AccountPasswords.Weak(catalog.Production, 90); weak {
		t.Error("90 bits are weak")
	}
}

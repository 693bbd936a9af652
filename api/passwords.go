package api

import (
	"strings"
	"unicode/utf8"

	"github.com/alexedwards/argon2id"
	"github.com/ccojocar/zxcvbn-go"

	"example.com/genarch/core/policy"
)

// argon are the parameters of OWASP's first choice: 19 MiB, two passes. Checking
// takes about 65 ms on a small machine.
var argon = &argon2id.Params{Memory: 19 * 1024, Iterations: 2, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// maxScored bounds what is scored: the estimator's time grows with the square
// of the length.
const maxScored = 72

// HashPassword checks an operator's password against the policy and returns the
// hash that is kept.
func HashPassword(password, operator string) (string, error) {
	if err := policy.CheckPassword(password, score(password, operator)); err != nil {
		return "", err
	}
	return argon2id.CreateHash(password, argon)
}

// score estimates how hard a password is to guess, 0 to 4.
func score(password string, words ...string) int {
	cut := password
	for len(cut) > maxScored {
		_, size := utf8.DecodeLastRuneInString(cut)
		cut = cut[:len(cut)-size]
	}
	if repeats(cut) {
		return 0 // the estimator takes long repeats for strong
	}
	return zxcvbn.PasswordStrength(cut, append(words, "genarch")).Score
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
// that the answer takes as long.
var nobody, _ = argon2id.CreateHash("no operator has this password", argon)

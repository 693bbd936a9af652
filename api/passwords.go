package api

import (
	"strings"
	"sync"

	"github.com/alexedwards/argon2id"
	validator "github.com/wagslane/go-password-validator"

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
// length; the library knows sequences and repeats, but no words.
var stems = strings.Fields("password passwort passwd qwerty qwertz azerty letmein welcome admin administrator master monkey dragon " +
	"football baseball sunshine princess superman iloveyou trustno1 shadow login secret changeme default database postgres mariadb " +
	"mysql oracle server keeper operator genarch company summer winter spring autumn january february march april august " +
	"september october november december monday friday starwars pokemon computer internet samsung google")

// strength estimates how hard a password is to guess, in bits. words are
// further stems, such as the operator's own name.
func strength(password string, words ...string) float64 {
	rest := strings.ToLower(password)
	for _, stem := range append(words, stems...) {
		if len(stem) > 2 {
			rest = strings.ReplaceAll(rest, strings.ToLower(stem), "x7")
		}
	}
	if repeats(rest) {
		return 0
	}
	if rest == strings.ToLower(password) {
		rest = password // upper case counts where nothing was known
	}
	return validator.GetEntropy(rest)
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

package policy

import (
	"errors"
	"fmt"
	"io"
	"unicode"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
)

// PasswordRule says how passwords of accounts are made and judged.
type PasswordRule struct {
	// Length and Alphabet of a generated password.
	Length   int
	Alphabet string
	// Bits is the least strength of a password that somebody chose.
	Bits float64
}

// AccountPasswords is the rule for accounts. The alphabet has nothing that is
// easily taken for something else, nor anything that a shell, a URL or a
// configuration file would read as its own: 24 of its characters are 138 bits.
var AccountPasswords = PasswordRule{Length: 24, Alphabet: "abcdefghijkmnpqrstuvwxyzABCDEFGHJKLMNPQRSTUVWXYZ23456789",
	Bits: MinStrength}

// Generate makes a password of randomness alone. random is a source such as
// crypto/rand.Reader; an error of it is passed on.
func (r PasswordRule) Generate(random io.Reader) (string, error) {
	out := make([]byte, 0, r.Length)
	// Bytes beyond the last whole multiple are thrown away, so that every
	// character is as likely as any other.
	limit := 256 - 256%len(r.Alphabet)
	buf := make([]byte, 2*r.Length)
	for len(out) < r.Length {
		if _, err := io.ReadFull(random, buf); err != nil {
			return "", fmt.Errorf("no randomness for a password: %w", err)
		}
		for _, b := range buf {
			if int(b) < limit && len(out) < r.Length {
				out = append(out, r.Alphabet[int(b)%len(r.Alphabet)])
			}
		}
	}
	return string(out), nil
}

// CheckGiven says why a text cannot be an account's password at all, or nil:
// what no client could type or no engine store.
func CheckGiven(password string) error {
	switch {
	case password == "":
		return errors.New("the password is empty: leave it out, and one is generated")
	case len(password) > MaxPassword:
		return fmt.Errorf("a password has at most %d bytes", MaxPassword)
	case !utf8.ValidString(password):
		return errors.New("the password is not valid UTF-8")
	}
	for _, c := range password {
		if unicode.IsControl(c) {
			return fmt.Errorf("the password holds %U, which cannot be typed", c)
		}
	}
	return nil
}

// Weak reports whether a chosen password of this strength is too weak, and
// whether that forbids it: on production it does, elsewhere it has to be accepted.
func (r PasswordRule) Weak(env catalog.Environment, bits float64) (weak, forbidden bool) {
	weak = bits < r.Bits
	return weak, weak && env == catalog.Production
}

package sqlserver

import (
	"bytes"
	"crypto/rand"
	"crypto/sha512"
	"crypto/subtle"
	"encoding/hex"
	"strings"
	"unicode/utf16"
)

// hashVersion begins what the server keeps of a password since 2012; the salt follows, then the hash.
var hashVersion = []byte{2, 0}

const saltLength = 4

// passwordHash is what the server keeps of a password: SHA-512 over the password in UTF-16, low byte
// first, and the salt. Source: PWDENCRYPT, sys.sql_logins.
func passwordHash(password string, salt [saltLength]byte) []byte {
	var text []byte
	for _, unit := range utf16.Encode([]rune(password)) {
		text = append(text, byte(unit), byte(unit>>8))
	}
	sum := sha512.Sum512(append(text, salt[:]...))
	return append(append(bytes.Clone(hashVersion), salt[:]...), sum[:]...)
}

// newHash is a hash of a password with a salt of its own, as statements have it.
func newHash(password string) string {
	var salt [saltLength]byte
	_, _ = rand.Read(salt[:]) // it never fails
	return binary(passwordHash(password, salt))
}

// matchesPassword reports whether what the server keeps is of a password.
func matchesPassword(kept []byte, password string) bool {
	head := len(hashVersion)
	if len(kept) != head+saltLength+sha512.Size || !bytes.HasPrefix(kept, hashVersion) {
		return false
	}
	return subtle.ConstantTimeCompare(kept, passwordHash(password, [saltLength]byte(kept[head:head+saltLength]))) == 1
}

// binary writes bytes as the server's language has them.
func binary(b []byte) string { return "0x" + strings.ToUpper(hex.EncodeToString(b)) }

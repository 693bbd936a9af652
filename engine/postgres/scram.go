package postgres

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"fmt"
	"strconv"
	"strings"

	"github.com/xdg-go/stringprep"
)

// scramIterations slows down guessing for whoever gets hold of a verifier. The
// server's own 4096 are the least of RFC 7677; a sign-in computes them once.
const scramIterations = 16384

// scramVerifier computes what the server keeps of a password, so that the
// password itself does not travel (RFC 5802, RFC 7677). salt is 16 random bytes.
func scramVerifier(password string, salt []byte, iterations int) (string, error) {
	// A client prepares what is typed by SASLprep before it computes; a text
	// that cannot be prepared is taken as it is, by both sides.
	if prepared, err := stringprep.SASLprep.Prepare(password); err == nil && prepared != "" {
		password = prepared
	}
	salted, err := pbkdf2.Key(sha256.New, password, salt, iterations, sha256.Size)
	if err != nil {
		return "", err
	}
	mac := func(text string) []byte {
		h := hmac.New(sha256.New, salted)
		h.Write([]byte(text))
		return h.Sum(nil)
	}
	stored := sha256.Sum256(mac("Client Key"))
	b64 := base64.StdEncoding.EncodeToString
	return fmt.Sprintf("SCRAM-SHA-256$%d:%s$%s:%s", iterations, b64(salt), b64(stored[:]), b64(mac("Server Key"))), nil
}

// scramMatches reports whether a verifier that the server keeps was made from
// the password. Anything that is no such verifier does not match.
func scramMatches(verifier, password string) bool {
	rest, ok := strings.CutPrefix(verifier, "SCRAM-SHA-256$")
	if !ok {
		return false
	}
	head, _, _ := strings.Cut(rest, "$")
	count, salt64, _ := strings.Cut(head, ":")
	iterations, err := strconv.Atoi(count)
	salt, saltErr := base64.StdEncoding.DecodeString(salt64)
	if err != nil || saltErr != nil || iterations < 1 || iterations > 1_000_000 {
		return false
	}
	again, err := scramVerifier(password, salt, iterations)
	return err == nil && subtle.ConstantTimeCompare([]byte(again), []byte(verifier)) == 1
}

package mysqlfamily

import (
	"crypto/sha1"
	"crypto/sha512"
	"encoding/base64"
	"encoding/hex"
	"strings"

	"filippo.io/edwards25519"
)

// The methods by which accounts with a password prove themselves.
const (
	methodNative  = "mysql_native_password"
	methodEd25519 = "ed25519"
)

// nativeHash is what mysql_native_password keeps: * and the twice hashed password.
func nativeHash(password string) string {
	once := sha1.Sum([]byte(password))
	twice := sha1.Sum(once[:])
	return "*" + strings.ToUpper(hex.EncodeToString(twice[:]))
}

// ed25519Hash is what the plugin ed25519 keeps: the public key whose secret
// scalar is made from the password. MariaDB hashes the password itself where
// the standard hashes a 32-byte seed, so the standard library cannot be used.
func ed25519Hash(password string) (string, error) {
	digest := sha512.Sum512([]byte(password))
	scalar, err := edwards25519.NewScalar().SetBytesWithClamping(digest[:32])
	if err != nil {
		return "", err
	}
	point := new(edwards25519.Point).ScalarBaseMult(scalar)
	return base64.RawStdEncoding.EncodeToString(point.Bytes()), nil
}

// hashFor computes what the method keeps of a password.
func hashFor(method, password string) (string, error) {
	if method == methodEd25519 {
		return ed25519Hash(password)
	}
	return nativeHash(password), nil
}

package mysqlfamily

import (
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"strconv"
)

// methodSHA2 is how MySQL keeps passwords from version 8 on.
const methodSHA2 = "caching_sha2_password"

// What caching_sha2_password keeps is $A$, the rounds in thousands as three hexadecimal
// digits, $, a salt of 20 bytes, and 43 characters of a SHA-256 crypt over password and salt.
// The crypt of the C library cuts a salt at 16 bytes, so it is of no use here.
const (
	sha2Start  = "$A$"
	sha2Salt   = 20
	sha2Rounds = 5 // thousands; the server's default
	sha2Length = len(sha2Start) + 4 + sha2Salt + 43
)

// mysqlNobody is a verifier that no password fits: nothing hashes to only points.
const mysqlNobody = sha2Start + "005$" + "nobodynobodynobodyno" + "..........................................."

// sha2Verifier computes what the server keeps of a password, with a random salt of letters
// and digits: it can be sent and compared as plain text.
func sha2Verifier(password string) string {
	salt := make([]byte, sha2Salt)
	_, _ = rand.Read(salt) // never fails
	for i := range salt {
		salt[i] = crypt64[2+salt[i]%62]
	}
	return sha2Crypt(password, salt, sha2Rounds)
}

// sha2Matches compares a password with what is kept, by the salt and the rounds in that.
func sha2Matches(kept, password string) bool {
	if len(kept) != sha2Length || kept[:len(sha2Start)] != sha2Start {
		return false
	}
	rounds, err := strconv.ParseUint(kept[3:6], 16, 16)
	if err != nil || rounds == 0 {
		return false
	}
	made := sha2Crypt(password, []byte(kept[7:7+sha2Salt]), int(rounds))
	return subtle.ConstantTimeCompare([]byte(made), []byte(kept)) == 1
}

// crypt64 are the digits of crypt, in their order.
const crypt64 = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// sha2Crypt: source: the specification of SHA-crypt, with the whole salt.
//
// Long: one step of the specification after another.
func sha2Crypt(password string, salt []byte, thousands int) string {
	key := []byte(password)
	sum := func(parts ...[]byte) []byte {
		h := sha256.New()
		for _, p := range parts {
			h.Write(p)
		}
		return h.Sum(nil)
	}
	inner := sum(key, salt, key)
	text := append(append([]byte{}, key...), salt...)
	text = append(text, stretched(inner, len(key))...)
	for n := len(key); n > 0; n >>= 1 {
		if n&1 != 0 {
			text = append(text, inner...)
		} else {
			text = append(text, key...)
		}
	}
	now := sum(text)
	h := sha256.New()
	for range key {
		h.Write(key)
	}
	p := stretched(h.Sum(nil), len(key))
	h = sha256.New()
	for range 16 + int(now[0]) {
		h.Write(salt)
	}
	s := stretched(h.Sum(nil), len(salt))
	for i := range thousands * 1000 {
		h := sha256.New()
		if i&1 != 0 {
			h.Write(p)
		} else {
			h.Write(now)
		}
		if i%3 != 0 {
			h.Write(s)
		}
		if i%7 != 0 {
			h.Write(p)
		}
		if i&1 != 0 {
			h.Write(now)
		} else {
			h.Write(p)
		}
		now = h.Sum(now[:0:0])
	}
	out := fmt.Appendf(nil, "%s%03X$", sha2Start, thousands)
	out = append(out, salt...)
	put := func(x, y, z byte, n int) {
		v := uint32(x)<<16 | uint32(y)<<8 | uint32(z)
		for range n {
			out = append(out, crypt64[v&63])
			v >>= 6
		}
	}
	x, y, z := 0, 10, 20
	for range 10 {
		put(now[x], now[y], now[z], 4)
		x, y, z = z+1, x+1, y+1
	}
	put(0, now[31], now[30], 3)
	return string(out)
}

// stretched is as many bytes of a sum, again and again, as there are asked for.
func stretched(sum []byte, n int) []byte {
	out := make([]byte, 0, n+len(sum))
	for len(out) < n {
		out = append(out, sum...)
	}
	return out[:n]
}

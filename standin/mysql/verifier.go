// What caching_sha2_password keeps of a password, computed by the
// client, so that no clear text travels in a statement. Only the standard library.
package mysql

import (
	"crypto/rand"
	"crypto/sha256"
	"fmt"
)

const crypt64 = "./0123456789ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz"

// sha2Verifier writes $A$ + rounds/1000 as three hex digits + $ + salt (20 bytes,
// none of them NUL or $) + 43 characters: SHA-256-crypt with a salt of 20 bytes
// (the crypt of the C library cuts at 16), rounds*1000 times.
//
// Long: one step of the crypt after another.
func sha2Verifier(password string, salt []byte, thousands int) string {
	key := []byte(password)
	a := sha256.New()
	a.Write(key)
	a.Write(salt)
	b := sha256.New()
	b.Write(key)
	b.Write(salt)
	b.Write(key)
	sumB := b.Sum(nil)
	n := len(key)
	for ; n > 32; n -= 32 {
		a.Write(sumB)
	}
	a.Write(sumB[:n])
	for n = len(key); n > 0; n >>= 1 {
		if n&1 != 0 {
			a.Write(sumB)
		} else {
			a.Write(key)
		}
	}
	sum := a.Sum(nil)
	repeat := func(d []byte, n int) []byte {
		out := make([]byte, 0, n+32)
		for len(out) < n {
			out = append(out, d...)
		}
		return out[:n]
	}
	d := sha256.New()
	for range key {
		d.Write(key)
	}
	p := repeat(d.Sum(nil), len(key))
	d = sha256.New()
	for range 16 + int(sum[0]) {
		d.Write(salt)
	}
	s := repeat(d.Sum(nil), len(salt))
	for i := range thousands * 1000 {
		c := sha256.New()
		if i&1 != 0 {
			c.Write(p)
		} else {
			c.Write(sum)
		}
		if i%3 != 0 {
			c.Write(s)
		}
		if i%7 != 0 {
			c.Write(p)
		}
		if i&1 != 0 {
			c.Write(sum)
		} else {
			c.Write(p)
		}
		sum = c.Sum(nil)
	}
	out := fmt.Appendf(nil, "$A$%03X$", thousands)
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
		put(sum[x], sum[y], sum[z], 4)
		x, y, z = z+1, x+1, y+1
	}
	put(0, sum[31], sum[30], 3)
	return string(out)
}

// printableSalt: 20 letters and digits, so that the verifier is plain text and
// can be sent as a string or as 0x…, and be compared without hex.
func printableSalt() []byte {
	salt := make([]byte, 20)
	rand.Read(salt)
	for i := range salt {
		salt[i] = crypt64[2+salt[i]%62]
	}
	return salt
}

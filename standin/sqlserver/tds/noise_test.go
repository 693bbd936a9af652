package tds

import (
	"math/rand/v2"
	"testing"
)

// TestNoise: no request of a client makes the parsers panic.
func TestNoise(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	for range 20000 {
		b := make([]byte, r.IntN(200))
		for k := range b {
			b[k] = byte(r.IntN(256))
		}
		if len(b) > 30 { // some that go further
			copy(
				b,
				[]byte{
					22,
					0,
					0,
					0,
					18,
					0,
					0,
					0,
					2,
					0,
					0,
					0,
					0,
					0,
					0,
					0,
					0,
					0,
					1,
					0,
					0,
					0,
					0xFF,
					0xFF,
					10,
					0,
					0,
					0,
					0,
					0,
				},
			)
			b = append(
				b[:30:30],
				append(
					[]byte{[]byte{0xE7, 0x26, 0xA5, 0x2A, 0x2B, 0x6C, 0x24, 0x68, 0x6F, 0x62}[r.IntN(10)]},
					b[30:]...)...)
		}
		_, _, _ = ParseRPC(b)
		_, _, _ = ParseBatch(b)
		_, _, _ = ParseTM(b)
		_, _ = parseLogin(b)
		_, _ = preloginOption(b, 1)
	}
}

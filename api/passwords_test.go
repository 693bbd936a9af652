package api

import (
	"strings"
	"testing"
)

func TestHashPassword(t *testing.T) {
	for password, ok := range map[string]bool{
		"tugboat-lantern-gangway-7": true, "w4$Kq9!zRt2@": true, "short-1": false, "password1234": false,
		"Genarch2026!":         false,
		"aaaaaaaaaaaaaaaaaaaa": false, "ab1!ab1!ab1!ab1!": false, "dispatcher-dispatcher": false, "qwertyuiop[]": false,
		"12345678901234567890": false,
		"SummerWinter2026":     false, strings.Repeat("x7Kq", 100): false, "日本語でも長ければ良いとします": true,
		"P@ssw0rd12345678": false, "Administrator2026!": false, "1q2w3e4r5t6y7u8i": false, "zaq12wsxcde34rfv": false,
		"abc123abc123abc123!":      false,
		"Tr0ub4dor&3 staple horse": true, "S3rv3rK33p3r99": false,
	} {
		_, err := HashPassword(password, "dispatcher")
		if (err == nil) != ok {
			t.Errorf("HashPassword(%q): %v; want accepted %v", password, err, ok)
		}
	}
}

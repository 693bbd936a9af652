package api

import (
	"strings"
	"testing"
)

func TestHashPassword(t *testing.T) {
	for password, ok := range map[string]bool{
		"tugboat-lantern-gangway-7": true, "w4$Kq9!zRt2@": true, "short-1": false, "password1234": false, "Genarch2026!": false,
		"aaaaaaaaaaaaaaaaaaaa": false, "ab1!ab1!ab1!ab1!": false, "dispatcher-dispatcher": false, "qwertyuiop[]": false, "12345678901234567890": false,
		"SummerWinter2026": false, strings.Repeat("x7Kq", 100): false, "日本語でも長ければ良いとします": true,
	} {
		_, err := HashPassword(password, "dispatcher")
		if (err == nil) != ok {
			t.Errorf("HashPassword(%q): %v; want accepted %v", password, err, ok)
		}
	}
}

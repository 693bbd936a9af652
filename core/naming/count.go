package naming

import (
	"fmt"
	"strings"
)

// Count writes how many there are of something: "1 session", "3 sessions", "2 indexes"
// (Count(2, "index", "indexes")). Without another word the plural takes an s.
func Count[N int | int64](n N, one string, many ...string) string {
	word := one
	if n != 1 {
		word = one + "s"
		if len(many) > 0 {
			word = many[0]
		}
	}
	return fmt.Sprintf("%d %s", n, word)
}

// CountWord is Count for a word that is kept in the plural: "tables", "routines". What
// is more than one word stays as it is.
func CountWord[N int | int64](n N, many string) string {
	if n == 1 && !strings.Contains(many, " ") {
		return fmt.Sprintf("%d %s", n, strings.TrimSuffix(many, "s"))
	}
	return fmt.Sprintf("%d %s", n, many)
}

// SizeText is a number of bytes in words.
func SizeText(n int64) string {
	for _, u := range []struct {
		name string
		of   int64
	}{{"TiB", 1 << 40}, {"GiB", 1 << 30}, {"MiB", 1 << 20}, {"KiB", 1 << 10}} {
		if n >= u.of {
			return fmt.Sprintf("%.1f %s", float64(n)/float64(u.of), u.name)
		}
	}
	return Count(n, "byte")
}

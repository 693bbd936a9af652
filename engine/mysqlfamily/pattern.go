package mysqlfamily

import (
	"cmp"
	"strings"
)

// matches reports whether the database pattern of a MariaDB grant opens the
// database with this name: _ is any one character, % any number of them, and \
// makes the next one plain.
func matches(pattern, name string) bool { return matchRunes([]rune(pattern), []rune(name)) }

func matchRunes(p, n []rune) bool {
	// Where the last % was met, and how much of the name it has swallowed.
	star, swallowed := -1, 0
	i, j := 0, 0
	for j < len(n) {
		if i < len(p) && p[i] == '%' {
			star, swallowed = i, j
			i++
			continue
		}
		if i < len(p) {
			c, width, literal := p[i], 1, false
			if c == '\\' && i+1 < len(p) {
				c, width, literal = p[i+1], 2, true
			}
			if c == n[j] || c == '_' && !literal {
				i, j = i+width, j+1
				continue
			}
		}
		if star < 0 {
			return false
		}
		swallowed++
		i, j = star+1, swallowed
	}
	for i < len(p) && p[i] == '%' {
		i++
	}
	return i == len(p)
}

// isPattern reports whether a name in a grant is a pattern, and so may open
// more than one database.
func isPattern(name string) bool { return rankOf(name).wild }

// rank is how specific a pattern is. MariaDB lets the most specific grant hold;
// how it compares them is written nowhere, and was found out by trying every
// pair of two dozen patterns on 10.11.
type rank struct {
	// length counts the characters that a match has at least, many the runs of
	// %, fixed the plain characters, first where the first wildcard stands.
	length, many, fixed, first int
	wild                       bool
}

func rankOf(pattern string) rank {
	var r rank
	p := []rune(pattern)
	for i := 0; i < len(p); i++ {
		switch {
		case p[i] == '%' || p[i] == '_':
			if !r.wild {
				r.wild, r.first = true, r.length
			}
			if p[i] == '_' {
				r.length++
			} else if i == 0 || p[i-1] != '%' {
				r.many++
			}
			continue
		case p[i] == '\\' && i+1 < len(p):
			i++
		}
		r.length++
		r.fixed++
	}
	return r
}

// compareRanks puts the more specific first; 0 when the engine's choice between
// them is not settled by their look.
func compareRanks(a, b rank) int {
	return cmp.Or(cmp.Compare(b.length, a.length), cmp.Compare(a.many, b.many), cmp.Compare(b.fixed, a.fixed),
		cmp.Compare(a.first, b.first))
}

// plain is the one name that a pattern without wildcards stands for.
func plain(pattern string) string {
	var b strings.Builder
	for i := 0; i < len(pattern); i++ {
		if pattern[i] == '\\' && i+1 < len(pattern) {
			i++
		}
		b.WriteByte(pattern[i])
	}
	return b.String()
}

// escaped writes a database name so that a grant opens that database alone.
func escaped(name string) string {
	return strings.NewReplacer(`\`, `\\`, `_`, `\_`, `%`, `\%`).Replace(name)
}

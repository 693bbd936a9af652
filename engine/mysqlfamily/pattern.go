package mysqlfamily

import (
	"cmp"
	"math/bits"
	"net/netip"
	"strconv"
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

// hostCovers reports whether the host of a MariaDB account lets in every client
// that another host (or a client's address) stands for: "%" covers all,
// "10.0.%" covers "10.0.3.%", "10.0.0.0/255.0.0.0" covers 10.1.2.3.
func hostCovers(pattern, host string) bool {
	pattern, host = strings.ToLower(pattern), strings.ToLower(host)
	if pattern == host {
		return true
	}
	if base, mask, ok := netmask(pattern); ok {
		if other, otherMask, also := netmask(host); also {
			return mask&^otherMask == 0 && other&mask == base
		}
		ip, valid := ipv4(host)
		return valid && ip&mask == base
	}
	if base, mask, ok := netmask(host); ok {
		host = octets(base, mask)
	}
	return matches(pattern, host)
}

// octets writes a netmask as the pattern that fits the same addresses, or more
// where the mask ends within an octet.
func octets(base, mask uint32) string {
	var parts []string
	for shift := 24; shift >= 0; shift -= 8 {
		if mask>>shift&0xff != 0xff {
			return strings.Join(append(parts, "%"), ".")
		}
		parts = append(parts, strconv.Itoa(int(base>>shift&0xff)))
	}
	return strings.Join(parts, ".")
}

// netmask reads "10.0.0.0/255.0.0.0".
func netmask(text string) (base, mask uint32, ok bool) {
	before, after, found := strings.Cut(text, "/")
	if !found {
		return 0, 0, false
	}
	base, okBase := ipv4(before)
	mask, okMask := ipv4(after)
	return base, mask, okBase && okMask
}

// ipv4 reads an IPv4 address as a number.
func ipv4(text string) (uint32, bool) {
	a, err := netip.ParseAddr(text)
	if err != nil || !a.Is4() {
		return 0, false
	}
	b := a.As4()
	return uint32(b[0])<<24 | uint32(b[1])<<16 | uint32(b[2])<<8 | uint32(b[3]), true
}

// compareHosts orders hosts as the engine tries them for a sign-in, the most
// specific first: a plain address or name, the longer netmask, then patterns.
func compareHosts(a, b string) int {
	class := func(host string) (int, int) {
		if _, mask, ok := netmask(host); ok {
			return 1, bits.OnesCount32(mask)
		}
		if isPattern(host) {
			return 0, 0
		}
		return 2, 0
	}
	classA, maskA := class(a)
	classB, maskB := class(b)
	return cmp.Or(cmp.Compare(classB, classA), cmp.Compare(maskB, maskA), compareRanks(rankOf(a), rankOf(b)))
}

// checkHost says why a text cannot be the host of a MariaDB account, or "".
func checkHost(host string) string {
	switch base, mask, slash := strings.Cut(host, "/"); {
	case host == "":
		return "The host is empty; % stands for every host."
	case len(host) > 255:
		return "A host has at most 255 characters; this one has " + strconv.Itoa(len(host)) + "."
	case strings.ContainsAny(host, "@'\"` \t\n\r\x00"):
		return "A host holds no @, quotes or blanks."
	case slash && !isIPv4(base):
		return "Before the slash stands an IPv4 address."
	case slash && !isIPv4(mask):
		return "Behind the slash stands a netmask such as 255.255.255.0: a length such as /24 is taken and then never matches."
	}
	for _, c := range host {
		if c > 0x7e || c < 0x21 {
			return "A host holds plain ASCII characters only."
		}
	}
	return ""
}

func isIPv4(text string) bool {
	_, ok := ipv4(text)
	return ok
}

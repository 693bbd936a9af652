package mysqlfamily

import (
	"cmp"
	"math/bits"
	"net/netip"
	"strconv"
	"strings"
)

// hosts is how a product reads the hosts of accounts.
type hosts struct {
	// lengths: 10.0.0.0/8 is a range of addresses.
	lengths bool
}

// covers reports whether the host of an account lets in every client
// that another host (or a client's address) stands for: "%" covers all,
// "10.0.%" covers "10.0.3.%", "10.0.0.0/255.0.0.0" covers 10.1.2.3.
func (h hosts) covers(pattern, host string) bool {
	pattern, host = strings.ToLower(pattern), strings.ToLower(host)
	if pattern == host {
		return true
	}
	if base, mask, ok := h.netmask(pattern); ok {
		if other, otherMask, also := h.netmask(host); also {
			return mask&^otherMask == 0 && other&mask == base
		}
		ip, valid := ipv4(host)
		return valid && ip&mask == base
	}
	if base, mask, ok := h.netmask(host); ok {
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

// netmask reads "10.0.0.0/255.0.0.0", and "10.0.0.0/8" where lengths count.
func (h hosts) netmask(text string) (base, mask uint32, ok bool) {
	before, after, found := strings.Cut(text, "/")
	if !found {
		return 0, 0, false
	}
	base, okBase := ipv4(before)
	mask, okMask := ipv4(after)
	if n, err := strconv.Atoi(after); h.lengths && err == nil && n >= 0 && n <= 32 {
		mask, okMask = ^uint32(0)<<(32-n), true
	}
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

// compare orders hosts as the engine tries them for a sign-in, the most
// specific first: a plain address or name, a range by its length, one by its netmask, the
// longer first, then patterns.
func (h hosts) compare(a, b string) int {
	class := func(host string) (int, int) {
		if _, mask, ok := h.netmask(host); ok && !strings.Contains(host[strings.IndexByte(host, '/'):], ".") {
			return 2, bits.OnesCount32(mask)
		} else if ok {
			return 1, bits.OnesCount32(mask)
		}
		if isPattern(host) {
			return 0, 0
		}
		return 3, 0
	}
	classA, maskA := class(a)
	classB, maskB := class(b)
	return cmp.Or(cmp.Compare(classB, classA), cmp.Compare(maskB, maskA), compareRanks(rankOf(a), rankOf(b)))
}

// check says why a text cannot be the host of an account, or "".
func (h hosts) check(host string) string {
	_, _, ranged := h.netmask(host)
	switch base, _, slash := strings.Cut(host, "/"); {
	case host == "":
		return "The host is empty; % stands for every host."
	case len(host) > 255:
		return "A host has at most 255 characters; this one has " + strconv.Itoa(len(host)) + "."
	case strings.ContainsAny(host, "@'\"` \t\n\r\x00"):
		return "A host holds no @, quotes or blanks."
	case slash && !isIPv4(base):
		return "Before the slash stands an IPv4 address."
	case slash && h.lengths && !ranged:
		return "Behind the slash stands a length such as 24, or a netmask such as 255.255.255.0."
	case slash && !ranged:
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

package catalog

import (
	"fmt"
	"net/netip"
	"strconv"
	"strings"
)

// FirstClient is where clients find the server, or at least where Genarch does.
func (s Server) FirstClient() (host string, port int) {
	if len(s.Clients) == 0 {
		return s.Host, s.Port
	}
	if host, port, err := splitAddress(s.Clients[0]); err == nil {
		if port == 0 {
			port = s.Port
		}
		return host, port
	}
	return s.Host, s.Port
}

// maxHost is the longest name that the DNS has (RFC 1035, 2.3.4).
const maxHost = 255

// CheckAddress checks an address that clients are told: HOST, HOST:PORT or, for an
// IPv6 address, [HOST]:PORT.
func CheckAddress(text string) error {
	_, _, err := splitAddress(text)
	return err
}

// splitAddress reads an address; the port is 0 when none is given.
func splitAddress(text string) (host string, port int, err error) {
	if ip, err := netip.ParseAddr(text); err == nil {
		return ip.String(), 0, nil
	}
	if at, err := netip.ParseAddrPort(text); err == nil && at.Port() > 0 {
		return at.Addr().String(), int(at.Port()), nil
	}
	host, digits, found := strings.Cut(text, ":")
	if found {
		if port, err = strconv.Atoi(digits); err != nil || port < 1 || port > 65535 {
			return "", 0, fmt.Errorf("%q is no address: port %s does not exist", text, digits)
		}
	}
	if host == "" || len(host) > maxHost ||
		strings.ContainsFunc(host, func(c rune) bool {
			return c <= ' ' || c == 0x7f ||
				strings.ContainsRune(`/@'"\`, c)
		}) {
		return "", 0, fmt.Errorf("%q is no address: write HOST or HOST:PORT", text)
	}
	return host, port, nil
}

package catalog

import (
	"strings"
	"testing"
)

func TestClientAddresses(t *testing.T) {
	for _, c := range []struct {
		text, host string
		port       int
	}{
		{"db.example.net", "db.example.net", 5432}, {"pool.example.net:6432", "pool.example.net", 6432},
		{"10.0.0.7:6432", "10.0.0.7", 6432}, {"2001:db8::7", "2001:db8::7", 5432},
		{"[2001:db8::7]:6432", "2001:db8::7", 6432},
	} {
		host, port := Server{Host: "127.0.0.1", Port: 5432, Clients: []string{c.text}}.FirstClient()
		if host != c.host || port != c.port || CheckAddress(c.text) != nil {
			t.Errorf("%q is %s port %d, want %s port %d; %v", c.text, host, port, c.host, c.port, CheckAddress(c.text))
		}
	}
	if host, port := (Server{Host: "127.0.0.1", Port: 5432}).FirstClient(); host != "127.0.0.1" || port != 5432 {
		t.Errorf("without any, clients find it at %s port %d", host, port)
	}
	for _, text := range []string{"", ":6432", "db:0", "db:70000", "db:x", "a b", "a@b", "a/b", `a\b`, "a'b", "a\nb",
		"a:b:c", strings.Repeat("x", 256)} {
		if err := CheckAddress(text); err == nil {
			t.Errorf("%q passes for an address", text)
		}
	}
}

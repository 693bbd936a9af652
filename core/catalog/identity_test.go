package catalog

import (
	"slices"
	"testing"
)

func TestDifferences(t *testing.T) {
	known := Identity{Key: "k", Marks: map[string]string{"hostname": "a", "port": "1", "datadir": ""}}
	for _, tt := range []struct {
		title string
		found Identity
		want  []string
	}{
		{"the same", Identity{Key: "k", Marks: map[string]string{"hostname": "a", "port": "1"}}, nil},
		{"a mark more", Identity{Key: "k", Marks: map[string]string{"hostname": "a", "port": "1", "marker": "m"}}, nil},
		{"a mark that cannot be seen any more", Identity{Key: "k", Marks: map[string]string{"port": "1"}}, nil},
		{"another key", Identity{Key: "x", Marks: known.Marks}, []string{"key"}},
		{"moved", Identity{Key: "k", Marks: map[string]string{"hostname": "b", "port": "2"}},
			[]string{"hostname", "port"}},
	} {
		if got := known.Differences(tt.found); !slices.Equal(got, tt.want) {
			t.Errorf("%s: %v; want %v", tt.title, got, tt.want)
		}
	}
	weak := Identity{Key: "server_uid u", Marks: map[string]string{"server_uid": "u", "port": "1"}}
	more := Identity{Key: "installed x", Marks: map[string]string{"server_uid": "u", "port": "1"}}
	if d := weak.Differences(more); len(d) > 0 {
		t.Errorf("a login that sees more now makes the server a stranger: %v", d)
	}
	if d := more.Differences(weak); len(d) == 0 {
		t.Error("the decisive key is gone, and nothing is said")
	}
	other := Identity{Key: "installed y", Marks: map[string]string{"server_uid": "v", "port": "1"}}
	if d := weak.Differences(other); !slices.Equal(d, []string{"key", "server_uid"}) {
		t.Errorf("another server: %v", d)
	}
	if got := known.String(); got != "k datadir= hostname=a port=1" {
		t.Errorf("String() = %q", got)
	}
	if (Identity{}).Known() || (Identity{}).String() != "unknown" {
		t.Error("an identity that was never read passes for known")
	}
}

func TestAbilities(t *testing.T) {
	l := Login{Abilities: []Ability{{Code: "a", Allowed: true}, {Code: "b", Remedy: "GRANT b"}}}
	if !l.May("a") || l.May("b") || l.May("c") || l.Remedy("b") != "GRANT b" || l.Remedy("c") != "" {
		t.Errorf("May and Remedy of %+v", l)
	}
}

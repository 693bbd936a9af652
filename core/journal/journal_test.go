package journal

import (
	"strings"
	"testing"
	"time"
)

func chain(n int) []Entry {
	var out []Entry
	var prev Entry
	for i := range n {
		prev = Entry{At: time.Unix(int64(i), 1999).In(time.FixedZone("x", 3600)), Operator: "keeper", Action: "a", Subject: "harbour", Change: uint64(i)}.Next(prev)
		out = append(out, prev)
	}
	return out
}

func TestCheck(t *testing.T) {
	if err := Check(Entry{}, chain(5)); err != nil {
		t.Fatalf("a whole chain: %v", err)
	}
	if err := Check(chain(3)[2], chain(5)[3:]); err != nil {
		t.Fatalf("the rest of a chain: %v", err)
	}
	for what, spoil := range map[string]func([]Entry) []Entry{
		"follows entry 2: one is missing":   func(e []Entry) []Entry { return append(e[:2], e[3:]...) },
		"entry 3 was altered":               func(e []Entry) []Entry { e[2].Operator = "nobody"; return e },
		"does not carry the hash":           func(e []Entry) []Entry { e[2].Prev = e[0].Hash; e[2].Hash = e[2].Sum(); return e },
		"entry 4 does not carry the hash":   func(e []Entry) []Entry { e[2].Subject = "quay"; e[2].Hash = e[2].Sum(); return e },
		"entry 2 follows entry 0":           func(e []Entry) []Entry { return e[1:] },
		"follows entry 1: one is missing":   func(e []Entry) []Entry { e[1], e[2] = e[2], e[1]; return e },
		"entry 5 was altered: its hash":     func(e []Entry) []Entry { e[4].At = e[4].At.Add(time.Microsecond); return e },
		"entry 1 was altered: its hash doe": func(e []Entry) []Entry { e[0].Detail = "{}"; return e },
	} {
		if err := Check(Entry{}, spoil(chain(5))); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("Check = %v; want %q", err, what)
		}
	}
}

// Moving text from one field to the next must change the sum.
func TestSumSeparatesFields(t *testing.T) {
	a := Entry{Operator: "ab", Action: "c"}
	b := Entry{Operator: "a", Action: "bc"}
	if a.Sum() == b.Sum() {
		t.Error("two different entries have the same sum")
	}
}

package journal

import (
	"encoding/hex"
	"errors"
	"hash/fnv"
	"strings"
	"testing"
	"time"
)

// sealer seals with a key that is known here alone.
type sealer string

func (s sealer) Seal(text string) (string, error) {
	h := fnv.New128a()
	h.Write([]byte(string(s) + text))
	return hex.EncodeToString(h.Sum(nil)), nil
}

func (s sealer) Sealed(text, seal string) bool {
	want, _ := s.Seal(text)
	return want == seal
}

const key = sealer("key")

// forged seals an entry as somebody does who has not the key.
func forged(e Entry) Entry {
	e.Hash, _ = sealer("guess").Seal(e.text())
	return e
}

func chain(n int) []Entry {
	var out []Entry
	var prev Entry
	for i := range n {
		prev = Entry{At: time.Unix(int64(i), 1999).In(time.FixedZone("x", 3600)), Operator: "keeper", Action: "a",
			Subject: "harbour", Change: uint64(i)}.next(prev)
		out = append(out, prev)
	}
	return out
}

func (e Entry) next(prev Entry) Entry {
	e, err := e.Next(prev, key)
	if err != nil {
		panic(err)
	}
	return e
}

func TestCheck(t *testing.T) {
	if err := Check(Entry{}, chain(5), key); err != nil {
		t.Fatalf("a whole chain: %v", err)
	}
	if err := Check(chain(3)[2], chain(5)[3:], key); err != nil {
		t.Fatalf("the rest of a chain: %v", err)
	}
	for what, spoil := range map[string]func([]Entry) []Entry{
		"follows entry 2: one is missing":   func(e []Entry) []Entry { return append(e[:2], e[3:]...) },
		"entry 3 was altered":               func(e []Entry) []Entry { e[2].Operator = "nobody"; return e },
		"does not carry the seal":           func(e []Entry) []Entry { e[2].Prev = e[0].Hash; return e },
		"entry 3 was altered: its seal":     func(e []Entry) []Entry { e[2].Operator = "mate"; e[2] = forged(e[2]); return e },
		"entry 2 follows entry 0":           func(e []Entry) []Entry { return e[1:] },
		"follows entry 1: one is missing":   func(e []Entry) []Entry { e[1], e[2] = e[2], e[1]; return e },
		"entry 5 was altered: its seal":     func(e []Entry) []Entry { e[4].At = e[4].At.Add(time.Microsecond); return e },
		"entry 1 was altered: its seal doe": func(e []Entry) []Entry { e[0].Detail = "{}"; return e },
	} {
		if err := Check(Entry{}, spoil(chain(5)), key); err == nil || !strings.Contains(err.Error(), what) {
			t.Errorf("Check = %v; want %q", err, what)
		}
	}
}

// Moving text from one field to the next must change the seal.
func TestSealSeparatesFields(t *testing.T) {
	a := Entry{Operator: "ab", Action: "c"}
	b := Entry{Operator: "a", Action: "bc"}
	if a.text() == b.text() {
		t.Error("two different entries have the same text")
	}
}

func TestCheckpoint(t *testing.T) {
	c, err := Checkpoint{Seq: 7, Hash: "ab", At: time.Unix(1e9, 5)}.Sign(key)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := ParseCheckpoint(c.String()+"\n", key); err != nil || got != c {
		t.Errorf("read back %+v, %v; want %+v", got, err, c)
	}
	for _, text := range []string{"", "7", "x:ab:20010909T014640Z:" + c.Seal, "7:ab:yesterday:" + c.Seal,
		strings.Replace(c.String(), "7:", "8:", 1), "7:ab:20010909T014640Z:00"} {
		if _, err := ParseCheckpoint(text, key); !errors.Is(err, ErrCheckpoint) {
			t.Errorf("%q: %v", text, err)
		}
	}
	if _, err := ParseCheckpoint(c.String(), sealer("another")); !errors.Is(err, ErrCheckpoint) {
		t.Errorf("with another key: %v", err)
	}
}

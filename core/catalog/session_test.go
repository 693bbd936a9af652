package catalog

import (
	"errors"
	"strings"
	"testing"
)

func TestSessionID(t *testing.T) {
	id := SessionID{4711, "hw2k9x3f1z0"}
	if got, err := ParseSessionID(id.String()); err != nil || got != id {
		t.Errorf("ParseSessionID(%s) = %v, %v", id, got, err)
	}
	for _, text := range []string{"", "-", "x-a", "0-a", "-7-a", "7-", "7-A b", "7-;drop", "99999999999999999999-a"} {
		if _, err := ParseSessionID(text); !errors.Is(err, ErrSessionID) {
			t.Errorf("ParseSessionID(%q): %v", text, err)
		}
	}
	if _, err := ParseSessionID("4711"); err == nil || !strings.Contains(err.Error(), "somebody else's") {
		t.Errorf("a number alone: %v", err)
	}
}

func FuzzSessionID(f *testing.F) {
	f.Add("4711-hw2k9x3f1z0")
	f.Add("7--")
	f.Fuzz(func(t *testing.T, text string) {
		id, err := ParseSessionID(text)
		if err != nil {
			return
		}
		if again, err := ParseSessionID(id.String()); err != nil || again != id {
			t.Errorf("%q reads as %v, which reads as %v, %v", text, id, again, err)
		}
	})
}

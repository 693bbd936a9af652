package secret

import (
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"
)

// However a secret is printed, it stays one.
func TestMasked(t *testing.T) {
	s := New("hush-hush")
	holder := struct {
		Name     string
		Password Text
	}{"harbour", s}
	text, err := json.Marshal(holder)
	if err != nil {
		t.Fatal(err)
	}
	var log strings.Builder
	slog.New(slog.NewTextHandler(&log, nil)).Info("x", "password", s, "holder", holder)
	slog.New(slog.NewJSONHandler(&log, nil)).Info("x", "password", s, "holder", holder)
	for _, shown := range []string{fmt.Sprint(s), fmt.Sprintf("%v %+v %#v %s %q", holder, holder, holder, s, s),
		string(text), log.String()} {
		if strings.Contains(shown, "hush") {
			t.Errorf("the secret is in %s", shown)
		}
	}
	if s.Reveal() != "hush-hush" || s.Empty() || !New("").Empty() {
		t.Error("a secret that cannot be used")
	}
}

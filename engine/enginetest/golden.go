package enginetest

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/core/change"
)

// Golden compares the statements of a brief with the file testdata/NAME.sql that
// keeps them, or writes it anew. A changed statement is seen in review, and the
// suites run the same ones on real servers.
func Golden(t *testing.T, update bool, name string, b change.Brief) {
	t.Helper()
	if b.Stopped() {
		t.Fatalf("%s stops: %+v", name, b.Findings)
	}
	var text strings.Builder
	for _, s := range b.Steps {
		text.WriteString("-- " + s.Kind + ": " + s.Title + "\n" + s.Statement + "\n-- undo: " + s.Undo + "\n\n")
	}
	file := filepath.Join("testdata", name+".sql")
	if update {
		if err := os.WriteFile(file, []byte(text.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	want, err := os.ReadFile(file)
	if err != nil || string(want) != text.String() {
		t.Errorf("statements differ from %s (%v):\n%s", file, err, text.String())
	}
	if last := b.Steps[len(b.Steps)-1]; !last.ReadOnly {
		t.Errorf("the last step of %s is no reading back", name)
	}
}

package arch

import (
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

const (
	// lineWidth is how many columns a line of Go has; a tab counts as four.
	lineWidth = 120
	// tooWide is how many lines are wider for the sake of a text that would be harder to
	// find and to read in pieces: a sentence, a statement, a tag. It may only shrink.
	tooWide = 467
)

// TestLineWidth: only a text makes a line wider than a page, and ever fewer do.
func TestLineWidth(t *testing.T) {
	root := testutil.Root()
	wide := 0
	for _, file := range goFiles(t, root) {
		text, err := os.ReadFile(filepath.Join(root, file))
		if err != nil {
			t.Fatal(err)
		}
		raw := false
		for i, line := range strings.Split(string(text), "\n") {
			within := raw
			if strings.Count(line, "`")%2 == 1 {
				raw = !raw
			}
			if len([]rune(strings.ReplaceAll(line, "\t", "    "))) <= lineWidth {
				continue
			}
			wide++
			if !within && !strings.ContainsAny(line, "\"`") {
				t.Errorf("%s:%d is wider than %d columns, and no text makes it so", file, i+1, lineWidth)
			}
		}
	}
	if wide > tooWide {
		t.Errorf("%d lines are wider than %d columns; there were %d", wide, lineWidth, tooWide)
	}
}

// goFiles lists the Go files of the repository.
func goFiles(t *testing.T, root string) []string {
	t.Helper()
	list, err := exec.Command("git", "-C", root, "ls-files", "*.go").Output()
	if err != nil {
		t.Skip("this is no working copy of the repository")
	}
	return slices.DeleteFunc(strings.Fields(string(list)), func(path string) bool {
		_, err := os.Stat(filepath.Join(root, path))
		return os.IsNotExist(err) // removed, and not yet committed
	})
}

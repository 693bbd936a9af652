package arch

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

// Every code of a finding is in a test: by its name, or as it stands in a brief.
func TestEveryFindingIsTested(t *testing.T) {
	root := testutil.Root()
	codes, _ := findingCodes(t)
	if len(codes) < 100 {
		t.Fatalf("%d codes were found in codes.go", len(codes))
	}
	var tests strings.Builder
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		switch {
		case err != nil:
			return err
		case d.IsDir() && (d.Name() == "node_modules" || strings.HasPrefix(d.Name(), ".") && path != root ||
			d.Name() == "arch"):
			return filepath.SkipDir
		case strings.HasSuffix(path, "_test.go") ||
			strings.Contains(path, "/enginetest/") && strings.HasSuffix(path, ".go"):
			text, err := os.ReadFile(path)
			tests.Write(text)
			return err
		}
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	for name, code := range codes {
		if !strings.Contains(tests.String(), code) && !regexp.MustCompile(`\b`+name+`\b`).MatchString(tests.String()) {
			t.Errorf("no test has the finding %s (%s)", code, name)
		}
	}
}

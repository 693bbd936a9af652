package arch

import (
	"bufio"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

// mayName are the places where an engine may be named: the engines themselves, where
// they are wired in, what starts servers for the demo and the tests, and the records,
// which are in a database of one engine whatever Genarch looks after.
var mayName = []string{"engine/postgres/", "engine/mysqlfamily/", "engine/mariadb/", "engine/mysql/",
	"engine/sqlserver/", "standin/",
	"cmd/genarch/", "demo/", "store/", "testutil/", "e2e/",
	"arch/", "docs/"}

var engineName = regexp.MustCompile(`(?i)postgres|mariadb|mysql|\bpg_|sqlserver|oracle|mongodb`)

// TestEnginesAreNamedNowhereElse is a ratchet: the file engines.txt says how often each
// other file still names an engine, in code, not counting comments. The numbers may
// only shrink, and when one does, so does the list.
func TestEnginesAreNamedNowhereElse(t *testing.T) {
	allowed := map[string]int{}
	list, err := os.Open("engines.txt")
	if err != nil {
		t.Fatal(err)
	}
	defer list.Close()
	for lines := bufio.NewScanner(list); lines.Scan(); {
		if file, n, ok := strings.Cut(lines.Text(), " "); ok && !strings.HasPrefix(file, "#") {
			allowed[file], _ = strconv.Atoi(n)
		}
	}
	found := map[string]int{}
	for _, file := range product(t) {
		if n := namesIn(t, filepath.Join(testutil.Root(), file)); n > 0 {
			found[file] = n
		}
	}
	if os.Getenv("SHRINK") != "" {
		shrink(t, found)
		return
	}
	for _, file := range slices.Sorted(maps.Keys(found)) {
		if found[file] > allowed[file] {
			t.Errorf("%s names an engine %d times; it may %d times: nothing outside an engine's folder knows that engine", file, found[file], allowed[file])
		}
	}
	for _, file := range slices.Sorted(maps.Keys(allowed)) {
		if found[file] < allowed[file] {
			t.Errorf("%s names an engine %d times, and the list says %d: write it anew with SHRINK=1 go test ./arch",
				file, found[file], allowed[file])
		}
	}
}

func shrink(t *testing.T, found map[string]int) {
	text := "# How often a file outside the engines' folders still names an engine. See engines_test.go.\n"
	for _, file := range slices.Sorted(maps.Keys(found)) {
		text += fmt.Sprintf("%s %d\n", file, found[file])
	}
	if err := os.WriteFile("engines.txt", []byte(text), 0o644); err != nil {
		t.Fatal(err)
	}
}

// product lists the files that are part of the product and may not name an engine.
func product(t *testing.T) []string {
	cmd := exec.Command("git", "ls-files", "--cached", "--others", "--exclude-standard", "*.go", "console/src")
	cmd.Dir = testutil.Root()
	out, err := cmd.Output()
	if err != nil {
		t.Fatal(err)
	}
	return slices.DeleteFunc(strings.Fields(string(out)), func(file string) bool {
		ours := strings.HasSuffix(file, ".go") && !strings.HasSuffix(file, "_test.go") ||
			strings.HasSuffix(file, ".svelte") || strings.HasSuffix(file, ".ts")
		if _, err := os.Stat(filepath.Join(testutil.Root(), file)); err != nil {
			return true // removed, and not yet committed
		}
		return !ours || strings.HasSuffix(file, "api.d.ts") ||
			slices.ContainsFunc(mayName, func(p string) bool { return strings.HasPrefix(file, p) })
	})
}

// namesIn counts the identifiers and texts of a file that name an engine.
func namesIn(t *testing.T, file string) int {
	text, err := os.ReadFile(file)
	if err != nil {
		t.Fatal(err)
	}
	if !strings.HasSuffix(file, ".go") {
		n := 0
		for _, line := range strings.Split(string(text), "\n") {
			if code, _, _ := strings.Cut(line, "//"); engineName.MatchString(code) &&
				!strings.HasPrefix(strings.TrimSpace(line), "*") {
				n++
			}
		}
		return n
	}
	tree, err := parser.ParseFile(token.NewFileSet(), file, text, 0)
	if err != nil {
		t.Fatal(err)
	}
	n := 0
	ast.Inspect(tree, func(x ast.Node) bool {
		switch x := x.(type) {
		case *ast.Ident:
			if engineName.MatchString(x.Name) {
				n++
			}
		case *ast.BasicLit:
			n += len(engineName.FindAllString(x.Value, -1))
		}
		return true
	})
	return n
}

package arch

import (
	"cmp"
	"flag"
	"fmt"
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"
	"unicode"

	"example.com/genarch/testutil"
)

var update = flag.Bool("update", false, "write docs/findings.md anew")

// said is a sentence that a planner says of something, as it stands in the code.
type said struct {
	level, code, text string
	at                token.Position
}

// sentences are all that the planners can say, by the calls that add a finding.
func sentences(t *testing.T) []said {
	var out []said
	files := token.NewFileSet()
	for _, dir := range []string{"engine/planning", "engine/postgres", "engine/mysqlfamily", "engine/sqlserver", "core/change", "runner"} {
		paths, err := filepath.Glob(filepath.Join(testutil.Root(), dir, "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		for _, path := range paths {
			if strings.HasSuffix(path, "_test.go") {
				continue
			}
			file, err := parser.ParseFile(files, path, nil, 0)
			if err != nil {
				t.Fatal(err)
			}
			ast.Inspect(file, func(n ast.Node) bool {
				call, ok := n.(*ast.CallExpr)
				if !ok {
					return true
				}
				name := ""
				switch f := call.Fun.(type) {
				case *ast.SelectorExpr:
					name = f.Sel.Name
				case *ast.Ident:
					name = f.Name
				}
				// Where level, code and text stand among the arguments.
				place, known := map[string][3]int{"Find": {0, 1, 3}, "About": {1, 2, 4}, "Done": {-1, 1, 2}}[name]
				if !known || len(call.Args) <= place[2] {
					return true
				}
				s := said{level: "Note", at: files.Position(call.Pos())}
				if place[0] >= 0 {
					s.level = lastName(call.Args[place[0]])
				}
				s.code = lastName(call.Args[place[1]])
				s.text = textOf(call.Args[place[2]])
				out = append(out, s)
				return true
			})
		}
	}
	return out
}

// textOf is a text that may be put together of several, with %s for what only runs tell;
// empty: it has no text of its own.
func textOf(e ast.Expr) string {
	switch x := e.(type) {
	case *ast.BasicLit:
		text, _ := strconv.Unquote(x.Value)
		return text
	case *ast.BinaryExpr:
		left, right := textOf(x.X), textOf(x.Y)
		if left+right == "" {
			return ""
		}
		return cmp.Or(left, "%s") + cmp.Or(right, "%s")
	}
	return ""
}

func lastName(e ast.Expr) string {
	switch x := e.(type) {
	case *ast.SelectorExpr:
		return x.Sel.Name
	case *ast.Ident:
		return x.Name
	}
	return ""
}

// TestFindingsAreSentences: what is said of a change begins with a capital or with
// the name of what it is about, and ends with a full stop.
func TestFindingsAreSentences(t *testing.T) {
	for _, s := range sentences(t) {
		if s.text == "" || s.text == "%s" {
			continue // made before, of sentences
		}
		if first := []rune(s.text)[0]; first != '%' && !unicode.IsUpper(first) || !strings.HasSuffix(s.text, ".") {
			t.Errorf("%s: %q is no sentence", s.at, s.text)
		}
	}
}

// TestFindingsAreListed: docs/findings.md has every code with what it says; -update
// writes it.
func TestFindingsAreListed(t *testing.T) {
	codes, comments := findingCodes(t)
	examples := map[string][]said{}
	for _, s := range sentences(t) {
		if s.text != "" && s.text != "%s" {
			examples[s.code] = append(examples[s.code], s)
		}
	}
	verb := regexp.MustCompile(`%(\[\d\])?[.0-9]*[a-z]`)
	var doc strings.Builder
	doc.WriteString("# Findings\n\nWhat a brief can point out, by its code: a *stop* keeps the change from running, a *caution* has to be accepted by name\n(`--accept CODE`), a *note* is told. … stands for what is named there. Written by a test from the code.\n\n| code | level | what it says | for example |\n|---|---|---|---|\n")
	for _, name := range slices.SortedFunc(maps.Keys(codes),
		func(a, b string) int { return cmp.Compare(codes[a], codes[b]) }) {
		var levels, texts []string
		for _, s := range examples[name] {
			level := strings.ToLower(s.level)
			if slices.Contains([]string{"stop", "caution", "note"}, level) && !slices.Contains(levels, level) {
				levels = append(levels, level)
			}
			text := strings.ReplaceAll(verb.ReplaceAllString(s.text, "…"), "|", "\\|")
			if !slices.Contains(texts, text) {
				texts = append(texts, text)
			}
		}
		if len(texts) == 0 && comments[name] == "" {
			t.Errorf("%s (%s) has neither a sentence nor an example", codes[name], name)
		}
		slices.Sort(levels)
		fmt.Fprintf(&doc, "| `%s` | %s | %s | %s |\n", codes[name], strings.Join(levels, ", "),
			strings.Join(texts, "<br>"), strings.ReplaceAll(comments[name], "|", "\\|"))
	}
	path := filepath.Join(testutil.Root(), "docs/findings.md")
	if *update {
		if err := os.WriteFile(path, []byte(doc.String()), 0o644); err != nil {
			t.Fatal(err)
		}
	}
	if have, err := os.ReadFile(path); err != nil || string(have) != doc.String() {
		t.Errorf("docs/findings.md is not as the code says it: go test ./arch -update (%v)", err)
	}
}

// findingCodes are the codes by the names of their constants, and what their comments
// give as an example.
func findingCodes(t *testing.T) (codes, comments map[string]string) {
	file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(testutil.Root(), "core/change/codes.go"), nil,
		parser.ParseComments)
	if err != nil {
		t.Fatal(err)
	}
	codes, comments = map[string]string{}, map[string]string{}
	ast.Inspect(file, func(n ast.Node) bool {
		v, ok := n.(*ast.ValueSpec)
		if !ok || len(v.Values) != 1 {
			return true
		}
		text, ok := v.Values[0].(*ast.BasicLit)
		if !ok {
			return true
		}
		if code, err := strconv.Unquote(text.Value); err == nil && strings.Contains(code, ".") {
			name := v.Names[0].Name
			codes[name] = code
			_, comment, _ := strings.Cut(strings.Join(strings.Fields(v.Doc.Text()), " "), ": ")
			comments[name] = strings.TrimSuffix(comment, ".")
		}
		return true
	})
	return codes, comments
}

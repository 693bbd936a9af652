package arch

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

// longest is how many lines a function may have. One that is longer for a reason says so in
// its comment, in a sentence that begins with "Long:".
const longest = 60

// TestFunctionLength: a function outside tests fits a page, or says why it does not.
func TestFunctionLength(t *testing.T) {
	root := testutil.Root()
	files := token.NewFileSet()
	for _, path := range goFiles(t, root) {
		if strings.HasSuffix(path, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(files, filepath.Join(root, path), nil,
			parser.ParseComments|parser.SkipObjectResolution)
		if err != nil {
			t.Fatal(err)
		}
		for _, d := range file.Decls {
			f, ok := d.(*ast.FuncDecl)
			if !ok || f.Body == nil {
				continue
			}
			lines := files.Position(f.End()).Line - files.Position(f.Pos()).Line + 1
			switch why := strings.Contains(f.Doc.Text(), "Long: "); {
			case lines > longest && !why:
				t.Errorf("%s: %s has %d lines, and no reason beside it", files.Position(f.Pos()), f.Name.Name, lines)
			case lines <= longest && why:
				t.Errorf("%s: %s gives a reason for a length that it does not have",
					files.Position(f.Pos()), f.Name.Name)
			}
		}
	}
}

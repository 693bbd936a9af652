// Package arch holds the rule of which package may reach which, as a test. Run
// it with -count=1: the test cache cannot see what go list read.
package arch

import (
	"go/ast"
	"go/parser"
	"go/token"
	"maps"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

const mod = "example.com/genarch/"

// allowed says, for each package of ours, which packages of ours it may reach.
var allowed = map[string][]string{
	"core/blueprint": {"core/naming"},
	"core/naming":    {},
	"core/remedy":    {},
	"core/history":   {},
	"core/lexical":   {},
	"core/secret":    {},
	"core/journal":   {},
	"core/record":    {},
	"core/script":    {},
	"core/policy":    {"core/catalog", "core/naming", "core/privilege", "core/script"},
	"core/privilege": {},
	"core/catalog":   {"core/naming", "core/privilege", "core/script"},
	"core/access":    {"core/catalog", "core/naming", "core/privilege", "core/script"},
	"core/handover":  {"core/catalog", "core/naming", "core/privilege", "core/script"},
	"core/clearing":  {"core/catalog", "core/naming", "core/privilege", "core/remedy", "core/script"},
	"core/change": {"core/access", "core/catalog", "core/clearing", "core/naming", "core/privilege",
		"core/remedy", "core/script", "core/secret"},
	"engine":             {"core/..."},
	"engine/planning":    {"core/...", "engine"},
	"engine/postgres":    {"core/...", "engine", "engine/planning"},
	"engine/senders":     {"core/...", "engine"},
	"engine/mysqlfamily": {"core/...", "engine", "engine/planning", "engine/senders"},
	"engine/mariadb":     {"core/...", "engine", "engine/planning", "engine/senders", "engine/mysqlfamily"},
	"engine/mysql":       {"core/...", "engine", "engine/planning", "engine/senders", "engine/mysqlfamily"},
	"engine/sqlserver":   {"core/...", "engine", "engine/planning", "engine/senders"},
	"engine/enginetest/invented": {"core/...", "engine", "engine/enginetest", "engine/planning",
		"engine/mariadb/marialocal", "engine/mysql/mysqllocal", "engine/postgres/pglocal",
		"engine/sqlserver/sqlserverlocal", "localdb", "testutil"},
	"engine/enginetest": {"core/...", "engine", "engine/planning", "engine/mariadb/marialocal",
		"engine/mysql/mysqllocal", "engine/sqlserver/sqlserverlocal",
		"engine/postgres/pglocal", "localdb", "testutil"},
	"events":                    {"core/..."},
	"fleet":                     {"core/...", "engine"},
	"watch":                     {"core/...", "engine"},
	"keeping":                   {"core/...", "engine"},
	"spool":                     {"core/...", "engine"},
	"runner":                    {"core/...", "engine", "events"},
	"store":                     {"core/..."},
	"localdb":                   {"core/secret"},
	"engine/mariadb/marialocal": {"localdb", "core/secret"},
	"engine/postgres/pglocal":   {"localdb", "core/secret"},
	"engine/mysql/mysqllocal":   {"localdb", "core/secret"},

	"engine/sqlserver/sqlserverlocal": {"localdb", "core/secret"},
	"api/wire":                        {},
	"console":                         {},
	"api":                             {"core/...", "engine", "events", "api/wire"},
	"client":                          {"api/wire"},
	"cli":                             {"api/wire", "client", "core/blueprint", "core/naming"},
	"demo": {"core/...", "client", "api/wire", "engine/mariadb/marialocal", "engine/mysql/mysqllocal",
		"engine/sqlserver/sqlserverlocal",
		"engine/postgres/pglocal", "localdb"},
	"cmd/genarch": {"..."},
	"testutil": {"engine/mariadb/marialocal", "engine/mysql/mysqllocal", "engine/postgres/pglocal",
		"engine/sqlserver/sqlserverlocal",
		"localdb", "core/secret"},
	"testutil/memrecords": {"core/..."},
	"testutil/bench": {"core/...", "api", "api/wire", "engine", "engine/planning", "engine/enginetest",
		"engine/enginetest/invented", "events", "fleet", "localdb", "runner", "testutil", "testutil/memrecords",
		"engine/mariadb/marialocal", "engine/mysql/mysqllocal", "engine/postgres/pglocal",
		"engine/sqlserver/sqlserverlocal"},
	"testutil/rigs": {"core/...", "engine", "engine/planning", "engine/enginetest",
		"engine/mariadb/marialocal", "engine/mysql/mysqllocal", "engine/postgres/pglocal",
		"engine/sqlserver/sqlserverlocal", "localdb", "testutil"},
	"arch": {},
	"e2e":  {},
}

// pure are the packages from outside that core may import directly; none does I/O by itself.
var pure = strings.Fields("bytes cmp context crypto/sha256 embed encoding/hex encoding/json go.yaml.in/yaml/v3 errors fmt io iter maps math/bits net/netip net/url reflect regexp runtime slices strconv strings sync sync/atomic time unicode unicode/utf16 unicode/utf8")

func goList(t *testing.T, args ...string) []string {
	t.Helper()
	cmd := exec.Command("go", append([]string{"list", "-tags", "nomsgpack"}, args...)...)
	cmd.Dir = testutil.Root()
	out, err := cmd.Output()
	if err != nil {
		t.Fatalf("go list %v: %v", args, err)
	}
	return strings.Fields(string(out))
}

func listed(pkg string, patterns []string) bool {
	return slices.ContainsFunc(patterns, func(p string) bool {
		tree, all := strings.CutSuffix(p, "...")
		return pkg == p || all && strings.HasPrefix(pkg, tree)
	})
}

func TestImports(t *testing.T) {
	for pkg, may := range allowed {
		for _, dep := range goList(t, "-deps", mod+pkg) {
			if d, ours := strings.CutPrefix(dep, mod); ours && !listed(d, append(may, pkg)) {
				t.Errorf("%s reaches %s; it may reach %v", pkg, d, may)
			}
		}
	}
	for _, pkg := range goList(t, mod+"...") {
		if name := strings.TrimPrefix(pkg, mod); !slices.Contains(slices.Collect(maps.Keys(allowed)), name) {
			t.Errorf("%s has no row in the table", name)
		}
	}
}

// TestNothingForTestsIsShipped holds that the binary has neither the suite nor the engine
// that there is not.
func TestNothingForTestsIsShipped(t *testing.T) {
	for _, pkg := range goList(t, "-deps", "./cmd/genarch") {
		if name := strings.TrimPrefix(pkg, mod); name == "testing" || strings.HasPrefix(name, "engine/enginetest") ||
			strings.HasPrefix(name, "testutil") {
			t.Errorf("the binary has %s in it", name)
		}
	}
}

func TestCoreIsPure(t *testing.T) {
	for _, line := range goList(t, "-f", `{{$p := .ImportPath}}{{range .Imports}}{{$p}}|{{.}} {{end}}`,
		mod+"core/...") {
		pkg, imported, _ := strings.Cut(line, "|")
		if !strings.HasPrefix(imported, mod) && !slices.Contains(pure, imported) {
			t.Errorf("%s imports %s, which is not on the list of pure packages", pkg, imported)
		}
	}
	files, err := filepath.Glob(filepath.Join(testutil.Root(), "core/*/*.go"))
	if err != nil || len(files) < 10 {
		t.Fatalf("%d files of core, %v", len(files), err)
	}
	planners, _ := filepath.Glob(filepath.Join(testutil.Root(), "engine/*/plan*.go"))
	for _, file := range append(files, planners...) {
		if strings.HasSuffix(file, "_test.go") {
			continue
		}
		tree, err := parser.ParseFile(token.NewFileSet(), file, nil, 0)
		if err != nil {
			t.Fatal(err)
		}
		ast.Inspect(tree, func(n ast.Node) bool {
			if s, ok := n.(*ast.SelectorExpr); ok {
				if x, ok := s.X.(*ast.Ident); ok && x.Name == "time" &&
					slices.Contains(strings.Fields("Now Since Until Sleep After AfterFunc Tick NewTimer NewTicker"),
						s.Sel.Name) {
					t.Errorf("%s uses time.%s: core has no clock of its own", file, s.Sel.Name)
				}
			}
			return true
		})
	}
}

// Every exported identifier has a doc comment.
func TestDocumented(t *testing.T) {
	for _, dir := range goList(t, "-f", "{{.Dir}}", mod+"...") {
		files, err := filepath.Glob(filepath.Join(dir, "*.go"))
		if err != nil {
			t.Fatal(err)
		}
		for _, file := range files {
			if strings.HasSuffix(file, "_test.go") {
				continue
			}
			tree, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ParseComments)
			if err != nil {
				t.Fatal(err)
			}
			for _, d := range tree.Decls {
				checkDoc(t, file, d)
			}
		}
	}
}

func checkDoc(t *testing.T, file string, d ast.Decl) {
	switch d := d.(type) {
	case *ast.FuncDecl:
		if d.Name.IsExported() && d.Doc == nil && exportedReceiver(d) {
			t.Errorf("%s: %s has no doc comment", file, d.Name.Name)
		}
	case *ast.GenDecl:
		for _, spec := range d.Specs {
			if s, ok := spec.(*ast.TypeSpec); ok && s.Name.IsExported() && d.Doc == nil && s.Doc == nil {
				t.Errorf("%s: %s has no doc comment", file, s.Name.Name)
			}
		}
	}
}

func exportedReceiver(d *ast.FuncDecl) bool {
	if d.Recv == nil {
		return true
	}
	typ := d.Recv.List[0].Type
	if star, ok := typ.(*ast.StarExpr); ok {
		typ = star.X
	}
	name, ok := typ.(*ast.Ident)
	return !ok || name.IsExported()
}

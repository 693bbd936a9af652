package cli

import (
	"bytes"
	"context"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/urfave/cli/v3"
)

// Every command has an example, and every example is a command that exists, with options
// that it has.
func TestExamples(t *testing.T) {
	tree := app{}.commands()
	own := map[string]bool{}
	var walk func(list []*cli.Command, words []string)
	walk = func(list []*cli.Command, words []string) {
		for _, c := range list {
			path := append(words[:len(words):len(words)], c.Name)
			if len(c.Commands) > 0 {
				walk(c.Commands, path)
				continue
			}
			name := strings.Join(path, " ")
			own[name] = true
			if len(examples[name]) == 0 {
				t.Errorf("genarch %s has no example", name)
			}
			if c.Usage == "" || strings.HasSuffix(c.Usage, ".") || c.Usage[0] >= 'A' && c.Usage[0] <= 'Z' {
				t.Errorf("what genarch %s is for is not said in one voice: %q", name, c.Usage)
			}
		}
	}
	walk(tree, nil)
	for name, lines := range examples {
		if !own[name] && !slices.Contains([]string{"serve", "key rotate", "demo", "openapi"}, name) {
			t.Errorf("there are examples of genarch %s, and no such command", name)
		}
		for _, line := range lines {
			words, err := splitWords(strings.Split(line, " > ")[0])
			if err != nil || words[0] != "genarch" || !strings.HasPrefix(line, "genarch "+name) {
				t.Errorf("%q is no example of genarch %s (%v)", line, name, err)
				continue
			}
			c := find(tree, strings.Fields(name))
			if c == nil {
				continue // of the service itself
			}
			for _, w := range words {
				flag, option := strings.CutPrefix(w, "--")
				if option &&
					!slices.ContainsFunc(c.Flags, func(f cli.Flag) bool { return slices.Contains(f.Names(), flag) }) {
					t.Errorf("%q: the command has no option %s", line, w)
				}
			}
		}
	}
}

// The manual has a page for each command, and nothing in it is taken for a macro.
func TestManual(t *testing.T) {
	dir := t.TempDir()
	var out bytes.Buffer
	if code := Run(context.Background(), Root("test", Streams{Out: &out, Err: &out}),
		[]string{"genarch", "man", "--into", dir}); code != ExitDone {
		t.Fatalf("it ended with %d: %s", code, &out)
	}
	page, err := os.ReadFile(filepath.Join(dir, "genarch-database-drop.1"))
	if err != nil {
		t.Fatal(err)
	}
	for _, want := range []string{".TH GENARCH-DATABASE-DROP 1", ".I SERVER/DATABASE", `\fB\-\-when\-empty\fR`,
		".SH EXAMPLES", `genarch database drop quay/old_dev \-\-when\-empty 2h`} {
		if !strings.Contains(string(page), want) {
			t.Errorf("the page lacks %q:\n%s", want, page)
		}
	}
	if _, err := os.Stat(filepath.Join(dir, "genarch.1")); err != nil {
		t.Error(err)
	}
	if code := Run(context.Background(), Root("test", Streams{Out: &out, Err: &out}),
		[]string{"genarch", "man", "--into", filepath.Join(dir, "nowhere")}); code != ExitFailed {
		t.Errorf("into a folder that is not there it ended with %d", code)
	}
	if text := manText(".so /etc/passwd\n'tricky \\ -x"); text != "\\&.so /etc/passwd\n\\&'tricky \\e \\-x" {
		t.Errorf("a text is written as %q", text)
	}
}

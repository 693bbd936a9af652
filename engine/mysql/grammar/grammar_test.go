// Package grammar parses what Genarch sends to MySQL by a grammar of MySQL's that is not its
// own. It is a module of its own, so that the parser is in no binary of Genarch.
package grammar

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/pingcap/tidb/pkg/parser"
	_ "github.com/pingcap/tidb/pkg/parser/test_driver"
)

// refused are statements that MySQL takes and the parser does not.
var refused = []*regexp.Regexp{
	regexp.MustCompile(`^GRANT '[^']*'@'[^']*' TO .* WITH ADMIN OPTION$`),
	regexp.MustCompile("^ALTER DATABASE `[^`]*` READ ONLY = [01]$"),
}

// TestStatements: each golden file of MySQL has only statements of its language, forward and back.
func TestStatements(t *testing.T) {
	files, err := filepath.Glob("../../mysqlfamily/testdata/mysql_*.sql")
	if err != nil || len(files) < 15 {
		t.Fatalf("%d golden files, %v", len(files), err)
	}
	p, parsed := parser.New(), 0
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		for _, statement := range statements(string(text)) {
			if _, _, err := p.Parse(statement, "", ""); err != nil && !known(statement) {
				t.Errorf("%s: %v\n%s", filepath.Base(file), err, statement)
			}
			parsed++
		}
	}
	if parsed < 60 {
		t.Errorf("only %d statements were parsed", parsed)
	}
	// What is MariaDB's alone is refused, so a word that was left over would be found.
	for _, foreign := range []string{"CREATE USER 'a'@'%' IDENTIFIED VIA ed25519 USING 'x'",
		"SET DEFAULT ROLE r FOR 'a'@'%'", "KILL SOFT CONNECTION 7", "CREATE DATABASE d COMMENT 'x'"} {
		if _, _, err := p.Parse(foreign, "", ""); err == nil {
			t.Errorf("taken, although MySQL does not: %s", foreign)
		}
	}
}

func known(statement string) bool {
	for _, r := range refused {
		if r.MatchString(statement) {
			return true
		}
	}
	return false
}

// statements are those of a golden file: titles begin with --, and so do the ways back. What is
// filled in as it runs stands as a point or a mask.
func statements(text string) []string {
	var out []string
	for _, part := range regexp.MustCompile(`(?m)^-- (?:undo: )?`).Split(text, -1) {
		if first, rest, _ := strings.Cut(part, "\n"); regexp.MustCompile(`^[a-z_]+: `).MatchString(first) {
			part = rest
		}
		for _, one := range strings.Split(part, ";\n") {
			one = strings.ReplaceAll(strings.TrimSpace(one), "…", "1")
			if one != "" {
				out = append(out, one)
			}
		}
	}
	return out
}

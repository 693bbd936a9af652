package lexical

import (
	"strings"
	"testing"
)

var (
	postgres = Dialect{Escaped: true, Dollar: true, Nested: true, LineEnds: "\n\r"}
	mariadb  = Dialect{Backslash: true, DoubleQuoted: true, Code: true, Hash: true, SpacedDashes: true, LineEnds: "\n"}
)

func TestShape(t *testing.T) {
	for _, tt := range []struct {
		d        Dialect
		in, want string
	}{
		{postgres, `ALTER ROLE visitor PASSWORD 'zz-secret'`, `ALTER ROLE visitor PASSWORD '•'`},
		{postgres, `SELECT * FROM "odd's" WHERE a = 'it''s' AND n = 7`,
			`SELECT * FROM "odd's" WHERE a = '•' AND n = 7`},
		{postgres, `SELECT 'a\', b`, `SELECT '•' …`},
		{postgres, `SELECT E'a\'b', c`, `SELECT E'•', c`},
		{postgres, `DO $x$ secret $x$; SELECT $1`, `DO '•'; SELECT $1`},
		{postgres, `SELECT $$ secret`, `SELECT '•'`},
		{postgres, `SELECT 'cut off her`, `SELECT '•'`},
		{postgres, `SELECT a FROM "cut off her`, `SELECT a FROM …`},
		{mariadb, `SET PASSWORD = PASSWORD("a\nb"), x = 'c\\d'`, `SET PASSWORD = PASSWORD("•"), x = '•'`},
		{mariadb, `SET x = 'c\'d', y = 'e'`, `SET x = '•' …`},
		{mariadb, "SELECT `it's`, 'x'", "SELECT `it's`, '•'"},
		{mariadb, "SELECT 1", "SELECT 1"},
	} {
		if got := tt.d.Shape(tt.in); got != tt.want {
			t.Errorf("Shape(%s) = %s; want %s", tt.in, got, tt.want)
		}
	}
	if got := postgres.Guarded("SELECT 'seat 7'"); got != "SELECT 'seat 7'" {
		t.Errorf("a harmless statement: %s", got)
	}
	if got := mariadb.Guarded("CREATE USER x IDENTIFIED BY 'y'"); got != "CREATE USER x IDENTIFIED BY '•'" {
		t.Errorf("a password: %s", got)
	}
}

// What opens no text must not shift what does: quotes in comments, and the marks of
// comments in texts and names.
func TestShapeIsNotShifted(t *testing.T) {
	const hidden = "zz-hidden"
	for _, d := range []Dialect{postgres, mariadb} {
		for _, before := range []string{"SELECT 1 -- it's\n", "SELECT 1 /* don't */", "SELECT '/*', 1",
			"SELECT '--', 1", "SELECT 1 --\tit's\n", `SELECT "a'b", 1`, "SELECT 5--3\n",
			"SELECT 1 /* /* don't */ */", "SELECT 1 # it's\n", "SELECT `it's`\n", "/*! SELECT 'a' */", "SELECT 'a\\",
			`SELECT 'a\'`, `SELECT "a\"`, "SELECT $a$ it's $a$", "SELECT a$b$ "} {
			if got := d.Shape(before + ", '" + hidden + "'"); strings.Contains(got, hidden) && !opensText(d, before) {
				t.Errorf("Shape(%s, '…') = %s", before, got)
			}
		}
	}
}

// opensText: in this dialect the beginning leaves a text open, so that what follows
// is no text by its own rules.
func opensText(d Dialect, before string) bool {
	_, err := d.Commands(before)
	return err == ErrUnended
}

func FuzzShape(f *testing.F) {
	f.Add("SELECT 1 -- it's\n", "x")
	f.Fuzz(func(t *testing.T, before, hidden string) {
		if len(hidden) < 6 || strings.ContainsAny(hidden, `'"\$;/*-#`+"`\n\r") || strings.Contains(before, hidden) {
			return
		}
		for _, d := range []Dialect{postgres, mariadb} {
			// A whole text behind whatever is whole by itself is hidden.
			if n, err := d.Commands(before); err == nil && n >= 0 {
				whole := before + "\n;'" + hidden + "'"
				if _, err := d.Commands(whole); err == nil && strings.Contains(d.Shape(whole), hidden) {
					t.Errorf("Shape(%q) = %q", whole, d.Shape(whole))
				}
			}
		}
	})
}

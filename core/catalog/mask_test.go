package catalog

import "testing"

func TestShape(t *testing.T) {
	postgres, mariadb := Literals{Dollar: true}, Literals{Backslash: true, DoubleQuoted: true}
	for _, tt := range []struct {
		l        Literals
		in, want string
	}{
		{postgres, `ALTER ROLE visitor PASSWORD 'zz-secret'`, `ALTER ROLE visitor PASSWORD '•'`},
		{postgres, `SELECT * FROM "odd's" WHERE a = 'it''s' AND n = 7`, `SELECT * FROM "odd's" WHERE a = '•' AND n = 7`},
		{postgres, `SELECT 'a\', b`, `SELECT '•', b`},
		{postgres, `SELECT E'a\'b', c`, `SELECT E'•', c`},
		{postgres, `DO $x$ secret $x$; SELECT $1`, `DO '•'; SELECT $1`},
		{postgres, `SELECT $$ secret`, `SELECT '•'`},
		{postgres, `SELECT 'cut off her`, `SELECT '•'`},
		{mariadb, `SET PASSWORD = PASSWORD("a\"b"), x = 'c\'d'`, `SET PASSWORD = PASSWORD("•"), x = '•'`},
		{mariadb, "SELECT `it's`, 'x'", "SELECT `it's`, '•'"},
		{mariadb, "SELECT 1", "SELECT 1"},
	} {
		if got := tt.l.Shape(tt.in); got != tt.want {
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

package mysqlfamily

import (
	"database/sql"
	"errors"
	"fmt"
	"math/rand/v2"
	"testing"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// TestEffective makes random accounts, roles, patterns and grants, signs in as
// each account, and compares what core/access works out with what the server
// lets it do.
func TestEffective(t *testing.T) {
	t.Parallel()
	running := testutil.MariaDB(t)
	admin, err := sql.Open("mysql", running.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	try := func(format string, args ...any) {
		_, _ = admin.ExecContext(t.Context(), fmt.Sprintf(format, args...))
	}
	databases := []string{"a_b", "axb", "a_c", "ab", "b%c", "bxc", "b_c"}
	for _, d := range databases {
		try("CREATE DATABASE `%s`", d)
		try("CREATE TABLE `%s`.t (a INT)", d)
		try("CREATE TABLE `%s`.u (a INT)", d)
	}
	patterns := []string{"a_b", `a\_b`, "a%", "%", "axb", `b\%c`, "b%c", `b\_c`, "_b", "a__", `a\_%`}
	words := []string{"SELECT", "INSERT", "UPDATE", "DELETE", "SELECT, INSERT", "CREATE",
		"SELECT, INSERT, UPDATE, DELETE"}
	accounts := []string{"deck", "gate", "crane"}
	// A netmask and a plain address count alike, and which holds then is not settled.
	hosts := []string{"127.0.0.1", "%", "127.0.0.%", "127.%"}
	random := rand.New(rand.NewPCG(3, 11))
	for i := range 3 {
		try("CREATE ROLE r%d", i)
	}
	try("GRANT r1 TO r0")
	for _, name := range accounts {
		try("CREATE USER '%s'@'127.0.0.1' IDENTIFIED VIA mysql_native_password USING PASSWORD('x')", name)
		for _, h := range hosts[1:] { // others of that name, whose grants may hold for it too
			if random.IntN(2) == 0 {
				try("CREATE USER '%s'@'%s' IDENTIFIED VIA mysql_native_password USING PASSWORD('x')", name, h)
			}
		}
		try("GRANT r%d TO '%s'@'127.0.0.1'", random.IntN(3), name)
		try("GRANT r0 TO '%s'@'127.0.0.1'", name)
		if random.IntN(3) > 0 {
			try("SET DEFAULT ROLE r0 FOR '%s'@'127.0.0.1'", name)
		}
	}
	s := enginetest.Open(t, maria{}, enginetest.Target(maria{}, running, "quay"))
	statements := map[privilege.Set]string{may.Select: "SELECT a FROM `%s`.`%s`",
		may.Insert: "INSERT INTO `%s`.`%s` (a) VALUES (1)", may.Delete: "DELETE FROM `%s`.`%s`"}
	for round := range 40 {
		for range 5 {
			who := fmt.Sprintf("'%s'@'%s'", accounts[random.IntN(len(accounts))], hosts[random.IntN(len(hosts))])
			if random.IntN(4) == 0 {
				who = fmt.Sprintf("r%d", random.IntN(3))
			}
			word := words[random.IntN(len(words))]
			switch random.IntN(8) {
			case 0:
				try("REVOKE %s ON `%s`.* FROM %s", word, patterns[random.IntN(len(patterns))], who)
			case 1:
				try("GRANT %s ON `%s`.t TO %s", word, databases[random.IntN(len(databases))], who)
			case 2:
				if random.IntN(6) == 0 {
					try("GRANT %s ON *.* TO %s", word, who)
				}
			case 3:
				try("REVOKE ALL PRIVILEGES, GRANT OPTION FROM %s", who)
			default:
				try("GRANT %s ON `%s`.* TO %s", word, patterns[random.IntN(len(patterns))], who)
			}
		}
		a, err := s.Access(t.Context(), catalog.AccessQuery{})
		if err != nil {
			t.Fatal(err)
		}
		g := mariaDB.graph(a)
		for _, name := range accounts {
			p := catalog.Principal{Name: name, Host: "127.0.0.1"}
			if got, ok := mariaDB.hosts.signsInAs(a.Accounts, name, "127.0.0.1"); !ok || got.Principal != p {
				t.Fatalf("a client from 127.0.0.1 signs in as %v; want %v", got.Principal, p)
			}
			cfg := mysql.NewConfig()
			cfg.User, cfg.Passwd, cfg.Net, cfg.Addr = name, "x", "tcp", fmt.Sprintf("%s:%d", running.Host, running.Port)
			db, err := sql.Open("mysql", cfg.FormatDSN())
			if err != nil {
				t.Fatal(err)
			}
			for _, d := range databases {
				for _, table := range []string{"t", "u"} {
					have := g.Effective(p, catalog.Object{Scope: catalog.ScopeTable, Database: d, Name: table})
					for want, text := range statements {
						_, err := db.ExecContext(t.Context(), fmt.Sprintf(text, d, table))
						me, refused := errors.AsType[*mysql.MySQLError](err)
						if err != nil && (!refused || me.Number != 1142 && me.Number != 1044) {
							t.Fatalf("%s as %s: %v", text, name, err)
						}
						if have.Has(want) != (err == nil) {
							t.Errorf("round %d: %s %s on %s.%s: computed %v, the server says %v", round, name, want, d,
								table, have.Has(want), err)
						}
					}
				}
			}
			db.Close()
		}
		if t.Failed() {
			for _, l := range a.Grants {
				t.Logf("%v %v %s: %s", l.Grantee, l.Scope, l.Database+"."+l.Name, l.Privileges)
			}
			for _, x := range a.Accounts {
				t.Logf("%v default role %q global %s", x.Principal, x.DefaultRole, x.Global)
			}
			return
		}
	}
}

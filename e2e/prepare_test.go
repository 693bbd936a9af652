package e2e

import (
	"strings"
	"testing"

	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/postgres"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

// TestPreparedLogin makes a login of the statements that server prepare writes, and does
// a day's work as it: it has what is needed, and is no administrator of everything.
func TestPreparedLogin(t *testing.T) {
	t.Parallel()
	s := newService(t)
	for _, x := range []struct {
		name, id, word string
		engine         engine.Engine
		running        *localdb.Server
	}{
		{"harbour", "postgresql", `ALTER ROLE "gen""arch" PASSWORD 'a-login-of-its-own-1'`, postgres.Engine{},
			testutil.Postgres(t)},
		{"quay", "mariadb", "ALTER USER 'gen\"arch'@'%' IDENTIFIED BY 'a-login-of-its-own-1'", mariadb.Engine{},
			testutil.MariaDB(t)},
	} {
		t.Run(x.name, func(t *testing.T) {
			rig := rigs.Of(x.engine, x.running)
			admin, err := enginetest.Client(t.Context(), rig, rig.Main, "")
			if err != nil {
				t.Fatal(err)
			}
			defer admin.Close()
			prepared := decode[struct {
				Statements []struct{ For, Statement string }
			}](t, s.run(0, "server", "prepare", x.id, "--login", `gen"arch`, "-o", "json").out)
			if len(prepared.Statements) < 5 {
				t.Fatalf("prepared: %+v", prepared)
			}
			for _, p := range prepared.Statements {
				if _, err := admin.ExecContext(t.Context(), p.Statement); err != nil ||
					strings.Contains(p.Statement, "SUPER") {
					t.Fatalf("to %s: %s: %v", p.For, p.Statement, err)
				}
			}
			if _, err := admin.ExecContext(t.Context(), x.word); err != nil {
				t.Fatal(err)
			}
			s.add(x.name, x.id, "staging",
				&localdb.Server{Host: x.running.Host, Port: x.running.Port, Admin: `gen"arch`,
					Password: secret.New("a-login-of-its-own-1")}, "--free-names")
			check := s.run(0, "server", "check", x.name).out
			for _, line := range strings.Split(check, "\n") {
				if title, answer, ok := strings.Cut(strings.TrimSpace(line),
					"  "); ok && strings.HasPrefix(title, "may ") && strings.TrimSpace(answer) != "yes" &&
					title != "may assign a database to any role" {
					t.Errorf("the prepared login: %s", line)
				}
			}
			at := x.name + "/"
			s.run(0, "database", "create", at+"berths", "--for-team", "berths", "--yes")
			s.run(0, "database", "alter", at+"berths", "--comment", "where they lie", "--yes")
			s.run(0, "account", "create", at+"account:mate", "--yes")
			s.run(0, "role", "create", at+"role:crew", "--yes")
			s.run(0, "role", "grant", at+"role:crew", "--to", "mate", "--yes")
			s.run(0, "privilege", "grant", at+"berths", "--to", "role:crew", "--bundle", "read", "--yes")
			has(t, "who has what", s.run(0, "privilege", "matrix", x.name).out, "berths_app", "write", "crew", "read")
			client, err := enginetest.Client(t.Context(), rig, "berths", "")
			if err != nil {
				t.Fatal(err)
			}
			defer client.Close()
			has(t, "who is connected", s.run(0, "session", "list", x.name).out, "berths")
			s.run(0, "privilege", "revoke", at+"berths", "--from", "role:crew", "--yes")
			mate := map[bool]string{true: "mate@%", false: "mate"}[x.engine.Describe().HasHosts()]
			s.run(0, "account", "drop", "--for-good", at+"account:"+mate, "--confirm", mate, "--yes")
		})
	}
	has(t, "for people", s.run(0, "server", "prepare", "mariadb", "--client-host", "10.20.4.7").out,
		"-- A login for Genarch", "CREATE USER 'genarch'@'10.20.4.7';", "-- to end sessions",
		"GRANT CONNECTION ADMIN ON *.* TO")
	has(t, "a host where there are none", s.run(2, "server", "prepare", "postgresql", "--client-host", "10.20.4.7").err,
		"no host is part of an account")
	has(t, "a name that cannot be", s.run(2, "server", "prepare", "postgresql", "--login", "a\nb").err, "name")
	has(t, "an engine that there is not", s.run(4, "server", "prepare", "abacus").err, "genarch engine list")
}

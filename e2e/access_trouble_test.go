package e2e

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"strings"
	"syscall"
	"testing"

	"example.com/genarch/testutil"
)

// TestKillInTheChain kills the service in the middle of a team's chain; the next
// one carries it to its end or takes everything back, and the passwords survive.
func TestKillInTheChain(t *testing.T) {
	t.Parallel()
	s := newService(t)
	quay := testutil.MariaDB(t)
	s.add("quay", "mariadb", "production", quay)
	db, err := sql.Open("mysql", quay.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	lock, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	// Once it is killed while the server holds the first statement, once while the steps run.
	for i, held := range []bool{true, false} {
		team := fmt.Sprintf("team%d", i)
		if _, err := lock.ExecContext(t.Context(), "FLUSH TABLES WITH READ LOCK"); err != nil {
			t.Fatal(err)
		}
		r := s.run(0, "database", "create", "quay/"+team+"_prod", "--for-team", team, "--client-host", "127.0.0.1",
			"--draft", "-o", "json")
		id := itoa(decode[struct{ ID int }](t, r.out).ID)
		if status, body, _ := s.call("POST", "/api/v1/changes/"+id+"/run", s.token,
			`{"fingerprint":"`+fingerprintOf(t, s, id)+`"}`); status != 200 {
			t.Fatalf("run: %d %v", status, body)
		}
		waits := func(like string) bool {
			var n int
			_ = db.QueryRow("SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE INFO LIKE ?", like).Scan(&n)
			return n > 0
		}
		testutil.Wait(t, "the first statement to wait on the server", func() bool { return waits("CREATE ROLE%") })
		if !held {
			if _, err := lock.ExecContext(t.Context(), "UNLOCK TABLES"); err != nil {
				t.Fatal(err)
			}
		}
		s.end(syscall.SIGKILL)
		_, _ = lock.ExecContext(t.Context(), "UNLOCK TABLES")
		s.startAt(strings.TrimPrefix(s.url, "http://"))
		var change struct {
			State, Result string
			Ended         bool
		}
		testutil.Wait(t, "the change to be carried to its end", func() bool {
			_ = json.Unmarshal([]byte(s.run(0, "change", "show", id, "-o", "json").out), &change)
			return change.Ended
		})
		list := s.run(0, "account", "list", "quay").out + s.run(0, "database", "list", "quay").out
		switch change.State {
		case "done":
			h := decode[sheet](t, s.run(0, "change", "passwords", id, "-o", "json").out)
			app, err := sql.Open("mysql", fmt.Sprintf("%s_app:%s@tcp(%s)/%s_prod", team, h.Accounts[0].Password,
				quay.Address(), team))
			if err != nil || app.Ping() != nil {
				t.Errorf("the password that survived: %v %v", err, app.Ping())
			}
			app.Close()
		case "reverted":
			if strings.Contains(list, team) {
				t.Errorf("rolled back, and this is left:\n%s", list)
			}
		default:
			t.Errorf("the change is %s: %s\n%s", change.State, change.Result, s.run(0, "change", "show", id).out)
		}
	}
	s.run(0, "journal", "check")
}

// TestSmallLogins: what Genarch's login may not see or do is said, with the
// statement that would help; it is never shown as empty.
func TestSmallLogins(t *testing.T) {
	t.Parallel()
	s := newService(t)
	quay := testutil.MariaDB(t)
	db, err := sql.Open("mysql", quay.DSN("")+"?multiStatements=true")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE USER small@'127.0.0.1' IDENTIFIED BY 'small'; GRANT SHOW DATABASES ON *.* TO small@'127.0.0.1'"); err != nil {
		t.Fatal(err)
	}
	r := s.cli("small", "server", "add", "quay", "--engine", "mariadb", "--host", quay.Host, "--port", itoa(quay.Port),
		"--admin", "small", "--environment", "production", "--secret-file", "-")
	if r.code != 0 {
		t.Fatal(r)
	}
	for _, args := range [][]string{{"account", "list", "quay"}, {"privilege", "matrix", "quay"},
		{"account", "create", "quay/account:x@127.0.0.1", "--yes"}} {
		has(t, "without the right to read the grant tables", s.run(1, args...).err, "denied", "GRANT SELECT ON mysql.*")
	}
	// Seeing more now, it still knows the server.
	if _, err := db.Exec("GRANT SELECT ON *.* TO small@'127.0.0.1'"); err != nil {
		t.Fatal(err)
	}
	has(t, "without the right to make accounts", s.run(1, "account", "create", "quay/account:x@127.0.0.1", "--yes").err,
		"[rights.missing]", "GRANT CREATE USER")

	harbour := testutil.Postgres(t)
	s.add("super", "postgresql", "production", harbour)
	s.run(0, "database", "create", "super/closed_one", "--set", "private=yes", "--yes")
	s.run(0, "account", "create", "super/account:plain", "--yes")
	one := decode[struct{ Handover sheet }](t,
		s.run(0, "account", "password", "super/account:plain", "--yes", "-o", "json").out)
	s.run(0, "server", "forget", "super", "--confirm", "super")
	if r := s.cli(one.Handover.Accounts[0].Password, "server", "add", "harbour", "--engine", "postgresql", "--host",
		harbour.Host, "--port", itoa(harbour.Port), "--admin", "plain", "--environment", "production", "--secret-file",
		"-"); r.code != 0 {
		t.Fatal(r)
	}
	r = s.run(0, "privilege", "matrix", "harbour")
	has(t, "a matrix by a login that sees little", r.err, "not known", "whether an account has a password",
		"what is inside closed_one")
	has(t, "a role without the right", s.run(1, "role", "create", "harbour/role:x", "--yes").err, "[rights.missing]",
		"CREATEROLE")
	has(t, "a grant without the right",
		s.run(1, "privilege", "grant", "harbour/closed_one", "--to", "plain", "--bundle", "read", "--yes").err, "STOP")
}

package e2e

import (
	"flag"
	"fmt"
	"strings"
	"syscall"
	"testing"

	"example.com/genarch/testutil"
)

// kills is how often the service is killed on each engine: make soak does it 150 times.
var kills = flag.Int("kills", 2, "how often TestKills kills the service on each engine")

// TestKills kills the service at each step of setting aside and bringing back in turn: the
// next one ends the change, either done or as if nothing had been, and nothing is lost.
func TestKills(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "development", pg, "--free-names")
	s.add("quay", "mariadb", "development", maria, "--free-names")
	admin, db := onPostgres(t, pg, "postgres"), onMariaDB(t, maria.DSN(""))
	if _, err := admin.Exec(t.Context(), "CREATE DATABASE tossed CONNECTION LIMIT 7"); err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"CREATE DATABASE tossed", "CREATE TABLE tossed.t (n INT)",
		"INSERT INTO tossed.t VALUES (1), (2)", "CREATE VIEW tossed.v AS SELECT n FROM tossed.t",
		"CREATE TRIGGER tossed.up BEFORE INSERT ON tossed.t FOR EACH ROW SET NEW.n = NEW.n + 1",
		"CREATE EVENT tossed.nightly ON SCHEDULE EVERY 1 DAY DO DELETE FROM t", "CREATE USER tossed@127.0.0.1",
		"GRANT SELECT ON tossed.t TO tossed@127.0.0.1"} {
		if _, err := db.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	for _, x := range []struct{ server, query, want string }{
		{"harbour", `SELECT datconnlimit || ' ' || datallowconn FROM pg_database WHERE datname = 'tossed'`, "7 true"},
		{"quay", `SELECT CONCAT_WS(' ', (SELECT COUNT(*) FROM tossed.v), (SELECT STATUS FROM information_schema.EVENTS
			WHERE EVENT_SCHEMA = 'tossed'), (SELECT COUNT(*) FROM information_schema.TRIGGERS
			WHERE TRIGGER_SCHEMA = 'tossed'), (SELECT COUNT(*) FROM mysql.tables_priv WHERE Db = 'tossed'))`,
			"2 ENABLED 1 1"},
	} {
		aside := false
		for i := range *kills {
			aside = s.killed(t, x.server, aside, i)
		}
		if aside {
			s.run(0, "holding", "bring-back", x.server+"/tossed", "--yes")
		}
		var got string
		var err error
		if x.server == "quay" {
			err = db.QueryRowContext(t.Context(), x.query).Scan(&got)
		} else {
			err = admin.QueryRow(t.Context(), x.query).Scan(&got)
		}
		if err != nil || got != x.want {
			t.Errorf("%s: after %d kills it is %s, %v", x.server, *kills, got, err)
		}
	}
	s.run(0, "journal", "check")
}

// killed has a database set aside, or brought back, and kills the service once the change is
// at one of its steps. It reports whether the database is aside then.
func (s *service) killed(t *testing.T, server string, aside bool, round int) bool {
	t.Helper()
	intent := fmt.Sprintf(`{"kind":"database.set_aside","server":%q,"database":{"name":"tossed"}}`, server)
	confirm := "tossed"
	if aside {
		id := s.waiting(t, server)
		intent = fmt.Sprintf(`{"kind":"holding.bring_back","server":%q,"holding":{"id":%q}}`, server, id)
		confirm = ""
	}
	status, draft, _ := s.call("POST", "/api/v1/changes", s.token, intent)
	if status != 201 {
		t.Fatalf("ask: %d %v", status, draft)
	}
	brief := draft["brief"].(map[string]any)
	path := fmt.Sprintf("/api/v1/changes/%v", draft["id"])
	status, begun, _ := s.call("POST", path+"/run", s.token,
		fmt.Sprintf(`{"fingerprint":%q,"confirm":%q,"wait":0}`, brief["fingerprint"], confirm))
	if status/100 != 2 {
		t.Fatalf("run: %d %v", status, begun)
	}
	at := round * 5 % len(brief["steps"].([]any))
	read := func() (c map[string]any, state string) {
		_, c, _ = s.call("GET", path, s.token, "")
		return c, fmt.Sprint(c["state"])
	}
	testutil.Wait(t, "the change to be at its step", func() bool {
		c, state := read()
		steps := c["brief"].(map[string]any)["steps"].([]any)
		return state != "running" || steps[at].(map[string]any)["status"] != "planned"
	})
	s.end(syscall.SIGKILL)
	s.startAt(strings.TrimPrefix(s.url, "http://"))
	state := ""
	testutil.Wait(t, "the next service to end the change", func() bool {
		_, state = read()
		return state != "running"
	})
	now := s.waiting(t, server) != ""
	there := s.cli("", "database", "show", server+"/tossed").code == 0
	if done := state == "done"; !done && state != "reverted" || now != (aside != done) || there == now {
		t.Fatalf("%s, killed at step %d while aside is %v: %s, aside is %v, there is %v", server, at+1, aside, state,
			now, there)
	}
	return now
}

// waiting is the name under which tossed waits; empty: it does not.
func (s *service) waiting(t *testing.T, server string) string {
	t.Helper()
	_, list, _ := s.call("GET", "/api/v1/holdings?server="+server, s.token, "")
	found, _ := list["holdings"].([]any)
	if len(found) > 1 {
		t.Fatalf("it waits more than once: %v", found)
	}
	for _, h := range found {
		return fmt.Sprint(h.(map[string]any)["id"])
	}
	return ""
}

package e2e

import (
	"strings"
	"testing"

	"example.com/genarch/api/wire"
	"example.com/genarch/engine/postgres"
	"example.com/genarch/testutil"
)

// TestHistory: what a database was like over time is measured, kept through a restart of the
// service and told in the terminal and for programs; a database that is dropped takes it along.
func TestHistory(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg := testutil.Postgres(t)
	s.add("harbour", "postgresql", "production", pg)
	h := shore{t: t, s: s, name: "harbour", engine: postgres.Engine{}, running: pg}
	h.furnished("sailings_prod")
	for range 3 {
		h.client("sailings_prod")
	}
	first := s.run(0, "database", "history", "harbour/sailings_prod")
	has(t, "before anything was measured", first.err, "nothing was seen of it in that time")
	again := func() {
		s.stop()
		s.startAt(strings.TrimPrefix(s.url, "http://"))
	}
	again() // it measures when it starts
	var kept wire.History
	testutil.Wait(t, "the sessions to be on record", func() bool {
		kept = decode[wire.History](t, s.run(0, "database", "history", "harbour/sailings_prod", "--days", "1",
			"-o", "json").out)
		last := kept.Points[len(kept.Points)-1]
		return !last.Missing && last.Sessions == 3 && last.Size != nil
	})
	if n := len(kept.Points); n < 144 || n > 146 || !kept.Points[0].Missing || kept.Seconds != 600 {
		t.Errorf("a day has %d points, one every %d s, and the first is %+v", n, kept.Seconds, kept.Points[0])
	}
	plot := s.run(0, "database", "history", "harbour/sailings_prod")
	has(t, "the plot", plot.out, "sessions  lowest 3, highest 3, last 3", "size  lowest", "MiB ┤", "└┬──")
	has(t, "the server's", s.run(0, "server", "history", "harbour", "--days", "90", "-o", "csv").out,
		"at,sessions,size", ",3,")
	s.run(2, "database", "history", "harbour/sailings_prod", "--days", "91")
	s.run(4, "database", "history", "nowhere/sailings_prod")
	s.run(0, "database", "drop", "--for-good",
		"harbour/sailings_prod", "--grace", "0s", "--yes", "--confirm", "sailings_prod")
	again()
	has(t, "after the drop", s.run(0, "database", "history", "harbour/sailings_prod").err,
		"nothing was seen of it in that time")
}

// TestAttention: what needs a look is told before anybody asks for it.
func TestAttention(t *testing.T) {
	t.Parallel()
	s := newService(t)
	quay, pg := testutil.MariaDB(t), testutil.Postgres(t)
	s.add("quay", "mariadb", "production", quay)
	if r := s.run(0, "attention"); r.out != "" || !strings.Contains(r.err, "nothing needs a look") {
		t.Errorf("on a server where all is well: %s%s", r.out, r.err)
	}
	s.add("harbour", "postgresql", "staging", pg)
	db := onMariaDB(t, quay.DSN(""))
	for _, q := range []string{"CREATE DATABASE dues_prod", "CREATE DATABASE `dues-prod`",
		"CREATE USER ''@'pier2.ossavik.example' IDENTIFIED BY 'x-Y-7-long-enough'",
		"CREATE USER dues_app@'10.%' IDENTIFIED BY 'x-Y-7-long-enough'",
		"GRANT SELECT ON `dues_prod`.* TO dues_app@'10.%'", "GRANT SELECT ON `gone`.* TO dues_app@'10.%'"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	s.run(0, "operator", "add", "purser", "--permissions", "view,request", "--password-file",
		secretFile(t, "Anchors-aweigh-2026"))
	s.run(0, "operator", "add", "robot", "--permissions", "view,request", "--program")
	robot := decode[struct{ Secret string }](t, s.run(0, "token", "create", "robot", "--title", "x", "-o", "json").out)
	status, asked, _ := s.call("POST", "/api/v1/changes", robot.Secret,
		`{"kind":"database.create","server":"harbour","database":{"name":"fares_dev"}}`)
	if status != 201 && status != 200 {
		t.Fatalf("asking: %d %v", status, asked)
	}
	id := itoa(int(asked["id"].(float64)))
	if status, body, _ := s.call("POST", "/api/v1/changes/"+id+"/submit", robot.Secret, ""); status != 200 {
		t.Fatalf("submitting: %d %v", status, body)
	}
	pg.Stop()
	// What was found among accounts is taken as good for a while, unless something is altered here.
	s.run(0, "database", "create", "quay/new_prod", "--yes")
	r := s.run(0, "attention")
	has(t, "what needs a look", r.out,
		"URGENT  harbour does not answer: ", "[server.silent]",
		"change "+id+" of robot waits for somebody to let it run.",
		"next: Read its brief, then let it run or decline it: genarch change show "+id,
		"quay has 3 traps among its accounts and grants.",
		"@pier2.ossavik.example: it has no name: any name that fits no other account at this host signs in as it.",
		"The grant of dues_app@10.% on dues_prod opens dues-prod too.",
		"The grant of dues_app@10.% on gone fits no database; it takes effect with the next one that it fits.",
		"next: Look at each: genarch account list quay")
	if urgent := strings.Index(r.out, "URGENT"); urgent != 0 {
		t.Errorf("what is urgent does not come first:\n%s", r.out)
	}
	has(t, "as rows", s.run(0, "attention", "--where", "urgent=yes", "--columns", "code,server", "-o", "csv").out,
		"code,server\nserver.silent,harbour\n")
	s.run(0, "server", "list", "-o", "json") // still answers for the others
}

package e2e

import (
	"context"
	"fmt"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/postgres"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

// shore is a service with one server, and clients on it.
type shore struct {
	t       *testing.T
	s       *service
	name    string
	engine  engine.Engine
	running *localdb.Server
}

func (h shore) client(database string, statements ...string) *enginetest.Conn {
	h.t.Helper()
	conn, err := enginetest.Client(h.t.Context(), rigs.Of(h.engine, h.running), database, "")
	if err != nil {
		h.t.Fatal(err)
	}
	h.t.Cleanup(conn.Close)
	for _, text := range statements {
		if _, err := conn.ExecContext(h.t.Context(), text); err != nil {
			h.t.Fatalf("%s: %v", text, err)
		}
	}
	return conn
}

// tablespace makes a tablespace in a folder of its own.
func (h shore) tablespace(name string) {
	h.t.Helper()
	dir := filepath.Join(testutil.Dir(h.t), "space")
	mkdir(h.t, dir)
	testutil.GiveToPostgres(h.t, dir)
	h.client("postgres", "CREATE TABLESPACE "+name+" LOCATION '"+dir+"'").Close()
}

// furnished makes a database with a table, behind Genarch's back.
func (h shore) furnished(names ...string) {
	h.t.Helper()
	home := h.client(map[bool]string{true: "mysql", false: "postgres"}[h.name == "quay"])
	for _, name := range names {
		if _, err := home.ExecContext(h.t.Context(), "CREATE DATABASE "+name); err != nil {
			h.t.Fatal(err)
		}
		h.client(name, "CREATE TABLE crossings (id INT PRIMARY KEY, n INT)",
			"INSERT INTO crossings VALUES (1, 1), (2, 2)").Close()
	}
	home.Close()
}

type sessionLine struct {
	ID, Address, Class, Database string
	Number                       int
}

func (h shore) sessions(where string, options ...string) []sessionLine {
	h.t.Helper()
	r := h.s.run(0, append([]string{"session", "list", h.name + where, "-o", "json"}, options...)...)
	return decode[struct{ Sessions []sessionLine }](h.t, r.out).Sessions
}

// there reports whether a client's connection still works.
func there(conn *enginetest.Conn) bool {
	_, err := conn.ExecContext(context.Background(), "SELECT 1")
	return err == nil
}

func (h shore) has(name string) bool {
	h.t.Helper()
	return h.s.cli("", "database", "show", h.name+"/"+name).code == 0
}

// in reports whether a database lets people in.
func (h shore) in(name string) bool {
	conn, err := enginetest.Client(context.Background(), rigs.Of(h.engine, h.running), name, "")
	if err != nil {
		return false
	}
	conn.Close()
	return true
}

// waitingDrop lets a drop run that waits for a client, and returns its number.
func (h shore) waitingDrop(name string, more ...string) string {
	h.t.Helper()
	status, body, _ := h.s.call("POST", "/api/v1/changes", h.s.token,
		fmt.Sprintf(`{"kind":"database.drop","server":%q,"database":{"name":%q},"clearing":{"when_empty":600%s}}`,
			h.name, name, strings.Join(more, "")))
	if status != 201 {
		h.t.Fatalf("ask: %d %v", status, body)
	}
	id := itoa(int(body["id"].(float64)))
	status, body, _ = h.s.call("POST", "/api/v1/changes/"+id+"/run", h.s.token,
		fmt.Sprintf(`{"fingerprint":%q,"confirm":%q,"accept":["gate.effect"]}`,
			body["brief"].(map[string]any)["fingerprint"], name))
	if status != 200 {
		h.t.Fatalf("run: %d %v", status, body)
	}
	testutil.Wait(h.t, "the clearing to wait", func() bool {
		return strings.Contains(h.s.run(0, "change", "show", id, "-o", "json").out, `"phase": "waiting"`) ||
			stepStatus(h.t, h.s, id, "clear_sessions") == "begun"
	})
	return id
}

func stepStatus(t *testing.T, s *service, id, kind string) string {
	t.Helper()
	c := decode[struct {
		Brief struct {
			Steps []struct{ Kind, Status string }
		}
	}](t, s.run(0, "change", "show", id, "-o", "json").out)
	for _, step := range c.Brief.Steps {
		if step.Kind == kind {
			return step.Status
		}
	}
	return ""
}

func (h shore) ended(id string) (state, result string) {
	h.t.Helper()
	c := struct {
		State, Result string
		Ended         bool
	}{}
	testutil.Wait(h.t, "the change to end", func() bool {
		c = decode[struct {
			State, Result string
			Ended         bool
		}](h.t, h.s.run(0, "change", "show", id, "-o", "json").out)
		return c.Ended
	})
	return c.State, c.Result
}

func TestSessions(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t, "plugin-load-add=metadata_lock_info")
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "production", maria)
	for _, h := range []shore{{t, s, "harbour", postgres.Engine{}, pg}, {t, s, "quay", mariadb.Engine{}, maria}} {
		t.Run(h.name, func(t *testing.T) {
			h.t = t
			t.Run("list and end", func(t *testing.T) { h.t = t; testListAndEnd(h) })
			t.Run("drop", func(t *testing.T) { h.t = t; testDrop(h) })
			t.Run("written work", func(t *testing.T) { h.t = t; testLoss(h) })
			t.Run("stop", func(t *testing.T) { h.t = t; testStopping(h) })
			t.Run("in a terminal", func(t *testing.T) { h.t = t; testTerminal(h) })
			t.Run("accounts", func(t *testing.T) { h.t = t; testAccounts(h) })
		})
	}
	h := shore{t, s, "harbour", postgres.Engine{}, pg}
	t.Run("held accounts", func(t *testing.T) { testHold(shore{t, s, "quay", mariadb.Engine{}, maria}) })
	t.Run("rename, move and copy", func(t *testing.T) { h.t = t; testRenameMoveCopy(h) })
	t.Run("history", func(t *testing.T) {
		status, body, _ := s.call("GET", "/api/v1/servers/harbour/sessions/history", s.token, "")
		if samples, ok := body["samples"].([]any); status != 200 || !ok || len(samples) == 0 {
			t.Errorf("history: %d %v", status, body)
		}
	})
}

func testListAndEnd(h shore) {
	h.furnished("sailings_prod")
	idle, second := h.client("sailings_prod"), h.client("sailings_prod")
	writer := h.client("sailings_prod", "BEGIN", "UPDATE crossings SET n = 7 WHERE id = 1")
	waits := h.client("sailings_prod")
	released := make(chan struct{})
	over := h.t.Context() // ends before connections are closed, should the test fail
	go func() {
		_, _ = waits.ExecContext(over, "UPDATE crossings SET n = 8 WHERE id = 1")
		close(released)
	}()
	testutil.Wait(h.t, "somebody to wait for somebody", func() bool {
		return strings.Contains(h.s.run(0, "session", "list", h.name, "--tree").out, "blocks 1")
	})
	// A tree is shown whole, also where only one in it was asked for.
	has(h.t, "the tree around written work",
		h.s.run(0, "session", "list", h.name+"/sailings_prod", "--tree", "--class", "written").out, "written work",
		"blocks 1", "n = 8")
	has(h.t, "a tree of nobody", h.s.run(0, "session", "list", h.name, "--tree", "--account", "nobody").err,
		"nobody waits")
	r := h.s.run(0, "session", "list", h.name+"/sailings_prod")
	has(h.t, "the list", r.out+r.err, "written work", "SESSION", "sailings_prod", "4 sessions", "not shown:",
		"UPDATE crossings")
	has(h.t, "CSV", h.s.run(0, "session", "list", h.name, "-o", "csv").out, "session,class,account")
	has(h.t, "with the engine's own", h.s.run(0, "session", "list", h.name, "--all").out, "Genarch")
	if got := h.sessions("/sailings_prod", "--class", "written"); len(got) < 1 {
		h.t.Errorf("by class: %+v", got)
	}
	// Chosen by what they are: each option narrows, and nothing else is shown.
	for _, f := range []struct {
		fits int
		args []string
	}{{4, []string{"--client", "127.0.0.1"}}, {0, []string{"--client", "10.9.9.9"}},
		{0, []string{"--application", "no-such-program"}}, {4, []string{"--account", h.running.Admin}},
		{0, []string{"--account", "nobody"}},
		{0, []string{"--idle-longer-than", "1h"}}, {0, []string{"--older-than", "1h"}}} {
		if n := len(h.sessions("/sailings_prod", f.args...)); n != f.fits {
			h.t.Errorf("%v fits %d sessions, want %d", f.args, n, f.fits)
		}
	}
	testutil.Wait(h.t, "the idle ones to have been so for long",
		func() bool { return len(h.sessions("/sailings_prod", "--idle-longer-than", "1s")) == 3 })
	testutil.Wait(h.t, "some to be old",
		func() bool { return len(h.sessions("/sailings_prod", "--older-than", "1s")) >= 2 })
	has(h.t, "ending those long idle",
		h.s.run(3, "session", "end", h.name+"/sailings_prod", "--class", "idle", "--idle-longer-than", "1s").err,
		"2 sessions as of", "idle for longer than")
	lines := h.sessions("/sailings_prod")
	has(h.t, "one session", h.s.run(0, "session", "show", lines[0].Address).out, lines[0].ID, "would lose", "state")
	h.s.run(4, "session", "show", h.name+"/session:1-gone")
	h.s.run(2, "session", "list", h.name, "--class", "sleepy")

	// A number alone, or with somebody else's mark, ends nobody.
	number := strings.Split(lines[0].ID, "-")[0]
	has(h.t, "a number alone", h.s.run(2, "session", "end", h.name+"/session:"+number, "--yes").err,
		"somebody else's session")
	has(h.t, "another mark", h.s.run(0, "session", "end", h.name+"/session:"+number+"-0zz", "--yes").err,
		"another session uses its number now", "nothing to end")
	h.s.run(2, "session", "end", h.name)
	h.s.run(2, "session", "end", h.name, "--yes", "--account", "x", "--class", "sleepy")
	if n := len(h.sessions("/sailings_prod")); n != 4 {
		h.t.Fatalf("%d sessions are left of 4", n)
	}
	has(h.t, "the statement of one that is idle",
		h.s.run(0, "session", "end", h.sessions("/sailings_prod", "--class", "idle")[0].Address, "--statement-only",
			"--yes").err, "no statement runs there at present", "leave out --statement-only")
	// Shown first, and nothing runs without agreement.
	var idles []string
	for _, l := range h.sessions("/sailings_prod", "--class", "idle") {
		idles = append(idles, l.Address)
	}
	r = h.s.run(3, append([]string{"session", "end"}, idles...)...)
	has(h.t, "the brief", r.err, "2 sessions as of", "nothing but their connections", "Nothing has run")
	r = h.s.run(0, "session", "end", idles[0], "--yes")
	has(h.t, "ending one", r.err, "0 left, 1 ended", "done")
	r = h.s.run(0, "session", "end", h.name+"/sailings_prod", "--class", "idle", "--yes")
	has(h.t, "ending by class", r.err, "end the sessions in sailings_prod of class idle", "0 left, 1 ended")
	if there(idle) || there(second) {
		h.t.Error("who was ended is still there")
	}
	// Written work is a caution; then it goes, and the one who waited goes on.
	blocker := h.sessions("/sailings_prod", "--class", "written")
	var victim string
	for _, l := range blocker {
		if strings.Contains(h.s.run(0, "session", "list", h.name, "--tree").out, l.ID+"  written work") &&
			victim == "" {
			victim = l.Address
		}
	}
	has(h.t, "written work", h.s.run(3, "session", "end", victim, "--yes").err, "work.lost", "--accept work.lost")
	h.s.run(0, "session", "end", victim, "--yes", "--accept-loss")
	<-released
	has(h.t, "the tree afterwards", h.s.run(0, "session", "list", h.name, "--tree").err, "nobody waits")
	waits.Close()
	writer.Close()
	has(h.t, "nobody fits", h.s.run(0, "session", "end", h.name, "--application", "nobody", "--yes").err,
		"nothing to end")
	// Genarch's own are never ended.
	for _, l := range h.sessions("", "--all") {
		if l.Class == "Genarch" {
			has(h.t, "its own", h.s.run(1, "session", "end", l.Address, "--yes").err, "session.kept")
			break
		}
	}
	// The statement alone: the session goes on.
	sleeper := h.client("sailings_prod")
	sleep := map[string]string{"harbour": "SELECT pg_sleep(60)", "quay": "SELECT SLEEP(60) FROM crossings"}[h.name]
	stopped := make(chan struct{})
	go func() {
		_, _ = sleeper.ExecContext(context.Background(), sleep)
		close(stopped)
	}()
	testutil.Wait(h.t, "it to sleep", func() bool { return len(h.sessions("/sailings_prod", "--class", "busy")) == 1 })
	h.s.run(0, "session", "end", h.sessions("/sailings_prod", "--class", "busy")[0].Address, "--statement-only",
		"--yes")
	<-stopped
	if !there(sleeper) {
		h.t.Error("the session went with its statement")
	}
}

func testDrop(h shore) {
	h.furnished("tickets_prod")
	address := h.name + "/tickets_prod"
	testutil.Wait(h.t, "whoever furnished it to have left", func() bool {
		return strings.Contains(h.s.run(3, "database", "drop", "--for-good",
			address).err, "Nobody is connected to tickets_prod")
	})
	has(h.t, "the brief of one that is not in use", h.s.run(3, "database", "drop", "--for-good", address).err,
		"Nobody is connected to tickets_prod", "[drop.last_use]", "1 table")
	guest := h.client("tickets_prod")
	r := h.s.run(3, "database", "drop", "--for-good", address)
	has(h.t, "the brief", r.err, "would be lost  1 table", "disconnected   1 session", "no, this is final",
		"A drop is final", "not visible from here:", "1 session as of", "end the sessions of tickets_prod",
		"read back that it is gone", "--confirm tickets_prod")
	h.s.run(3, "database", "drop", "--for-good", address, "--confirm", "ticket_prod")
	h.s.run(2, "database", "drop", "--for-good", address, "--grace", "5s", "--when-empty", "5s")
	has(h.t, "a dry run", h.s.run(0, "database", "drop", "--for-good", address, "--dry-run").err, "nothing was done")
	if !h.has("tickets_prod") || !there(guest) {
		h.t.Fatal("something was done without the name being typed")
	}
	has(h.t, "waiting in vain", h.s.run(1, "database", "drop", "--for-good",
		address, "--confirm", "tickets_prod", "--when-empty",
		"1s").err, "somebody was still connected", "reverted")
	if !there(guest) || !h.in("tickets_prod") {
		h.t.Error("after waiting in vain the database is not as it was")
	}
	r = h.s.run(0, "database", "drop", "--for-good", address, "--confirm", "tickets_prod", "--grace", "0s")
	has(h.t, "the drop", r.err, "0 left, 1 ended", "read back as asked")
	if there(guest) || h.has("tickets_prod") {
		h.t.Error("it is still there")
	}
	has(h.t, "absent", h.s.run(1, "database", "drop", "--for-good", address, "--confirm", "tickets_prod").err,
		"There is no database tickets_prod on "+h.name)
	has(h.t, "only if present", h.s.run(0, "database", "drop", "--for-good",
		address, "--if-exists", "--confirm", "tickets_prod").err,
		"nothing will be done")
	has(h.t, "the journal", h.s.run(0, "journal", "list", "--limit", "60", "-o", "json").out, "who_was_ended",
		"change.done")
	home := map[string]string{"harbour": "postgres", "quay": "mysql"}[h.name]
	has(h.t, "one of the engine's", h.s.run(1, "database", "drop", "--for-good",
		h.name+"/"+home, "--confirm", home).err,
		"database.kept")
	has(h.t, "its list in the script", h.s.run(0, "change", "script", changeOf(h.t, h.s, address)).out,
		"-- for each session: ", "DROP DATABASE")
}

// changeOf is the number of the last change of a target that is done.
func changeOf(t *testing.T, s *service, target string) string {
	t.Helper()
	list := decode[struct {
		Changes []struct {
			ID    int
			State string
		}
	}](t, s.run(0, "change", "list", "--target", target, "--state", "done", "-o", "json").out)
	for _, c := range list.Changes[1:] { // the first did nothing
		return itoa(c.ID)
	}
	return itoa(list.Changes[0].ID)
}

func testLoss(h shore) {
	h.furnished("ledger_prod")
	writer := h.client("ledger_prod", "BEGIN", "UPDATE crossings SET n = 7 WHERE id = 1")
	testutil.Wait(h.t, "the written work to show",
		func() bool { return len(h.sessions("/ledger_prod", "--class", "written")) == 1 })
	r := h.s.run(3, "database", "drop", "--for-good", h.name+"/ledger_prod", "--confirm", "ledger_prod")
	has(h.t, "written work", r.err, "CAUTION", "work.lost", "--accept work.lost")
	if !there(writer) {
		h.t.Error("it was ended all the same")
	}
	r = h.s.run(0, "database", "drop", "--for-good",
		h.name+"/ledger_prod", "--confirm", "ledger_prod", "--accept-loss", "--grace",
		"1s")
	has(h.t, "accepted", r.err, "1 ended", "waiting until")
}

// testStopping stops a clearing by the command and by Ctrl-C of who watches it.
func testStopping(h shore) {
	h.furnished("berths_prod")
	guest := h.client("berths_prod")
	id := h.waitingDrop("berths_prod")
	if h.name == "harbour" && h.in("berths_prod") {
		h.t.Error("somebody gets in through the closed gate")
	}
	has(h.t, "stop", h.s.run(0, "change", "stop", id).out, "reverted")
	if state, result := h.ended(id); state != "reverted" || !strings.Contains(result, "stopped by keeper") {
		h.t.Errorf("ended %s: %s", state, result)
	}
	if !there(guest) || !h.in("berths_prod") {
		h.t.Error("after it was stopped the database is not as it was")
	}
	has(h.t, "stopping what has ended", h.s.run(1, "change", "stop", id).err, "not running")
	// Who only watches, without a terminal, leaves it running.
	id = h.waitingDrop("berths_prod")
	watch := exec.Command(commands, "change", "follow", id)
	watch.Env = append(watch.Environ(), "XDG_CONFIG_HOME="+h.s.home)
	var said logBuffer
	watch.Stderr = &said
	if err := watch.Start(); err != nil {
		h.t.Fatal(err)
	}
	testutil.Wait(h.t, "the watcher to see it", func() bool { return strings.Contains(said.String(), "1 left") })
	_ = watch.Process.Signal(syscall.SIGINT)
	_ = watch.Wait()
	has(h.t, "Ctrl-C", said.String(), "the change goes on", "change stop "+id)
	guest.Close()
	if state, _ := h.ended(id); state != "done" || h.has("berths_prod") {
		h.t.Errorf("once the last one had left: %s", state)
	}
}

// testHold locks out, while a drop waits, who could come back with rights on all
// databases, and lets them in again however it ends.
func testHold(h shore) {
	h.furnished("kept_out_prod")
	h.client("mysql", "CREATE USER warden@'127.0.0.1' IDENTIFIED BY '"+h.running.Password.Reveal()+"'",
		"GRANT ALL ON *.* TO warden@'127.0.0.1'").Close()
	warden := func() bool {
		conn, err := enginetest.Client(h.t.Context(), rigs.Of(h.engine, h.running), "mysql", "warden")
		if err == nil {
			conn.Close()
		}
		return err == nil
	}
	address := h.name + "/kept_out_prod"
	guest := h.client("kept_out_prod")
	has(h.t, "the brief", h.s.run(3, "database", "drop", "--for-good", address, "--lock-accounts").err,
		"ALTER USER 'warden'@'127.0.0.1' ACCOUNT LOCK", "CAUTION", "--accept gate.effect")
	if !warden() {
		h.t.Fatal("a brief locks an account")
	}
	id := h.waitingDrop("kept_out_prod", `,"options":{"lock_accounts":true}`)
	if warden() {
		h.t.Error("who was to be held signs in")
	}
	h.s.run(0, "change", "stop", id)
	if !warden() || !there(guest) {
		h.t.Error("after it was stopped, the account is not as it was")
	}
	h.s.run(0, "database", "drop", "--for-good",
		address, "--lock-accounts", "--accept", "gate.effect", "--confirm", "kept_out_prod",
		"--grace", "0s")
	if !warden() || h.has("kept_out_prod") {
		h.t.Error("after the drop the account is not as it was, or the database is there")
	}
}

// testAccounts locks an account with its sessions, and drops one that is connected.
func testAccounts(h shore) {
	h.furnished("crew_prod")
	word := h.running.Password.Reveal()
	host := ""
	make := "CREATE ROLE mate LOGIN PASSWORD '" + word + "'"
	if h.name == "quay" {
		host = "@127.0.0.1"
		make = "CREATE USER mate@'127.0.0.1' IDENTIFIED BY '" + word + "'"
	}
	admin := h.client("crew_prod", make)
	if h.name == "quay" {
		if _, err := admin.ExecContext(h.t.Context(),
			"GRANT SELECT ON `crew\\_prod`.* TO mate@'127.0.0.1'"); err != nil {
			h.t.Fatal(err)
		}
	}
	as := func() *enginetest.Conn {
		conn, err := enginetest.Client(h.t.Context(), rigs.Of(h.engine, h.running), "crew_prod", "mate")
		if err != nil {
			h.t.Fatal(err)
		}
		h.t.Cleanup(conn.Close)
		return conn
	}
	mate := as()
	address := h.name + "/account:mate" + host
	has(h.t, "a lock alone", h.s.run(3, "account", "lock", address, "--yes").err, "account.sessions", "--end-sessions")
	has(h.t, "a lock with its sessions", h.s.run(0, "account", "lock", address, "--end-sessions", "--yes").err,
		"0 left, 1 ended")
	if there(mate) || !there(admin) {
		h.t.Error("the wrong ones were ended")
	}
	h.s.run(0, "account", "unlock", address, "--yes")
	mate = as()
	has(h.t, "the drop", h.s.run(0, "account", "drop", address, "--confirm", "mate"+host).err, "0 left, 1 ended",
		"read back")
	if there(mate) {
		h.t.Error("a dropped account works on")
	}
}

func testRenameMoveCopy(h shore) {
	h.furnished("tides_prod")
	h.tablespace("pier")
	guest := h.client("tides_prod")
	r := h.s.run(0, "database", "rename", "harbour/tides_prod", "--to", "tide_tables_prod", "--accept", "drop.breaks",
		"--yes")
	has(h.t, "rename", r.err, "0 left, 1 ended", "open the gate")
	if there(guest) || h.has("tides_prod") || !h.in("tide_tables_prod") {
		h.t.Error("it was not renamed, or is not open")
	}
	has(h.t, "its history goes on", h.s.run(0, "change", "list", "--target", "harbour/tide_tables_prod").out,
		"database.rename")
	h.client("tide_tables_prod")
	has(h.t, "move", h.s.run(0, "database", "alter", "harbour/tide_tables_prod", "--tablespace", "pier", "--yes").err,
		"0 left, 1 ended")
	has(h.t, "moved", h.s.run(0, "database", "show", "harbour/tide_tables_prod").out, "pier")
	h.client("tide_tables_prod")
	has(h.t, "copying what is in use",
		h.s.run(1, "database", "create", "harbour/copy_prod", "--template", "tide_tables_prod", "--yes").err,
		"template.in_use", "--end-sessions")
	has(h.t, "clearing it first", h.s.run(0, "database", "create", "harbour/copy_prod", "--template",
		"tide_tables_prod", "--end-sessions", "--yes").err, "0 left, 1 ended")
	if !h.in("tide_tables_prod") || !h.in("copy_prod") {
		h.t.Error("the template or its copy is not open")
	}
	// Who made it is known under each later name, and of no other one.
	h.s.run(0, "database", "rename", "harbour/copy_prod", "--to", "second_prod", "--accept", "drop.breaks", "--yes")
	h.s.run(0, "database", "rename", "harbour/second_prod", "--to", "third_prod", "--accept", "drop.breaks", "--yes")
	has(h.t, "who made it", h.s.run(0, "database", "show", "harbour/third_prod").out, "by keeper, change ")
	h.furnished("second_prod")
	has(h.t, "who made another one", h.s.run(0, "database", "show", "harbour/second_prod").out, "not by Genarch")
	has(h.t, "on MariaDB", h.s.run(1, "database", "rename", "quay/x", "--to", "y", "--yes").err,
		"no statement that renames")
}

// TestClearingTrouble: the service killed, the server restarted, two at once,
// with the gate closed.
func TestClearingTrouble(t *testing.T) {
	t.Parallel()
	s := newService(t)
	dir := testutil.Dir(t)
	cfg := localdb.Config{Dir: filepath.Join(dir, "pg"), Fast: true}
	pg, err := pglocal.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = pg.Stop() })
	maria := testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "production", maria)
	shores := []shore{{t, s, "harbour", postgres.Engine{}, pg}, {t, s, "quay", mariadb.Engine{}, maria}}
	for _, h := range shores {
		h.furnished("killed_prod")
	}
	t.Run("the service is killed", func(t *testing.T) {
		var ids []string
		for _, h := range shores {
			h.t = t
			h.client("killed_prod")
			ids = append(ids, h.waitingDrop("killed_prod"))
		}
		s.end(syscall.SIGKILL)
		s.startAt(strings.TrimPrefix(s.url, "http://"))
		for i, h := range shores {
			h.t = t
			if state, result := h.ended(ids[i]); state != "reverted" || !h.in("killed_prod") {
				t.Errorf("%s: %s, %s; gate open %v", h.name, state, result, h.in("killed_prod"))
			}
		}
	})
	t.Run("two at once", func(t *testing.T) {
		h := shores[0]
		h.t = t
		h.client("killed_prod")
		id := h.waitingDrop("killed_prod")
		r := s.run(1, "database", "drop", "--for-good", "harbour/killed_prod", "--confirm", "killed_prod")
		has(t, "the second one", r.err, "change "+id)
		s.run(0, "change", "stop", id)
	})
	t.Run("the server restarts", func(t *testing.T) {
		h := shores[0]
		h.t = t
		h.client("killed_prod")
		id := h.waitingDrop("killed_prod")
		cfg.Port = pg.Port
		if err := pg.Stop(); err != nil {
			t.Fatal(err)
		}
		again, err := pglocal.Start(context.Background(), cfg)
		if err != nil {
			t.Fatal(err)
		}
		*pg = *again
		// The client went with the server: nobody is left, and the drop goes on.
		if state, result := h.ended(id); state != "done" {
			t.Errorf("%s: %s", state, result)
		}
	})
	t.Run("the service stops", func(t *testing.T) {
		h := shores[1]
		h.t = t
		h.client("killed_prod")
		id := h.waitingDrop("killed_prod")
		began := time.Now()
		s.stop()
		if took := time.Since(began); took > 25*time.Second {
			t.Errorf("stopping took %s", took)
		}
		if !h.in("killed_prod") {
			t.Error("the gate stays closed while no service runs")
		}
		s.startAt(strings.TrimPrefix(s.url, "http://"))
		if state, _ := h.ended(id); state != "reverted" {
			t.Errorf("ended %s", state)
		}
	})
	t.Run("the last use outlives the service", func(t *testing.T) {
		h := shores[1]
		h.t = t
		guest := h.client("killed_prod")
		type used struct {
			LastUse struct{ Last string } `json:"last_use"`
		}
		show := []string{"database", "show", "quay/killed_prod", "-o", "json"}
		testutil.Wait(t, "the guest to be seen",
			func() bool { return decode[used](t, s.run(0, show...).out).LastUse.Last != "" })
		has(t, "while it is used", s.run(0, show[:3]...).out, "last use")
		guest.Close()
		s.stop()
		s.startAt(strings.TrimPrefix(s.url, "http://"))
		testutil.Wait(t, "it to be remembered",
			func() bool { return decode[used](t, s.run(0, show...).out).LastUse.Last != "" })
		testutil.Wait(t, "the guest to be gone", func() bool { return len(h.sessions("/killed_prod")) == 0 })
		has(t, "the brief", s.run(3, "database", "drop", "--for-good", "quay/killed_prod").err,
			"Somebody was last seen connected to this database at 2")
		who := s.run(0, "account", "show", "quay/account:"+maria.Admin+"@127.0.0.1", "-o", "json").out
		if decode[used](t, who).LastUse.Last == "" {
			t.Errorf("the account was not seen: %s", who)
		}
	})
}

func mkdir(t *testing.T, dir string) {
	t.Helper()
	if err := os.Mkdir(dir, 0o700); err != nil {
		t.Fatal(err)
	}
}

// TestOwnRecords registers the server that holds Genarch's own records, and tries
// to drop them.
func TestOwnRecords(t *testing.T) {
	t.Parallel()
	s := newService(t)
	cfg, err := mysql.ParseDSN(s.dsn)
	if err != nil {
		t.Fatal(err)
	}
	host, port, err := net.SplitHostPort(cfg.Addr)
	if err != nil {
		t.Fatal(err)
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		t.Fatal(err)
	}
	s.add("own", "mariadb", "staging",
		&localdb.Server{Host: host, Port: n, Admin: cfg.User, Password: secret.New(cfg.Passwd)})
	r := s.run(1, "database", "drop", "--for-good", "own/records", "--confirm", "records", "--accept-loss")
	has(t, "dropping its own records", r.err, "STOP", "database.kept", "it holds the records of a Genarch")
	// Its own sessions there are known as such, and a filter that fits them all
	// ends none of them.
	own := 0
	for _, l := range (shore{t: t, s: s, name: "own"}).sessions("", "--all") {
		if l.Database == "records" && l.Class != "own" {
			t.Errorf("a session of the store's own shows as %s", l.Class)
		}
		if l.Database == "records" {
			own++
		}
	}
	if own == 0 {
		t.Error("the store's own sessions do not show")
	}
	has(t, "ending them by a filter", s.run(0, "session", "end", "own", "--account", cfg.User, "--yes").err,
		"nothing to end")
	s.run(0, "server", "list")
}

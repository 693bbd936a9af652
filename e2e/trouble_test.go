package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"

	"example.com/genarch/engine"
	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// TestTroubleWithServers: servers that are down, hang, or are another one.
func TestTroubleWithServers(t *testing.T) {
	t.Parallel()
	s := newService(t)
	dir := testutil.Dir(t)
	start := func(name string) *localdb.Server {
		srv, err := pglocal.Start(t.Context(), localdb.Config{Dir: filepath.Join(dir, name), Fast: true})
		if err != nil {
			t.Fatal(err)
		}
		t.Cleanup(func() { srv.Stop() })
		return srv
	}
	first, good := start("first"), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", first)
	s.add("quay", "mariadb", "production", good)
	// A third one that accepts and never answers: registered through a door that
	// is then walled up.
	door := newDoor(t, good.Address())
	if r := s.cli(good.Password.Reveal(), "server", "add", "silent", "--engine", "mariadb", "--host", "127.0.0.1",
		"--port", itoa(door.port), "--admin", good.Admin,
		"--environment", "staging", "--secret-file", "-"); r.code == 0 {
		t.Fatal("one instance was registered twice")
	}
	other := testutil.MariaDB(t)
	door.server = other.Address()
	s.add("silent", "mariadb", "staging",
		&localdb.Server{Host: "127.0.0.1", Port: door.port, Admin: other.Admin, Password: other.Password})
	door.wall()

	r := s.run(0, "server", "list")
	has(t, "the fleet with a silent server", r.out+r.err, "no answer within the time allowed",
		"2 of 3 servers answered")
	// While others wait for the silent one, the good one answers as ever.
	waiting := make(chan result, 4)
	for range 4 {
		go func() { waiting <- s.cli("", "database", "list", "silent") }()
	}
	s.run(0, "database", "list", "quay")
	for range 4 {
		if r := <-waiting; r.code != 1 || !strings.Contains(r.err, "no answer") {
			t.Errorf("the silent server: %+v", r)
		}
	}
	if err := first.Stop(); err != nil {
		t.Fatal(err)
	}
	r = s.run(1, "database", "create", "harbour/lost", "--yes")
	has(t, "a server that is down", r.err, "cannot connect", "next: Check that the server runs")
	// Another instance comes up at the same address.
	startAt(t, filepath.Join(dir, "second"), first)
	r = s.run(1, "database", "list", "harbour")
	has(t, "another instance", r.err, "another instance answers as harbour", "known: system identifier",
		"found: system identifier", "server accept harbour")
	s.run(1, "database", "create", "harbour/wrong", "--yes")
	r = s.cli("", "server", "accept", "harbour", "--confirm", "guessed")
	if r.code == 0 {
		t.Error("an instance was accepted that nobody had named")
	}
	var check struct {
		Status struct{ Identity struct{ Key string } }
	}
	if err := json.Unmarshal([]byte(s.cli("", "server", "check", "harbour", "-o", "json").out), &check); err != nil {
		t.Fatal(err)
	}
	if r := s.cli("", "server", "edit", "harbour", "--label", "a=b"); !strings.Contains(r.out+r.err,
		"another instance") {
		t.Errorf("an edit accepted the new instance: %+v", r)
	}
	s.run(0, "server", "accept", "harbour", "--confirm", check.Status.Identity.Key)
	s.run(0, "database", "create", "harbour/welcome", "--yes")
}

// startAt starts a server of its own data on the port of one that has stopped.
func startAt(t *testing.T, dir string, old *localdb.Server) {
	t.Helper()
	// The same password, as after a restore of another copy.
	if err := os.MkdirAll(dir, 0o700); err != nil {
		t.Fatal(err)
	}
	if err := os.WriteFile(filepath.Join(dir, "admin.secret"), []byte(old.Password.Reveal()), 0o600); err != nil {
		t.Fatal(err)
	}
	srv, err := pglocal.Start(t.Context(), localdb.Config{Dir: dir, Fast: true, Port: old.Port})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { srv.Stop() })
}

// door passes connections on until it is walled up; then it accepts and is silent.
type door struct {
	port   int
	server string
	walled chan struct{}
}

func newDoor(t *testing.T, server string) *door {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { l.Close() })
	d := &door{port: l.Addr().(*net.TCPAddr).Port, server: server, walled: make(chan struct{})}
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			t.Cleanup(func() { c.Close() })
			go d.pass(c, d.server)
		}
	}()
	return d
}

func (d *door) wall() { close(d.walled) }

func (d *door) pass(client net.Conn, server string) {
	select {
	case <-d.walled:
		return // open, and silent
	default:
	}
	up, err := net.Dial("tcp", server)
	if err != nil {
		return
	}
	copyUntil := func(to, from net.Conn) {
		buf := make([]byte, 32<<10)
		for {
			n, err := from.Read(buf)
			if err != nil {
				to.Close()
				return
			}
			select {
			case <-d.walled:
				continue // swallowed
			default:
			}
			to.Write(buf[:n])
		}
	}
	go copyUntil(client, up)
	copyUntil(up, client)
}

// TestTroubleWithStore: the records go away and come back.
func TestTroubleWithStore(t *testing.T) {
	t.Parallel()
	cfg := localdb.Config{Dir: filepath.Join(testutil.Dir(t), "records")} // durable: it will be killed
	records, err := marialocal.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	s := &service{tb: t, dir: t.TempDir(), home: t.TempDir(), dsn: records.DSN("records")}
	s.start()
	s.login()
	s.add("harbour", "postgresql", "development", testutil.Postgres(t))
	records.Kill()
	if status, _, _ := s.call("GET", "/readyz", "", ""); status != 503 {
		t.Errorf("ready without records: %d", status)
	}
	if status, _, _ := s.call("GET", "/healthz", "", ""); status != 200 {
		t.Errorf("alive without records: %d", status)
	}
	status, body, _ := s.call("GET", "/api/v1/servers", s.token, "")
	if status != 503 || body["code"] != "store.unavailable" || strings.Contains(fmt.Sprint(body), records.Address()) {
		t.Errorf("a call without records: %d %v", status, body)
	}
	// A registration and a token that were read a moment ago are good for a moment.
	var r result
	testutil.Wait(t, "the list to miss the records", func() bool {
		r = s.cli("", "database", "list", "harbour")
		return r.code == 1
	})
	has(t, "the CLI without records", r.err, "cannot be reached just now", "next:")
	again, err := marialocal.Start(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { again.Stop() })
	if again.Port != records.Port {
		t.Skip("the port was taken meanwhile")
	}
	testutil.Wait(t, "the service to find its records again",
		func() bool { return s.cli("", "server", "list").code == 0 })
	s.run(0, "database", "create", "harbour/after_all", "--yes")
	s.run(0, "journal", "check")
}

// TestKill kills the service while a step runs, and has the next one find out
// what came of it.
func TestKill(t *testing.T) {
	t.Parallel()
	s := newService(t)
	quay := testutil.MariaDB(t)
	s.add("quay", "mariadb", "production", quay)
	db := onMariaDB(t, quay.DSN(""))
	lock, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	// A lock on the whole server makes the step wait.
	if _, err := lock.ExecContext(t.Context(), "FLUSH TABLES WITH READ LOCK"); err != nil {
		t.Fatal(err)
	}
	id := draftID(t, s, "quay/caught")
	fingerprint := fingerprintOf(t, s, id)
	if status, body, _ := s.call("POST", "/api/v1/changes/"+id+"/run", s.token,
		`{"fingerprint":"`+fingerprint+`"}`); status != 200 {
		t.Fatalf("run: %d %v", status, body)
	}
	testutil.Wait(t, "the statement to wait on the server", func() bool {
		var n int
		_ = db.QueryRow("SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE INFO LIKE 'CREATE DATABASE%'").
			Scan(&n)
		return n == 1
	})
	s.end(syscall.SIGKILL)
	if _, err := lock.ExecContext(t.Context(), "UNLOCK TABLES"); err != nil {
		t.Fatal(err)
	}
	s.startAt(strings.TrimPrefix(s.url, "http://"))
	var change struct {
		State, Result string
		Ended         bool
	}
	testutil.Wait(t, "the change to be carried to its end", func() bool {
		_ = json.Unmarshal([]byte(s.run(0, "change", "show", id, "-o", "json").out), &change)
		return change.Ended
	})
	there := strings.Contains(s.run(0, "database", "list", "quay").out, "caught")
	if change.State == "done" != there || change.State != "done" && change.State != "reverted" {
		t.Errorf("the change is %s (%s), and the database is there: %v", change.State, change.Result, there)
	}
	has(t, "the journal", s.run(0, "journal", "list", "--change", id).out, "step.probe.")
	s.run(0, "journal", "check")
}

func draftID(t *testing.T, s *service, address string) string {
	t.Helper()
	r := s.run(0, "database", "create", address, "--draft", "-o", "json")
	var c struct{ ID int }
	if err := json.Unmarshal([]byte(r.out), &c); err != nil {
		t.Fatal(err)
	}
	return itoa(c.ID)
}

func fingerprintOf(t *testing.T, s *service, id string) string {
	t.Helper()
	var c struct{ Brief struct{ Fingerprint string } }
	if err := json.Unmarshal([]byte(s.run(0, "change", "show", id, "-o", "json").out), &c); err != nil {
		t.Fatal(err)
	}
	return c.Brief.Fingerprint
}

// TestServeAlone starts the service with no configuration at all: it brings its
// own MariaDB, makes a password and shows it once, and stops both in order.
func TestServeAlone(t *testing.T) {
	t.Parallel()
	s := &service{tb: t, dir: testutil.Dir(t), home: t.TempDir()}
	s.start()
	has(t, "the first start", s.log.String(), "The operator keeper has the password", "shown this once")
	if strings.Contains(s.log.String(), "msg=\"The operator keeper") {
		t.Error("the password went through the log")
	}
	_, after, _ := strings.Cut(s.log.String(), "has the password\n\n")
	generated := strings.TrimSpace(strings.SplitN(strings.TrimSpace(after), "\n", 2)[0])
	if r := s.cli(generated, "login", s.url, "--name", "keeper", "--password-file", "-"); r.code != 0 {
		t.Fatalf("login with %q: %+v", generated, r)
	}
	s.run(0, "server", "list")
	second := &service{tb: t, dir: s.dir, home: s.home}
	if text := second.refused(); !strings.Contains(text, "in use by another Genarch") {
		t.Errorf("a second service on the same folder: %s", text)
	}
	s.stop()
	s.startAt(strings.TrimPrefix(s.url, "http://"))
	if strings.Contains(s.log.String(), "first operator") {
		t.Error("the second start made an operator again")
	}
	s.run(0, "server", "list")
}

// However many read, Genarch keeps to its connections, and changes have some of
// their own: readers hold none up.
func TestReadersAndChanges(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "staging", pg)
	s.add("quay", "mariadb", "staging", maria)
	for i := range 6 {
		s.run(0, "database", "create", fmt.Sprintf("harbour/berth%d", i), "--yes")
	}
	eye := onPostgres(t, pg, "postgres")
	db := onMariaDB(t, maria.DSN(""))
	ctx, stop := context.WithCancel(t.Context())
	var readers sync.WaitGroup
	var answers atomic.Int64
	for i := range 30 {
		readers.Go(func() {
			server := []string{"harbour", "quay"}[i%2]
			for ctx.Err() == nil {
				for _, what := range []string{"/databases", "/access?fresh=true", "/sessions?all=true", ""} {
					req, _ := http.NewRequestWithContext(ctx, "GET", s.url+"/api/v1/servers/"+server+what, nil)
					req.Header.Set("Authorization", "Bearer "+s.token)
					if res, err := http.DefaultClient.Do(req); err == nil {
						_, _ = io.Copy(io.Discard, res.Body)
						res.Body.Close()
						if res.StatusCode == 200 {
							answers.Add(1)
						}
					}
				}
			}
		})
	}
	defer readers.Wait()
	defer stop()
	most := map[string]int{}
	look := func() {
		var n, m int
		if eye.QueryRow(ctx, "SELECT count(*) FROM pg_stat_activity WHERE application_name = 'genarch'").
			Scan(&n) == nil {
			most["harbour"] = max(most["harbour"], n)
		}
		if db.QueryRowContext(ctx, "SELECT COUNT(*) FROM information_schema.PROCESSLIST WHERE USER = 'genarch' AND ID <> CONNECTION_ID()").Scan(&m) == nil {
			most["quay"] = max(most["quay"], m)
		}
	}
	testutil.Wait(t, "the readers to read", func() bool { look(); return answers.Load() > 100 })
	for i := range 3 {
		for _, server := range []string{"harbour", "quay"} {
			address := fmt.Sprintf("%s/passing%d", server, i)
			s.run(0, "database", "create", address, "--yes")
			look()
			s.run(0, "database", "drop", "--for-good",
				address, "--grace", "0s", "--confirm", fmt.Sprintf("passing%d", i))
			look()
		}
	}
	for server, n := range most {
		if n == 0 || n > engine.MaxConns+1 { // one that was closed may be seen for a moment longer
			t.Errorf("%s: %d connections, and %d are promised", server, n, engine.MaxConns)
		}
	}
}

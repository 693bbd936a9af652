// Package e2e drives Genarch as its users do: the real binary, its CLI, its
// HTTP API and its console in Chromium, on real servers.
package e2e

import (
	"bytes"
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// binary is the program under test, built once; the service runs with the race
// detector when the tests do. commands is the same program as it is shipped: a
// command of the CLI starts ten times as quickly with it, and hundreds are run.
var binary, commands string

var buildDir string

// withInvented is the service with the engine that there is not, beside the others.
var withInvented = sync.OnceValue(func() string {
	path := filepath.Join(buildDir, "genarch-invented")
	build("CGO_ENABLED=0", "invented", "-o", path)
	return path
})

func TestMain(m *testing.M) {
	forgetSettings()
	dir, err := os.MkdirTemp("", "genarch-e2e-")
	if err != nil {
		panic(err)
	}
	commands = filepath.Join(dir, "genarch")
	binary = commands
	buildDir = dir
	build("CGO_ENABLED=0", "", "-trimpath", "-ldflags", "-s -w", "-o", commands)
	if raceDetector {
		binary = filepath.Join(dir, "genarch-race")
		build("CGO_ENABLED=1", "", "-race", "-o", binary)
	}
	code := m.Run()
	os.RemoveAll(dir)
	os.Exit(code)
}

// forgetSettings keeps the tests away from a Genarch that this shell is set up
// for, the demo or a real one. Only the pictures are taken of the one named.
func forgetSettings() {
	if os.Getenv("GENARCH_SHOTS") != "" {
		return
	}
	for _, v := range os.Environ() {
		if name, _, _ := strings.Cut(v, "="); strings.HasPrefix(name, "GENARCH_") {
			os.Unsetenv(name)
		}
	}
}

func build(env, tag string, args ...string) {
	cmd := exec.Command("go", append(append([]string{"build", "-buildvcs=false", "-tags", "nomsgpack," + tag}, args...),
		"./cmd/genarch")...)
	cmd.Dir, cmd.Env = testutil.Root(), append(os.Environ(), env)
	if out, err := cmd.CombinedOutput(); err != nil {
		fmt.Fprintf(os.Stderr, "build: %v\n%s", err, out)
		os.Exit(1)
	}
}

const password = "tugboat-lantern-gangway-7"

// service is a running genarch serve.
type service struct {
	tb    testing.TB
	dir   string // data
	home  string // configuration of the CLI's user
	url   string
	dsn   string
	cmd   *exec.Cmd
	done  chan struct{}
	log   *logBuffer
	token string
	flags []string // further ones of serve
	// program is the build that serves; empty: the usual one.
	program string
}

type logBuffer struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *logBuffer) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *logBuffer) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// newService starts a service with its records in a MariaDB of the test's, and
// signs the CLI in.
func newService(tb testing.TB) *service {
	tb.Helper()
	return newServiceOf(tb, binary)
}

// newServiceOf starts another build of it: commands is several times as fast as the usual one,
// for tests that are about the console, or start the service again and again.
func newServiceOf(tb testing.TB, program string) *service {
	tb.Helper()
	s := &service{tb: tb, program: program, dir: tb.TempDir(), home: tb.TempDir(),
		dsn: testutil.MariaDB(tb).DSN("records")}
	s.start()
	s.login()
	return s
}

func (s *service) start() {
	s.tb.Helper()
	port, err := localdb.FreePort()
	if err != nil {
		s.tb.Fatal(err)
	}
	s.startAt(fmt.Sprintf("127.0.0.1:%d", port))
}

func (s *service) startAt(listen string) {
	s.tb.Helper()
	s.url, s.log, s.done = "http://"+listen, &logBuffer{}, make(chan struct{})
	s.cmd = exec.Command(cmp.Or(s.program, binary),
		append([]string{"serve", "--listen", listen, "--data", s.dir}, s.flags...)...)
	s.cmd.Env = os.Environ()
	if s.dsn != "" {
		s.cmd.Env = append(s.cmd.Env, "GENARCH_FIRST_PASSWORD="+password, "GENARCH_STORE_DSN="+s.dsn)
	}
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	if err := s.cmd.Start(); err != nil {
		s.tb.Fatal(err)
	}
	cmd, done := s.cmd, s.done
	go func() {
		_ = cmd.Wait()
		close(done)
	}()
	s.tb.Cleanup(s.stop)
	testutil.Wait(s.tb, "the service to be ready", func() bool {
		select {
		case <-done:
			s.tb.Fatalf("the service ended: %s", s.log)
		default:
		}
		res, err := http.Get(s.url + "/readyz")
		if err == nil {
			res.Body.Close()
		}
		return err == nil && res.StatusCode == 200
	})
}

// refused starts a second service that is expected to end by itself, and
// returns what it said.
func (s *service) refused() string {
	s.tb.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, binary, "serve", "--listen", "127.0.0.1:0", "--data", s.dir).CombinedOutput()
	if err == nil {
		s.tb.Error("it ended without an error")
	}
	return string(out)
}

// stop ends the service in order; a second call does nothing.
func (s *service) stop() { s.end(syscall.SIGTERM) }

func (s *service) end(sig syscall.Signal) {
	select {
	case <-s.done:
		return
	default:
	}
	defer func() {
		if strings.Contains(s.log.String(), "DATA RACE") {
			s.tb.Errorf("the service raced: %s", s.log)
		}
	}()
	_ = s.cmd.Process.Signal(sig)
	select {
	case <-s.done:
	case <-time.After(40 * time.Second):
		_ = s.cmd.Process.Kill()
		s.tb.Errorf("the service did not stop; its log: %s", s.log)
	}
}

func (s *service) login() {
	s.tb.Helper()
	file := filepath.Join(s.home, "password")
	if err := os.WriteFile(file, []byte(password), 0o600); err != nil {
		s.tb.Fatal(err)
	}
	s.run(0, "login", s.url, "--name", "keeper", "--password-file", file)
	text, err := os.ReadFile(filepath.Join(s.home, "genarch", "login.json"))
	if err != nil {
		s.tb.Fatal(err)
	}
	var kept struct{ Token string }
	if err := json.Unmarshal(text, &kept); err != nil {
		s.tb.Fatal(err)
	}
	s.token = kept.Token
}

// result is what a command said.
type result struct {
	code     int
	out, err string
}

// cli runs a command as a script does: without a terminal.
func (s *service) cli(stdin string, args ...string) result {
	s.tb.Helper()
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	cmd := exec.CommandContext(ctx, commands, args...)
	cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+s.home, "NO_COLOR=1")
	cmd.Stdin = strings.NewReader(stdin)
	var out, errs bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &errs
	err := cmd.Run()
	if ctx.Err() != nil || err != nil && cmd.ProcessState == nil {
		s.tb.Fatalf("genarch %v: %v\n%s", args, err, errs.String())
	}
	return result{cmd.ProcessState.ExitCode(), out.String(), errs.String()}
}

// run runs a command and checks its exit code.
func (s *service) run(code int, args ...string) result {
	s.tb.Helper()
	r := s.cli("", args...)
	if r.code != code {
		s.tb.Fatalf("genarch %v ended with %d, want %d\nout: %s\nerr: %s", args, r.code, code, r.out, r.err)
	}
	return r
}

// add registers a running server.
func (s *service) add(name, engine, environment string, srv *localdb.Server, more ...string) {
	s.tb.Helper()
	args := append([]string{"server", "add", name, "--engine", engine, "--host", srv.Host, "--port",
		fmt.Sprint(srv.Port), "--admin", srv.Admin,
		"--environment", environment, "--secret-file", "-"}, more...)
	if srv.CA != "" {
		file := filepath.Join(srv.Dir, "ca.pem")
		args = append(args, "--tls", "verified", "--ca-file", file)
	}
	if r := s.cli(srv.Password.Reveal(), args...); r.code != 0 {
		s.tb.Fatalf("server add: %+v", r)
	}
}

// call makes a raw call of the API and returns status and body.
func (s *service) call(method, path, token, body string, header ...string) (int, map[string]any, http.Header) {
	s.tb.Helper()
	req, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
	if err != nil {
		s.tb.Fatal(err)
	}
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i+1 < len(header); i += 2 {
		req.Header.Set(header[i], header[i+1])
	}
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		s.tb.Fatal(err)
	}
	defer res.Body.Close()
	out := map[string]any{}
	_ = json.NewDecoder(res.Body).Decode(&out)
	return res.StatusCode, out, res.Header
}

// has fails the test for each text that is missing.
func has(tb testing.TB, what, text string, wanted ...string) {
	tb.Helper()
	for _, w := range wanted {
		if !strings.Contains(text, w) {
			tb.Errorf("%s lacks %q:\n%s", what, w, text)
		}
	}
}

// onPostgres signs in to a database of a server, past Genarch, for as long as the
// test runs.
func onPostgres(tb testing.TB, pg *localdb.Server, database string) *pgx.Conn {
	tb.Helper()
	conn, err := pgx.Connect(tb.Context(), pg.DSN(database))
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { conn.Close(context.Background()) })
	return conn
}

// onMariaDB is the same for a MariaDB, by its DSN.
func onMariaDB(tb testing.TB, dsn string) *sql.DB {
	tb.Helper()
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { db.Close() })
	return db
}

// Package localdb starts database servers of Genarch's own on loopback, as
// child processes with their data in a folder of their own: the store's private
// server, the demo's four, and those of the tests. It stops what it started, by
// process number, and nothing else. How the servers of an engine are started is in
// that engine's folder.
package localdb

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"example.com/genarch/core/secret"
)

// Config says where and how a server runs.
type Config struct {
	// Dir holds everything of this server: data, log, password. It is made
	// when missing and belongs to one server at a time.
	Dir string
	// Bin is the folder of the server's programs; "" looks in the usual places.
	Bin string
	// Fast gives up durability for speed: for tests, never for records.
	Fast bool
	// Port is where to listen; 0 takes the port of the last start, or a free one.
	Port int
	// Options are further settings, "name=value".
	Options []string
}

// Program is how the servers of one engine are run.
type Program struct {
	// Stop ends a server in order.
	Stop syscall.Signal
	// PIDFile is where a server writes its process number, within its folder.
	PIDFile string
	// DSN is what the engine's driver connects to a database by.
	DSN func(s *Server, database string) string
	// Version signs in, and is what the server says of itself.
	Version func(ctx context.Context, s *Server) (string, error)
}

// Server is a server that is to run, or does.
type Server struct {
	Config
	Host     string
	Port     int
	Admin    string
	Password secret.Text
	Version  string // as its program says, once it runs
	// CA is the certificate by which clients know it, in PEM; empty: it has none.
	CA string

	program Program
	child   *child
	lock    *os.File
}

// Open takes a server's folder for this process, ends what an earlier one left running
// on it, and reads the password and the port of the last start.
func (p Program) Open(cfg Config) (s *Server, err error) {
	s = &Server{Config: cfg, Host: "127.0.0.1", Admin: "genarch", program: p}
	if s.lock, err = prepare(cfg.Dir); err != nil {
		return nil, err
	}
	if err = endStale(filepath.Join(cfg.Dir, p.PIDFile), cfg.Dir, p.Stop); err == nil {
		s.Password, err = password(cfg.Dir)
	}
	if err == nil {
		s.Port, err = cfg.port()
	}
	if err != nil {
		s.Release()
		return nil, err
	}
	return s, nil
}

// At is a server that somebody else runs: it is never started or stopped.
func (p Program) At(ctx context.Context, host string, port int, admin string, password secret.Text, ca string) (*Server,
	error) {
	s := &Server{Host: host, Port: port, Admin: admin, Password: password, CA: ca, program: p}
	var err error
	s.Version, err = p.Version(ctx, s)
	return s, err
}

// DSN is what the engine's driver connects to a database of the server by.
func (s *Server) DSN(database string) string { return s.program.DSN(s, database) }

// LogFile is where the server's output goes.
func (s *Server) LogFile() string { return filepath.Join(s.Dir, "log") }

// Start runs the server's program, as another account if as is not nil, and waits until
// one can sign in.
func (s *Server) Start(ctx context.Context, as *syscall.Credential, program string, args ...string) (err error) {
	if s.child, err = start(as, s.program.Stop, s.LogFile(), program, args...); err != nil {
		return err
	}
	return ready(ctx, s.child, s.LogFile(), func(ctx context.Context) (err error) {
		s.Version, err = s.program.Version(ctx, s)
		return err
	})
}

// Release gives the folder back; the server, if it runs, runs on.
func (s *Server) Release() {
	// Closing alone is not enough: a process that is being started has it open too, until it runs its program.
	_ = syscall.Flock(int(s.lock.Fd()), syscall.LOCK_UN)
	s.lock.Close()
}

// Address is host and port.
func (s *Server) Address() string { return net.JoinHostPort(s.Host, strconv.Itoa(s.Port)) }

// PID is the process number of the server.
func (s *Server) PID() int { return s.child.cmd.Process.Pid }

// Done is closed when the server's process has ended, for whatever reason.
func (s *Server) Done() <-chan struct{} { return s.child.done }

// stopTime is how long a server may take to stop before it is killed.
const stopTime = 20 * time.Second

// Stop ends the server in an orderly way and waits until it has gone.
func (s *Server) Stop() error {
	defer s.Release()
	return s.child.stop(s.program.Stop, stopTime)
}

// Kill ends the server at once, as a crash would.
func (s *Server) Kill() {
	_ = s.child.stop(syscall.SIGKILL, stopTime)
	s.Release()
}

// ErrMissing: the server's programs are not installed.
var ErrMissing = errors.New("not installed")

// startTime bounds the start of a server, first installation included.
const startTime = 90 * time.Second

// prepare makes the folder and takes it for this process; the lock goes with
// the process, so a crash leaves none behind.
func prepare(dir string) (*os.File, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	if err := own(dir); err != nil {
		return nil, err
	}
	lock, err := openOwn(filepath.Join(dir, "lock"), os.O_RDWR)
	if err != nil {
		return nil, err
	}
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("%s is in use by another Genarch: stop that one first, or choose another folder", dir)
	}
	return lock, nil
}

// port returns the port asked for, or the port noted in the folder if nobody listens on it, else a
// free one, and notes it.
func (cfg Config) port() (int, error) {
	if cfg.Port != 0 {
		return cfg.Port, nil
	}
	dir := cfg.Dir
	file := filepath.Join(dir, "port")
	if text, err := os.ReadFile(file); err == nil {
		if p, err := strconv.Atoi(strings.TrimSpace(string(text))); err == nil && free(p) {
			return p, nil
		}
	}
	p, err := FreePort()
	if err != nil {
		return 0, err
	}
	return p, WriteOwn(file, []byte(strconv.Itoa(p)+"\n"))
}

func free(p int) bool {
	l, err := net.Listen("tcp", "127.0.0.1:"+strconv.Itoa(p))
	if err != nil {
		return false
	}
	l.Close()
	return true
}

// FreePort finds a port on loopback that nobody listens on.
func FreePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}

// password reads the admin password noted in the folder, or makes one.
func password(dir string) (secret.Text, error) {
	file := filepath.Join(dir, "admin.secret")
	if text, err := os.ReadFile(file); err == nil && len(text) > 0 {
		return secret.New(strings.TrimSpace(string(text))), nil
	}
	made := rand.Text()
	return secret.New(made), WriteOwn(file, []byte(made+"\n"))
}

// ready polls until probe succeeds; it gives up when the server's process ends
// or the time is up, and shows the end of its log then.
func ready(ctx context.Context, c *child, logFile string, probe func(context.Context) error) error {
	ctx, cancel := context.WithTimeout(ctx, startTime)
	defer cancel()
	for {
		err := probe(ctx)
		if err == nil {
			return nil
		}
		select {
		case <-c.done:
			return fmt.Errorf("the server ended while it started; its log ends with:\n%s", tail(logFile))
		case <-ctx.Done():
			_ = c.stop(syscall.SIGKILL, stopTime)
			return fmt.Errorf("the server did not answer in time: %w; its log ends with:\n%s", err, tail(logFile))
		case <-time.After(25 * time.Millisecond):
		}
	}
}

// tail is the last lines of a file.
func tail(file string) string {
	text, _ := os.ReadFile(file)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	return strings.Join(lines[max(0, len(lines)-8):], "\n")
}

// Install fills the data folder, if there is none, in one go: under another name
// first, so that one that was cut off halfway is never taken for a whole one.
func (s *Server) Install(fill func(into string) error) (data string, err error) {
	data = filepath.Join(s.Dir, "data")
	if _, err := os.Stat(data); err == nil {
		return data, nil
	}
	fresh := filepath.Join(s.Dir, "data.new")
	if err := os.RemoveAll(fresh); err != nil {
		return "", err
	}
	if err := fill(fresh); err != nil {
		return "", err
	}
	return data, os.Rename(fresh, data)
}

package localdb

import (
	"context"
	"fmt"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// StartPostgres starts a PostgreSQL server, making its data folder first when
// there is none. PostgreSQL refuses to run as root: then it runs as the account
// postgres, to which its data folder is given, and nothing else.
func StartPostgres(ctx context.Context, cfg Config) (s *Server, err error) {
	bin := cfg.Bin
	if bin == "" {
		if bin, err = postgresBin(); err != nil {
			return nil, err
		}
	}
	lock, err := prepare(cfg.Dir)
	if err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			lock.Close()
		}
	}()
	as, err := postgresAccount(cfg.Dir)
	if err != nil {
		return nil, err
	}
	data := filepath.Join(cfg.Dir, "data")
	logFile := filepath.Join(cfg.Dir, "log")
	if err := endStale(filepath.Join(data, "postmaster.pid"), cfg.Dir, syscall.SIGINT); err != nil {
		return nil, err
	}
	s = &Server{Host: "127.0.0.1", Admin: "genarch", stop: syscall.SIGINT, lock: lock}
	if s.Password, err = password(cfg.Dir); err != nil {
		return nil, err
	}
	if data, err = install(cfg.Dir, func(into string) error { return initdb(cfg, as, bin, into, s) }); err != nil {
		return nil, err
	}
	if s.Port, err = cfg.port(); err != nil {
		return nil, err
	}
	args := []string{"-D", data, "-c", "listen_addresses=127.0.0.1", "-c", "port=" + strconv.Itoa(s.Port),
		"-c", "unix_socket_directories=", "-c", "shared_buffers=32MB", "-c", "max_connections=100", "-c", "log_line_prefix=%t [%p] "}
	if cfg.Fast {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	for _, o := range cfg.Options {
		args = append(args, "-c", o)
	}
	for deadline := time.Now().Add(lingerTime); ; {
		if s.child, err = start(as, syscall.SIGINT, logFile, filepath.Join(bin, "postgres"), args...); err != nil {
			return nil, err
		}
		err = ready(ctx, s.child, logFile, s.pingPostgres)
		if err == nil || !strings.Contains(err.Error(), stillInUse) || time.Now().After(deadline) {
			return s, err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

const (
	// stillInUse is what the server says when it was killed a moment ago and
	// processes of its own, which end by themselves, still hold its memory.
	stillInUse = "pre-existing shared memory block"
	// lingerTime is how long they are given.
	lingerTime = 20 * time.Second
)

// initdb makes the data folder with an admin login that needs its password
// even on loopback.
func initdb(cfg Config, as *syscall.Credential, bin, into string, s *Server) error {
	pwFile := filepath.Join(cfg.Dir, "initdb.secret")
	if err := writeOwn(pwFile, []byte(s.Password.Reveal()+"\n")); err != nil {
		return err
	}
	defer os.Remove(pwFile)
	if as != nil {
		// The folder is ours alone, so nobody can have put anything in the way.
		if err := os.Mkdir(into, 0o700); err != nil {
			return err
		}
		for _, path := range []string{pwFile, into} {
			if err := os.Lchown(path, int(as.Uid), int(as.Gid)); err != nil {
				return err
			}
		}
	}
	args := []string{"-D", into, "-U", s.Admin, "-A", "scram-sha-256", "--pwfile=" + pwFile, "-E", "UTF8", "--locale=C.UTF-8"}
	if cfg.Fast {
		args = append(args, "-N")
	}
	return run(as, filepath.Join(bin, "initdb"), args...)
}

// PostgresURL is the connection string of a database on the server.
func (s *Server) PostgresURL(database string) string {
	return fmt.Sprintf("postgres://%s:%s@%s/%s?sslmode=disable", s.Admin, s.Password.Reveal(), s.Address(), database)
}

func (s *Server) pingPostgres(ctx context.Context) error {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, s.PostgresURL("postgres"))
	if err != nil {
		return err
	}
	defer conn.Close(ctx)
	return conn.QueryRow(ctx, "SHOW server_version").Scan(&s.Version)
}

// postgresBin finds the newest PostgreSQL of Debian's packages.
func postgresBin() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		path, err := find("", "initdb")
		return filepath.Dir(path), err
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
		return n
	}
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	return filepath.Dir(found[0]), nil
}

// postgresAccount says as which account the server runs: nil is this one. As
// root it must be another, which needs to get through to the folder.
func postgresAccount(dir string) (*syscall.Credential, error) {
	if os.Getuid() != 0 {
		return nil, nil
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		if u, err = user.Lookup("nobody"); err != nil {
			return nil, fmt.Errorf("PostgreSQL refuses to run as root, and there is no account postgres: %w", err)
		}
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chmod(dir, 0o711); err != nil { // to get through to the data folder
		return nil, err
	}
	for up := filepath.Dir(dir); up != "/"; up = filepath.Dir(up) {
		info, err := os.Stat(up)
		if err != nil {
			return nil, err
		}
		if info.Mode().Perm()&0o001 == 0 {
			return nil, fmt.Errorf("the account %s, which runs PostgreSQL, cannot get through %s: choose a folder that it can reach, or chmod o+x %s", u.Username, up, up)
		}
	}
	return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
}

// Package pglocal starts PostgreSQL servers of Genarch's own on loopback.
package pglocal

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

	"example.com/genarch/localdb"
)

var program = localdb.Program{Stop: syscall.SIGINT, PIDFile: "data/postmaster.pid", DSN: dsn, Version: version}

// Start starts a PostgreSQL server, making its data folder first when there is
// none. PostgreSQL refuses to run as root: then it runs as the account
// postgres, to which its data folder is given, and nothing else.
func Start(ctx context.Context, cfg localdb.Config) (s *localdb.Server, err error) {
	bin := cfg.Bin
	if bin == "" {
		if bin, err = programs(); err != nil {
			return nil, err
		}
	}
	if s, err = program.Open(cfg); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			s.Release()
		}
	}()
	as, err := account(cfg.Dir)
	if err != nil {
		return nil, err
	}
	data, err := s.Install(func(into string) error { return initdb(s, as, bin, into) })
	if err != nil {
		return nil, err
	}
	args := []string{"-D", data, "-c", "listen_addresses=127.0.0.1", "-c", "port=" + strconv.Itoa(s.Port),
		"-c", "unix_socket_directories=", "-c", "shared_buffers=32MB", "-c", "max_connections=100", "-c",
		"log_line_prefix=%t [%p] "}
	if cfg.Fast {
		args = append(args, "-c", "fsync=off", "-c", "full_page_writes=off")
	}
	for _, o := range cfg.Options {
		args = append(args, "-c", o)
	}
	for deadline := time.Now().Add(lingerTime); ; {
		err = s.Start(ctx, as, filepath.Join(bin, "postgres"), args...)
		passing := err != nil && (strings.Contains(err.Error(), stillInUse) || strings.Contains(err.Error(), portTaken))
		if !passing || time.Now().After(deadline) {
			return s, err
		}
		time.Sleep(100 * time.Millisecond)
	}
}

const (
	// stillInUse is what the server says when it was killed a moment ago and
	// processes of its own, which end by themselves, still hold its memory.
	stillInUse = "pre-existing shared memory block"
	// portTaken: a client's own end of a line has the port that was free a moment ago.
	portTaken = "Address already in use"
	// lingerTime is how long they are given.
	lingerTime = 20 * time.Second
)

// initdb makes the data folder with an admin login that needs its password
// even on loopback.
func initdb(s *localdb.Server, as *syscall.Credential, bin, into string) error {
	pwFile := filepath.Join(s.Dir, "initdb.secret")
	if err := localdb.WriteOwn(pwFile, []byte(s.Password.Reveal()+"\n")); err != nil {
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
	args := []string{"-D", into, "-U", s.Admin, "-A", "scram-sha-256", "--pwfile=" + pwFile, "-E", "UTF8",
		"--locale=C.UTF-8"}
	if s.Fast {
		args = append(args, "-N")
	}
	return localdb.Run(as, filepath.Join(bin, "initdb"), args...)
}

// dsn is the connection string of a database on the server.
func dsn(s *localdb.Server, database string) string {
	return fmt.Sprintf("postgres://%s:%s@%s/%s?sslmode=disable", s.Admin, s.Password.Reveal(), s.Address(), database)
}

func version(ctx context.Context, s *localdb.Server) (found string, err error) {
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	conn, err := pgx.Connect(ctx, s.DSN("postgres"))
	if err != nil {
		return "", err
	}
	defer conn.Close(ctx)
	err = conn.QueryRow(ctx, "SHOW server_version").Scan(&found)
	return found, err
}

// programs finds the newest PostgreSQL of Debian's packages.
func programs() (string, error) {
	found, _ := filepath.Glob("/usr/lib/postgresql/*/bin/initdb")
	if len(found) == 0 {
		path, err := localdb.Find("", "initdb", "postgresql")
		return filepath.Dir(path), err
	}
	version := func(path string) int {
		n, _ := strconv.Atoi(filepath.Base(filepath.Dir(filepath.Dir(path))))
		return n
	}
	slices.SortFunc(found, func(a, b string) int { return version(b) - version(a) })
	return filepath.Dir(found[0]), nil
}

// account says as which account the server runs: nil is this one. As
// root it must be another, which needs to get through to the folder.
func account(dir string) (*syscall.Credential, error) {
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

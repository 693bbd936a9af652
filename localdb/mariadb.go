package localdb

import (
	"context"
	"crypto/rand"
	"crypto/sha1"
	"database/sql"
	"database/sql/driver"
	"encoding/hex"
	"fmt"
	"io"
	"log"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// maxSocket is the longest path of a socket that MariaDB takes, in bytes.
const maxSocket = 107

// StartMariaDB starts a MariaDB server, installing its data folder first when
// there is none. It runs as the account of this process.
func StartMariaDB(ctx context.Context, cfg Config) (s *Server, err error) {
	installer, err := find(cfg.Bin, "mariadb-install-db")
	if err != nil {
		return nil, err
	}
	program, err := find(cfg.Bin, "mariadbd")
	if err != nil {
		return nil, err
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
	pidFile, logFile := filepath.Join(cfg.Dir, "pid"), filepath.Join(cfg.Dir, "log")
	if err := endStale(pidFile, cfg.Dir, syscall.SIGTERM); err != nil {
		return nil, err
	}
	// Servers that share a folder for temporary files remove each other's.
	tmp := filepath.Join(cfg.Dir, "tmp")
	if err := os.MkdirAll(tmp, 0o700); err != nil {
		return nil, err
	}
	var asRoot []string // it refuses root unless told so, and this option otherwise
	if os.Getuid() == 0 {
		asRoot = []string{"--user=root"}
	}
	data, err := install(cfg.Dir, func(into string) error {
		args := append([]string{"--no-defaults"}, asRoot...)
		return run(nil, installer, append(args, "--datadir="+into, "--tmpdir="+tmp, "--force", "--auth-root-authentication-method=socket", "--skip-test-db", "--skip-name-resolve")...)
	})
	if err != nil {
		return nil, err
	}
	s = &Server{Host: "127.0.0.1", Admin: "genarch", stop: syscall.SIGTERM, lock: lock}
	if s.Password, err = password(cfg.Dir); err != nil {
		return nil, err
	}
	if s.Port, err = cfg.port(); err != nil {
		return nil, err
	}
	initFile := filepath.Join(cfg.Dir, "init.sql")
	if err := writeOwn(initFile, []byte(adminAccount(s.Admin, s.Password.Reveal()))); err != nil {
		return nil, err
	}
	socket := filepath.Join(cfg.Dir, "sock")
	if len(socket) > maxSocket {
		socket = filepath.Join(os.TempDir(), fmt.Sprintf("genarch-%d-%d.sock", os.Getpid(), s.Port))
	}
	args := append([]string{"--no-defaults"}, asRoot...)
	args = append(args, "--datadir="+data, "--socket="+socket, "--pid-file="+pidFile, "--tmpdir="+tmp,
		"--bind-address=127.0.0.1", "--port="+strconv.Itoa(s.Port), "--skip-name-resolve", "--log-error="+logFile,
		"--innodb-buffer-pool-size=64M", "--innodb-log-file-size=32M", "--character-set-server=utf8mb4",
		"--init-file="+initFile)
	if cfg.Fast {
		args = append(args, "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0")
	}
	for _, o := range cfg.Options {
		args = append(args, "--"+o)
	}
	if s.child, err = start(nil, syscall.SIGTERM, logFile, program, args...); err != nil {
		return nil, err
	}
	err = ready(ctx, s.child, logFile, s.pingMariaDB)
	if err == nil {
		err = os.Remove(initFile)
	}
	return s, err
}

// adminAccount makes the admin login when it is missing. Only the password's
// hash is written: clear text would reach the server's logs.
func adminAccount(name, password string) string {
	account, hash := "'"+name+"'@'127.0.0.1'", nativeHash(password)
	return "CREATE USER IF NOT EXISTS " + account + " IDENTIFIED VIA mysql_native_password USING '" + hash + "';\n" +
		"GRANT ALL PRIVILEGES ON *.* TO " + account + " WITH GRANT OPTION;\n"
}

// Login makes another account, or gives the one of an earlier start a new random
// password, and returns its data source name. It is given nothing.
func (s *Server) Login(ctx context.Context, name, database string) (dsn string, err error) {
	connector, err := s.connector(s.DSN(""))
	if err != nil {
		return "", err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	password := rand.Text()
	account, hash := "'"+name+"'@'127.0.0.1'", nativeHash(password)
	for _, text := range []string{"CREATE USER IF NOT EXISTS " + account + " IDENTIFIED VIA mysql_native_password USING '" + hash + "'",
		"ALTER USER " + account + " IDENTIFIED VIA mysql_native_password USING '" + hash + "'"} {
		if _, err := db.ExecContext(ctx, text); err != nil {
			return "", err
		}
	}
	cfg, err := mysql.ParseDSN(s.DSN(database))
	if err != nil {
		return "", err
	}
	cfg.User, cfg.Passwd = name, password
	return cfg.FormatDSN(), nil
}

func (s *Server) connector(dsn string) (driver.Connector, error) {
	cfg, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, err
	}
	cfg.Logger, cfg.Timeout = log.New(io.Discard, "", 0), 2*time.Second
	return mysql.NewConnector(cfg)
}

// nativeHash is what the server keeps of a password.
func nativeHash(password string) string {
	inner := sha1.Sum([]byte(password))
	outer := sha1.Sum(inner[:])
	return "*" + strings.ToUpper(hex.EncodeToString(outer[:]))
}

// DSN is the data source name of a database on the server, for the MariaDB
// driver: times in UTC, found rows counted.
func (s *Server) DSN(database string) string {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr, cfg.DBName = s.Admin, s.Password.Reveal(), "tcp", s.Address(), database
	return cfg.FormatDSN()
}

func (s *Server) pingMariaDB(ctx context.Context) error {
	connector, err := s.connector(s.DSN(""))
	if err != nil {
		return err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	return db.QueryRowContext(ctx, "SELECT VERSION()").Scan(&s.Version)
}

// find looks for a program in bin, or in the usual places.
func find(bin, program string) (string, error) {
	if bin != "" {
		path := filepath.Join(bin, program)
		if _, err := os.Stat(path); err != nil {
			return "", fmt.Errorf("%s: %w", path, ErrMissing)
		}
		return path, nil
	}
	if path, err := exec.LookPath(program); err == nil {
		return path, nil
	}
	for _, dir := range []string{"/usr/sbin", "/usr/bin", "/usr/local/sbin", "/usr/local/bin"} {
		path := filepath.Join(dir, program)
		if _, err := os.Stat(path); err == nil {
			return path, nil
		}
	}
	return "", fmt.Errorf("%s: %w (on Debian: apt-get install mariadb-server postgresql)", program, ErrMissing)
}

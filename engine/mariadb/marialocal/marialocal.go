// Package marialocal starts MariaDB servers of Genarch's own on loopback.
package marialocal

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
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/localdb"
)

// maxSocket is the longest path of a socket that MariaDB takes, in bytes.
const maxSocket = 107

var program = localdb.Program{Stop: syscall.SIGTERM, PIDFile: "pid", DSN: dsn, Version: version}

// Start starts a MariaDB server, installing its data folder first when there is
// none. It runs as the account of this process.
func Start(ctx context.Context, cfg localdb.Config) (s *localdb.Server, err error) {
	installer, err := localdb.Find(cfg.Bin, "mariadb-install-db", "mariadb-server")
	if err != nil {
		return nil, err
	}
	server, err := localdb.Find(cfg.Bin, "mariadbd", "mariadb-server")
	if err != nil {
		return nil, err
	}
	if s, err = program.Open(cfg); err != nil {
		return nil, err
	}
	defer func() {
		if err != nil {
			s.Release()
		}
	}()
	// Servers that share a folder for temporary files remove each other's.
	tmp := filepath.Join(cfg.Dir, "tmp")
	if err := os.MkdirAll(tmp, 0o700); err != nil {
		return nil, err
	}
	var asRoot []string // it refuses root unless told so, and this option otherwise
	if os.Getuid() == 0 {
		asRoot = []string{"--user=root"}
	}
	data, err := s.Install(func(into string) error {
		args := append([]string{"--no-defaults"}, asRoot...)
		return localdb.Run(nil, installer,
			append(args, "--datadir="+into, "--tmpdir="+tmp, "--force", "--auth-root-authentication-method=socket",
				"--skip-test-db", "--skip-name-resolve")...)
	})
	if err != nil {
		return nil, err
	}
	initFile := filepath.Join(cfg.Dir, "init.sql")
	if err := localdb.WriteOwn(initFile, []byte(adminAccount(s.Admin, s.Password.Reveal()))); err != nil {
		return nil, err
	}
	socket := filepath.Join(cfg.Dir, "sock")
	if len(socket) > maxSocket {
		socket = filepath.Join(os.TempDir(), fmt.Sprintf("genarch-%d-%d.sock", os.Getpid(), s.Port))
	}
	args := append([]string{"--no-defaults"}, asRoot...)
	args = append(args, "--datadir="+data, "--socket="+socket, "--pid-file="+filepath.Join(cfg.Dir, program.PIDFile),
		"--tmpdir="+tmp,
		"--bind-address=127.0.0.1", "--port="+strconv.Itoa(s.Port), "--skip-name-resolve", "--log-error="+s.LogFile(),
		"--innodb-buffer-pool-size=64M", "--innodb-log-file-size=32M", "--character-set-server=utf8mb4",
		"--init-file="+initFile)
	if cfg.Fast {
		args = append(args, "--innodb-flush-log-at-trx-commit=0", "--innodb-doublewrite=0")
	}
	for _, o := range cfg.Options {
		args = append(args, "--"+o)
	}
	if err = s.Start(ctx, nil, server, args...); err == nil {
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
func Login(ctx context.Context, s *localdb.Server, name, database string) (dsn string, err error) {
	connector, err := connector(s.DSN(""))
	if err != nil {
		return "", err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	password := rand.Text()
	account, hash := "'"+name+"'@'127.0.0.1'", nativeHash(password)
	for _, text := range []string{"CREATE USER IF NOT EXISTS " + account +
		" IDENTIFIED VIA mysql_native_password USING '" + hash + "'",
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

func connector(dsn string) (driver.Connector, error) {
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

// dsn is the data source name of a database on the server, for the MariaDB driver.
func dsn(s *localdb.Server, database string) string {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr, cfg.DBName = s.Admin, s.Password.Reveal(), "tcp", s.Address(), database
	return cfg.FormatDSN()
}

func version(ctx context.Context, s *localdb.Server) (found string, err error) {
	connector, err := connector(s.DSN(""))
	if err != nil {
		return "", err
	}
	db := sql.OpenDB(connector)
	defer db.Close()
	err = db.QueryRowContext(ctx, "SELECT VERSION()").Scan(&found)
	return found, err
}

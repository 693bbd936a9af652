package localdb_test

import (
	"context"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/localdb"
)

// reachable makes a temporary folder that the account postgres gets through to.
func reachable(t *testing.T) string {
	dir, err := os.MkdirTemp("", "genarch-localdb-")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { os.RemoveAll(dir) })
	if err := os.Chmod(dir, 0o755); err != nil {
		t.Fatal(err)
	}
	return dir
}

func TestStartAgainAfterCrash(t *testing.T) {
	for name, starter := range map[string]func(context.Context, localdb.Config) (*localdb.Server,
		error){"mariadb": marialocal.Start, "postgres": pglocal.Start} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			start := func(cfg localdb.Config) (*localdb.Server, error) { return starter(t.Context(), cfg) }
			cfg := localdb.Config{Dir: filepath.Join(reachable(t), "srv"), Fast: true}
			first, err := start(cfg)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := start(cfg); err == nil || !strings.Contains(err.Error(), "in use by another Genarch") {
				t.Errorf("a second start on the same folder gave %v", err)
			}
			// As after kill -9 of Genarch: the lock is gone, the server runs on.
			first.Release()
			second, err := start(cfg)
			if err != nil {
				t.Fatalf("start beside a left-over server: %v", err)
			}
			defer second.Stop()
			<-first.Done()
			if second.Port != first.Port || second.Password != first.Password {
				t.Errorf("the second start changed port or password: %d, %d", first.Port, second.Port)
			}
			second.Kill()
			third, err := start(cfg)
			if err != nil {
				t.Fatalf("start after a crash of the server: %v", err)
			}
			if err := third.Stop(); err != nil {
				t.Error(err)
			}
			if syscall.Kill(third.PID(), 0) == nil {
				t.Error("the server lives on after Stop")
			}
		})
	}
}

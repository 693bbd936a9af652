package localdb

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
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
	for name, start := range map[string]func(Config) (*Server, error){
		"mariadb":  func(c Config) (*Server, error) { return StartMariaDB(t.Context(), c) },
		"postgres": func(c Config) (*Server, error) { return StartPostgres(t.Context(), c) },
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cfg := Config{Dir: filepath.Join(reachable(t), "srv"), Fast: true}
			first, err := start(cfg)
			if err != nil {
				t.Fatal(err)
			}
			if _, err := start(cfg); err == nil || !strings.Contains(err.Error(), "in use by another Genarch") {
				t.Errorf("a second start on the same folder gave %v", err)
			}
			// As after kill -9 of Genarch: the lock is gone, the server runs on.
			first.lock.Close()
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

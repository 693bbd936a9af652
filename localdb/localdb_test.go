package localdb

import (
	"os"
	"os/exec"
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

// What the account of the server can put beside its data leads root nowhere: it
// can put nothing there, and what an earlier version let it put there is refused.
func TestFolderBelongsToUs(t *testing.T) {
	if os.Getuid() != 0 {
		t.Skip("only root has to keep its files from another account")
	}
	dir := filepath.Join(reachable(t), "srv")
	victim := filepath.Join(t.TempDir(), "victim")
	if err := os.WriteFile(victim, []byte("mine"), 0o600); err != nil {
		t.Fatal(err)
	}
	srv, err := StartPostgres(t.Context(), Config{Dir: dir, Fast: true})
	if err != nil {
		t.Fatal(err)
	}
	srv.Stop()
	as, err := postgresAccount(dir)
	if err != nil {
		t.Fatal(err)
	}
	for _, name := range []string{"log", "port", "lock", "admin.secret", "new"} {
		cmd := exec.Command("/bin/sh", "-c", "rm -f "+name+"; ln -sf "+victim+" "+name)
		cmd.Dir, cmd.SysProcAttr = dir, &syscall.SysProcAttr{Credential: as}
		_ = cmd.Run()
		if info, err := os.Lstat(filepath.Join(dir, name)); err == nil && info.Mode()&os.ModeSymlink != 0 {
			t.Errorf("the account of the server put a link in the place of %s", name)
		}
	}
	for _, name := range []string{"log", "port", "admin.secret", "initdb.secret"} {
		// As an earlier version left it: the folder given away, and a link in it.
		saved := filepath.Join(dir, name+".saved")
		os.Rename(filepath.Join(dir, name), saved)
		if err := os.Symlink(victim, filepath.Join(dir, name)); err != nil {
			t.Fatal(err)
		}
		os.Lchown(filepath.Join(dir, name), int(as.Uid), int(as.Gid))
		os.Lchown(dir, int(as.Uid), int(as.Gid))
		if _, err := StartPostgres(t.Context(), Config{Dir: dir, Fast: true}); err == nil || !strings.Contains(err.Error(), "put there by another account") {
			t.Errorf("a link in the place of %s: %v", name, err)
		}
		os.Remove(filepath.Join(dir, name))
		os.Rename(saved, filepath.Join(dir, name))
	}
	if text, _ := os.ReadFile(victim); string(text) != "mine" {
		t.Errorf("the other file holds %q", text)
	}
	again, err := StartPostgres(t.Context(), Config{Dir: dir, Fast: true})
	if err != nil {
		t.Fatal(err)
	}
	again.Stop()
}

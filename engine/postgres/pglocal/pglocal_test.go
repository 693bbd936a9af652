package pglocal

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

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
	srv, err := Start(t.Context(), localdb.Config{Dir: dir, Fast: true})
	if err != nil {
		t.Fatal(err)
	}
	srv.Stop()
	as, err := account(dir)
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
		if _, err := Start(t.Context(), localdb.Config{Dir: dir, Fast: true}); err == nil ||
			!strings.Contains(err.Error(), "put there by another account") {
			t.Errorf("a link in the place of %s: %v", name, err)
		}
		os.Remove(filepath.Join(dir, name))
		os.Rename(saved, filepath.Join(dir, name))
	}
	if text, _ := os.ReadFile(victim); string(text) != "mine" {
		t.Errorf("the other file holds %q", text)
	}
	again, err := Start(t.Context(), localdb.Config{Dir: dir, Fast: true})
	if err != nil {
		t.Fatal(err)
	}
	again.Stop()
}

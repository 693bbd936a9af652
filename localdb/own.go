package localdb

import (
	"fmt"
	"os"
	"path/filepath"
	"syscall"
)

// own makes sure that a server's folder, and everything in it that this process
// opens by name, belongs to this process's account: who may put a link there has
// this account write wherever the link leads. Only the data folder belongs to the
// account that the server runs as. A folder that an earlier version gave away as a
// whole is rolled back, and what cannot be trusted in it is refused.
func own(dir string) error {
	me := os.Geteuid()
	info, err := os.Lstat(dir)
	if err != nil {
		return err
	}
	if !info.IsDir() {
		return fmt.Errorf("%s is no folder", dir)
	}
	if ownerOf(info) != me {
		if err := os.Lchown(dir, me, os.Getegid()); err != nil {
			return fmt.Errorf("%s belongs to another account: %w", dir, err)
		}
	}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return err
	}
	for _, e := range entries {
		if e.Name() == "data" || e.Name() == "data.new" {
			continue
		}
		info, err := e.Info()
		if err != nil {
			return err
		}
		if ownerOf(info) != me || info.Mode()&os.ModeSymlink != 0 {
			return fmt.Errorf("%s was put there by another account, or is a link: look at it, and remove it if it is not wanted", filepath.Join(dir, e.Name()))
		}
	}
	return nil
}

func ownerOf(info os.FileInfo) int {
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		return int(s.Uid)
	}
	return -1
}

// openOwn opens a file of ours for writing, and follows no link.
func openOwn(file string, flags int) (*os.File, error) {
	return os.OpenFile(file, flags|os.O_CREATE|syscall.O_NOFOLLOW, 0o600)
}

// WriteOwn writes a file of ours anew, and follows no link.
func WriteOwn(file string, text []byte) error {
	f, err := openOwn(file, os.O_WRONLY|os.O_TRUNC)
	if err != nil {
		return err
	}
	if _, err := f.Write(text); err != nil {
		f.Close()
		return err
	}
	return f.Close()
}

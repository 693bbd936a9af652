package localdb

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"
)

// child is a process that this one started.
type child struct {
	cmd  *exec.Cmd
	done chan struct{}
}

// start runs a program in a process group of its own, so that Ctrl-C in the
// terminal reaches Genarch alone, and has the kernel end it with signal orphan
// should Genarch be killed. as runs it as another account; nil as this one.
func start(as *syscall.Credential, orphan syscall.Signal, logFile, program string, args ...string) (*child, error) {
	log, err := openOwn(logFile, os.O_APPEND|os.O_WRONLY)
	if err != nil {
		return nil, err
	}
	defer log.Close()
	cmd := exec.Command(program, args...)
	cmd.Dir = "/"
	cmd.Env = environment()
	cmd.Stdout, cmd.Stderr = log, log
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: orphan, Credential: as}
	if err := cmd.Start(); err != nil {
		return nil, err
	}
	c := &child{cmd: cmd, done: make(chan struct{})}
	go func() {
		_ = cmd.Wait()
		close(c.done)
	}()
	return c, nil
}

// stop signals the process and waits; when the time is up it is killed.
func (c *child) stop(sig syscall.Signal, wait time.Duration) error {
	select {
	case <-c.done:
		return nil
	default:
	}
	if err := c.cmd.Process.Signal(sig); err != nil && !errors.Is(err, os.ErrProcessDone) {
		return err
	}
	select {
	case <-c.done:
		return nil
	case <-time.After(wait):
		_ = c.cmd.Process.Kill()
		<-c.done
		return fmt.Errorf("process %d did not stop within %s and was killed", c.cmd.Process.Pid, wait)
	}
}

// Run runs a program to its end, as another account if as is not nil, and shows what it
// said if that was a failure.
func Run(as *syscall.Credential, program string, args ...string) error {
	cmd := exec.Command(program, args...)
	cmd.Dir, cmd.Env = "/", environment()
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as}
	out, err := cmd.CombinedOutput()
	if err != nil {
		return fmt.Errorf("%s: %w: %s", filepath.Base(program), err, bytes.TrimSpace(out))
	}
	return nil
}

// environment is all that a server needs: nothing of ours reaches it.
func environment() []string {
	return []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "LC_ALL=C.UTF-8",
		"HOME=/nonexistent"}
}

// endStale stops a server that an earlier Genarch left running on the folder:
// its process is known by its number in pidFile and by the folder's path among
// its arguments, so that no other process is ever hit.
func endStale(pidFile, dir string, sig syscall.Signal) error {
	text, err := os.ReadFile(pidFile)
	if err != nil {
		return nil
	}
	line, _, _ := strings.Cut(string(text), "\n")
	pid, err := strconv.Atoi(strings.TrimSpace(line))
	if err != nil || pid <= 1 || !runsOn(pid, dir) {
		return nil
	}
	if err := syscall.Kill(pid, sig); err != nil {
		return fmt.Errorf("a server that was left running (process %d) cannot be stopped: %w", pid, err)
	}
	deadline := time.Now().Add(stopTime)
	for runsOn(pid, dir) {
		if time.Now().After(deadline) {
			return fmt.Errorf("a server that was left running (process %d) does not stop", pid)
		}
		time.Sleep(20 * time.Millisecond)
	}
	return nil
}

// runsOn reports whether the process lives and has the folder among its arguments.
func runsOn(pid int, dir string) bool {
	args, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && bytes.Contains(args, []byte(dir+"/"))
}

// Find looks for a program in bin, or in the usual places; debian is the package that
// has it.
func Find(bin, program, debian string) (string, error) {
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
	return "", fmt.Errorf("%s: %w (on Debian: apt-get install %s)", program, ErrMissing, debian)
}

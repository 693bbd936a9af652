package e2e

import (
	"context"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"
	"time"

	"example.com/genarch/testutil"
)

// terminal runs a command in a terminal of its own, as a person does.
type terminal struct {
	t    *testing.T
	said logBuffer
	in   io.Writer
	done chan struct{}
	cmd  *exec.Cmd
}

func (s *service) terminal(t *testing.T, args ...string) *terminal {
	t.Helper()
	quoted := make([]string, len(args))
	for i, a := range args {
		quoted[i] = "'" + strings.ReplaceAll(a, "'", `'\''`) + "'"
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	k := &terminal{t: t, done: make(chan struct{})}
	// The shell makes way for the command: one that waited for it would get the
	// Ctrl-C as well, and some shells then end with a code of their own.
	k.cmd = exec.CommandContext(ctx, "script", "-qec", "exec "+commands+" "+strings.Join(quoted, " "), "/dev/null")
	k.cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+s.home, "NO_COLOR=1", "TERM=xterm", "SHELL=/bin/sh")
	k.cmd.Stdout, k.cmd.Stderr = &k.said, &k.said
	in, err := k.cmd.StdinPipe()
	if err != nil {
		t.Fatal(err)
	}
	k.in = in
	if err := k.cmd.Start(); err != nil {
		t.Fatal(err)
	}
	go func() {
		defer cancel()
		_ = k.cmd.Wait()
		close(k.done)
	}()
	return k
}

// answer waits until the command has said something, and types.
func (k *terminal) answer(said, typed string) {
	k.t.Helper()
	testutil.Wait(k.t, "the terminal to say "+said, func() bool { return strings.Contains(k.said.String(), said) })
	if _, err := io.WriteString(k.in, typed); err != nil {
		k.t.Fatal(err)
	}
}

// end waits for the command to end and returns its exit code.
func (k *terminal) end() int {
	k.t.Helper()
	<-k.done
	return k.cmd.ProcessState.ExitCode()
}

// testTerminal drops a database as a person does: the wrong name first, then the
// right one, then Ctrl-C while it waits, which asks what was meant.
func testTerminal(h shore) {
	h.furnished("quays_prod")
	guest := h.client("quays_prod")
	drop := func(options ...string) *terminal {
		return h.s.terminal(h.t, append([]string{"database", "drop", "--for-good",
			h.name + "/quays_prod"}, options...)...)
	}
	k := drop()
	k.answer("type quays_prod to confirm", "quay_prod\n")
	if code := k.end(); code != 3 || !there(guest) {
		h.t.Errorf("the wrong name ended with %d: %s", code, k.said.String())
	}
	k = drop("--when-empty", "10m")
	k.answer("type quays_prod to confirm", "quays_prod\n")
	k.answer("1 left", "\x03")
	k.answer("Type stop", "stop\n")
	if code := k.end(); code != 1 || !there(guest) || !h.in("quays_prod") {
		h.t.Errorf("stopping it ended with %d: %s", code, k.said.String())
	}
	has(h.t, "stopped", k.said.String(), "stopped by keeper",
		"\r\x1b[K") // the line of the clearing is written anew, not shown as text
	if strings.Contains(k.said.String(), `\u{`) {
		h.t.Errorf("Genarch's own control characters are shown: %q", k.said.String())
	}
	k = drop("--when-empty", "10m")
	k.answer("type quays_prod to confirm", "quays_prod\n")
	k.answer("1 left", "\x03")
	k.answer("Type stop", "\n")
	if code := k.end(); code != 1 || !there(guest) {
		h.t.Errorf("only watching no more ended with %d: %s", code, k.said.String())
	}
	has(h.t, "watching no more", k.said.String(), "the change goes on")
	guest.Close()
	testutil.Wait(h.t, "the drop to go on", func() bool { return !h.has("quays_prod") })
}

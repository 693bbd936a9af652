package engine

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
)

// Program is an engine's own program on the machine of the service.
type Program struct {
	Path string
	// Version is what it says of itself, as 15.18; Number is what it begins with.
	Version string
	Number  int
}

var versionText = regexp.MustCompile(`\d+(\.\d+)+`)

// versionTime bounds asking a program for its version.
const versionTime = 5 * time.Second

// Programs finds the programs of a name in the path and at further places, which can be
// patterns ("/usr/lib/x/*/bin/x_dump"), by the beginning of their versions, the lowest first.
func Programs(ctx context.Context, name string, places ...string) []Program {
	paths := []string{}
	if path, err := exec.LookPath(name); err == nil {
		paths = append(paths, path)
	}
	for _, place := range places {
		found, _ := filepath.Glob(place)
		paths = append(paths, found...)
	}
	var out []Program
	for _, path := range paths {
		asking, cancel := context.WithTimeout(ctx, versionTime)
		text, err := exec.CommandContext(asking, path, "--version").Output()
		cancel()
		version := versionText.FindString(string(text))
		if i := bytes.Index(text, []byte("Distrib ")); i >= 0 { // its own version stands before the server's
			version = versionText.FindString(string(text[i:]))
		}
		if i := bytes.Index(text, []byte("from ")); i >= 0 {
			version = versionText.FindString(string(text[i:]))
		}
		number, _ := strconv.Atoi(strings.Split(version, ".")[0])
		same := slices.ContainsFunc(out, func(p Program) bool { return p.Number == number })
		if err == nil && version != "" && !same {
			out = append(out, Program{path, version, number})
		}
	}
	slices.SortFunc(out, func(x, y Program) int { return x.Number - y.Number })
	return out
}

// Command is a program with nothing in its environment but what is given and where programs
// are; ended with ctx.
func Command(ctx context.Context, path string, env []string, args ...string) *exec.Cmd {
	cmd := exec.CommandContext(ctx, path, args...)
	cmd.Env = append([]string{"LC_ALL=C.UTF-8", "PATH=" + os.Getenv("PATH")}, env...)
	return cmd
}

// NotExported is the probe of an export: one that was cut off left nothing.
func NotExported[S any](S, context.Context, change.Step) (bool, error) { return false, nil }

// Contents are what an export was found to hold when it was read once more, or what a database
// holds; -1 rows: they were not counted.
type Contents struct {
	Tables int
	Rows   int64
}

// maxSaid bounds what is kept of what a program says.
const maxSaid = 4000

// Dump runs an engine's program that writes a database to its standard output, keeps that, and
// reads it once more. live is what the database holds now; nil: it was not counted.
func Dump(ctx context.Context, step change.Step, x change.Export, cmd *exec.Cmd,
	read func(io.Reader) (Contents, error), live func() *Contents) (Report, error) {
	if step.Keep == nil {
		return Report{}, UnknownStep(step)
	}
	var said bytes.Buffer
	cmd.Stderr = &said
	run := func(to io.Writer) error {
		begun := &written{to: to, step: step}
		cmd.Stdout = begun
		if err := cmd.Run(); err != nil {
			text := said.String()
			return fmt.Errorf("%s ended: %w: %s", x.Program, err, strings.TrimSpace(text[max(0, len(text)-maxSaid):]))
		}
		return nil
	}
	again := func(from io.Reader) ([]string, error) {
		step.Worked(change.Work{What: "reading it once more"})
		found, err := read(from)
		if err != nil {
			return nil, fmt.Errorf("what was written cannot be read: %w", err)
		}
		return found.beside(live())
	}
	var checked []string
	id, err := step.Keep(ctx, x, run, func(from io.Reader) (list []string, err error) {
		checked, err = again(from)
		return checked, err
	})
	if err != nil {
		if stopped := ctx.Err(); stopped != nil {
			err = stopped
		}
		e := &Error{Op: step.Title, Kind: Refused, Err: err, Text: err.Error(),
			Next: "Nothing was touched. Put right what the program says, or drop it without an export."}
		if errors.Is(err, context.Canceled) {
			e.Text = "given up before it was through"
		}
		return Report{}, e
	}
	rep := Report{Learned: map[string]string{"export": id}}
	rep.Messages = append(rep.Messages, change.Message{Severity: "EXPORT", Text: id + ", written by " + x.Program})
	for _, text := range checked {
		rep.Messages = append(rep.Messages, change.Message{Severity: "EXPORT", Text: text})
	}
	return rep, nil
}

// beside holds an export against what the database holds, in words; an error: it lacks tables.
func (c Contents) beside(live *Contents) ([]string, error) {
	out := []string{naming.Count(c.Tables, "table") + ", " + naming.Count(c.Rows, "row") + " in the export"}
	switch {
	case live == nil:
		return append(out, "those of the database were not counted in time"), nil
	case c.Tables < live.Tables:
		return nil, fmt.Errorf("the export has %s, and the database %d", naming.Count(c.Tables, "table"), live.Tables)
	case live.Rows < 0:
		return append(out, "as many tables in the database"), nil
	case c.Rows != live.Rows:
		return append(out, naming.Count(live.Rows, "row")+" in the database right afterwards: somebody wrote "+
			"meanwhile"), nil
	}
	return append(out, "as many in the database"), nil
}

// written tells how much a program has written.
type written struct {
	to   io.Writer
	step change.Step
	n    int64
	told time.Time
}

// Write passes it on.
func (w *written) Write(part []byte) (int, error) {
	n, err := w.to.Write(part)
	w.n += int64(n)
	if now := time.Now(); now.Sub(w.told) > 200*time.Millisecond {
		w.told = now
		w.step.Worked(change.Work{What: "exporting", Done: w.n, Unit: "bytes"})
	}
	return n, err
}

// Package cli is the command-line client: arguments to calls of the API, answers
// to tables, JSON, YAML or CSV. Results go to standard output, everything else
// to standard error.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/client"
)

// Exit codes, part of the interface.
const (
	ExitDone        = 0
	ExitFailed      = 1
	ExitUsage       = 2
	ExitUnconfirmed = 3
	ExitNotFound    = 4
	ExitNotAllowed  = 5
)

// exitError carries an exit code; with a nil err everything has been said.
type exitError struct {
	code int
	err  error
}

func (e *exitError) Error() string {
	if e.err == nil {
		return ""
	}
	return e.err.Error()
}

func (e *exitError) Unwrap() error { return e.err }

func usage(format string, args ...any) error {
	return &exitError{ExitUsage, fmt.Errorf(format, args...)}
}

// Streams are where a command reads and writes.
type Streams struct {
	In       io.Reader
	Out, Err io.Writer
	// Terminal: a person can be asked on In and Err.
	Terminal bool
}

// Root makes the command tree; more are commands that are not calls of the API
// (serve, demo).
func Root(version string, s Streams, more ...*cli.Command) *cli.Command {
	s.Out, s.Err = newTerminal(s.Out), newTerminal(s.Err)
	root := &cli.Command{
		Name: "genarch", Version: version, Usage: "looks after databases on shared servers",
		Description: "Every act names its target: SERVER, SERVER/DATABASE, SERVER/account:NAME. What alters a server shows its brief first and asks.",
		Reader:      s.In, Writer: s.Out, ErrWriter: s.Err,
		EnableShellCompletion: true,
		ExitErrHandler:        func(context.Context, *cli.Command, error) {},
		Flags: []cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "address of the Genarch to call", Sources: cli.EnvVars("GENARCH_URL"),
				DefaultText: "that of the last login"},
			&cli.StringFlag{Name: "token-file", Usage: "file with the token of a program",
				Sources: cli.EnvVars("GENARCH_TOKEN_FILE")},
		},
		Commands: append(more, app{s}.commands()...),
	}
	addExamples(root, nil)
	app{s}.prepare(root)
	return root
}

// app is what every command needs.
type app struct{ Streams }

func (a app) commands() []*cli.Command {
	return []*cli.Command{
		a.loginCommand(), a.logoutCommand(), a.attentionCommand(), a.serverCommand(), a.engineCommand(),
		a.databaseCommand(), a.blueprintCommand(), a.holdingCommand(), a.exportCommand(),
		a.sessionCommand(), a.accountCommand(), a.roleCommand(), a.privilegeCommand(), a.handoverCommand(),
		a.changeCommand(), a.operatorCommand(), a.tokenCommand(), a.journalCommand(), a.manCommand(),
	}
}

// flagText is an option as it is typed: the library names all of them with one dash.
func flagText(name string) string {
	if len(name) > 1 {
		return "--" + name
	}
	return "-" + name
}

// prepare makes mistyped commands and options errors with a suggestion, and addresses
// complete themselves, on every command: the library inherits neither.
func (a app) prepare(c *cli.Command) {
	c.Suggest = true
	a.completeAddresses(c)
	c.OnUsageError = func(_ context.Context, c *cli.Command, err error, _ bool) error {
		text := err.Error()
		if word, ok := strings.CutPrefix(text, "flag provided but not defined: "); ok {
			word = strings.TrimLeft(word, "-")
			text = "there is no option " + flagText(word)
			if near := cli.SuggestFlag(c.Flags, word, false); near != "" {
				text += "; do you mean " + near + "?"
			}
		}
		return usage("%s (see %s --help)", text, c.FullName())
	}
	if len(c.Commands) > 0 && c.Action == nil {
		c.Action = func(_ context.Context, c *cli.Command) error {
			if word := c.Args().First(); word != "" {
				text := fmt.Sprintf("there is no command %q", c.FullName()+" "+word)
				if near := cli.SuggestCommand(c.Commands, word); near != "" {
					text += "; do you mean " + near + "?"
				}
				return usage("%s (see %s --help)", text, c.FullName())
			}
			return cli.ShowSubcommandHelp(c)
		}
	}
	if c.Action != nil && len(c.Commands) == 0 {
		act := c.Action
		c.Action = func(ctx context.Context, c *cli.Command) error {
			if c.Args().Len() > 0 {
				return usage("%q is one argument too many (see %s --help)", c.Args().First(), c.FullName())
			}
			return act(ctx, c)
		}
	}
	for _, sub := range c.Commands {
		a.prepare(sub)
	}
}

// Run runs the command line and returns the exit code, having said on standard
// error what went wrong.
func Run(ctx context.Context, root *cli.Command, args []string) int {
	err := root.Run(ctx, args)
	if err == nil {
		return ExitDone
	}
	code := ExitFailed
	if e, ok := errors.AsType[*exitError](err); ok {
		code = e.code
		if e.err == nil {
			return code
		}
	}
	say := func(text string) { fmt.Fprintln(root.ErrWriter, text) }
	problem, ok := errors.AsType[*client.Error](err)
	if !ok {
		say("genarch: " + visible(err.Error()))
		if errors.Is(err, client.ErrUnreachable) {
			say("  next: start it with genarch serve, or name another address with --url")
		}
		return code
	}
	say("genarch: " + visible(problem.Detail))
	if problem.Known != nil && problem.Found != nil {
		say("  known: " + visible(identityText(*problem.Known)))
		say("  found: " + visible(identityText(*problem.Found)))
	}
	for _, d := range problem.Differences {
		say("  different: " + visible(d))
	}
	if problem.EngineCode != "" {
		say("  the engine's code: " + visible(problem.EngineCode))
	}
	if next := (app{}).nextText(problem.Next, problem.Actions); next != "" {
		say("  next: " + visible(next))
	}
	if code != ExitFailed {
		return code
	}
	switch problem.Status {
	case 400, 413, 422:
		return ExitUsage
	case 401, 403:
		return ExitNotAllowed
	case 404:
		return ExitNotFound
	}
	return code
}

// StandardStreams are those of the process.
func StandardStreams() Streams {
	return Streams{In: os.Stdin, Out: os.Stdout, Err: os.Stderr,
		Terminal: isTerminal(os.Stdin) && isTerminal(os.Stderr)}
}

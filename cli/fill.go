package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
)

func (a app) fillCommand() *cli.Command {
	return &cli.Command{Name: "fill", Usage: "run a script in a database: shows what it holds, asks, runs, counts",
		ArgsUsage: "SERVER/DATABASE FILE", Arguments: append(addressArg(), &cli.StringArg{Name: "file"}),
		Description: "FILE is a file of statements as the engine's own client takes it; - is standard input, " +
			"which needs --yes.\n" +
			"The script runs as an account of its own, made for it and dropped afterwards, that may work in " +
			"this one\n" +
			"database (engine show ENGINE says what it may). It stops at the first error, with its line.\n" +
			otherOptions,
		Flags: append([]cli.Flag{&cli.BoolFlag{Name: "one-transaction",
			Usage: "all of it takes effect, or none (the default where the script can run in one); =false: " +
				"statement by statement"}},
			append(optionFlags(), alterFlags()...)...),
		Action: a.fillDatabase}
}

// fillDatabase sends a script and has it run.
func (a app) fillDatabase(ctx context.Context, c *cli.Command) error {
	server, name, err := splitAddress(c)
	if err != nil {
		return err
	}
	path := c.StringArg("file")
	if path == "" {
		return usage("Name the script: %s SERVER/DATABASE FILE, or - for standard input.", c.FullName())
	}
	if path == "-" && !c.Bool("yes") && !c.Bool("dry-run") && !c.Bool("draft") {
		return usage("With the script on standard input nothing can be asked: give --yes, --draft or --dry-run too.")
	}
	spec := wire.DatabaseSpec{Name: name}
	if spec.Options, err = options(c); err != nil {
		return err
	}
	if c.IsSet("one-transaction") {
		if spec.Options == nil {
			spec.Options = map[string]any{}
		}
		spec.Options["one_transaction"] = c.Bool("one-transaction")
	}
	from, size, err := a.script(path)
	if err != nil {
		return err
	}
	defer from.Close()
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	file := filepath.Base(path)
	if path == "-" {
		file = ""
	}
	sending := &sent{from: from, size: size, begun: time.Now(), say: func(text string) {
		if a.Terminal {
			a.rewrite(text)
		}
	}}
	script, err := api.SendScript(ctx, server, file, sending)
	if a.Terminal && sending.shown != (time.Time{}) {
		fmt.Fprint(a.Err, "\n")
	}
	if err != nil {
		return err
	}
	spec.Script = script.ID
	err = a.alter(ctx, c, wire.Intent{Kind: wire.KindFillDatabase, Server: server, Database: &spec})
	if c.Bool("dry-run") {
		_ = api.DropScript(context.WithoutCancel(ctx), server, script.ID) // else it goes within a day
	}
	return err
}

// outcomeNothing is that of a brief by which nothing is done.
const outcomeNothing = "nothing"

// createByRecipe creates a database, and then has the script run that its blueprint has for the
// engine: a change of its own, with its own brief.
func (a app) createByRecipe(ctx context.Context, c *cli.Command, in wire.Intent) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	recipe, err := api.Blueprint(ctx, in.Database.Blueprint.Name, in.Database.Blueprint.Version)
	if err != nil {
		return err
	}
	engine, err := engineOf(ctx, api, in.Server)
	if err != nil {
		return err
	}
	in.Database.Blueprint.Version = recipe.Version // the script is that of the version which makes it
	text := recipe.Scripts[engine.ID]
	if text == "" {
		return a.alter(ctx, c, in)
	}
	brief, err := api.Brief(ctx, in) // the blueprint may name it
	if err != nil {
		return err
	}
	made := !c.Bool("dry-run") && !c.Bool("draft") && brief.Outcome != outcomeNothing
	if err := a.alter(ctx, c, in); err != nil || !made {
		return err // what is there already is not filled again
	}
	_, name, _ := strings.Cut(brief.Target, "/")
	a.say("")
	a.say("The blueprint %s has a script to fill it with.", recipe.Name)
	script, err := api.SendScript(ctx, in.Server, recipe.Name+".sql", strings.NewReader(text))
	if err != nil {
		return err
	}
	return a.alter(ctx, c, wire.Intent{Kind: wire.KindFillDatabase, Server: in.Server,
		Database: &wire.DatabaseSpec{Name: strings.TrimPrefix(name, "database:"), Script: script.ID}})
}

// script opens the file; its size is 0 where it is not known.
func (a app) script(path string) (io.ReadCloser, int64, error) {
	if path == "-" {
		return io.NopCloser(a.In), 0, nil
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, 0, usage("The script cannot be read: %v", err)
	}
	info, err := f.Stat()
	if err != nil || info.IsDir() {
		f.Close()
		return nil, 0, usage("%s is no file.", path)
	}
	return f, info.Size(), nil
}

// sent is a script that is being sent, and tells how far it is.
type sent struct {
	from  io.Reader
	size  int64
	done  int64
	begun time.Time
	shown time.Time
	say   func(string)
}

// Read reads on.
func (s *sent) Read(into []byte) (int, error) {
	n, err := s.from.Read(into)
	s.done += int64(n)
	if now := time.Now(); now.Sub(s.begun) > time.Second && now.Sub(s.shown) > 200*time.Millisecond {
		s.shown = now
		s.say(workText(wire.Work{What: "sending the script", Done: s.done, Total: s.size, Unit: "bytes"},
			now.Sub(s.begun)))
	}
	return n, err
}

package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/core/blueprint"
	"example.com/genarch/core/naming"
)

func (a app) blueprintCommand() *cli.Command {
	name := []cli.Argument{&cli.StringArg{Name: "name"}}
	with := func(f func(context.Context, *cli.Command, *client.Client) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error {
			api, err := a.connect(c)
			if err != nil {
				return err
			}
			return f(ctx, c, api)
		}
	}
	return &cli.Command{Name: "blueprint", Usage: "recipes for databases: a name rule, options, a team's accounts",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the recipes that there are", Flags: listFlags(), Action: with(a.listBlueprints)},
			{Name: "show", Usage: "one recipe, as it was put there", ArgsUsage: "NAME", Arguments: name,
				Flags: []cli.Flag{&cli.IntFlag{Name: "version", Usage: "which version", DefaultText: "the latest"},
					outputFlag()},
				Action: with(a.showBlueprint)},
			{Name: "check", Usage: "say what is wrong in a file, with line and column; nothing is kept",
				ArgsUsage: "FILE", Arguments: []cli.Argument{&cli.StringArg{Name: "file"}},
				Action: with(a.checkBlueprint)},
			{Name: "put", Usage: "keep a file as a recipe, or as a new version of it", ArgsUsage: "NAME FILE",
				Arguments: append(name, &cli.StringArg{Name: "file"}), Action: with(a.putBlueprint)},
			{Name: "remove", Usage: "remove a recipe; what was made by it stays", ArgsUsage: "NAME", Arguments: name,
				Flags:  []cli.Flag{&cli.StringFlag{Name: "confirm", Usage: "the recipe's name, typed again"}},
				Action: with(a.removeBlueprint)},
			{Name: "schema", Usage: "the JSON Schema of the format, for an editor",
				Action: with(func(ctx context.Context, _ *cli.Command, api *client.Client) error {
					text, err := api.BlueprintSchema(ctx)
					fmt.Fprintln(a.Out, string(text))
					return err
				})},
		}}
}

func (a app) listBlueprints(ctx context.Context, c *cli.Command, api *client.Client) error {
	list, err := api.Blueprints(ctx)
	if err != nil {
		return err
	}
	if len(list.Blueprints) == 0 && c.String("output") == "table" {
		a.say("There are no blueprints yet: genarch blueprint put NAME FILE")
		return nil
	}
	return print(a, c, list, list.Blueprints, blueprintColumns())
}

func blueprintColumns() []column[wire.Blueprint] {
	return []column[wire.Blueprint]{
		{title: "blueprint", text: func(b wire.Blueprint) string { return b.Name }},
		{title: "version", text: func(b wire.Blueprint) string { return strconv.Itoa(b.Version) }, right: true},
		{title: "title", text: func(b wire.Blueprint) string { return b.Title }},
		{title: "for", text: func(b wire.Blueprint) string {
			if len(b.Environments) == 0 {
				return "everywhere"
			}
			return strings.Join(b.Environments, ", ")
		}},
		{title: "database", text: func(b wire.Blueprint) string { return b.NameRule }},
		{title: "asks for", text: func(b wire.Blueprint) string {
			var names []string
			for _, p := range b.Parameters {
				text := p.Name
				if p.Default != nil {
					text += "=" + *p.Default
				}
				names = append(names, text)
			}
			return strings.Join(names, ", ")
		}},
		{title: "by", text: func(b wire.Blueprint) string { return b.Operator }},
		{title: "put", text: func(b wire.Blueprint) string { return timeText(b.Created) }},
	}
}

func (a app) showBlueprint(ctx context.Context, c *cli.Command, api *client.Client) error {
	name, err := blueprintName(c)
	if err != nil {
		return err
	}
	b, err := api.Blueprint(ctx, name, c.Int("version"))
	if err != nil {
		return err
	}
	if c.String("output") != "table" {
		return print(a, c, b, []wire.Blueprint{b}, blueprintColumns())
	}
	a.say("%s  version %d, put there by %s %s", bold.Render(b.Name), b.Version, visible(b.Operator),
		faint.Render(timeText(b.Created)))
	fmt.Fprintln(a.Out, visible(strings.TrimSuffix(b.Text, "\n")))
	return nil
}

// blueprintName reads which blueprint is meant.
func blueprintName(c *cli.Command) (string, error) {
	name := c.StringArg("name")
	if name == "" {
		return "", usage("Name the blueprint: %s %s", c.FullName(), c.ArgsUsage)
	}
	return name, nil
}

// blueprintText reads a file, or standard input.
func (a app) blueprintText(c *cli.Command) (string, error) {
	path := c.StringArg("file")
	if path == "" {
		return "", usage("Name the file, or - for standard input: %s %s", c.FullName(), c.ArgsUsage)
	}
	in := a.In
	if path != "-" {
		f, err := os.Open(path)
		if err != nil {
			return "", fmt.Errorf("the blueprint: %w", err)
		}
		defer f.Close()
		in = f
	}
	text, err := io.ReadAll(io.LimitReader(in, blueprint.MaxText+1))
	if len(text) > blueprint.MaxText {
		return "", usage("A blueprint has at most %d bytes; %s has more.", blueprint.MaxText, path)
	}
	return string(text), err
}

func (a app) checkBlueprint(ctx context.Context, c *cli.Command, api *client.Client) error {
	text, err := a.blueprintText(c)
	if err != nil {
		return err
	}
	found, err := api.CheckBlueprint(ctx, text)
	if err != nil {
		return err
	}
	for _, p := range found.Problems {
		place := c.StringArg("file")
		if p.Line > 0 {
			place += fmt.Sprintf(":%d:%d", p.Line, p.Column)
		}
		a.say("%s  %s", visible(place), visible(p.Text))
	}
	if len(found.Problems) > 0 {
		return &exitError{ExitFailed, nil}
	}
	a.say("%s  it can be used: genarch blueprint put NAME %s", fine.Render("fine"), shellWord(c.StringArg("file")))
	return nil
}

func (a app) putBlueprint(ctx context.Context, c *cli.Command, api *client.Client) error {
	name, err := blueprintName(c)
	if err != nil {
		return err
	}
	text, err := a.blueprintText(c)
	if err != nil {
		return err
	}
	b, err := api.PutBlueprint(ctx, name, text)
	if err != nil {
		return err
	}
	a.say("%s  %s, version %d: genarch database create SERVER/DATABASE --blueprint %s", fine.Render("done"), b.Name,
		b.Version, b.Name)
	return nil
}

func (a app) removeBlueprint(ctx context.Context, c *cli.Command, api *client.Client) error {
	name, err := blueprintName(c)
	if err != nil {
		return err
	}
	err = a.confirmed(c, name, "The blueprint "+naming.Show(name)+" is removed; what was made by it stays.")
	if err != nil {
		return err
	}
	if err := api.RemoveBlueprint(ctx, name); err != nil {
		return err
	}
	a.say("%s  %s is removed", fine.Render("done"), naming.Show(name))
	return nil
}

// withValues reads the values that a blueprint asks for: --with NAME=VALUE.
func withValues(c *cli.Command) (*wire.BlueprintUse, error) {
	name, version, named := strings.Cut(c.String("blueprint"), ":")
	if name == "" {
		if c.IsSet("with") {
			return nil, usage("--with gives a value to a blueprint: name it with --blueprint.")
		}
		return nil, nil
	}
	use := &wire.BlueprintUse{Name: name, With: map[string]string{}}
	if named {
		var err error
		if use.Version, err = strconv.Atoi(version); err != nil {
			return nil, usage("--blueprint is NAME or NAME:VERSION, not %s.", c.String("blueprint"))
		}
	}
	for _, text := range *c.Value("with").(*texts) {
		key, value, ok := strings.Cut(text, "=")
		if !ok || key == "" {
			return nil, usage("--with is NAME=VALUE, not %q.", text)
		}
		if _, twice := use.With[key]; twice {
			return nil, errors.New("--with " + key + " is given twice")
		}
		use.With[key] = value
	}
	return use, nil
}

package cli

import (
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
)

// choicesCommand lists what can be chosen on a server: encodings, templates, …
func (a app) choicesCommand() *cli.Command {
	return &cli.Command{Name: "choices",
		Usage:       "what can be chosen on a server: encodings, collations, and what else its engine has",
		ArgsUsage:   "SERVER [LIST]",
		Description: "Without LIST it says which lists there are.",
		Arguments:   append(nameArg(), &cli.StringArg{Name: "list"}),
		Flags:       listFlags(&cli.StringFlag{Name: "search", Usage: "part of the name"}),
		Action:      a.listChoices}
}

func (a app) listChoices(ctx context.Context, c *cli.Command) error {
	server, key := c.StringArg("server"), c.StringArg("list")
	if server == "" {
		return usage("Name the server: %s SERVER", c.FullName())
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	if key == "" {
		engine, err := engineOf(ctx, api, server)
		if err != nil {
			return err
		}
		return print(a, c, engine.Choices, slices.Sorted(maps.Keys(engine.Choices)), []column[string]{
			{title: "list", text: func(k string) string { return k }},
			{title: "what", text: func(k string) string { return engine.Choices[k] }}})
	}
	all, err := api.Choices(ctx, server, key)
	if err != nil {
		return err
	}
	search := strings.ToLower(c.String("search"))
	list := slices.DeleteFunc(all.Choices[key],
		func(x wire.Choice) bool { return !strings.Contains(strings.ToLower(x.Name), search) })
	if len(list) == 0 {
		a.say("%s offers no %s", server, key)
	}
	return print(a, c, list, list, choiceColumns(list))
}

// choiceColumns has a column for each property that one of the choices has.
func choiceColumns(list []wire.Choice) []column[wire.Choice] {
	columns := []column[wire.Choice]{
		{title: "name", text: func(x wire.Choice) string { return x.Name }},
		{title: "default", text: func(x wire.Choice) string { return ifSo(x.Default) }},
		{title: "for", text: func(x wire.Choice) string { return x.For }},
	}
	names := map[string]any{}
	for _, x := range list {
		maps.Copy(names, x.Properties)
	}
	for _, name := range slices.Sorted(maps.Keys(names)) {
		_, number := names[name].(float64)
		columns = append(columns, column[wire.Choice]{title: strings.ReplaceAll(name, "_", " "), right: number,
			text: func(x wire.Choice) string {
				if size, ok := x.Properties[name].(float64); ok && name == "size" {
					return sizeText(int64(size))
				}
				return valueText(x.Properties[name])
			}, exact: func(x wire.Choice) string { return valueText(x.Properties[name]) }})
	}
	return append(columns, column[wire.Choice]{title: "what it is",
		text: func(x wire.Choice) string { return x.Title }},
		column[wire.Choice]{title: "cannot be chosen", text: func(x wire.Choice) string { return x.Why }})
}

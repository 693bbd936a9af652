package cli

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
)

func (a app) engineCommand() *cli.Command {
	return &cli.Command{Name: "engine", Usage: "the database engines that Genarch knows, and what each of them can do",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the engines", Flags: listFlags(), Action: a.listEngines},
			{Name: "show", Usage: "one engine: its options with their meaning, privileges, bundles, and what is not possible", ArgsUsage: "ENGINE",
				Arguments: []cli.Argument{&cli.StringArg{Name: "engine"}}, Flags: []cli.Flag{outputFlag()},
				Action: a.showEngine},
		}}
}

func engineColumns() []column[wire.Engine] {
	return []column[wire.Engine]{
		{title: "engine", text: func(e wire.Engine) string { return e.ID }},
		{title: "title", text: func(e wire.Engine) string { return e.Title }},
		{title: "versions", text: func(e wire.Engine) string { return e.Versions }},
		{title: "port", text: func(e wire.Engine) string { return fmt.Sprint(e.Port) }, right: true},
		{title: "options of a database", text: func(e wire.Engine) string {
			return fmt.Sprint(len(slices.DeleteFunc(slices.Clone(e.Fields["database"]),
				func(f wire.Field) bool { return len(f.In) == 0 })))
		}, right: true},
		{title: "not possible", text: func(e wire.Engine) string { return strings.Join(impossible(e), ", ") }},
	}
}

// impossible lists the kinds of intents that an engine does not have.
func impossible(e wire.Engine) []string {
	return slices.DeleteFunc(slices.Sorted(maps.Keys(e.Intents)), func(k string) bool { return e.Intents[k].Why == "" })
}

func (a app) listEngines(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	all, err := api.Engines(ctx)
	if err != nil {
		return err
	}
	return print(a, c, all, all.Engines, engineColumns())
}

func (a app) showEngine(ctx context.Context, c *cli.Command) error {
	name := c.StringArg("engine")
	if name == "" {
		return usage("Name the engine: %s ENGINE", c.FullName())
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	e, err := api.Engine(ctx, name)
	if err != nil {
		return err
	}
	if c.String("output") != "table" {
		return print(a, c, e, []wire.Engine{e}, engineColumns())
	}
	return a.printEngine(e)
}

// printEngine writes everything that an engine says of itself, for people.
// printEngine writes what an engine says of itself.
func (a app) printEngine(e wire.Engine) error {
	fmt.Fprintf(a.Out, "%s (%s), %s, usually on port %d\n", bold.Render(e.Title), e.ID, e.Versions, e.Port)
	fmt.Fprintf(a.Out, "Names of %s: up to %d %s.\n", e.Nouns["database"].Many, e.Names.MaxLength, e.Names.Counted)
	a.printOptions(e)
	a.chapter("Accounts and roles", func(p *properties) {
		for _, k := range e.Principals {
			p.add(k.Title, k.Decides)
		}
	})
	a.chapter("Privileges", func(p *properties) { addPrivileges(p, e) })
	a.chapter("How", func(p *properties) { addWays(p, e) })
	return nil
}

// chapter writes a heading and properties under it.
func (a app) chapter(title string, add func(p *properties)) {
	fmt.Fprintf(a.Out, "\n%s\n", bold.Render(title))
	var p properties
	add(&p)
	for i := range p.titles {
		p.titles[i] = "  " + p.titles[i]
	}
	p.print(a)
}

// printOptions writes the options by what they belong to.
func (a app) printOptions(e wire.Engine) {
	orRole := ""
	if role := e.Nouns["role"].One; role != "" {
		orRole = " or " + role
	}
	for _, part := range []struct{ name, title string }{
		{"database", "Options of " + article(e.Nouns["database"].One) + ", and what is shown of it"},
		{"account", "Options of " + article(e.Nouns["account"].One) + orRole + ", and what is shown of it"},
		{"member", "Options of a membership"},
		{"grant", "Options of a grant"},
		{"clearing", "Options of dealing with sessions"},
		{"server", "Asked for when a server is registered, beside address, login and TLS"},
	} {
		if len(e.Fields[part.name]) == 0 {
			continue
		}
		a.chapter(part.title, func(p *properties) {
			for _, f := range e.Fields[part.name] {
				what := given(f)
				if part.name == "server" {
					what = typeText(f)
				}
				p.add(f.Name, what)
				p.add("", faint.Render(explained(f)))
			}
		})
	}
}

// addPrivileges says what can be granted on what, and what the bundles give.
func addPrivileges(p *properties, e wire.Engine) {
	for _, s := range e.Scopes {
		var names []string
		for _, x := range e.Privileges {
			if slices.Contains(x.On, s.Name) {
				names = append(names, x.Name)
			}
		}
		p.add("on "+article(s.Title), strings.Join(names, ", "))
	}
	p.add("later objects", e.Granting.Later)
	p.add("open sessions", e.Granting.AtOnce)
	for _, b := range e.Bundles {
		p.add("bundle "+b.Name, strings.TrimSpace(b.Decides+" "+b.Careful))
	}
}

// addWays says how each kind of intent is done, or why it is not possible.
func addWays(p *properties, e wire.Engine) {
	for _, k := range slices.Sorted(maps.Keys(e.Intents)) {
		f := e.Intents[k]
		text := f.Says
		if f.Why != "" {
			text = "Not possible: " + f.Why
		}
		if f.Undo != "" {
			text += " Undo: " + f.Undo + "."
		}
		if f.Instead != "" {
			text += " Instead: " + strings.TrimSuffix(f.Instead, ".") + "."
		}
		p.add(k, text)
	}
	p.add("end a session", e.Endings["session"].Says+e.Endings["session"].Why)
	p.add("end a statement", e.Endings["statement"].Says+e.Endings["statement"].Why)
	p.add("gate", strings.TrimSpace(e.Gate.Says+" "+e.Gate.Leaks))
	p.add("for a team", e.Team.Says+e.Team.Why)
}

// article puts a or an before a word.
func article(word string) string {
	if word != "" && strings.ContainsRune("aeiou", rune(word[0])) {
		return "an " + word
	}
	return "a " + word
}

// given says in which verbs a field is asked for, and which values it takes.
func given(f wire.Field) string {
	var verbs []string
	for _, k := range f.In {
		verbs = append(verbs, k[strings.IndexByte(k, '.')+1:])
	}
	if len(verbs) == 0 {
		verbs = []string{"shown only"}
	}
	return strings.Join(verbs, ", ") + ": " + typeText(f)
}

func typeText(f wire.Field) string {
	var values []string
	for _, v := range f.Values {
		values = append(values, v.Name)
	}
	kind := map[string]string{"text": "text", "long": "text", "pick": "", "number": "a number",
		"size": "a size, as 64 MB", "bool": "yes or no", "list": "a list"}[f.Type]
	switch {
	case f.Type == "table":
		var columns []string
		for _, c := range f.Columns {
			columns = append(columns, c.Name)
		}
		column := ""
		if len(columns) > 2 {
			column = ".COLUMN"
		}
		return "rows of " + strings.Join(columns, ", ") +
			fmt.Sprintf("; --set %s.%s%s=…", f.Name, strings.ToUpper(f.Key), column)
	case f.From != "" && kind == "":
		kind = "one of the " + f.From
	case len(values) > 0 && kind == "":
		return strings.Join(values, ", ")
	}
	if len(values) > 0 {
		kind += ", or " + strings.Join(values, ", ")
	}
	return kind
}

// explained is what a field decides, and what has to be known of it.
func explained(f wire.Field) string {
	text := f.Decides
	if f.Default != "" {
		text += "; default: " + f.Default
	}
	if f.Since != "" {
		text += "; since " + f.Since
	}
	if f.Alone {
		text += "; altering it needs the database empty of sessions"
	}
	if f.With != "" {
		text += "; only with " + f.With
	}
	if f.Fixed != "" {
		text += "; fixed once made"
	}
	return text
}

// engineOf is what the engine of a server has.
func engineOf(ctx context.Context, api *client.Client, server string) (wire.Engine, error) {
	srv, err := api.Server(ctx, server)
	if err != nil {
		return wire.Engine{}, err
	}
	return api.Engine(ctx, srv.Engine)
}

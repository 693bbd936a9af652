package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/core/naming"
)

// splitAddress reads SERVER/DATABASE. It asks for the slash, so that a name is
// never taken for a server.
func splitAddress(c *cli.Command) (server, name string, err error) {
	text := c.StringArg("address")
	server, name, ok := strings.Cut(text, "/")
	name = strings.TrimPrefix(name, "database:")
	if !ok || server == "" || name == "" {
		return "", "", usage("Name the database with its server: %s SERVER/DATABASE, not %q", c.FullName(), text)
	}
	return server, name, nil
}

func addressArg() []cli.Argument { return []cli.Argument{&cli.StringArg{Name: "address"}} }

// databaseCommand: Long: a list of commands with their options.
func (a app) databaseCommand() *cli.Command {
	return &cli.Command{Name: "database", Usage: "databases: see what is there, create, alter, rename, drop",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the databases of a server, as they are now", ArgsUsage: "SERVER",
				Arguments: nameArg(),
				Flags: listFlags(
					&cli.StringFlag{Name: "search", Usage: "part of the name, or of a text among the properties"},
					&cli.BoolFlag{Name: "system", Usage: "the engine's own databases too"}, limitFlag(20000)),
				Action: a.withServer(a.listDatabases)},
			{Name: "show", Usage: "one database with all its properties", ArgsUsage: "SERVER/DATABASE",
				Arguments: addressArg(), Flags: []cli.Flag{outputFlag()}, Action: a.showDatabase},
			{Name: "history", Usage: "its sessions and size over time, as a plot", ArgsUsage: "SERVER/DATABASE",
				Arguments: addressArg(), Flags: historyFlags(), Action: a.databaseHistory},
			{Name: "create", Usage: "create a database: shows the brief, asks, runs, reads back",
				ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(),
				Description: "What is not given is left to the server's defaults, which the brief shows.\n" +
					"A blueprint may name the database: then SERVER is enough.\n" + otherOptions,
				Flags: append([]cli.Flag{
					&cli.BoolFlag{Name: "if-not-exists", Usage: "do nothing if it is there, and say what differs"},
					&cli.StringFlag{Name: "blueprint", Usage: "the recipe to follow, as `NAME` or NAME:VERSION"},
					&cli.GenericFlag{Name: "with", Value: &texts{},
						Usage: "a value that the blueprint asks for, as `NAME=VALUE`"},
					&cli.StringFlag{Name: "for-team",
						Usage: "with it, what a team needs: the role NAME_owner, the accounts NAME_app (write) and NAME_read, tried"},
					&cli.StringFlag{Name: "client-host",
						Usage:       "where the team's accounts come from, on engines that ask for it",
						DefaultText: "everywhere"},
					&cli.BoolFlag{Name: "end-sessions", Usage: "end the sessions of the template, where it is in use"},
				}, slices.Concat(optionFlags("owner", "template", "encoding", "collation", "tablespace",
					"connection-limit",
					"comment"), clearingFlags(false), alterFlags())...),
				Action: a.createDatabase},
			{Name: "copy", Usage: "create a database as a copy of another one on its server",
				ArgsUsage: "SERVER/DATABASE NAME", Arguments: append(addressArg(), &cli.StringArg{Name: "name"}),
				Description: "Owner, limits and settings are those of the other one too, where the engine has them.\n" +
					otherOptions,
				Flags: append([]cli.Flag{
					&cli.BoolFlag{Name: "end-sessions", Usage: "end the sessions of what is copied, if need be"},
				}, slices.Concat(optionFlags("owner", "comment"), clearingFlags(false), alterFlags())...),
				Action: a.copyDatabase},
			a.fillCommand(),
			{Name: "alter", Usage: "alter a database: shows what is and what will be, asks, runs, reads back",
				ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(),
				Description: "What is not given stays as it is.\n" + otherOptions,
				Flags: slices.Concat(optionFlags("owner", "encoding", "collation", "tablespace", "connection-limit",
					"comment"), clearingFlags(false), alterFlags()),
				Action: a.alterDatabase},
			a.clearingVerb(
				"drop",
				"set a database aside, so that it can be brought back; or, with --for-good, drop it",
				append(optionFlags(), confirmFlag(),
					&cli.BoolFlag{Name: "if-exists", Usage: "do nothing if it is not there"},
					forGoodFlag(),
					&cli.BoolFlag{Name: "export-first",
						Usage: "with --for-good: export it by the engine's own program first, and keep that"},
					keepDaysFlag("it can be brought back for certain")),
				a.takeAway,
			),
			a.clearingVerb("rename", "give it another name, once nobody is connected",
				[]cli.Flag{&cli.StringFlag{Name: "to", Usage: "the new name", Required: true}},
				func(_ context.Context, c *cli.Command, in *wire.Intent) error {
					in.Kind, in.Database.NewName = wire.KindRenameDatabase, c.String("to")
					return nil
				}),
		}}
}

func forGoodFlag() cli.Flag {
	return &cli.BoolFlag{Name: "for-good", Usage: "drop it at once: nothing can bring it back"}
}

func keepDaysFlag(what string) cli.Flag {
	return &cli.IntFlag{Name: "keep-days", Usage: "for how many days " + what,
		DefaultText: "production 30, staging 7, development 1"}
}

// clearingVerb is a command that needs the database empty of sessions.
func (a app) clearingVerb(name, usage string, flags []cli.Flag,
	fill func(context.Context, *cli.Command, *wire.Intent) error) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(),
		Flags: append(append(flags, clearingFlags(name == "drop")...), alterFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			server, database, err := splitAddress(c)
			if err != nil {
				return err
			}
			spec := wire.DatabaseSpec{Name: database}
			if spec.Options, err = options(c); err != nil {
				return err
			}
			in := wire.Intent{Server: server, Database: &spec}
			if err := fill(ctx, c, &in); err != nil {
				return err
			}
			return a.emptied(ctx, c, in)
		}}
}

// takeAway sets a database aside where its engine can, and nobody asked otherwise.
func (a app) takeAway(ctx context.Context, c *cli.Command, in *wire.Intent) error {
	in.Kind, in.Database.IfExists = wire.KindDropDatabase, c.Bool("if-exists")
	if c.Bool("for-good") {
		if c.IsSet("keep-days") {
			return usage("--keep-days is about setting aside, --for-good keeps nothing: give one of them.")
		}
		if c.Bool("export-first") {
			if in.Database.Options == nil {
				in.Database.Options = map[string]any{}
			}
			in.Database.Options["export_first"] = true
		}
		return nil
	}
	if c.Bool("export-first") {
		return usage("--export-first goes with --for-good: what is set aside stays whole.")
	}
	aside, err := a.canSetAside(ctx, c, in.Server, wire.KindSetAside)
	if err != nil || !aside {
		return err
	}
	in.Kind, in.Database.KeepDays = wire.KindSetAside, c.Int("keep-days")
	return nil
}

func (a app) createDatabase(ctx context.Context, c *cli.Command) error {
	recipe, err := withValues(c)
	if err != nil {
		return err
	}
	server, name := c.StringArg("address"), ""
	if recipe == nil || strings.Contains(server, "/") {
		if server, name, err = splitAddress(c); err != nil {
			return err
		}
	}
	spec := wire.DatabaseSpec{Name: name, IfNotExists: c.Bool("if-not-exists"), Blueprint: recipe}
	if spec.Options, err = options(c); err != nil {
		return err
	}
	if team := c.String("for-team"); team != "" {
		spec.Team = &wire.TeamSpec{Name: team, Host: c.String("client-host")}
	} else if c.IsSet("client-host") {
		return usage("--client-host says where a team's accounts come from: it needs --for-team.")
	}
	in := wire.Intent{Kind: wire.KindCreateDatabase, Server: server, Database: &spec}
	if c.Bool("end-sessions") {
		if in.Clearing, err = clearing(c); err != nil {
			return err
		}
	}
	if recipe == nil {
		return a.alter(ctx, c, in)
	}
	return a.createByRecipe(ctx, c, in)
}

// copyDatabase creates a database with another one as its template, as much like it as the
// engine can make it.
func (a app) copyDatabase(ctx context.Context, c *cli.Command) error {
	server, from, err := splitAddress(c)
	if err != nil {
		return err
	}
	name, addressed := strings.CutPrefix(c.StringArg("name"), server+"/")
	if name == "" || strings.Contains(name, "/") && !addressed {
		return usage("Name the copy, which comes to be on the same server: %s SERVER/DATABASE NAME", c.FullName())
	}
	spec := wire.DatabaseSpec{Name: name}
	if spec.Options, err = options(c); err != nil {
		return err
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	engine, err := engineOf(ctx, api, server)
	if err != nil {
		return err
	}
	if spec.Options == nil {
		spec.Options = map[string]any{}
	}
	for option, value := range map[string]any{"template": from, "as_template": true} {
		known := slices.ContainsFunc(engine.Fields["database"], func(f wire.Field) bool { return f.Name == option })
		if known && spec.Options[option] == nil {
			spec.Options[option] = value
		}
	}
	if spec.Options["template"] == nil {
		return usage("%s cannot copy databases.", engine.Title)
	}
	in := wire.Intent{Kind: wire.KindCreateDatabase, Server: server, Database: &spec}
	if c.Bool("end-sessions") {
		if in.Clearing, err = clearing(c); err != nil {
			return err
		}
	}
	return a.alter(ctx, c, in)
}

func (a app) alterDatabase(ctx context.Context, c *cli.Command) error {
	server, name, err := splitAddress(c)
	if err != nil {
		return err
	}
	spec := wire.DatabaseSpec{Name: name}
	if spec.Options, err = options(c); err != nil {
		return err
	}
	if len(spec.Options) == 0 {
		return usage("Say what to alter: %s SERVER/DATABASE --comment …, or --set NAME=VALUE", c.FullName())
	}
	in := wire.Intent{Kind: wire.KindAlterDatabase, Server: server, Database: &spec}
	// Only some alterations need the database empty of sessions.
	if slices.ContainsFunc([]string{"tablespace", "grace", "when-empty", "accept-loss"}, c.IsSet) {
		if in.Clearing, err = clearing(c); err != nil {
			return err
		}
	}
	return a.alter(ctx, c, in)
}

func (a app) listDatabases(ctx context.Context, c *cli.Command, api *client.Client, server string) error {
	list, err := api.Databases(ctx, server,
		client.DatabaseQuery{Search: c.String("search"), System: c.Bool("system"), Limit: c.Int("limit")})
	if err != nil {
		return err
	}
	engine, err := api.Engine(ctx, list.Engine)
	if err != nil {
		return err
	}
	for _, p := range list.Partial {
		a.say("%s  %s", caution.Render("partial"), p)
	}
	if c.String("output") == "table" {
		switch {
		case list.Total == 0 && c.String("search") != "":
			a.say("No database on %s fits %q.", server, c.String("search"))
		case list.Total == 0:
			a.say("%s  %s  has no databases yet besides its own (--system shows those)", bold.Render(server),
				environmentText(list.Environment))
		default:
			a.say("%s  %s  %s%s", bold.Render(server), environmentText(list.Environment),
				naming.Count(list.Total, "database"), faint.Render("  read "+timeText(list.Read)+countedText(list)))
		}
	}
	a.sayBounded(len(list.Databases), list.Total)
	if list.SetAside > 0 && c.String("output") == "table" {
		a.say("%s", faint.Render(fmt.Sprintf("%d more set aside: genarch holding list %s", list.SetAside, server)))
	}
	return print(a, c, list, list.Databases, databaseColumns(engine))
}

// countedText says how old the oldest count of tables is, if it is not new, and why
// some are not there.
func countedText(list wire.DatabaseList) string {
	oldest, uncounted := list.Read, 0
	for _, d := range list.Databases {
		if d.Tables == nil && !d.Closed && d.Trouble == "" {
			uncounted++
		}
		if d.TablesRead != nil && d.TablesRead.Before(oldest) {
			oldest = *d.TablesRead
		}
	}
	text := ""
	if age := list.Read.Sub(oldest); age >= time.Second {
		text = fmt.Sprintf(", tables counted up to %d s before", int(age.Seconds()))
	}
	if uncounted > 0 {
		text += fmt.Sprintf("; in %d of them (?) the tables are still being counted, look again in a moment", uncounted)
	}
	return text
}

// databaseColumns has the properties first that a form asks for first, then the
// figures, then the others; the comment, which is long, is the last one.
func databaseColumns(engine wire.Engine) []column[wire.Database] {
	first := []column[wire.Database]{{title: "database", text: func(d wire.Database) string { return d.Name }}}
	var others, last []column[wire.Database]
	for _, f := range engine.Fields["database"] {
		col := column[wire.Database]{title: strings.ToLower(f.Title),
			text:  func(d wire.Database) string { return fieldText(f, property(d, f.Name)) },
			exact: func(d wire.Database) string { return valueText(property(d, f.Name)) },
			right: f.Type == "number" || f.Type == "size"}
		col.asked = f.Show != "list"
		switch {
		case f.Show == "":
		case f.Name == "comment":
			last = append(last, col)
		case f.Group == "":
			first = append(first, col)
		default:
			others = append(others, col)
		}
	}
	figures := []column[wire.Database]{
		{title: "size", text: func(d wire.Database) string {
			if d.Size == nil {
				return unknown
			}
			return sizeText(*d.Size)
		}, exact: func(d wire.Database) string { return numberText(d.Size) }, right: true},
		{title: strings.ToLower(engine.Nouns["table"].Many),
			text: func(d wire.Database) string { return numberText(d.Tables) }, right: true},
		{title: "sessions", text: func(d wire.Database) string { return numberText(d.Sessions) }, right: true},
	}
	told := []column[wire.Database]{
		{title: "system", text: func(d wire.Database) string { return ifSo(d.System) }},
		{title: "trouble", text: func(d wire.Database) string { return d.Trouble }},
	}
	return slices.Concat(first, figures, others, told, last)
}

// ifSo says yes or nothing, so that a column in which nothing is so is left out.
func ifSo(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func (a app) showDatabase(ctx context.Context, c *cli.Command) error {
	server, name, err := splitAddress(c)
	if err != nil {
		return err
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	d, err := api.Database(ctx, server, name)
	if err != nil {
		return err
	}
	engine, err := engineOf(ctx, api, server)
	if err != nil {
		return err
	}
	if c.String("output") != "table" {
		return print(a, c, d, []wire.Database{d}, databaseColumns(engine))
	}
	p := properties{}
	p.add("database", visible(d.Address))
	if d.Trouble != "" {
		p.add("trouble", wrong.Render(d.Trouble))
	}
	size := unknown
	if d.Size != nil {
		size = fmt.Sprintf("%s (%d bytes)", sizeText(*d.Size), *d.Size)
	}
	p.add("size", size)
	tables := numberText(d.Tables)
	if tables == "0" {
		tables = "0 (empty: nothing has been installed in it)"
	}
	p.add(strings.ToLower(engine.Nouns["table"].Many), tables)
	p.add("sessions", numberText(d.Sessions))
	p.add("last use", useText(d.LastUse, d.Sessions))
	for _, f := range engine.Fields["database"] {
		addField(&p, f, property(d, f.Name))
	}
	p.add("system", yes(d.System))
	made := "not by Genarch, or unknown"
	if d.CreatedBy != nil {
		made = fmt.Sprintf("%s by %s, change %d", timeText(d.CreatedBy.At), d.CreatedBy.Operator, d.CreatedBy.Change)
	}
	p.add("created", made)
	p.print(a)
	return nil
}

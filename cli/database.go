package cli

import (
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
)

// splitAddress reads SERVER/DATABASE. It asks for the slash, so that a name is
// never taken for a server.
func splitAddress(c *cli.Command) (server, name string, err error) {
	text := c.StringArg("address")
	server, name, ok := strings.Cut(text, "/")
	name = strings.TrimPrefix(name, "database:")
	if !ok || server == "" || name == "" {
		return "", "", usage("name the database with its server: %s SERVER/DATABASE, not %q", c.FullName(), text)
	}
	return server, name, nil
}

func addressArg() []cli.Argument { return []cli.Argument{&cli.StringArg{Name: "address"}} }

func (a app) databaseCommand() *cli.Command {
	return &cli.Command{Name: "database", Usage: "databases: see what is there, create, rename, move, drop", Commands: []*cli.Command{
		{Name: "list", Usage: "the databases of a server, as they are now", ArgsUsage: "SERVER", Arguments: nameArg(),
			Flags: []cli.Flag{outputFlag(),
				&cli.StringFlag{Name: "search", Usage: "part of the name, owner or comment"},
				&cli.BoolFlag{Name: "system", Usage: "the engine's own databases too"},
				&cli.StringFlag{Name: "sort", Value: "name", Usage: "name, owner, size, tables, sessions or encoding; - before it turns it round"},
				&cli.IntFlag{Name: "limit", Value: 20000, Usage: "at most so many"}},
			Action: a.withServer(a.listDatabases)},
		{Name: "show", Usage: "one database with all its properties", ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(), Flags: []cli.Flag{outputFlag()}, Action: a.showDatabase},
		{Name: "create", Usage: "create a database: shows the brief, asks, runs, reads back", ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(),
			Description: "What is not given is left to the server's defaults, which the brief shows with their values.\nOptions that the engine does not have are refused.",
			Flags: append([]cli.Flag{
				&cli.BoolFlag{Name: "if-absent", Usage: "do nothing if it is there, and say what differs"},
				&cli.StringFlag{Name: "for-team", Usage: "with it, what a team needs: the role NAME_owner, the accounts NAME_app (write) and NAME_read, tried"},
				&cli.StringFlag{Name: "client-host", Usage: "MariaDB: where the team's accounts come from", DefaultText: "everywhere"},
				&cli.BoolFlag{Name: "clear-template", Usage: "PostgreSQL: end the sessions of a template that is in use"},
				&cli.BoolFlag{Name: "private", Usage: "PostgreSQL: nobody may connect but the owner and those allowed"},
				&cli.StringSliceFlag{Name: "allow", Usage: "PostgreSQL, with --private: who may connect"},
				&cli.BoolFlag{Name: "clear-leftovers", Usage: "MariaDB: first take the grants that would come alive with the name"},
				&cli.StringFlag{Name: "owner", Usage: "role; on MariaDB an account as name@host, which gets all privileges on it"},
				&cli.StringFlag{Name: "encoding", Aliases: []string{"character-set"}, Usage: "encoding or character set"},
				&cli.StringFlag{Name: "collation", Usage: "how text is sorted and compared"},
				&cli.StringFlag{Name: "ctype", Usage: "PostgreSQL: character type", DefaultText: "that of the collation"},
				&cli.StringFlag{Name: "provider", Usage: "PostgreSQL: locale provider: libc, icu, builtin"},
				&cli.StringFlag{Name: "locale", Usage: "PostgreSQL: locale at that provider"},
				&cli.StringFlag{Name: "template", Usage: "PostgreSQL: database to copy"},
				&cli.StringFlag{Name: "tablespace", Usage: "PostgreSQL: where on disk"},
				&cli.StringFlag{Name: "strategy", Usage: "PostgreSQL: wal_log or file_copy"},
				&cli.IntFlag{Name: "connection-limit", Usage: "PostgreSQL: sessions at once; -1 is no limit", DefaultText: "none"},
				&cli.BoolFlag{Name: "allow-connections", Usage: "PostgreSQL: --allow-connections=false keeps everybody out", DefaultText: "true"},
				&cli.BoolFlag{Name: "is-template", Usage: "PostgreSQL: others may copy it"},
				&cli.StringFlag{Name: "comment", Usage: "a remark that is kept with the database"},
			}, append(clearingFlags(false), alterFlags()...)...), Action: a.createDatabase},
		a.takeVerb("drop", "drop a database for good: shows what would be lost and who is connected, ends sessions, drops, reads back", "database.drop",
			[]cli.Flag{confirmFlag(), &cli.BoolFlag{Name: "if-present", Usage: "do nothing if it is not there"}, &cli.BoolFlag{Name: "clear-leftovers", Usage: "MariaDB: take the grants on its name too"}},
			func(c *cli.Command, spec *wire.DatabaseSpec) {
				spec.IfPresent, spec.ClearLeftovers = c.Bool("if-present"), c.Bool("clear-leftovers")
			}),
		a.takeVerb("rename", "PostgreSQL: give it another name, once nobody is connected", "database.rename", []cli.Flag{&cli.StringFlag{Name: "to", Usage: "the new name", Required: true}},
			func(c *cli.Command, spec *wire.DatabaseSpec) { spec.NewName = c.String("to") }),
		a.takeVerb("move", "PostgreSQL: move its files to another tablespace, once nobody is connected", "database.move", []cli.Flag{&cli.StringFlag{Name: "tablespace", Usage: "where to", Required: true}},
			func(c *cli.Command, spec *wire.DatabaseSpec) { spec.Tablespace = c.String("tablespace") }),
	}}
}

// takeVerb is a command that needs the database empty of sessions.
func (a app) takeVerb(name, usage, intent string, flags []cli.Flag, fill func(*cli.Command, *wire.DatabaseSpec)) *cli.Command {
	return &cli.Command{Name: name, Usage: usage, ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(), Flags: append(append(flags, clearingFlags(name == "drop")...), alterFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			server, database, err := splitAddress(c)
			if err != nil {
				return err
			}
			spec := wire.DatabaseSpec{Name: database}
			fill(c, &spec)
			in := wire.Intent{Kind: intent, Server: server, Database: &spec}
			if in.Clearing, err = clearing(c); err != nil {
				return err
			}
			return a.alter(ctx, c, in)
		}}
}

func (a app) createDatabase(ctx context.Context, c *cli.Command) error {
	server, name, err := splitAddress(c)
	if err != nil {
		return err
	}
	spec := wire.DatabaseSpec{Name: name, IfAbsent: c.Bool("if-absent"), Owner: c.String("owner"), Encoding: c.String("encoding"),
		Collation: c.String("collation"), CType: c.String("ctype"), Provider: c.String("provider"), Locale: c.String("locale"),
		Template: c.String("template"), Tablespace: c.String("tablespace"), Strategy: c.String("strategy"), Comment: c.String("comment"),
		ClearLeftovers: c.Bool("clear-leftovers"), Private: c.Bool("private"), Allow: c.StringSlice("allow")}
	if team := c.String("for-team"); team != "" {
		spec.Team = &wire.TeamSpec{Name: team, Host: c.String("client-host")}
	} else if c.IsSet("client-host") {
		return usage("--client-host says where a team's accounts come from: it needs --for-team")
	}
	if c.IsSet("connection-limit") {
		n := c.Int("connection-limit")
		spec.ConnectionLimit = &n
	}
	for flag, field := range map[string]**bool{"allow-connections": &spec.AllowConnections, "is-template": &spec.IsTemplate} {
		if c.IsSet(flag) {
			v := c.Bool(flag)
			*field = &v
		}
	}
	in := wire.Intent{Kind: "database.create", Server: server, Database: &spec}
	if c.Bool("clear-template") {
		if in.Clearing, err = clearing(c); err != nil {
			return err
		}
	}
	return a.alter(ctx, c, in)
}

// sorters compare two databases by one property; unknown comes last.
var sorters = map[string]func(x, y wire.Database) int{
	"name":     func(x, y wire.Database) int { return strings.Compare(x.Name, y.Name) },
	"owner":    func(x, y wire.Database) int { return strings.Compare(x.Owner, y.Owner) },
	"encoding": func(x, y wire.Database) int { return strings.Compare(x.Encoding, y.Encoding) },
	"size":     func(x, y wire.Database) int { return comparePtr(x.Size, y.Size) },
	"tables":   func(x, y wire.Database) int { return comparePtr(x.Tables, y.Tables) },
	"sessions": func(x, y wire.Database) int { return comparePtr(x.Sessions, y.Sessions) },
}

func comparePtr[N int | int64](x, y *N) int {
	switch {
	case x == nil && y == nil:
		return 0
	case x == nil:
		return 1
	case y == nil:
		return -1
	case *x < *y:
		return -1
	case *x > *y:
		return 1
	}
	return 0
}

func (a app) listDatabases(ctx context.Context, c *cli.Command, api *client.Client, server string) error {
	by, reverse := strings.CutPrefix(c.String("sort"), "-")
	compare, known := sorters[by]
	if !known {
		return usage("sort by name, owner, size, tables, sessions or encoding, not %q", by)
	}
	list, err := api.Databases(ctx, server, client.DatabaseQuery{Search: c.String("search"), System: c.Bool("system"), Limit: c.Int("limit")})
	if err != nil {
		return err
	}
	slices.SortStableFunc(list.Databases, func(x, y wire.Database) int {
		if reverse {
			return compare(y, x)
		}
		return compare(x, y)
	})
	for _, p := range list.Partial {
		a.say("%s  %s", caution.Render("partial"), p)
	}
	if c.String("output") == "table" {
		switch {
		case list.Total == 0 && c.String("search") != "":
			a.say("no database on %s fits %q", server, c.String("search"))
		case list.Total == 0:
			a.say("%s  %s  has no databases yet besides its own (--system shows those)", bold.Render(server), environmentText(list.Environment))
		default:
			a.say("%s  %s  %d databases%s", bold.Render(server), environmentText(list.Environment), list.Total, faint.Render("  read "+timeText(list.Read)+countedText(list)))
		}
	}
	return print(a, c, list, list.Databases, databaseColumns(list.Engine))
}

// countedText says how old the oldest count of tables is, if it is not new, and why
// some are not there.
func countedText(list wire.DatabaseList) string {
	oldest, uncounted := list.Read, 0
	for _, d := range list.Databases {
		if d.Tables == nil && d.AllowConnections && d.Trouble == "" {
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

func databaseColumns(engine string) []column[wire.Database] {
	columns := []column[wire.Database]{
		{title: "database", text: func(d wire.Database) string { return d.Name }},
		{title: "owner", text: func(d wire.Database) string { return d.Owner }},
		{title: "encoding", text: func(d wire.Database) string { return d.Encoding }},
		{title: "collation", text: func(d wire.Database) string { return d.Collation }},
		{title: "size", text: func(d wire.Database) string {
			if d.Size == nil {
				return unknown
			}
			return sizeText(*d.Size)
		}, exact: func(d wire.Database) string { return numberText(d.Size) }, right: true},
		{title: "tables", text: func(d wire.Database) string { return numberText(d.Tables) }, right: true},
		{title: "sessions", text: func(d wire.Database) string { return numberText(d.Sessions) }, right: true},
	}
	if engine == "postgresql" {
		columns = append(columns,
			column[wire.Database]{title: "limit", text: limitText, right: true},
			column[wire.Database]{title: "open", text: func(d wire.Database) string { return yes(d.AllowConnections) }},
			column[wire.Database]{title: "template", text: func(d wire.Database) string { return ifSo(d.IsTemplate) }})
	}
	return append(columns,
		column[wire.Database]{title: "system", text: func(d wire.Database) string { return ifSo(d.System) }},
		column[wire.Database]{title: "trouble", text: func(d wire.Database) string { return d.Trouble }},
		column[wire.Database]{title: "comment", text: func(d wire.Database) string { return d.Comment }})
}

// ifSo says yes or nothing, so that a column in which nothing is so is left out.
func ifSo(b bool) string {
	if b {
		return "yes"
	}
	return ""
}

func limitText(d wire.Database) string {
	if d.ConnectionLimit < 0 {
		return "none"
	}
	return strconv.Itoa(d.ConnectionLimit)
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
	if c.String("output") != "table" {
		return print(a, c, d, []wire.Database{d}, databaseColumns("postgresql"))
	}
	p := properties{}
	p.add("database", visible(d.Address))
	if d.Trouble != "" {
		p.add("trouble", wrong.Render(d.Trouble))
	}
	if d.Owner != "" {
		p.add("owner", visible(d.Owner))
	} else {
		owners := "none (MariaDB has no owners)"
		if len(d.Owners) > 0 {
			owners = visible(strings.Join(d.Owners, ", ")) + " (all privileges; MariaDB has no owners)"
		}
		p.add("owner", owners)
	}
	p.add("encoding", d.Encoding)
	p.add("collation", d.Collation)
	if d.Provider != "" {
		p.add("character type", d.CType)
		p.add("locale provider", strings.TrimSpace(d.Provider+" "+d.Locale))
		p.add("tablespace", d.Tablespace)
		p.add("connections allowed", yes(d.AllowConnections))
		p.add("connection limit", limitText(d))
		p.add("template", yes(d.IsTemplate))
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
	p.add("tables", tables)
	p.add("sessions", numberText(d.Sessions))
	p.add("last use", useText(d.LastUse, d.Sessions))
	p.add("system", yes(d.System))
	p.add("comment", visible(d.Comment))
	made := "not by Genarch, or unknown"
	if d.CreatedBy != nil {
		made = fmt.Sprintf("%s by %s, change %d", timeText(d.CreatedBy.At), d.CreatedBy.Operator, d.CreatedBy.Change)
	}
	p.add("created", made)
	p.print(a)
	return nil
}

// choiceCommand lists one kind of choice of a server.
func (a app) choiceCommand(noun, what string) *cli.Command {
	return &cli.Command{Name: noun, Usage: what, Commands: []*cli.Command{
		{Name: "list", Usage: "list them, the default marked", ArgsUsage: "SERVER", Arguments: nameArg(),
			Flags: []cli.Flag{outputFlag(), &cli.StringFlag{Name: "search", Usage: "part of the name"}},
			Action: a.withServer(func(ctx context.Context, c *cli.Command, api *client.Client, server string) error {
				choices, err := api.Choices(ctx, server)
				if err != nil {
					return err
				}
				return a.printChoices(c, noun, choices)
			})},
	}}
}

func (a app) printChoices(c *cli.Command, noun string, all wire.Choices) error {
	switch noun {
	case "encoding":
		return chosen(a, c, all.Server, noun, all.Encodings, func(e wire.Encoding) string { return e.Name }, []column[wire.Encoding]{
			{title: "encoding", text: func(e wire.Encoding) string { return e.Name }},
			{title: "default", text: func(e wire.Encoding) string { return ifSo(e.Default) }},
			{title: "its default collation", text: func(e wire.Encoding) string { return e.Collation }},
			{title: "description", text: func(e wire.Encoding) string { return e.Comment }}})
	case "collation":
		return chosen(a, c, all.Server, noun, all.Collations, func(l wire.Collation) string { return l.Name }, []column[wire.Collation]{
			{title: "collation", text: func(l wire.Collation) string { return l.Name }},
			{title: "default", text: func(l wire.Collation) string { return ifSo(l.Default) }},
			{title: "encoding", text: func(l wire.Collation) string {
				if l.Encoding == "" {
					return "any"
				}
				return l.Encoding
			}},
			{title: "provider", text: func(l wire.Collation) string { return l.Provider }}})
	case "template":
		return chosen(a, c, all.Server, noun, all.Templates, func(t wire.Template) string { return t.Name }, []column[wire.Template]{
			{title: "template", text: func(t wire.Template) string { return t.Name }},
			{title: "default", text: func(t wire.Template) string { return ifSo(t.Default) }},
			{title: "encoding", text: func(t wire.Template) string { return t.Encoding }},
			{title: "collation", text: func(t wire.Template) string { return t.Collation }},
			{title: "provider", text: func(t wire.Template) string { return t.Provider }},
			{title: "sessions", text: func(t wire.Template) string { return strconv.Itoa(t.Sessions) }, right: true},
			{title: "usable", text: func(t wire.Template) string {
				if !t.Usable {
					return "no: " + t.Why
				}
				return "yes"
			}},
			{title: "comment", text: func(t wire.Template) string { return t.Comment }}})
	}
	return chosen(a, c, all.Server, noun, all.Tablespaces, func(t wire.Tablespace) string { return t.Name }, []column[wire.Tablespace]{
		{title: "tablespace", text: func(t wire.Tablespace) string { return t.Name }},
		{title: "default", text: func(t wire.Tablespace) string { return ifSo(t.Default) }},
		{title: "owner", text: func(t wire.Tablespace) string { return t.Owner }},
		{title: "location", text: func(t wire.Tablespace) string {
			if t.Location == "" {
				return "the data folder"
			}
			return t.Location
		}},
		{title: "size", text: func(t wire.Tablespace) string {
			if t.Size == nil {
				return unknown
			}
			return sizeText(*t.Size)
		}, exact: func(t wire.Tablespace) string { return numberText(t.Size) }, right: true}})
}

// chosen filters a list of choices by --search and prints it.
func chosen[T any](a app, c *cli.Command, server, noun string, list []T, name func(T) string, columns []column[T]) error {
	if len(list) == 0 {
		a.say("%s has no %ss: its engine knows no such thing", server, noun)
	}
	search := strings.ToLower(c.String("search"))
	list = slices.DeleteFunc(list, func(x T) bool { return !strings.Contains(strings.ToLower(name(x)), search) })
	return print(a, c, list, list, columns)
}

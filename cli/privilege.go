package cli

import (
	"context"
	"fmt"
	"net/url"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/core/naming"
)

func objectFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "schema", Usage: "on a schema, where a database has them"},
		&cli.StringFlag{Name: "table",
			Usage: "on a table or view: SCHEMA.TABLE, or TABLE where a database has no schemas"},
		&cli.StringFlag{Name: "sequence", Usage: "on a sequence: SCHEMA.SEQUENCE, where sequences are granted on"},
		&cli.StringFlag{Name: "routine",
			Usage: "on a routine: SCHEMA.NAME(TYPES); where a database has no schemas, the name of a procedure or, if there is none, of a function"},
		&cli.StringFlag{Name: "column", Usage: "on one column of the table"},
	}
}

// readObject reads what single privileges are about: the database itself when
// nothing else is named.
func readObject(c *cli.Command, database string) wire.Object {
	o := wire.Object{Scope: "database", Database: database}
	if v := c.String("schema"); v != "" {
		o.Scope, o.Schema = "schema", v
	}
	for _, scope := range []string{"table", "sequence", "routine"} {
		if v := c.String(scope); v != "" {
			o.Scope, o.Schema, o.Name = scope, "", v
			if schema, name, ok := strings.Cut(v, "."); ok {
				o.Schema, o.Name = schema, name
			}
		}
	}
	if v := c.String("column"); v != "" {
		o.Scope, o.Column = "column", v
	}
	return o
}

// privilegeCommand: Long: a list of commands with their options.
func (a app) privilegeCommand() *cli.Command {
	alter := func(name, usageText, intent, flag, bundle, bundleUsage string, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usageText, ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(),
			Flags: slices.Concat([]cli.Flag{&cli.StringFlag{Name: flag,
				Usage: "NAME, NAME@HOST where the host is part of it, or role:NAME, or PUBLIC", Required: true},
				&cli.StringFlag{Name: bundle, Usage: bundleUsage},
				&cli.StringSliceFlag{Name: "privilege", Usage: "single privileges instead, such as SELECT,INSERT"}},
				objectFlags(), flags, alterFlags()),
			Action: func(ctx context.Context, c *cli.Command) error {
				server, database, err := splitAddress(c)
				if err != nil {
					return err
				}
				spec := wire.GrantSpec{Database: database, To: holder(c.String(flag)), Bundle: c.String(bundle),
					Privileges: c.StringSlice("privilege"), GrantOption: c.Bool("with-grant-option")}
				if spec.Options, err = options(c); err != nil {
					return err
				}
				if len(spec.Privileges) > 0 {
					spec.On = readObject(c, database)
				}
				if intent == wire.KindGrantPrivilege && spec.Bundle == "" && len(spec.Privileges) == 0 {
					return usage("Say what to grant: --bundle read, write, build or own; or --privilege.")
				}
				return a.alter(ctx, c, wire.Intent{Kind: intent, Server: server, Grant: &spec})
			}}
	}
	return &cli.Command{Name: "privilege", Usage: "privileges: who may do what, and why; grant and revoke them",
		Commands: []*cli.Command{
			{Name: "list", Usage: "what was granted to an account, or to anybody on a database",
				ArgsUsage: "SERVER/DATABASE or SERVER/account:NAME", Arguments: addressArg(),
				Flags:  listFlags(limitFlag(2000)),
				Action: a.listGrants},
			{Name: "matrix", Usage: "what every account comes to on every database", ArgsUsage: "SERVER",
				Arguments: nameArg(),
				Flags: listFlags(
					&cli.StringFlag{Name: "account", Usage: "only accounts with this in their name"},
					&cli.StringFlag{Name: "database", Usage: "only databases with this in their name"},
					&cli.BoolFlag{Name: "system", Usage: "the engine's own too"},
					&cli.BoolFlag{Name: "fresh", Usage: "look into every database now, not as of half a minute ago"}),
				Action: a.withServer(a.showMatrix)},
			{Name: "why", Usage: "whether an account may do something, and by which chain",
				ArgsUsage:   "SERVER/account:NAME PRIVILEGE OBJECT",
				Description: "OBJECT is DATABASE, DATABASE/SCHEMA.TABLE, DATABASE/TABLE where a database has no schemas, DATABASE/SCHEMA. for a schema, or server.",
				Arguments: []cli.Argument{&cli.StringArg{Name: "address"}, &cli.StringArg{Name: "privilege"},
					&cli.StringArg{Name: "object"}},
				Flags: []cli.Flag{outputFlag(), &cli.StringFlag{Name: "column", Usage: "one column of the table"},
					&cli.BoolFlag{Name: "sequence", Usage: "the object is a sequence"},
					&cli.BoolFlag{Name: "routine", Usage: "the object is a routine"}}, Action: a.showWhy},
			{Name: "compare", Usage: "in what two accounts differ, on one server or two",
				ArgsUsage: "SERVER/account:NAME SERVER/account:NAME",
				Arguments: []cli.Argument{&cli.StringArg{Name: "left"}, &cli.StringArg{Name: "right"}},
				Flags:     listFlags(), Action: a.compareAccounts},
			alter("grant", "grant a bundle or single privileges on a database", wire.KindGrantPrivilege, "to", "bundle",
				"read, write, build or own",
				append(optionFlags(), &cli.BoolFlag{Name: "with-grant-option",
					Usage: "with the right to grant them to others"})...),
			alter("revoke", "revoke privileges on a database: all, single ones, or all but those of a bundle",
				wire.KindRevokePrivilege, "from", "keep-bundle", "the bundle that is to remain: read, write or build",
				optionFlags()...),
		}}
}

func grantColumns(withHolder bool) []column[wire.GrantLine] {
	columns := []column[wire.GrantLine]{
		{title: "on", text: func(g wire.GrantLine) string { return g.Text }},
		{title: "privileges", text: func(g wire.GrantLine) string {
			text := strings.Join(g.Privileges, ", ")
			if g.Owner {
				text = strings.TrimSuffix("owner, "+text, ", ")
			}
			if len(g.Denied) > 0 {
				text = strings.TrimPrefix(text+"; denied: "+strings.Join(g.Denied, ", "), "; ")
			}
			return text
		}},
		{title: "with grant option", text: func(g wire.GrantLine) string { return strings.Join(g.GrantOption, ", ") }},
		{title: "granted by", text: func(g wire.GrantLine) string {
			if g.Builtin {
				return "(as made)"
			}
			return g.Grantor
		}},
		{title: "remark", text: func(g wire.GrantLine) string {
			switch {
			case g.Leftover:
				return "the database does not exist"
			case g.Pattern:
				return "opens: " + strings.Join(g.Opens, ", ")
			}
			return ""
		}},
	}
	if withHolder {
		columns = append([]column[wire.GrantLine]{{title: "who",
			text: func(g wire.GrantLine) string { return holderText(g.Holder) }}}, columns...)
	}
	return columns
}

func (a app) listGrants(ctx context.Context, c *cli.Command) error {
	at, err := naming.ParseAddress(c.StringArg("address"))
	if err != nil || at.Name == "" && at.Host == "" {
		return usage("Name a database or an account: %s SERVER/DATABASE or SERVER/account:NAME", c.FullName())
	}
	q := url.Values{"limit": {strconv.Itoa(c.Int("limit"))}}
	onDatabase := at.Kind == naming.KindDatabase
	if onDatabase {
		q.Set("database", at.Name)
	} else {
		setWho(q, wire.Principal{Name: at.Name, Host: at.Host, Database: at.Database, Role: at.Kind == naming.KindRole})
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	list, err := api.Grants(ctx, at.Server, q)
	if err != nil {
		return err
	}
	a.showUnknown(list.Unknown)
	if len(list.Grants) == 0 {
		a.say("nothing was granted there")
	}
	if list.Total > len(list.Grants) {
		a.say("there are %d; see --limit", list.Total)
	}
	return print(a, c, list, list.Grants, grantColumns(onDatabase))
}

// setWho names an account or role in a query.
func setWho(q url.Values, p wire.Principal) {
	name := p.Name
	if p.Host != "" {
		name += "@" + p.Host
	}
	q.Set("account", name)
	q.Set("within", p.Database)
	q.Set("role", strconv.FormatBool(p.Role))
}

// levelWords are what the letters of a matrix stand for.
var levelWords = map[byte]string{'-': "none", '?': "unknown", 'n': "connect", 'c': "custom", 'r': "read", 'w': "write",
	'b': "build", 'o': "own"}

// cellWord is the level of a cell; a star says that there is more to it.
func cellWord(letter byte) (word string, differs bool) {
	if letter >= 'A' && letter <= 'Z' {
		return levelWords[letter+'a'-'A'], true
	}
	return levelWords[letter], false
}

// showMatrix: Long: what is drawn depends on what was read all the way.
func (a app) showMatrix(ctx context.Context, c *cli.Command, api *client.Client, server string) error {
	q := url.Values{"system": {strconv.FormatBool(c.Bool("system"))}, "fresh": {strconv.FormatBool(c.Bool("fresh"))}}
	for _, name := range []string{"account", "database"} {
		if v := c.String(name); v != "" {
			q.Set(name, v)
		}
	}
	m, err := api.Matrix(ctx, server, q)
	if err != nil {
		return err
	}
	columns := []column[wire.MatrixRow]{{title: "account", text: func(r wire.MatrixRow) string {
		name := r.Name
		if name == "" {
			name = "(no name)"
		}
		if r.Host != "" {
			name += "@" + r.Host
		}
		if r.Database != "" {
			name = r.Database + "/" + name
		}
		if r.Role {
			name = "role " + name
		}
		if r.Super {
			name += " (superuser)"
		}
		return name
	}}}
	for i, d := range m.Databases {
		columns = append(columns, column[wire.MatrixRow]{title: d, text: func(r wire.MatrixRow) string {
			word, differs := cellWord(r.Cells[i])
			if word == "none" {
				return "-"
			}
			if differs {
				word += "*"
			}
			return word
		}})
	}
	if c.String("output") == "table" {
		a.say("%s  %s  %d accounts and roles, %d databases%s", bold.Render(server), environmentText(m.Environment),
			len(m.Rows), len(m.Databases), faint.Render("  read "+timeText(m.Read)))
		a.say("%s", faint.Render("* has more than the bundle, or not what will be made later; connect: may connect, and nothing else; custom: fits no bundle"))
	}
	a.showUnknown(m.Unknown)
	if err := print(a, c, m, m.Rows, columns); err != nil || c.String("output") != "table" {
		return err
	}
	for _, g := range m.Wide {
		opens := strings.Join(g.Opens, ", ")
		if opens == "" {
			opens = "nothing else now"
		}
		a.say("%s  the grant of %s on %s opens more than one database by that name: also %s", caution.Render("wide"),
			holderText(g.Holder), visible(g.Object.Database), visible(opens))
	}
	for _, g := range m.Leftovers {
		a.say("%s  %s: %s on %s, which does not exist; it takes effect again with it", caution.Render("left over"),
			holderText(g.Holder), strings.Join(g.Privileges, ", "), visible(g.Text))
	}
	return nil
}

// readTarget reads the OBJECT of grant why.
func readTarget(c *cli.Command, text string) url.Values {
	q := url.Values{}
	database, name, below := strings.Cut(text, "/")
	switch {
	case text == "server":
		q.Set("scope", "server")
		return q
	case !below:
		q.Set("scope", "database")
	case strings.HasSuffix(name, "."):
		q.Set("scope", "schema")
		q.Set("schema", strings.TrimSuffix(name, "."))
	default:
		q.Set("scope", "table")
		if c.Bool("sequence") {
			q.Set("scope", "sequence")
		}
		if c.Bool("routine") {
			q.Set("scope", "routine")
		}
		if schema, object, ok := strings.Cut(name, "."); ok {
			q.Set("schema", schema)
			name = object
		}
		q.Set("name", name)
	}
	if v := c.String("column"); v != "" {
		q.Set("scope", "column")
		q.Set("column", v)
	}
	q.Set("database", database)
	return q
}

func (a app) showWhy(ctx context.Context, c *cli.Command) error {
	privilege, object := c.StringArg("privilege"), c.StringArg("object")
	if privilege == "" || object == "" {
		return usage("Say which privilege on what: %s SERVER/account:NAME PRIVILEGE OBJECT", c.FullName())
	}
	server, p, err := splitWho(c, "account")
	if err != nil {
		return err
	}
	q := readTarget(c, object)
	q.Set("privilege", privilege)
	setWho(q, p)
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	w, err := api.Why(ctx, server, q)
	if err != nil {
		return err
	}
	if c.String("output") != "table" {
		return print(a, c, w, w.Needs, []column[wire.Need]{
			{title: "needs", text: func(n wire.Need) string { return n.Text }},
			{title: "met", text: func(n wire.Need) string { return yes(n.Met) }}})
	}
	style, word := fine, "yes"
	if !w.Allowed {
		style, word = wrong, "no"
	}
	fmt.Fprintf(a.Out, "%s  %s\n", style.Render(word), visible(w.Summary))
	for _, b := range w.Barred {
		fmt.Fprintf(a.Out, "  %s  %s\n", wrong.Render("kept out"), visible(b))
	}
	for _, n := range w.Needs {
		mark := fine.Render("has    ")
		if !n.Met {
			mark = wrong.Render("missing")
		}
		fmt.Fprintf(a.Out, "  %s  %s\n", mark, visible(n.Text))
		for _, ch := range n.Chains {
			fmt.Fprintf(a.Out, "             %s\n", visible(ch.Text))
		}
		if n.More > 0 {
			fmt.Fprintf(a.Out, "             and %d more ways\n", n.More)
		}
		for _, ch := range n.Denied {
			fmt.Fprintf(a.Out, "             %s %s\n", wrong.Render("denied:"), visible(ch.Text))
		}
		for _, ch := range n.Dormant {
			fmt.Fprintf(a.Out, "             %s %s\n", caution.Render("only after SET ROLE:"), visible(ch.Text))
		}
		if !n.Met && !n.Known {
			fmt.Fprintf(a.Out, "             %s\n", caution.Render("there is no such object, or it cannot be seen"))
		}
		if n.Missing != nil {
			fmt.Fprintf(a.Out, "             granted by: %s\n", visible(grantCommand(*n.Missing)))
		}
	}
	return nil
}

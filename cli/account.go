package cli

import (
	"cmp"
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

// splitWho reads SERVER/account:NAME, SERVER/account:NAME@HOST or SERVER/role:NAME, and
// where accounts lie in databases SERVER/DATABASE/account:NAME. kind is the word that the command is about.
func splitWho(c *cli.Command, kind string) (server string, p wire.Principal, err error) {
	text := c.StringArg("address")
	server, rest, ok := strings.Cut(text, "/")
	at, err := naming.ParseAddress(text)
	if err == nil && at.Database != "" {
		return at.Server, wire.Principal{Name: at.Name, Database: at.Database, Role: at.Kind == naming.KindRole}, nil
	}
	word, name, typed := strings.Cut(rest, ":")
	if !ok || server == "" || name == "" || !typed || word != "account" && word != "role" {
		return "", p, usage("Name it with its server: %s SERVER/%s:NAME, not %q", c.FullName(), kind, text)
	}
	return server, principal(word == "role", name), nil
}

// principal reads NAME or NAME@HOST; a role has no host.
func principal(role bool, text string) wire.Principal {
	if at := strings.LastIndexByte(text, '@'); at >= 0 && !role {
		return wire.Principal{Name: text[:at], Host: text[at+1:]}
	}
	return wire.Principal{Name: text, Role: role}
}

// holder reads whom something is given to: NAME, NAME@HOST, role:NAME or PUBLIC.
func holder(text string) wire.Principal {
	if name, ok := strings.CutPrefix(text, "role:"); ok {
		return principal(true, name)
	}
	if text == "PUBLIC" {
		return wire.Principal{Name: text, Role: true}
	}
	return principal(false, strings.TrimPrefix(text, "account:"))
}

func holderText(p wire.Principal) string {
	switch {
	case p.Database != "":
		return p.Database + "/" + p.Name
	case p.Host != "":
		return p.Name + "@" + p.Host
	case p.Role && p.Name != "PUBLIC":
		return "role " + p.Name
	}
	return p.Name
}

// passwordFlags say where a password comes from: never from an argument, which
// others on the machine could read.
func passwordFlags(none bool) []cli.Flag {
	flags := []cli.Flag{
		&cli.StringFlag{Name: "password-file", Usage: "file with the password; - is standard input",
			DefaultText: "a strong one is generated"},
		&cli.BoolFlag{Name: "password-prompt", Usage: "ask for the password"},
	}
	if none {
		flags = append(flags, &cli.BoolFlag{Name: "no-password", Usage: "make it without a password"})
	}
	return flags
}

// password reads where the password of an account comes from.
func (a app) password(c *cli.Command, spec *wire.AccountSpec) error {
	said := 0
	for _, flag := range []string{"no-password", "password-file", "password-prompt"} {
		if c.IsSet(flag) {
			said++
		}
	}
	switch {
	case said > 1:
		return usage("Say where the password comes from once: a file, the prompt, or none.")
	case c.Bool("no-password"):
		spec.PasswordFrom = wire.PasswordNone
		return nil
	case c.IsSet("password-file") || c.Bool("password-prompt"):
		text, err := a.secret(c.String("password-file"), "Password of "+spec.Name+": ")
		if err != nil {
			return err
		}
		spec.PasswordFrom, spec.Password = wire.PasswordGiven, text
		return nil
	}
	spec.PasswordFrom = wire.PasswordGenerated
	return nil
}

// asAsked has nothing to add to the options.
func asAsked(*cli.Command, *wire.AccountSpec) error { return nil }

func confirmFlag() cli.Flag {
	return &cli.StringFlag{Name: "confirm", Usage: "the name, as confirmation of what is final"}
}

// accountVerb is a command that alters one account or role.
// With the option end-sessions, or the clearing options of a drop, it ends the
// sessions of the account too.
func (a app) accountVerb(kind, name, usageText string, flags []cli.Flag, intent string,
	fill func(c *cli.Command, spec *wire.AccountSpec) error) *cli.Command {
	return &cli.Command{Name: name, Usage: usageText, ArgsUsage: "SERVER/" + kind + ":NAME", Arguments: addressArg(),
		Flags: append(flags, alterFlags()...),
		Action: func(ctx context.Context, c *cli.Command) error {
			server, p, err := splitWho(c, kind)
			if err != nil {
				return err
			}
			if p.Role && kind == "account" && intent == wire.KindCreateAccount {
				return usage("%s is the address of a role: genarch role create %s", c.StringArg("address"),
					c.StringArg("address"))
			}
			spec := wire.AccountSpec{Name: p.Name, Host: p.Host, Database: p.Database, Role: p.Role}
			if spec.Options, err = options(c); err != nil {
				return err
			}
			if err := fill(c, &spec); err != nil {
				return err
			}
			in := wire.Intent{Kind: intent, Server: server, Account: &spec}
			if kind == "account" && intent == wire.KindDropAccount {
				if err := a.setAside(ctx, c, &in); err != nil {
					return err
				}
			}
			if c.Bool("end-sessions") || intent == wire.KindDropAccount {
				if in.Clearing, err = clearing(c); err != nil {
					return err
				}
			}
			return a.alter(ctx, c, in)
		}}
}

func (a app) accountCommand() *cli.Command {
	lock := func(name, usage string, locked bool) *cli.Command {
		var flags []cli.Flag
		if locked {
			flags = append([]cli.Flag{&cli.BoolFlag{Name: "end-sessions", Usage: "end its open sessions too"}},
				clearingFlags(false)...)
		}
		return a.accountVerb("account", name, usage, flags, wire.KindAlterAccount,
			func(_ *cli.Command, spec *wire.AccountSpec) error {
				spec.Options = map[string]any{"locked": locked}
				return nil
			})
	}
	return &cli.Command{Name: "account", Usage: "accounts that sign in to a server: see, create, alter, drop",
		Description: "An account is named SERVER/account:NAME, or SERVER/account:NAME@HOST where the host is part of " +
			"it, and SERVER/DATABASE/account:NAME where it lies in a database.\n" + otherOptions, Commands: []*cli.Command{
			{Name: "list", Usage: "accounts and roles of a server, as they are now", ArgsUsage: "SERVER",
				Arguments: nameArg(), Flags: accountListFlags(),
				Action: a.withServer(func(ctx context.Context, c *cli.Command, api *client.Client,
					server string) error {
					return a.listAccounts(ctx, c, api, server, c.String("kind"))
				})},
			{Name: "show", Usage: "one account: what it is, what it has, what it owns",
				ArgsUsage: "SERVER/account:NAME", Arguments: addressArg(), Flags: []cli.Flag{outputFlag()},
				Action: a.showAccount},
			a.accountVerb("account", "create",
				"create an account; its password is generated and shown once, unless given",
				slices.Concat(passwordFlags(true), optionFlags("connection-limit", "expires", "locked", "comment"),
					[]cli.Flag{&cli.BoolFlag{Name: "if-not-exists",
						Usage: "do nothing if it is there, and say what differs"}}),
				wire.KindCreateAccount, func(c *cli.Command, spec *wire.AccountSpec) error {
					spec.IfNotExists = c.Bool("if-not-exists")
					return a.password(c, spec)
				}),
			a.accountVerb("account", "alter", "set its limit, its expiry, its comment, and what else its engine has",
				optionFlags("connection-limit", "expires", "comment"), wire.KindAlterAccount, asAsked),
			lock("lock", "keep it from signing in; open sessions go on unless ended too", true),
			lock("unlock", "let it sign in again", false),
			a.accountVerb("account", "password", "set another password: generated and shown once, unless given",
				append(passwordFlags(false), optionFlags()...), wire.KindSetPassword, a.password),
			a.accountVerb("account", "rename", "give it another name, or another host where that is part of it",
				[]cli.Flag{&cli.StringFlag{Name: "to", Usage: "the new name"},
					&cli.StringFlag{Name: "host", Usage: "the new host"}}, wire.KindRenameAccount,
				func(c *cli.Command, spec *wire.AccountSpec) error {
					spec.NewName, spec.NewHost = c.String("to"), c.String("host")
					if spec.NewName == "" && spec.NewHost == "" {
						return usage("Say the new name with --to.")
					}
					return nil
				}),
			a.dropVerb("account",
				"set it aside once its sessions are ended, to be brought back; or, with --for-good, drop it",
				forGoodFlag(), keepDaysFlag("it can be brought back for certain")),
		}}
}

func (a app) dropVerb(kind, usage string, flags ...cli.Flag) *cli.Command {
	return a.accountVerb(kind, "drop", usage,
		slices.Concat([]cli.Flag{confirmFlag(),
			&cli.BoolFlag{Name: "if-exists", Usage: "do nothing if it is not there"}}, flags,
			optionFlags("reassign-to"), clearingFlags(false)),
		wire.KindDropAccount, func(c *cli.Command, spec *wire.AccountSpec) error {
			spec.IfExists = c.Bool("if-exists")
			return nil
		})
}

// setAside makes a drop a setting aside where the engine can, and nobody asked otherwise.
func (a app) setAside(ctx context.Context, c *cli.Command, in *wire.Intent) error {
	if c.Bool("for-good") {
		if c.IsSet("keep-days") {
			return usage("--keep-days is about setting aside, --for-good keeps nothing: give one of them.")
		}
		return nil
	}
	aside, err := a.canSetAside(ctx, c, in.Server, wire.KindSetAsideAccount)
	if err != nil || !aside {
		return err
	}
	if len(in.Account.Options) > 0 {
		return usage("These options go with --for-good: an account that is set aside stays what it is.")
	}
	in.Kind, in.Account.KeepDays = wire.KindSetAsideAccount, c.Int("keep-days")
	return nil
}

// canSetAside reports whether the engine of a server has a kind of setting aside; where it has
// not, it says so, for then it would be dropped for good.
func (a app) canSetAside(ctx context.Context, c *cli.Command, server, kind string) (bool, error) {
	api, err := a.connect(c)
	if err != nil {
		return false, err
	}
	engine, err := engineOf(ctx, api, server)
	if err != nil {
		return false, err
	}
	why := engine.Intents[kind].Why
	switch {
	case why == "":
		return true, nil
	case c.IsSet("keep-days"):
		return false, usage("%s It can only be dropped for good, without --keep-days.", why)
	}
	a.say("%s  %s It would be dropped for good.", caution.Render("final"), why)
	return false, nil
}

func (a app) roleCommand() *cli.Command {
	member := func(name, usage, intent, flag string, flags ...cli.Flag) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: "SERVER/role:NAME", Arguments: addressArg(),
			Flags: append(append(flags, &cli.StringFlag{Name: flag,
				Usage: "the member: NAME, NAME@HOST where the host is part of it, or role:NAME", Required: true}),
				alterFlags()...),
			Action: func(ctx context.Context, c *cli.Command) error {
				server, p, err := splitWho(c, "role")
				if err != nil {
					return err
				}
				spec := wire.MemberSpec{Role: p.Name, To: holder(c.String(flag)),
					Admin: c.Bool("with-admin-option")}
				spec.To.Database = p.Database // a role in a database has members there
				if spec.Options, err = options(c); err != nil {
					return err
				}
				return a.alter(ctx, c, wire.Intent{Kind: intent, Server: server, Member: &spec})
			}}
	}
	return &cli.Command{Name: "role", Usage: "roles: groups of privileges that accounts belong to",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the roles of a server, as they are now", ArgsUsage: "SERVER", Arguments: nameArg(),
				Flags: accountListFlags()[1:],
				Action: a.withServer(func(ctx context.Context, c *cli.Command, api *client.Client,
					server string) error {
					return a.listAccounts(ctx, c, api, server, "role")
				})},
			{Name: "show", Usage: "one role: who belongs to it, what it has", ArgsUsage: "SERVER/role:NAME",
				Arguments: addressArg(), Flags: []cli.Flag{outputFlag()}, Action: a.showAccount},
			a.accountVerb("role", "create", "create a role, which nobody signs in as",
				append(optionFlags("comment"),
					&cli.BoolFlag{Name: "if-not-exists", Usage: "do nothing if it is there"}),
				wire.KindCreateAccount, func(c *cli.Command, spec *wire.AccountSpec) error {
					spec.Role, spec.IfNotExists = true, c.Bool("if-not-exists")
					return nil
				}),
			member("grant", "make an account or role a member of it", wire.KindGrantRole, "to",
				append(optionFlags(), &cli.BoolFlag{Name: "with-admin-option",
					Usage: "it may make others members"})...),
			member("revoke", "end the membership of an account or role", wire.KindRevokeRole, "from"),
			a.dropVerb("role", "remove it; what it owns goes to another or stops the change"),
		}}
}

func accountListFlags() []cli.Flag {
	return listFlags(
		&cli.StringFlag{Name: "kind", Value: "all", Usage: "all, account or role"},
		&cli.StringFlag{Name: "search", Usage: "part of the name, host or comment"},
		&cli.BoolFlag{Name: "system", Usage: "the engine's own too"},
		&cli.BoolFlag{Name: "marked", Usage: "only those that deserve a look"},
		limitFlag(20000),
	)
}

func (a app) listAccounts(ctx context.Context, c *cli.Command, api *client.Client, server, kind string) error {
	q := url.Values{"kind": {kind}, "system": {strconv.FormatBool(c.Bool("system"))},
		"limit": {strconv.Itoa(c.Int("limit"))}}
	if v := c.String("search"); v != "" {
		q.Set("search", v)
	}
	list, err := api.Accounts(ctx, server, q)
	if err != nil {
		return err
	}
	a.sayBounded(len(list.Accounts), list.Total)
	if c.Bool("marked") {
		kept := list.Accounts[:0]
		for _, acc := range list.Accounts {
			if len(acc.Marks) > 0 {
				kept = append(kept, acc)
			}
		}
		list.Accounts = kept
	}
	if c.String("output") == "table" {
		a.say("%s  %s  %d accounts and roles%s", bold.Render(server), environmentText(list.Environment), list.Total,
			faint.Render("  read "+timeText(list.Read)))
	}
	for _, u := range list.Unknown {
		a.say("%s  %s", caution.Render("not known"), visible(u))
	}
	if list.SetAside > 0 && c.String("output") == "table" {
		a.say("%s", faint.Render(fmt.Sprintf("%d more set aside: genarch holding list %s", list.SetAside, server)))
	}
	return print(a, c, list, list.Accounts, accountColumns())
}

func accountColumns() []column[wire.Account] {
	return []column[wire.Account]{
		{title: "name", text: func(x wire.Account) string {
			if x.Name == "" {
				return "(no name)"
			}
			return x.Name
		}},
		{title: "host", text: func(x wire.Account) string { return x.Host }},
		{title: "database", text: func(x wire.Account) string { return x.Database }},
		{title: "kind", text: func(x wire.Account) string { return cmp.Or(x.Title, x.Kind) }},
		{title: "deserves a look", text: func(x wire.Account) string {
			var out []string
			for _, m := range x.Marks {
				if word := strings.ReplaceAll(m.Code, "_", " "); !contains(out, word) {
					out = append(out, word)
				}
			}
			return strings.Join(out, ", ")
		}},
		{title: "locked", text: func(x wire.Account) string { return ifSo(x.Locked) }},
		{title: "expires", text: expiryText},
		{title: "limit", text: func(x wire.Account) string {
			if x.ConnectionLimit < 0 {
				return ""
			}
			return strconv.Itoa(x.ConnectionLimit)
		}, right: true},
		{title: "sessions", text: func(x wire.Account) string {
			if x.Kind == "role" || x.Database != "" && !x.Login {
				return ""
			}
			return numberText(x.Sessions)
		}, right: true},
		{title: "method", text: func(x wire.Account) string { return x.Method }},
		{title: "tls", text: func(x wire.Account) string { return strings.ToLower(x.TLS) }},
		{title: "member of", text: func(x wire.Account) string { return linkNames(x.MemberOf) }},
		{title: "owns", text: func(x wire.Account) string { return strings.Join(x.Owns, ", ") }},
		{title: "may connect to", text: func(x wire.Account) string {
			if x.Connects == nil {
				return ""
			}
			return fmt.Sprintf("%d", *x.Connects)
		}, right: true},
		{title: "server rights", text: func(x wire.Account) string {
			if n := len(x.ServerRights); n > 3 {
				return strings.Join(x.ServerRights[:3], ", ") + fmt.Sprintf(", … (%d)", n)
			}
			return strings.Join(x.ServerRights, ", ")
		}, exact: func(x wire.Account) string { return strings.Join(x.ServerRights, ", ") }},
	}
}

func expiryText(x wire.Account) string {
	switch {
	case x.Expired && x.Expires == nil:
		return "expired"
	case x.Expired:
		return "expired " + x.Expires.Format("2006-01-02")
	case x.Expires != nil:
		return x.Expires.Format("2006-01-02")
	}
	return ""
}

func linkNames(links []wire.RoleLink) string {
	var out []string
	for _, l := range links {
		text := l.Name
		if !l.AtOnce {
			text += " (after SET ROLE)"
		}
		if l.Admin {
			text += " (with grant option)"
		}
		out = append(out, text)
	}
	return strings.Join(out, ", ")
}

func (a app) showAccount(ctx context.Context, c *cli.Command) error {
	server, p, err := splitWho(c, "account")
	if err != nil {
		return err
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	d, err := api.Account(ctx, server, p)
	if err != nil {
		return err
	}
	if c.String("output") != "table" {
		return print(a, c, d, []wire.Account{d.Account}, accountColumns())
	}
	q := accountFacts(d)
	engine, err := api.Engine(ctx, d.Engine)
	if err != nil {
		return err
	}
	for _, f := range engine.Fields["account"] {
		if value, has := d.Properties[f.Name]; has {
			addField(&q, f, value)
		}
	}
	title := "databases"
	for _, l := range d.Databases {
		text := fmt.Sprintf("%-7s %s", l.Level, visible(l.Database))
		if l.More {
			text += faint.Render("  (and more than the bundle)")
		}
		if l.Gap {
			text += caution.Render("  (not what will be made there later)")
		}
		q.add(title, text)
		title = ""
	}
	q.print(a)
	a.showUnknown(d.Unknown)
	if len(d.Grants) > 0 {
		fmt.Fprintln(a.Out)
		return printTable(a, d.Grants, grantColumns(false))
	}
	return nil
}

// accountFacts are what an account is, whatever its engine.
func accountFacts(d wire.AccountDetail) properties {
	q := properties{}
	q.add(cmp.Or(d.Title, d.Kind), visible(d.Address)+"  "+environmentText(d.Environment))
	for _, m := range d.Marks {
		q.add("look", caution.Render(visible(m.Text)))
	}
	if d.Login || d.Locked {
		q.add("may sign in", yes(d.Login && !d.Locked && !d.Expired))
		password := unknown
		if d.HasPassword != nil {
			password = yes(*d.HasPassword)
		}
		q.add("password", strings.TrimSpace(password+"  "+d.Method))
		if e := expiryText(d.Account); e != "" {
			q.add("password expires", e)
		}
		limit := "none"
		if d.ConnectionLimit >= 0 {
			limit = strconv.Itoa(d.ConnectionLimit)
		}
		q.add("connection limit", limit)
		q.add("sessions now", numberText(d.Sessions))
		q.add("last use", useText(d.LastUse, d.Sessions))
	}
	for _, l := range []struct{ title, text string }{{"TLS demanded", strings.ToLower(d.TLS)},
		{"server rights", strings.Join(d.ServerRights, ", ")}, {"member of", linkNames(d.MemberOf)},
		{"default role", d.DefaultRole}, {"members", linkNames(d.Members)},
		{"owns databases", strings.Join(d.Owns, ", ")}, {"comment", d.Comment}} {
		if l.text != "" {
			q.add(l.title, visible(l.text))
		}
	}
	return q
}

func (a app) showUnknown(list []string) {
	for _, u := range list {
		a.say("%s  %s", caution.Render("not known"), visible(u))
	}
}

func (a app) compareAccounts(ctx context.Context, c *cli.Command) error {
	left, right := c.StringArg("left"), c.StringArg("right")
	if left == "" || right == "" {
		return usage("Name two accounts: %s SERVER/account:NAME SERVER/account:NAME", c.FullName())
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	d, err := api.Compare(ctx, left, right)
	if err != nil {
		return err
	}
	a.showUnknown(d.Unknown)
	if len(d.Differences) == 0 {
		a.say("%s  nothing in which they differ", fine.Render("alike"))
	}
	return print(a, c, d, d.Differences, []column[wire.AccountDifference]{
		{title: "what", text: func(x wire.AccountDifference) string { return x.What }},
		{title: left, text: func(x wire.AccountDifference) string { return dash(x.Left) }},
		{title: right, text: func(x wire.AccountDifference) string { return dash(x.Right) }},
	})
}

func dash(text string) string {
	if text == "" {
		return "-"
	}
	return text
}

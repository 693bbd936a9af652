package cli

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
)

func (a app) operatorCommand() *cli.Command {
	name := func() []cli.Argument { return []cli.Argument{&cli.StringArg{Name: "name"}} }
	permissions := func(value string) cli.Flag {
		return &cli.StringFlag{Name: "permissions", Value: value,
			Usage: "view, request, run, admin, with commas between; or all"}
	}
	with := func(f func(context.Context, *cli.Command, *client.Client, string) (wire.Operator, error)) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error {
			n := c.StringArg("name")
			if n == "" {
				return usage("Name the operator: %s NAME", c.FullName())
			}
			api, err := a.connect(c)
			if err != nil {
				return err
			}
			o, err := f(ctx, c, api, n)
			if err != nil {
				return err
			}
			return print(a, c, o, []wire.Operator{o}, operatorColumns)
		}
	}
	return &cli.Command{Name: "operator", Usage: "who may sign in to Genarch, and what they may do",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list operators", Flags: listFlags(),
				Action: a.listOperators},
			{Name: "add", Usage: "add an operator", ArgsUsage: "NAME", Arguments: name(),
				Flags: []cli.Flag{outputFlag(), permissions("view"),
					&cli.BoolFlag{Name: "program", Usage: "a program: signs in with tokens only"},
					&cli.StringFlag{Name: "password-file", Usage: "file with the password; - is standard input",
						DefaultText: "asked for"}},
				Action: with(a.addOperator)},
			{Name: "edit", Usage: "alter permissions or password, disable or enable", ArgsUsage: "NAME",
				Arguments: name(),
				Flags: []cli.Flag{outputFlag(), permissions(""),
					&cli.BoolFlag{Name: "disable", Usage: "may not sign in any more"},
					&cli.BoolFlag{Name: "enable", Usage: "may sign in again"},
					&cli.BoolFlag{Name: "password", Usage: "ask for a new password"},
					&cli.StringFlag{Name: "password-file", Usage: "file with a new password; - is standard input"},
					&cli.BoolFlag{Name: "revoke-tokens",
						Usage: "end every token of theirs; those got by signing in end with a new password in any case"}},
				Action: with(a.editOperator)},
			{Name: "password", Usage: "set your own password; the present one is asked for", Flags: []cli.Flag{
				&cli.StringFlag{Name: "old-password-file", Usage: "file with the present password; - is standard input",
					DefaultText: "asked for"},
				&cli.StringFlag{Name: "password-file", Usage: "file with the new password", DefaultText: "asked for"}},
				Action: a.ownPassword},
			{Name: "sessions", Usage: "the consoles that you are signed in to",
				Flags:  listFlags(&cli.BoolFlag{Name: "end-others", Usage: "sign out everywhere else"}),
				Action: a.ownSessions},
		}}
}

func (a app) ownPassword(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	var in wire.PasswordChange
	if in.Old, err = a.secret(c.String("old-password-file"), "Your present password: "); err != nil {
		return err
	}
	if in.New, err = a.secret(c.String("password-file"), "Your new password: "); err != nil {
		return err
	}
	if err := api.SetPassword(ctx, in); err != nil {
		return err
	}
	a.say("%s  your password is another one; sessions and logins made with the old one have ended. Sign in again: genarch login", fine.Render("done"))
	return nil
}

func (a app) ownSessions(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	if c.Bool("end-others") {
		if err := api.EndOtherSessions(ctx); err != nil {
			return err
		}
	}
	list, err := api.OwnSessions(ctx)
	if err != nil {
		return err
	}
	return print(a, c, list, list, []column[wire.ConsoleSession]{
		{title: "session", text: func(s wire.ConsoleSession) string { return strconv.FormatUint(s.ID, 10) },
			right: true},
		{title: "from", text: func(s wire.ConsoleSession) string { return s.Address }},
		{title: "signed in", text: func(s wire.ConsoleSession) string { return timeText(s.Created) }},
		{title: "last used", text: func(s wire.ConsoleSession) string { return timeText(s.Used) }},
	})
}

var operatorColumns = []column[wire.Operator]{
	{title: "operator", text: func(o wire.Operator) string { return o.Name }},
	{title: "permissions", text: func(o wire.Operator) string { return strings.Join(o.Permissions, ",") }},
	{title: "program", text: func(o wire.Operator) string { return yes(o.Program) }},
	{title: "disabled", text: func(o wire.Operator) string { return yes(o.Disabled) }},
	{title: "created", text: func(o wire.Operator) string { return timeText(o.Created) }},
}

func (a app) tokenCommand() *cli.Command {
	return &cli.Command{Name: "token", Usage: "tokens, with which programs sign in", Commands: []*cli.Command{
		{Name: "list", Usage: "list tokens: all of them with the permission admin, else your own",
			Flags: listFlags(), Action: func(ctx context.Context, c *cli.Command) error {
				api, err := a.connect(c)
				if err != nil {
					return err
				}
				list, err := api.Tokens(ctx)
				if err != nil {
					return err
				}
				return print(a, c, list, list, tokenColumns)
			}},
		{Name: "create", Usage: "make a token; it is shown once", ArgsUsage: "OPERATOR",
			Arguments: []cli.Argument{&cli.StringArg{Name: "operator"}},
			Flags: []cli.Flag{outputFlag(), &cli.StringFlag{Name: "title", Required: true, Usage: "what it is for"},
				&cli.IntFlag{Name: "days", Usage: "how long it lasts", DefaultText: "90"},
				&cli.StringFlag{Name: "permissions",
					Usage:       "it may only do this: view, request, run, admin, with commas between",
					DefaultText: "all that its operator may"},
				&cli.StringSliceFlag{Name: "from",
					Usage: "it is taken from this address or network only, such as 10.0.3.0/24; may be given again"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				api, err := a.connect(c)
				if err != nil {
					return err
				}
				in := wire.TokenInput{Operator: c.StringArg("operator"), Title: c.String("title"), Days: c.Int("days"),
					From: c.StringSlice("from")}
				if r := c.String("permissions"); r != "" {
					in.Permissions = strings.Split(r, ",")
				}
				t, err := api.AddToken(ctx, in)
				if err != nil {
					return err
				}
				if c.String("output") != "table" {
					return print(a, c, t, []wire.Token{t}, tokenColumns)
				}
				a.say("token %d of %s; this is the only time it is shown:", t.ID, t.Operator)
				fmt.Fprintln(a.Out, t.Secret)
				return nil
			}},
		{Name: "revoke", Usage: "end a token for good", ArgsUsage: "ID",
			Arguments: []cli.Argument{&cli.Uint64Arg{Name: "id"}},
			Action: func(ctx context.Context, c *cli.Command) error {
				api, err := a.connect(c)
				if err != nil {
					return err
				}
				if err := api.RevokeToken(ctx, c.Uint64Arg("id")); err != nil {
					return err
				}
				a.say("%s  token %d is revoked", fine.Render("done"), c.Uint64Arg("id"))
				return nil
			}},
	}}
}

var tokenColumns = []column[wire.Token]{
	{title: "token", text: func(t wire.Token) string { return strconv.FormatUint(t.ID, 10) }, right: true},
	{title: "operator", text: func(t wire.Token) string { return t.Operator }},
	{title: "title", text: func(t wire.Token) string { return t.Title }},
	{title: "created", text: func(t wire.Token) string { return timeText(t.Created) }},
	{title: "expires", text: func(t wire.Token) string { return timePtrText(t.Expires) }},
	{title: "last used", text: func(t wire.Token) string { return timePtrText(t.LastUsed) }},
	{title: "only for", text: func(t wire.Token) string { return strings.Join(t.Permissions, ",") }},
	{title: "only from", text: func(t wire.Token) string { return strings.Join(t.From, ",") }},
	{title: "revoked", text: func(t wire.Token) string { return timePtrText(t.Revoked) }},
}

// listOperators lists them.
func (a app) listOperators(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	list, err := api.Operators(ctx)
	if err != nil {
		return err
	}
	return print(a, c, list, list, operatorColumns)
}

// addOperator adds one; a person needs a first password.
func (a app) addOperator(ctx context.Context, c *cli.Command, api *client.Client, n string) (wire.Operator, error) {
	in := wire.OperatorInput{Name: n, Permissions: []string{c.String("permissions")},
		Program: c.Bool("program")}
	if !in.Program {
		var err error
		if in.Password, err = a.secret(c.String("password-file"), "Password of "+n+": "); err != nil {
			return wire.Operator{}, err
		}
	}
	return api.AddOperator(ctx, in)
}

// editOperator alters what was named.
func (a app) editOperator(ctx context.Context, c *cli.Command, api *client.Client, n string) (wire.Operator, error) {
	var p wire.OperatorPatch
	if r := c.String("permissions"); r != "" {
		p.Permissions = &[]string{r}
	}
	if c.Bool("disable") || c.Bool("enable") {
		off := c.Bool("disable")
		p.Disabled = &off
	}
	if c.Bool("password") || c.String("password-file") != "" {
		s, err := a.secret(c.String("password-file"), "New password of "+n+": ")
		if err != nil {
			return wire.Operator{}, err
		}
		p.Password = &s
	}
	p.RevokeTokens = c.Bool("revoke-tokens")
	if p == (wire.OperatorPatch{}) {
		return wire.Operator{}, usage("Nothing to alter was named (see %s --help)", c.FullName())
	}
	o, err := api.EditOperator(ctx, n, p)
	if err == nil && o.TokensLeft > 0 && p.Password != nil {
		a.say("%s  tokens of %s that still hold: %d; end them with --revoke-tokens",
			caution.Render("CAUTION"), visible(n), o.TokensLeft)
	}
	return o.Operator, err
}

package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
)

func (a app) handoverCommand() *cli.Command {
	return &cli.Command{Name: "handover",
		Usage:     "the sheet for the team that uses a database: address, accounts, connection strings, proof; without passwords",
		ArgsUsage: "SERVER/DATABASE", Arguments: addressArg(), Flags: []cli.Flag{outputFlag(), formFlag()},
		Action: func(ctx context.Context, c *cli.Command) error {
			server, database, err := splitAddress(c)
			if err != nil {
				return err
			}
			api, err := a.connect(c)
			if err != nil {
				return err
			}
			h, err := api.Handover(ctx, server, database)
			if err != nil {
				return err
			}
			return a.printHandover(c, h)
		}}
}

func formFlag() cli.Flag {
	return &cli.StringFlag{Name: "form", Usage: "only one form: url, dsn, jdbc, env, options or passwords"}
}

// printHandover writes the sheet, or in another form than a table, all of it.
//
// Long: the parts of the sheet in the order in which they are read.
func (a app) printHandover(c *cli.Command, h wire.Handover) error {
	if o := c.String("output"); o != "table" && o != "" {
		return print(a, c, h, h.Accounts, []column[wire.HandoverAccount]{
			{title: "account", text: func(x wire.HandoverAccount) string { return x.Name }},
			{title: "host", text: func(x wire.HandoverAccount) string { return x.Host }},
			{title: "level", text: func(x wire.HandoverAccount) string { return x.Level }},
			{title: "password", text: func(x wire.HandoverAccount) string { return x.Password }},
			{title: "url", text: func(x wire.HandoverAccount) string { return formText(x, "url") }}})
	}
	if form := c.String("form"); form != "" {
		for _, x := range h.Accounts {
			text := formText(x, form)
			if text == "" {
				return usage("There is no form %q; there are url, dsn, jdbc, env, options, passwords.", form)
			}
			fmt.Fprintln(a.Out, strings.TrimRight(text, "\n"))
		}
		return nil
	}
	q := properties{}
	where := h.Server
	if h.Database != "" {
		where += "/" + h.Database
	}
	q.add("handover", visible(where)+"  "+environmentText(h.Environment))
	q.add("address", fmt.Sprintf("%s port %d  (%s)", h.Host, h.Port, h.Engine))
	for _, other := range h.Also {
		q.add("also at", visible(other))
	}
	if h.Database != "" {
		q.add("database", visible(h.Database))
	}
	q.add("TLS", h.TLS)
	q.print(a)
	if len(h.Accounts) == 0 {
		a.say("Nothing on it was granted to an account yet; make one: genarch account create, genarch privilege grant")
	}
	for _, x := range h.Accounts {
		name := x.Name
		if x.Host != "" {
			name += "@" + x.Host
		}
		fmt.Fprintf(a.Out, "\n%s  %s\n", bold.Render(visible(name)), faint.Render(x.Level))
		if x.Password != "" {
			fmt.Fprintf(a.Out, "  password  %s  %s\n", bold.Render(x.Password),
				caution.Render("shown once: keep it now"))
		}
		for _, f := range x.Forms {
			title := f.Title
			if f.File != "" {
				title = f.File + ", " + title
			}
			if !strings.Contains(strings.TrimRight(f.Text, "\n"), "\n") {
				fmt.Fprintf(a.Out, "  %s\n    %s\n", faint.Render(title), visible(strings.TrimRight(f.Text, "\n")))
				continue
			}
			fmt.Fprintf(a.Out, "  %s\n", faint.Render(title))
			for line := range strings.Lines(f.Text) {
				fmt.Fprintln(a.Out, strings.TrimRight("    "+visible(strings.TrimRight(line, "\n")), " "))
			}
		}
		for _, p := range x.Proof {
			fmt.Fprintf(a.Out, "  %s  %s\n", fine.Render("tried"), visible(p))
		}
	}
	return nil
}

func formText(x wire.HandoverAccount, name string) string {
	for _, f := range x.Forms {
		if f.Name == name {
			return f.Text
		}
	}
	return ""
}

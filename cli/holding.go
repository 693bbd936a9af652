package cli

import (
	"context"
	"fmt"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/core/naming"
)

// holdingArgs is how what was set aside is named: by the name that it had, an account as
// SERVER/account:NAME, or by the one under which it waits, as SERVER/holding:ID.
const holdingArgs = "SERVER/HOLDING"

func (a app) holdingCommand() *cli.Command {
	one := func(name, usage string, flags []cli.Flag,
		action func(context.Context, *cli.Command, *client.Client, wire.Holding) error) *cli.Command {
		return &cli.Command{Name: name, Usage: usage, ArgsUsage: holdingArgs, Arguments: addressArg(), Flags: flags,
			Action: a.withHolding(action)}
	}
	keep := func(fill func(c *cli.Command, spec *wire.HoldingSpec) error) func(context.Context, *cli.Command,
		*client.Client, wire.Holding) error {
		return func(ctx context.Context, c *cli.Command, _ *client.Client, h wire.Holding) error {
			spec := holdingSpec(h)
			if err := fill(c, &spec); err != nil {
				return err
			}
			return a.alter(ctx, c, wire.Intent{Kind: wire.KindKeepHolding, Server: h.Server, Holding: &spec})
		}
	}
	return &cli.Command{Name: "holding",
		Usage: "databases and accounts that were set aside: see them, bring them back, keep them longer, discard them",
		Commands: []*cli.Command{
			{
				Name:      "list",
				Usage:     "what was set aside, on all servers or on one; what is over first",
				ArgsUsage: "[SERVER]",
				Arguments: nameArg(),
				Flags:     listFlags(),
				Action:    a.listHoldings,
			},
			one("show", "one that was set aside: what it was, until when it is kept, who did it",
				[]cli.Flag{outputFlag()}, a.showHolding),
			one(
				"bring-back",
				"make it what it was: shows the brief, asks, runs, reads back",
				append(
					append(
						[]cli.Flag{&cli.StringFlag{Name: "as", Usage: "under another `NAME` than the one that it had"}},
						clearingFlags(false)...),
					alterFlags()...),
				a.bringBack,
			),
			one("extend", "keep it longer, or less long",
				append([]cli.Flag{&cli.StringFlag{Name: "until", Usage: "the last day, as 2027-01-31"},
					&cli.IntFlag{Name: "days", Usage: "so many days from today on"}}, alterFlags()...),
				keep(extended)),
			one("hold", "say that it must not be discarded, whatever the day, and why",
				append([]cli.Flag{&cli.StringFlag{Name: "reason", Usage: "why", Required: true}}, alterFlags()...),
				keep(func(c *cli.Command, spec *wire.HoldingSpec) error {
					spec.Hold = c.String("reason")
					return nil
				})),
			one("release", "end that: it may be discarded again", alterFlags(),
				keep(func(_ *cli.Command, spec *wire.HoldingSpec) error {
					spec.Release = true
					return nil
				})),
			one("discard", "drop it for good: shows what would be lost, asks for its name",
				append(append([]cli.Flag{confirmFlag()}, clearingFlags(false)...), alterFlags()...), a.discard),
		}}
}

// extended reads until when.
func extended(c *cli.Command, spec *wire.HoldingSpec) error {
	switch {
	case c.IsSet("until") == c.IsSet("days"):
		return usage("Say until when: --until 2027-01-31, or --days 30.")
	case c.IsSet("days"):
		spec.Until = time.Now().UTC().AddDate(0, 0, c.Int("days")).Format(time.DateOnly)
	default:
		spec.Until = c.String("until")
	}
	return nil
}

// withHolding finds what was set aside that the address means.
func (a app) withHolding(f func(context.Context, *cli.Command, *client.Client, wire.Holding) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		server, name, _ := strings.Cut(c.StringArg("address"), "/")
		if name == "" {
			return usage("Name what was set aside: %s %s", c.FullName(), holdingArgs)
		}
		api, err := a.connect(c)
		if err != nil {
			return err
		}
		list, err := api.Holdings(ctx, server)
		if err != nil {
			return err
		}
		plain, kind := name, ""
		for _, k := range []naming.Kind{naming.KindDatabase, naming.KindAccount} {
			if rest, cut := strings.CutPrefix(name, string(k)+":"); cut {
				plain, kind = rest, string(k)
			}
		}
		var found []wire.Holding
		for _, h := range list.Holdings {
			if h.Address == c.StringArg("address") || h.Name == plain && (kind == "" || kind == h.Kind) {
				found = append(found, h)
			}
		}
		switch len(found) {
		case 0:
			return &exitError{ExitNotFound, fmt.Errorf("Nothing that was set aside on %s was called %s.\n"+
				"  next: List them: genarch holding list %s", server, naming.Show(plain), server)}
		case 1:
			return f(ctx, c, api, found[0])
		}
		var ways []string
		for _, h := range found {
			ways = append(ways, shellWord(h.Address))
		}
		return usage("%d that were called %s wait on %s; say which: %s.", len(found), naming.Show(plain),
			server, strings.Join(ways, ", "))
	}
}

func (a app) listHoldings(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	list, err := api.Holdings(ctx, c.StringArg("server"))
	if err != nil {
		return err
	}
	if len(list.Unread) > 0 {
		a.say("%s  %s did not answer", caution.Render("partial"), strings.Join(list.Unread, ", "))
	}
	if c.String("output") == "table" {
		if len(list.Holdings) == 0 {
			a.say("Nothing is set aside.")
			return nil
		}
		a.say("%s set aside%s", naming.Count(len(list.Holdings), "holding"),
			faint.Render("  read "+timeText(list.Read)))
	}
	return print(a, c, list, list.Holdings, holdingColumns())
}

func holdingColumns() []column[wire.Holding] {
	return []column[wire.Holding]{
		{title: "holding", text: holdingText},
		{title: "environment", text: func(x wire.Holding) string { return x.Environment }},
		{title: "since", text: func(x wire.Holding) string { return x.Since }},
		{title: "kept until", text: func(x wire.Holding) string { return x.Until }},
		{title: "due", text: func(x wire.Holding) string { return ifSo(x.Due) }},
		{title: "size", text: func(x wire.Holding) string {
			switch {
			case x.Kind != string(naming.KindDatabase):
				return ""
			case x.Size == nil:
				return unknown
			}
			return sizeText(*x.Size)
		}, exact: func(x wire.Holding) string { return numberText(x.Size) }, right: true},
		{title: "tables", text: func(x wire.Holding) string {
			if x.Kind != string(naming.KindDatabase) {
				return ""
			}
			return numberText(x.Tables)
		}, right: true},
		{title: "opened", text: func(x wire.Holding) string { return ifSo(x.Opened) }},
		{title: "by", text: func(x wire.Holding) string {
			if x.SetAsideBy == nil {
				return "not on record"
			}
			return x.SetAsideBy.Operator
		}},
		{title: "change", text: func(x wire.Holding) string {
			if x.SetAsideBy == nil {
				return ""
			}
			return fmt.Sprint(x.SetAsideBy.Change)
		}, right: true},
		{title: "then", text: func(x wire.Holding) string {
			if !x.Discard {
				return ""
			}
			return "discarded"
		}},
		{title: "must not be discarded", text: func(x wire.Holding) string { return x.Hold }},
		{title: "waits as", text: func(x wire.Holding) string { return x.ID }},
	}
}

// holdingText is what was set aside as people name it.
func holdingText(x wire.Holding) string {
	if x.Kind == string(naming.KindAccount) {
		return x.Server + "/" + x.Kind + ":" + x.Name
	}
	return x.Server + "/" + x.Name
}

func holdingSpec(h wire.Holding) wire.HoldingSpec {
	return wire.HoldingSpec{ID: h.ID, Account: h.Kind == string(naming.KindAccount)}
}

func (a app) showHolding(_ context.Context, c *cli.Command, _ *client.Client, h wire.Holding) error {
	if c.String("output") != "table" {
		return print(a, c, h, []wire.Holding{h}, holdingColumns())
	}
	q := properties{}
	for _, col := range holdingColumns() {
		if text := col.text(h); text != "" {
			q.add(col.title, text)
		}
	}
	if h.Owner != "" {
		q.add("owner", h.Owner)
	}
	if h.Comment != "" {
		q.add("comment", h.Comment)
	}
	q.print(a)
	return nil
}

func (a app) bringBack(ctx context.Context, c *cli.Command, _ *client.Client, h wire.Holding) error {
	spec := holdingSpec(h)
	spec.NewName = c.String("as")
	return a.emptied(ctx, c, wire.Intent{Kind: wire.KindBringBack, Server: h.Server, Holding: &spec})
}

func (a app) discard(ctx context.Context, c *cli.Command, _ *client.Client, h wire.Holding) error {
	spec := holdingSpec(h)
	return a.emptied(ctx, c, wire.Intent{Kind: wire.KindDiscard, Server: h.Server, Holding: &spec})
}

// emptied is an alteration that needs the database empty of sessions.
func (a app) emptied(ctx context.Context, c *cli.Command, in wire.Intent) (err error) {
	if in.Clearing, err = clearing(c); err != nil {
		return err
	}
	return a.alter(ctx, c, in)
}

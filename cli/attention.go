package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
)

// attentionCommand says what needs a look.
func (a app) attentionCommand() *cli.Command {
	return &cli.Command{Name: "attention",
		Usage: "what needs a look: servers that do not answer, changes that wait, traps among accounts",
		Flags: listFlags(), Action: a.listAttention}
}

func (a app) listAttention(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	all, err := api.Attention(ctx)
	if err != nil {
		return err
	}
	if c.String("output") != "table" || selected(c) {
		return print(a, c, all, all.Items, []column[wire.AttentionItem]{
			{title: "code", text: func(x wire.AttentionItem) string { return x.Code }},
			{title: "urgent", text: func(x wire.AttentionItem) string { return yes(x.Urgent) }},
			{title: "server", text: func(x wire.AttentionItem) string { return x.Server }},
			{title: "count", right: true, text: func(x wire.AttentionItem) string { return fmt.Sprint(x.Count) }},
			{title: "what", text: func(x wire.AttentionItem) string { return x.Text }},
		})
	}
	shown := app{a.Streams}
	shown.Err = a.Out // here what is said is the result
	for _, x := range all.Items {
		mark := caution.Render("look")
		if x.Urgent {
			mark = wrong.Render("URGENT")
		}
		shown.sayWrapped("      ", fmt.Sprintf("%s  %s  %s", mark, visible(x.Text), faint.Render("["+x.Code+"]")))
		for _, more := range x.More {
			shown.sayWrapped("          ", "        "+visible(more))
		}
		if n := x.Count - len(x.More); len(x.More) > 0 && n > 0 {
			shown.say("        and %d more", n)
		}
		if next := a.nextText(x.Next, x.Actions); next != "" {
			shown.sayWrapped("      ", "      next: "+visible(next))
		}
	}
	if len(all.Items) == 0 {
		a.say("nothing needs a look")
	}
	if len(all.Unread) > 0 {
		a.say("%s  the accounts of %s could not be looked through in time", caution.Render("partial"),
			strings.Join(all.Unread, ", "))
	}
	return nil
}

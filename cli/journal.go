package cli

import (
	"context"
	"errors"
	"fmt"
	"net/url"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
)

// detailText is the detail of an entry in a few words.
func detailText(e wire.JournalEntry) string {
	d, _ := e.Detail.(map[string]any)
	var words []string
	for _, key := range []string{"title", "result"} {
		if text, ok := d[key].(string); ok && text != "" {
			words = append(words, text)
		}
	}
	if f, ok := d["failure"].(map[string]any); ok {
		words = append(words, fmt.Sprint(f["text"]))
	}
	return strings.Join(words, ": ")
}

func (a app) journalCommand() *cli.Command {
	return &cli.Command{Name: "journal", Usage: "the record of everything that was asked, decided and run",
		Commands: []*cli.Command{
			{Name: "list", Usage: "the newest entries first", Flags: listFlags(
				&cli.Uint64Flag{Name: "change", Usage: "of one change"},
				&cli.StringFlag{Name: "operator", Usage: "of one operator"},
				&cli.StringFlag{Name: "action", Usage: "what was done, or its first word, such as operator"},
				&cli.StringFlag{Name: "subject", Usage: "about this `ADDRESS` or what lies beneath it"},
				sinceFlag(), untilFlag(),
				&cli.Uint64Flag{Name: "before", Usage: "read on behind this entry"},
				limitFlag(50)),
				Action: a.listJournal},
			{Name: "check", Usage: "walk the whole chain: is an entry missing or altered?",
				Description: "The answer names a checkpoint. Kept elsewhere (the service writes one into its log every hour), it proves later, with --since, that nothing before it was taken out or written anew.",
				Flags: []cli.Flag{outputFlag(),
					&cli.StringFlag{Name: "since",
						Usage: "a checkpoint that was kept: what was there then must still be there"}},
				Action: a.checkJournal},
		}}
}

// listJournal lists entries.
func (a app) listJournal(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	q := url.Values{"limit": {strconv.Itoa(c.Int("limit"))}}
	for _, name := range []string{"change", "before"} {
		if n := c.Uint64(name); n > 0 {
			q.Set(name, strconv.FormatUint(n, 10))
		}
	}
	setTexts(q, c, "operator", "action", "subject")
	if err := setPeriod(q, c); err != nil {
		return err
	}
	j, err := api.Journal(ctx, q)
	if err != nil {
		return err
	}
	return print(a, c, j, j.Entries, []column[wire.JournalEntry]{
		{title: "entry", text: func(e wire.JournalEntry) string {
			return strconv.FormatUint(e.Seq,
				10)
		},
			right: true},
		{title: "at", text: func(e wire.JournalEntry) string { return timeText(e.At) }},
		{title: "operator", text: func(e wire.JournalEntry) string { return e.Operator }},
		{title: "action", text: func(e wire.JournalEntry) string { return e.Action }},
		{title: "subject", text: func(e wire.JournalEntry) string { return e.Subject }},
		{title: "change", text: func(e wire.JournalEntry) string {
			if e.Change == 0 {
				return ""
			}
			return strconv.FormatUint(e.Change, 10)
		}, right: true},
		{title: "detail", text: detailText},
	})
}

// checkJournal has the whole chain walked.
func (a app) checkJournal(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	check, err := api.CheckJournal(ctx, c.String("since"))
	if err != nil {
		return err
	}
	if err := print(a, c, check, []wire.JournalCheck{check}, []column[wire.JournalCheck]{
		{title: "entries", text: func(j wire.JournalCheck) string {
			return strconv.FormatUint(j.Entries,
				10)
		}, right: true},
		{title: "whole", text: func(j wire.JournalCheck) string { return yes(j.Whole) }},
		{title: "broken", text: func(j wire.JournalCheck) string { return j.Broken }},
		{title: "checkpoint", text: func(j wire.JournalCheck) string { return j.Checkpoint }},
	}); err != nil {
		return err
	}
	if !check.Whole {
		return &exitError{ExitFailed, errors.New(check.Broken)}
	}
	return nil
}

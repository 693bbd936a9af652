package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"os"
	"os/signal"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
)

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// alterFlags are the options of every command that alters a server.
func alterFlags() []cli.Flag {
	return []cli.Flag{
		outputFlag(),
		&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "agree to the brief without being asked"},
		&cli.StringSliceFlag{Name: "accept", Usage: "accept a caution, by its code"},
		&cli.BoolFlag{Name: "dry-run", Usage: "show the brief, and do and keep nothing"},
		&cli.BoolFlag{Name: "draft", Usage: "keep the change as a draft for somebody to run"},
		&cli.StringFlag{Name: "idempotency-key",
			Usage: "repeating the command with the same key gives the same change again"},
	}
}

// alter takes an intent through its life: brief, agreement, run, outcome.
func (a app) alter(ctx context.Context, c *cli.Command, in wire.Intent) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	if c.Bool("dry-run") {
		b, err := api.Brief(ctx, in)
		if err != nil {
			return err
		}
		a.showBrief(b)
		if b.Stopped {
			return &exitError{ExitFailed, errors.New("It could not run.")}
		}
		a.say("nothing was done (dry run)")
		return nil
	}
	key := c.String("idempotency-key")
	if key != "" && in.Kind == wire.KindFillDatabase && c.Name != "fill" {
		key += ":fill" // the change that follows another one of the same command
	}
	change, err := api.Ask(ctx, in, key)
	if err != nil {
		return err
	}
	if change.Ended { // nothing to do, or the same key again
		return a.conclude(ctx, c, api, change, true)
	}
	a.showBrief(change.Brief)
	if change.Brief.Stopped {
		if _, err := api.Withdraw(ctx, change.ID); err != nil {
			return err
		}
		return &exitError{ExitFailed, errors.New("Nothing has run: the findings above stop it.")}
	}
	me, err := api.Session(ctx)
	if err != nil {
		return err
	}
	if !contains(me.Operator.Permissions, wire.PermissionRun) {
		return a.submit(ctx, c, api, change)
	}
	if c.Bool("draft") {
		a.say("kept as a draft; run it with: genarch change run %d", change.ID)
		return print(a, c, change, []wire.Change{change}, changeColumns())
	}
	return a.runDecided(ctx, c, api, change)
}

// submit hands a change to those who may run it: its asker may not.
func (a app) submit(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
	if !c.Bool("yes") {
		answer := ""
		if a.Terminal {
			var err error
			if answer, err = a.ask("You may ask for this, not run it. Ask somebody to let it run? Type yes: "); err != nil {
				return err
			}
		}
		if answer != "yes" {
			_, _ = api.Withdraw(context.WithoutCancel(ctx), change.ID)
			return &exitError{ExitUnconfirmed, errors.New("Nothing was asked for: agree to the brief above with --yes")}
		}
	}
	change, err := api.Submit(ctx, change.ID)
	if err != nil {
		return err
	}
	if err := print(a, c, change, []wire.Change{change}, changeColumns()); err != nil {
		return err
	}
	return &exitError{ExitUnconfirmed,
		fmt.Errorf(
			"Change %d waits for somebody who may run it: genarch change run %d; see how it goes with: genarch change follow %d",
			change.ID,
			change.ID,
			change.ID,
		)}
}

// runDecided asks for agreement, runs the change and follows it. When the
// server is not as it was, the new brief is shown and asked about again.
func (a app) runDecided(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
	decided, err := a.decide(change.Brief, c.Bool("yes"), c.StringSlice("accept"), c.String("confirm"))
	if err != nil {
		if change.State == wire.StateDraft && !c.Bool("draft") && c.Name != "run" {
			_, _ = api.Withdraw(context.WithoutCancel(ctx), change.ID) // a brief nobody agreed to
		}
		return err
	}
	started, err := api.Run(ctx, change.ID, decided)
	if problem, ok := errors.AsType[*client.Error](err); ok && problem.Code == "brief.outdated" &&
		problem.Change != nil {
		a.say("%s", caution.Render("The server is not as it was. Nothing has run."))
		for _, d := range problem.Differences {
			a.say("  %s", visible(d))
		}
		a.say("")
		a.showBrief(problem.Change.Brief)
		if problem.Change.Brief.Stopped {
			return &exitError{ExitFailed, errors.New("Nothing has run: the findings above stop it.")}
		}
		return &exitError{ExitUnconfirmed,
			fmt.Errorf("Look at the new brief, then: genarch change run %d", problem.Change.ID)}
	}
	if err != nil {
		return err
	}
	return a.follow(ctx, c, api, started)
}

// follow shows each step as it goes, until the change has ended.
func (a app) follow(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change) error {
	said, last := map[int]string{}, ""
	for now, err := range api.Follow(ctx, change.ID) {
		if err != nil {
			return err
		}
		for i, s := range now.Brief.Steps {
			if s.Status != wire.StepPlanned && said[i] != s.Status {
				told := last
				if a.Terminal && last != "" {
					fmt.Fprint(a.Err, "\n") // below the line that was written over
					last = ""
				}
				a.showProgress(i, len(now.Brief.Steps), s, told)
				said[i] = s.Status
			}
			if s.Status == wire.StepBegun && s.Clearing != nil {
				a.showClearing(*s.Clearing, &last)
			}
			if s.Status == wire.StepBegun && s.Work != nil && s.Begun != nil {
				if text := workText(*s.Work, time.Since(*s.Begun)); text != last {
					last = text
					a.rewrite(text)
				}
			}
		}
		change = now
	}
	if !change.Ended && ctx.Err() != nil && a.Terminal && change.Stoppable {
		stopped, err := a.askStop(context.WithoutCancel(ctx), api, change)
		if err != nil {
			return err
		}
		change = stopped
	}
	if !change.Ended {
		return &exitError{
			ExitFailed,
			fmt.Errorf(
				"Stopped watching; the change goes on: genarch change follow %d; to stop it: genarch change stop %d",
				change.ID,
				change.ID,
			),
		}
	}
	return a.conclude(ctx, c, api, change, false)
}

// workText says how far a step is, how fast it goes, and how long that would take still.
func workText(w wire.Work, running time.Duration) string {
	of := func(n int64) string {
		if w.Unit == "bytes" {
			return sizeText(n)
		}
		return strconv.FormatInt(n, 10) + " " + w.Unit
	}
	text := visible(w.What) + ": " + of(w.Done)
	if w.Total > 0 {
		text += " of about " + of(w.Total)
	}
	seconds := running.Seconds()
	if w.Done == 0 || seconds < 1 {
		return text
	}
	rate := float64(w.Done) / seconds
	text += ", " + of(int64(rate)) + "/s"
	if left := float64(w.Total-w.Done) / rate; left > 1 {
		text += ", about " + (time.Duration(left) * time.Second).String() + " left"
	}
	return text
}

// askStop asks, after Ctrl-C, what was meant by it.
func (a app) askStop(ctx context.Context, api *client.Client, change wire.Change) (wire.Change, error) {
	signal.Reset(os.Interrupt) // a second Ctrl-C ends the command at once
	a.say("")
	answer, err := a.ask(
		fmt.Sprintf(
			"Type stop to stop change %d and roll back what it did, or Enter to only stop watching: ",
			change.ID,
		),
	)
	if err != nil || answer != "stop" {
		return change, err
	}
	return api.Stop(ctx, change.ID, 60)
}

// showProgress tells how a step stands. told is what was said of its clearing last.
func (a app) showProgress(i, n int, s wire.Step, told string) {
	word := map[string]string{
		wire.StepBegun:      "…",
		wire.StepDone:       fine.Render("done"),
		wire.StepFailed:     wrong.Render("failed"),
		wire.StepUnknown:    caution.Render("no answer, looking"),
		wire.StepUndoing:    "rolling back …",
		wire.StepUndone:     "rolled back",
		wire.StepUndoFailed: wrong.Render("could not be rolled back"),
		wire.StepHarmed:     wrong.Render("failed, and left something altered"),
	}[s.Status]
	took := ""
	over := []string{wire.StepDone, wire.StepFailed, wire.StepHarmed}
	if s.Begun != nil && s.Ended != nil && slices.Contains(over, s.Status) {
		took = fmt.Sprintf("  %d ms", s.Ended.Sub(*s.Begun).Milliseconds())
	}
	a.say("[%d/%d] %s  %s%s", i+1, n, visible(s.Title), word, faint.Render(took))
	if p := s.Clearing; p != nil && s.Status != wire.StepBegun {
		app{Streams{Err: a.Err}}.showClearing(*p, &told)
		for _, r := range p.Returned[:min(10, len(p.Returned))] {
			a.say("        came back while the gate was closed: %s", visible(r))
		}
	}
	for _, m := range s.Messages {
		a.say("        %s: %s", m.Severity, visible(m.Text))
	}
	if s.Failure != nil && s.Status != wire.StepBegun {
		a.say("        %s", visible(failureText(*s.Failure)))
	}
}

func failureText(f wire.Failure) string {
	if f.Code != "" {
		return f.Text + " [" + f.Code + "]"
	}
	return f.Text
}

// conclude says how a change ended, and makes that the exit code.
func (a app) conclude(ctx context.Context, c *cli.Command, api *client.Client, change wire.Change, brief bool) error {
	if brief {
		for _, f := range change.Brief.Findings {
			a.showFinding(f)
		}
		for _, d := range change.Brief.Differences {
			a.say("      %s: asked %s, is %s", settingTitle(wire.Setting{Name: d.Name}), visible(d.Asked),
				visible(d.Actual))
		}
	}
	style := fine
	if change.State != wire.StateDone {
		style = wrong
	}
	a.say("%s  change %d, %s", style.Render(change.State), change.ID, visible(change.Result))
	if change.State == wire.StateDone && len(change.PendingPasswords) == 0 {
		// Events do not tell whether there is anything to be shown.
		if now, err := api.Change(ctx, change.ID); err == nil {
			change = now
		}
	}
	if len(change.PendingPasswords) > 0 {
		if h, err := api.Passwords(ctx, change.ID); err == nil {
			return a.printDone(c, change, h)
		}
		a.say("%s  its passwords can be shown once, to %s: genarch change passwords %d", caution.Render("passwords"),
			change.Operator, change.ID)
	}
	if err := print(a, c, change, []wire.Change{change}, changeColumns()); err != nil {
		return err
	}
	switch {
	case change.State == wire.StateDone:
		return nil
	case change.Failure != nil:
		text := failureText(*change.Failure)
		if next := a.nextText(change.Failure.Next, change.Failure.Actions); next != "" {
			text += "; next: " + next
		}
		return &exitError{ExitFailed, errors.New(text)}
	}
	return &exitError{ExitFailed, nil}
}

// printDone writes a change that made passwords, with the sheet that shows them.
func (a app) printDone(c *cli.Command, change wire.Change, h wire.Handover) error {
	if o := c.String("output"); o != "table" && o != "" {
		return print(a, c, struct {
			wire.Change `yaml:",inline"`
			Handover    wire.Handover `json:"handover" yaml:"handover"`
		}{change, h}, []wire.Change{change}, changeColumns())
	}
	return a.printHandover(c, h)
}

func changeColumns() []column[wire.Change] {
	return []column[wire.Change]{
		{title: "change", text: func(c wire.Change) string { return strconv.FormatUint(c.ID, 10) }, right: true},
		{title: "state", text: func(c wire.Change) string { return c.State }},
		{title: "target", text: func(c wire.Change) string { return c.Target }},
		{title: "kind", text: func(c wire.Change) string { return c.Kind }},
		{title: "asked by", text: func(c wire.Change) string { return c.Operator }},
		{title: "run by", text: func(c wire.Change) string { return c.RunBy }},
		{title: "ended", text: func(c wire.Change) string { return timePtrText(c.Finished) }},
	}
}

func (a app) changeCommand() *cli.Command {
	id := func() []cli.Argument { return []cli.Argument{&cli.Uint64Arg{Name: "id"}} }
	with := func(f func(context.Context, *cli.Command, *client.Client, uint64) error) cli.ActionFunc {
		return func(ctx context.Context, c *cli.Command) error {
			n := c.Uint64Arg("id")
			if n == 0 {
				return usage("Name the change by its number: %s ID", c.FullName())
			}
			api, err := a.connect(c)
			if err != nil {
				return err
			}
			return f(ctx, c, api, n)
		}
	}
	return &cli.Command{Name: "change", Usage: "alterations: what was asked for, what ran, what came of it",
		Commands: []*cli.Command{
			{Name: "list", Usage: "list changes, the newest first", Flags: listFlags(
				&cli.StringFlag{Name: "server", Usage: "of one server"},
				&cli.StringFlag{Name: "target", Usage: "about one address"},
				&cli.StringFlag{Name: "state", Usage: "draft, waiting, running, done, reverted, stuck, …"},
				&cli.StringFlag{Name: "operator", Usage: "asked for or run by one operator"},
				&cli.StringFlag{Name: "kind", Usage: "of one kind, such as database.drop"},
				sinceFlag(), untilFlag(), limitFlag(50)),
				Action: a.listChanges},
			{Name: "show", Usage: "one change with its brief, steps and messages", ArgsUsage: "ID", Arguments: id(),
				Flags: []cli.Flag{outputFlag()}, Action: with(a.showChange)},
			{Name: "run", Usage: "let a draft run", ArgsUsage: "ID", Arguments: id(),
				Flags: []cli.Flag{outputFlag(),
					&cli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "agree to the brief without being asked"},
					&cli.StringSliceFlag{Name: "accept", Usage: "accept a caution, by its code"}, confirmFlag()},
				Action: with(a.runChange)},
			{Name: "follow", Usage: "watch a running change until it ends", ArgsUsage: "ID", Arguments: id(),
				Flags: []cli.Flag{outputFlag()},
				Action: with(func(ctx context.Context, c *cli.Command, api *client.Client, n uint64) error {
					return a.follow(ctx, c, api, wire.Change{ID: n})
				})},
			{Name: "stop", Usage: "stop a running change and roll back what it did", ArgsUsage: "ID", Arguments: id(),
				Flags:  []cli.Flag{outputFlag()},
				Action: with(a.stopChange)},
			{Name: "script", Usage: "its statements as a script to keep", ArgsUsage: "ID", Arguments: id(),
				Action: with(func(ctx context.Context, _ *cli.Command, api *client.Client, n uint64) error {
					text, err := api.Script(ctx, n)
					fmt.Fprint(a.Out, text)
					return err
				})},
			{Name: "decline", Usage: "end a change that waits for somebody to run it", ArgsUsage: "ID", Arguments: id(),
				Flags:  []cli.Flag{outputFlag(), &cli.StringFlag{Name: "reason", Usage: "why", Required: true}},
				Action: with(a.declineChange)},
			{Name: "passwords", Usage: "the handover sheet with the generated passwords: once, for who asked",
				ArgsUsage: "ID", Arguments: id(), Flags: []cli.Flag{outputFlag(), formFlag()},
				Action: with(a.showPasswords)},
			{Name: "withdraw", Usage: "end a change that has not begun", ArgsUsage: "ID", Arguments: id(),
				Flags:  []cli.Flag{outputFlag()},
				Action: with(a.withdrawChange)},
		}}
}

func (a app) listChanges(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	q := url.Values{"limit": {strconv.Itoa(c.Int("limit"))}}
	setTexts(q, c, "server", "target", "state", "operator", "kind")
	if err := setPeriod(q, c); err != nil {
		return err
	}
	list, err := api.Changes(ctx, q)
	if err != nil {
		return err
	}
	if len(list.Changes) == 0 {
		a.say("no changes")
	}
	if list.Next > 0 {
		a.say("there are older ones; see --limit")
	}
	return print(a, c, list, list.Changes, []column[wire.ChangeLine]{
		{title: "change", text: func(l wire.ChangeLine) string { return strconv.FormatUint(l.ID, 10) }, right: true},
		{title: "state", text: func(l wire.ChangeLine) string { return l.State }},
		{title: "target", text: func(l wire.ChangeLine) string { return l.Target }},
		{title: "environment", text: func(l wire.ChangeLine) string { return l.Environment }},
		{title: "kind", text: func(l wire.ChangeLine) string { return l.Kind }},
		{title: "asked by", text: func(l wire.ChangeLine) string { return l.Operator }},
		{title: "run by", text: func(l wire.ChangeLine) string { return l.RunBy }},
		{title: "asked", text: func(l wire.ChangeLine) string { return timeText(l.Created) }},
		{title: "result", text: func(l wire.ChangeLine) string { return l.Result }},
	})
}

func (a app) showChange(ctx context.Context, c *cli.Command, api *client.Client, n uint64) error {
	change, err := api.Change(ctx, n)
	if err != nil {
		return err
	}
	if o := c.String("output"); o != "table" {
		return print(a, c, change, []wire.Change{change}, changeColumns())
	}
	shown := app{a.Streams}
	shown.Err = a.Out // here the brief is the result
	shown.say("change %d  %s  %s", change.ID, bold.Render(change.State), visible(change.Result))
	shown.say("asked by %s at %s%s", change.Operator, timeText(change.Created), ranText(change))
	if len(change.Accepted) > 0 {
		shown.say("accepted: %s", strings.Join(change.Accepted, ", "))
	}
	if change.Failure != nil {
		shown.say("%s %s", wrong.Render("failure:"), visible(failureText(*change.Failure)))
		if next := a.nextText(change.Failure.Next, change.Failure.Actions); next != "" {
			shown.say("  next: %s", visible(next))
		}
	}
	shown.say("")
	shown.showBrief(change.Brief)
	for i, s := range change.Brief.Steps {
		if s.Status != wire.StepPlanned {
			shown.showProgress(i, len(change.Brief.Steps), s, "")
		}
	}
	return nil
}

func ranText(c wire.Change) string {
	if c.Started == nil {
		return ""
	}
	text := fmt.Sprintf(", run by %s at %s", c.RunBy, timeText(*c.Started))
	if c.Finished != nil {
		text += fmt.Sprintf(", took %d ms", c.Finished.Sub(*c.Started).Milliseconds())
	}
	return text
}

// runChange shows the brief of a draft once more, asks, and lets it run.
func (a app) runChange(ctx context.Context, c *cli.Command, api *client.Client, n uint64) error {
	change, err := api.Change(ctx, n)
	if err != nil {
		return err
	}
	a.showBrief(change.Brief)
	return a.runDecided(ctx, c, api, change)
}

// stopChange asks for a running change to be stopped.
func (a app) stopChange(ctx context.Context, c *cli.Command, api *client.Client, n uint64) error {
	change, err := api.Stop(ctx, n, 60)
	if err != nil {
		return err
	}
	if !change.Ended {
		a.say("asked to stop; see how it goes with: genarch change follow %d", n)
	}
	return print(a, c, change, []wire.Change{change}, changeColumns())
}

// declineChange ends one that waits.
func (a app) declineChange(ctx context.Context, c *cli.Command, api *client.Client, n uint64) error {
	change, err := api.Decline(ctx, n, c.String("reason"))
	if err != nil {
		return err
	}
	return print(a, c, change, []wire.Change{change}, changeColumns())
}

// showPasswords shows what was generated, once.
func (a app) showPasswords(ctx context.Context, c *cli.Command, api *client.Client, n uint64) error {
	h, err := api.Passwords(ctx, n)
	if err != nil {
		return err
	}
	return a.printHandover(c, h)
}

// withdrawChange ends one that has not begun.
func (a app) withdrawChange(ctx context.Context, c *cli.Command, api *client.Client, n uint64) error {
	change, err := api.Withdraw(ctx, n)
	if err != nil {
		return err
	}
	return print(a, c, change, []wire.Change{change}, changeColumns())
}

package cli

import (
	"context"
	"fmt"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/naming"
)

// sessionFilterFlags pick sessions by what they are.
func sessionFilterFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "account", Usage: "of one account: NAME, or NAME@HOST where accounts have hosts"},
		&cli.StringFlag{Name: "application", Usage: "of one program, as it calls itself"},
		&cli.StringFlag{Name: "client", Usage: "from one address"},
		&cli.StringFlag{Name: "class", Usage: "idle, busy, in_transaction, written, hidden"},
		&cli.DurationFlag{Name: "idle-longer-than", Usage: "idle for longer, for example 15m"},
		&cli.DurationFlag{Name: "older-than",
			Usage: "begun longer ago; where the engine does not tell, its transaction"},
	}
}

// clearingFlags say how sessions that are in the way are dealt with. hold adds
// what only a drop on MariaDB knows.
func clearingFlags(hold bool) []cli.Flag {
	flags := []cli.Flag{
		&cli.DurationFlag{Name: "grace", Value: 10 * time.Second,
			Usage: "how long work may go on by itself before it is ended; it ends early when only idle sessions are left"},
		&cli.DurationFlag{Name: "when-empty",
			Usage: "wait up to so long until the last session has left by itself, and end nobody"},
		&cli.BoolFlag{Name: "accept-loss", Usage: "end sessions that have written too: that work is lost"},
	}
	if hold {
		flags = append(flags, &cli.BoolFlag{Name: "lock-accounts",
			Usage: "lock meanwhile the accounts that could come back otherwise, where the gate leaves them a way in"})
	}
	return flags
}

// clearing reads what clearingFlags said.
func clearing(c *cli.Command) (*wire.ClearingSpec, error) {
	out := &wire.ClearingSpec{Grace: wholeSeconds(c.Duration("grace")),
		WhenEmpty: wholeSeconds(c.Duration("when-empty")), AcceptLoss: c.Bool("accept-loss")}
	if c.Bool("lock-accounts") {
		out.Options = map[string]any{"lock_accounts": true}
	}
	if out.WhenEmpty > 0 {
		if c.IsSet("grace") {
			return nil, usage("--grace ends sessions after a while, --when-empty ends nobody: give one of them.")
		}
		out.Grace = 0
	}
	return out, nil
}

// wholeSeconds rounds up, so that a part of a second is not taken for none.
func wholeSeconds(d time.Duration) int { return int((d + time.Second - 1) / time.Second) }

func (a app) sessionCommand() *cli.Command {
	return &cli.Command{Name: "session",
		Usage: "sessions: who is connected, who blocks whom; end them by their identity", Commands: []*cli.Command{
			{Name: "list", Usage: "who is connected to a server or a database, as it is now",
				ArgsUsage: "SERVER[/DATABASE]", Arguments: addressArg(),
				Flags: append(listFlags(
					&cli.BoolFlag{Name: "all", Usage: "the engine's own and Genarch's too"},
					&cli.BoolFlag{Name: "tree", Usage: "who blocks whom, as a tree"},
					limitFlag(2000)), sessionFilterFlags()...),
				Action: a.listSessions},
			{Name: "show", Usage: "one session with its whole statement", ArgsUsage: "SERVER/session:ID",
				Arguments: addressArg(), Flags: []cli.Flag{outputFlag()}, Action: a.showSession},
			{Name: "end", Usage: "end sessions: those named, or those of a server that fit; they are shown before anything runs", ArgsUsage: "SERVER/session:ID … | SERVER[/DATABASE] --account …",
				Arguments:   []cli.Argument{&cli.StringArgs{Name: "addresses", Min: 1, Max: 1000}},
				Description: "A session is named with its whole identity, as session list shows it: numbers alone are used again by others.\nBy a filter, Genarch's own sessions, the server's, replication and backups are never ended.",
				Flags: append(append(sessionFilterFlags(),
					&cli.BoolFlag{Name: "statement-only",
						Usage: "stop what runs just now; session and transaction stay"},
					&cli.DurationFlag{Name: "grace", Usage: "how long work may go on by itself first"},
					&cli.BoolFlag{Name: "accept-loss", Usage: "end sessions that have written too"}), alterFlags()...),
				Action: a.endSessions},
		}}
}

// serverAndDatabase reads SERVER or SERVER/DATABASE.
func serverAndDatabase(text string) (server, database string) {
	server, database, _ = strings.Cut(text, "/")
	return server, strings.TrimPrefix(database, "database:")
}

func (a app) listSessions(ctx context.Context, c *cli.Command) error {
	server, database := serverAndDatabase(c.StringArg("address"))
	if server == "" {
		return usage("Name the server: %s SERVER[/DATABASE]", c.FullName())
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	q := url.Values{"limit": {strconv.Itoa(c.Int("limit"))}}
	set := func(name, value string) {
		if value != "" {
			q.Set(name, value)
		}
	}
	set("database", database)
	for _, name := range []string{"account", "application", "client", "class"} {
		set(name, c.String(name))
	}
	for flag, name := range map[string]string{"idle-longer-than": "idle_longer", "older-than": "older"} {
		if c.IsSet(flag) {
			set(name, strconv.Itoa(wholeSeconds(c.Duration(flag))))
		}
	}
	if c.Bool("all") || c.Bool("tree") {
		q.Set("all", "true")
	}
	list, err := api.Sessions(ctx, server, q)
	if err != nil {
		return err
	}
	a.sayBounded(len(list.Sessions), list.Total)
	if c.String("output") != "table" {
		return print(a, c, list, list.Sessions, a.sessionColumns(list.Read))
	}
	where := bold.Render(c.StringArg("address"))
	what, of := naming.Count(list.Total, "session"), "of"
	if c.Bool("tree") {
		what, of = "who waits for whom", "among"
	}
	a.say("%s  %s  %s%s", where, environmentText(list.Environment), what,
		faint.Render(fmt.Sprintf("  %s %d on the server, which takes %d; read %s", of, list.All, list.Allowed,
			timeText(list.Read))))
	for _, p := range list.Prepared {
		a.say("%s  prepared transaction %s %s, of no session", caution.Render("waits"), visible(p.Name),
			visible(p.Database))
	}
	if c.Bool("tree") {
		return a.printTree(list)
	}
	for _, u := range list.Unseen {
		a.sayWrapped("  ", faint.Render("not shown: "+u))
	}
	return print(a, c, list, list.Sessions, a.sessionColumns(list.Read))
}

// besideStatement is how wide a list of sessions usually is without statements;
// they get what a terminal has left.
const besideStatement = 136

// sessionColumns are those of a list; lengths of time are as of the reading.
func (a app) sessionColumns(read time.Time) []column[wire.ServerSession] {
	room := 60
	if wide := terminalWidth(a.Out); wide > 0 {
		room = max(12, min(room, wide-besideStatement))
	}
	since := func(t *time.Time) string {
		if t == nil {
			return ""
		}
		return span(read.Sub(*t))
	}
	return []column[wire.ServerSession]{
		{title: "session", text: func(s wire.ServerSession) string { return s.ID }},
		{title: "class", text: func(s wire.ServerSession) string { return codeWords(s.Class) }},
		{title: "account", text: func(s wire.ServerSession) string { return holderText(s.Account) }},
		{title: "application", text: func(s wire.ServerSession) string { return s.Application }},
		{title: "client", text: func(s wire.ServerSession) string { return s.Client }},
		{title: "database", text: func(s wire.ServerSession) string {
			return strings.TrimPrefix(strings.Join(append([]string{s.Database}, s.Uses...), ", "), ", ")
		}},
		{title: "since", text: func(s wire.ServerSession) string { return since(s.Started) },
			exact: func(s wire.ServerSession) string { return timePtrText(s.Started) }, right: true},
		{title: "for", text: func(s wire.ServerSession) string { return since(s.StateSince) },
			exact: func(s wire.ServerSession) string { return timePtrText(s.StateSince) }, right: true},
		{title: "tx", text: func(s wire.ServerSession) string { return since(s.Transaction) },
			exact: func(s wire.ServerSession) string { return timePtrText(s.Transaction) }, right: true},
		{title: "written", text: func(s wire.ServerSession) string {
			switch {
			case s.Rows != nil:
				return naming.Count(*s.Rows, "row")
			case s.LogBytes > 0:
				return sizeText(s.LogBytes)
			}
			return ""
		}, right: true},
		{title: "locks", text: func(s wire.ServerSession) string {
			if s.Locks == 0 {
				return ""
			}
			return strconv.Itoa(s.Locks)
		}, right: true},
		{title: "waits for", text: func(s wire.ServerSession) string { return numbers(s.BlockedBy) }, exact: waitsText},
		{title: "statement", text: func(s wire.ServerSession) string { return shorten(s.Statement, room) },
			exact: func(s wire.ServerSession) string { return s.Statement }},
	}
}

func numbers(list []int64) string {
	out := make([]string, len(list))
	for i, n := range list {
		out[i] = strconv.FormatInt(n, 10)
	}
	return strings.Join(out, ", ")
}

func waitsText(s wire.ServerSession) string {
	return strings.TrimPrefix(strings.TrimSuffix(numbers(s.BlockedBy)+": "+s.Wait, ": "), ": ")
}

// shorten writes a statement on one line, cut at n characters.
func shorten(text string, n int) string {
	r := []rune(strings.Join(strings.Fields(text), " "))
	if len(r) > n {
		return string(r[:n-1]) + "…"
	}
	return string(r)
}

// span writes a length of time with its two largest units.
func span(d time.Duration) string {
	switch {
	case d < time.Second:
		return fmt.Sprintf("%d ms", max(0, d.Milliseconds()))
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%dm%02ds", int(d.Minutes()), int(d.Seconds())%60)
	case d < 24*time.Hour:
		return fmt.Sprintf("%dh%02dm", int(d.Hours()), int(d.Minutes())%60)
	}
	return fmt.Sprintf("%dd%02dh", int(d.Hours())/24, int(d.Hours())%24)
}

// printTree writes who blocks whom, each blocker above those that wait for it.
func (a app) printTree(list wire.SessionList) error {
	if len(list.Waits) == 0 {
		a.say("nobody waits for anybody")
		return nil
	}
	for _, w := range list.Waits {
		s := w.Session
		line := strings.Repeat("   ", w.Depth)
		if w.Depth > 0 {
			line = strings.Repeat("   ", w.Depth-1) + "└─ "
		}
		text := fmt.Sprintf("%s%s  %s  %s  %s", line, s.ID, codeWords(s.Class),
			visible(strings.TrimSpace(holderText(s.Account)+" "+s.Application)), visible(s.Database))
		switch {
		case w.Again:
			text += "  (see above)"
		case w.Depth == 0:
			text += fmt.Sprintf("  blocks %d", w.Blocks)
		case s.Wait != "":
			text += "  waits for " + s.Wait
		}
		fmt.Fprintln(a.Out, text)
		if s.Statement != "" && !w.Again {
			fmt.Fprintln(a.Out, strings.Repeat("   ", w.Depth+1)+visible(shorten(s.Statement, 90)))
		}
	}
	return nil
}

// splitSession reads SERVER/session:ID.
func splitSession(text string) (server, id string, ok bool) {
	server, rest, cut := strings.Cut(text, "/")
	id, typed := strings.CutPrefix(rest, "session:")
	return server, id, cut && typed && server != "" && id != ""
}

func (a app) showSession(ctx context.Context, c *cli.Command) error {
	server, id, ok := splitSession(c.StringArg("address"))
	if !ok {
		return usage("Name it with its server: %s SERVER/session:ID", c.FullName())
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	list, err := api.Sessions(ctx, server, url.Values{"all": {"true"}, "limit": {"20000"}})
	if err != nil {
		return err
	}
	for _, s := range list.Sessions {
		if s.ID == id {
			return a.printSession(c, s, list.Read)
		}
	}
	return &exitError{ExitNotFound,
		fmt.Errorf("Session %s is not open any more; list them: genarch session list %s", id, server)}
}

func (a app) printSession(c *cli.Command, s wire.ServerSession, read time.Time) error {
	if c.String("output") != "table" {
		return print(a, c, s, []wire.ServerSession{s}, a.sessionColumns(read))
	}
	p := properties{}
	p.add("session", s.Address)
	p.add("class", codeWords(s.Class)+"; ended, it would lose "+s.Loses)
	p.add("account", visible(holderText(s.Account)))
	for _, f := range []struct{ title, value string }{{"application", s.Application}, {"client", s.Client},
		{"database", s.Database}, {"uses too", strings.Join(s.Uses, ", ")},
		{"since", timePtrText(s.Started)}, {"state", codeWords(s.State) + " since " + timePtrText(s.StateSince)},
		{"transaction", timePtrText(s.Transaction)}, {"waits for", waitsText(s)}, {"progress", s.Progress}} {
		if f.value != "" {
			p.add(f.title, visible(f.value))
		}
	}
	p.add("locks held", strconv.Itoa(s.Locks))
	p.add("has written", yes(s.Written))
	p.add("statement", visibleLines(s.Statement))
	p.print(a)
	return nil
}

// visibleLines is text of several lines, each made visible.
func visibleLines(text string) string {
	lines := strings.Split(text, "\n")
	for i, line := range lines {
		lines[i] = visible(line)
	}
	return strings.Join(lines, "\n")
}

func (a app) endSessions(ctx context.Context, c *cli.Command) error {
	spec := wire.SessionsSpec{Account: c.String("account"), Application: c.String("application"),
		Client: c.String("client"), Class: c.String("class"),
		IdleLonger: wholeSeconds(c.Duration("idle-longer-than")), Older: wholeSeconds(c.Duration("older-than")),
		StatementOnly: c.Bool("statement-only")}
	byFilter := spec.Account+spec.Application+spec.Client+spec.Class != "" || spec.IdleLonger+spec.Older > 0
	server := ""
	for _, text := range c.StringArgs("addresses") {
		on, id, isSession := splitSession(text)
		switch {
		case byFilter && isSession:
			return usage("Name sessions either by their identity or by what they are.")
		case byFilter:
			on, spec.Database = serverAndDatabase(text)
		case !isSession:
			return usage("Name each session as SERVER/session:ID, or say whose sessions of %s are meant, for example with --account.", text)
		default:
			spec.IDs = append(spec.IDs, id)
		}
		if server != "" && (on != server || byFilter) {
			return usage("One server at a time.")
		}
		server = on
	}
	return a.alter(ctx, c, wire.Intent{Kind: wire.KindEndSessions, Server: server, Sessions: &spec,
		Clearing: &wire.ClearingSpec{Grace: wholeSeconds(c.Duration("grace")), AcceptLoss: c.Bool("accept-loss")}})
}

// whoIsLeft names those that a clearing waits for, those that are alike together.
func whoIsLeft(p wire.Clearing) string {
	const named = 3
	var who []string
	alike := map[string]int{}
	for _, w := range p.Who {
		text := strings.Join(strings.Fields(w.Account+" "+w.Application+" "+codeWords(w.Class)+" "+w.Progress), " ")
		if alike[text]++; alike[text] == 1 {
			who = append(who, text)
		}
	}
	if len(who) == 0 {
		return ""
	}
	more := ""
	if len(who) > named || p.Left > len(p.Who) {
		more = "; …"
	}
	who = who[:min(named, len(who))]
	for i, text := range who {
		if n := alike[text]; n > 1 {
			who[i] = fmt.Sprintf("%d × %s", n, text)
		}
	}
	return ": " + visible(strings.Join(who, "; ")) + more
}

// showClearing tells how far a clearing is: on a terminal in one line that is
// written over, else only what has changed since the last time.
func (a app) showClearing(p wire.Clearing, last *string) {
	text := fmt.Sprintf("%d left", p.Left)
	if p.Left < 0 {
		text = "looking"
	}
	if p.Ended > 0 {
		text += fmt.Sprintf(", %d ended", p.Ended)
	}
	if p.Gone > 0 {
		text += fmt.Sprintf(", %d left by themselves", p.Gone)
	}
	if p.Came > 0 {
		text += fmt.Sprintf(", %d came meanwhile", p.Came)
	}
	if p.Phase != "cleared" {
		text += whoIsLeft(p)
	}
	if *last == p.Phase+text {
		return
	}
	*last = p.Phase + text
	if p.Phase == wire.PhaseWaiting && p.GraceEnds != nil {
		text = fmt.Sprintf("waiting until %s UTC, %s", p.GraceEnds.UTC().Format("15:04:05"), text)
	}
	a.rewrite(text)
}

// rewrite says how far something is: on a terminal in one line that is written over.
func (a app) rewrite(text string) {
	if a.Terminal {
		if wide := terminalWidth(a.Err); wide > 0 {
			text = shorten(text, wide-10)
		}
		fmt.Fprintf(a.Err, "%s        %s", lineAnew, text)
		return
	}
	a.say("        %s", text)
}

// codeWords says in words what the class or state of a session is.
func codeWords(code string) string {
	switch code {
	case wire.ClassWritten:
		return "written work"
	case wire.ClassHidden:
		return "not visible"
	case wire.ClassOwn:
		return "Genarch"
	}
	return strings.ReplaceAll(code, "_", " ")
}

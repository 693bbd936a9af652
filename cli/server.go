package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
	"example.com/genarch/client"
	"example.com/genarch/core/naming"
)

// nameArg is a positional argument that names a server.
func nameArg() []cli.Argument { return []cli.Argument{&cli.StringArg{Name: "server"}} }

// withServer connects and reads the server argument.
func (a app) withServer(f func(context.Context, *cli.Command, *client.Client, string) error) cli.ActionFunc {
	return func(ctx context.Context, c *cli.Command) error {
		name := c.StringArg("server")
		if name == "" {
			return usage("Name the server: %s SERVER", c.FullName())
		}
		api, err := a.connect(c)
		if err != nil {
			return err
		}
		return f(ctx, c, api, name)
	}
}

// registrationFlags are what a registration is made of; defaults only for add.
func registrationFlags(add bool) []cli.Flag {
	return append(optionFlags(),
		&cli.StringFlag{Name: "host", Usage: "host name or address; on this machine also the path of the socket or of its folder", Required: add},
		&cli.IntFlag{Name: "port", Usage: "port", DefaultText: "the engine's usual one"},
		&cli.StringFlag{Name: "admin", Usage: "login that Genarch uses there", Required: add},
		&cli.StringFlag{Name: "secret-file", Usage: "file with that login's password; - is standard input",
			DefaultText: "asked for"},
		&cli.StringFlag{Name: "environment", Usage: "production, staging or development", Required: add},
		&cli.StringMapFlag{Name: "label", Usage: "label as key=value"},
		&cli.StringFlag{Name: "tls", Usage: "off, required (the certificate is known by its key) or verified",
			DefaultText: "off on this machine, else verified"},
		&cli.StringFlag{Name: "ca-file", Usage: "certificate of the authority, for verified",
			DefaultText: "the authorities that the system trusts"},
		&cli.StringFlag{Name: "server-key", Usage: "for required: the key of the server's certificate, sha256:…"},
		&cli.StringFlag{Name: "name-suffix", Usage: "what names of new databases must end in, such as _prod"},
		&cli.BoolFlag{Name: "free-names", Usage: "let new databases have any name that the engine takes"},
		&cli.IntFlag{Name: "name-length", Usage: "the longest name of a new database"},
		&cli.IntFlag{Name: "keep-days", Usage: "for how many days what is set aside there is kept for certain",
			DefaultText: "as the environment has it"},
		&cli.BoolFlag{Name: "discard-due", Usage: "let Genarch discard what is kept no longer for certain"},
		&cli.StringSliceFlag{Name: "client-address",
			Usage: "where clients find it, `HOST[:PORT]`, as on the sheet for a team; given twice, the one to be used first", DefaultText: "the address that Genarch uses"},
		outputFlag())
}

func (a app) serverCommand() *cli.Command {
	return &cli.Command{Name: "server", Usage: "the database servers that Genarch looks after",
		Commands: []*cli.Command{
			{Name: "prepare", Usage: "write the statements that make a login for Genarch itself, with the rights that it needs and no others", ArgsUsage: "ENGINE",
				Arguments: []cli.Argument{&cli.StringArg{Name: "engine"}},
				Flags: []cli.Flag{&cli.StringFlag{Name: "login", Value: "genarch", Usage: "what it is to be called"},
					&cli.StringFlag{Name: "client-host",
						Usage:       "where Genarch connects from, on engines where that is part of an account",
						DefaultText: "everywhere"}, outputFlag()},
				Action: a.prepareServer},
			{Name: "add", Usage: "register a server, after connecting to it", ArgsUsage: "NAME", Arguments: nameArg(),
				Flags: append(registrationFlags(true),
					&cli.StringFlag{Name: "engine", Usage: "one of genarch engine list", Required: true}),
				Action: a.withServer(a.addServer)},
			{Name: "list", Usage: "all servers, as they are now",
				Flags: listFlags(
					&cli.BoolFlag{Name: "registered", Usage: "only what is registered, without asking the servers"}),
				Action: a.listServers},
			{Name: "show", Usage: "one server, as registered and as it is now", ArgsUsage: "SERVER",
				Arguments: nameArg(),
				Flags:     []cli.Flag{outputFlag()},
				Action: a.withServer(func(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
					s, err := api.Server(ctx, name)
					if err != nil {
						return err
					}
					return a.showServer(c, s, *s.Status, s)
				})},
			{Name: "history", Usage: "its sessions and size over time, as a plot", ArgsUsage: "SERVER",
				Arguments: nameArg(), Flags: historyFlags(), Action: a.withServer(a.serverHistory)},
			{Name: "check", Usage: "prove address, identity, version, and what the login may do", ArgsUsage: "SERVER",
				Arguments: nameArg(), Flags: []cli.Flag{outputFlag()},
				Action: a.withServer(func(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
					check, err := api.CheckServer(ctx, name)
					if err != nil {
						return err
					}
					return a.showServer(c, check.Server, check.Status, check)
				})},
			a.choicesCommand(),
			{Name: "edit", Usage: "alter a registration; what is not named stays", ArgsUsage: "SERVER",
				Arguments: nameArg(), Flags: registrationFlags(false),
				Action: a.withServer(a.editServer)},
			{Name: "accept", Usage: "accept the instance that answers as the known one from now on",
				ArgsUsage: "SERVER",
				Arguments: nameArg(),
				Flags: []cli.Flag{outputFlag(),
					&cli.StringFlag{Name: "confirm", Usage: "the identity key that is meant, as check shows it"}},
				Action: a.withServer(a.acceptServer)},
			{Name: "mark", Usage: "write a mark by which the server is known for certain, where it has no number of its own", ArgsUsage: "SERVER", Arguments: nameArg(), Flags: alterFlags(),
				Action: a.withServer(func(ctx context.Context, c *cli.Command, _ *client.Client, name string) error {
					return a.alter(ctx, c, wire.Intent{Kind: wire.KindMarkServer, Server: name})
				})},
			{Name: "forget", Usage: "remove a registration; nothing on the server is touched", ArgsUsage: "SERVER",
				Arguments: nameArg(),
				Flags:     []cli.Flag{&cli.StringFlag{Name: "confirm", Usage: "the server's name, typed again"}},
				Action:    a.withServer(a.forgetServer)},
		}}
}

// prepareServer writes a script for the engine's own client: nothing is sent to a server.
func (a app) prepareServer(ctx context.Context, c *cli.Command) error {
	name := c.StringArg("engine")
	if name == "" {
		return usage("Name the engine: %s ENGINE (genarch engine list)", c.FullName())
	}
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	p, err := api.PrepareLogin(ctx, name, c.String("login"), c.String("client-host"))
	if err != nil {
		return err
	}
	if c.String("output") != "table" {
		return print(a, c, p, p.Statements, []column[wire.Right]{
			{title: "for", text: func(r wire.Right) string { return r.For }},
			{title: "statement", text: func(r wire.Right) string { return r.Statement }}})
	}
	if len(p.Statements) == 0 {
		a.say("%s has one login, and nothing to be prepared", name)
		return nil
	}
	fmt.Fprintf(a.Out, "%sA login for Genarch. Run this as an administrator, give the login a password in a way\n%sthat leaves it in no history, then: genarch server add NAME --engine %s --admin %s …\n",
		p.Comment, p.Comment, name, visible(p.Login))
	for _, r := range p.Statements {
		fmt.Fprintf(a.Out, "\n%sto %s\n%s%s\n", p.Comment, r.For, visible(r.Statement), p.End)
	}
	a.say("next: run it with %s, set the password, register the server; genarch server check says what is missing",
		p.Client)
	return nil
}

func (a app) addServer(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	secret, err := a.secret(c.String("secret-file"), "Password of "+c.String("admin")+": ")
	if err != nil {
		return err
	}
	in := wire.ServerInput{Name: name, Engine: c.String("engine"), Host: c.String("host"), Port: c.Int("port"),
		Admin:  c.String("admin"),
		Secret: secret, Clients: c.StringSlice("client-address"), Environment: c.String("environment"),
		Labels: c.StringMap("label"), TLS: c.String("tls"),
		ServerKey: c.String("server-key"),
		NameRule: &wire.NameRule{Suffix: c.String("name-suffix"), Free: c.Bool("free-names"),
			MaxLength: c.Int("name-length")},
		Keeping: &wire.Keeping{Days: c.Int("keep-days"), Discard: c.Bool("discard-due")}}
	if in.Options, err = options(c); err != nil {
		return err
	}
	if in.CA, err = readCA(c); err != nil {
		return err
	}
	check, err := api.AddServer(ctx, in)
	if err != nil {
		return err
	}
	a.say("%s  %s is registered", fine.Render("done"), name)
	return a.showServer(c, check.Server, check.Status, check)
}

func readCA(c *cli.Command) (string, error) {
	if c.String("ca-file") == "" {
		return "", nil
	}
	text, err := os.ReadFile(c.String("ca-file"))
	if err != nil {
		return "", fmt.Errorf("the CA file: %w", err)
	}
	return string(text), nil
}

func (a app) editServer(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	was, err := api.Server(ctx, name)
	if err != nil {
		return err
	}
	p, err := a.serverPatch(c, was)
	if err != nil {
		return err
	}
	if _, err := api.EditServer(ctx, name, p); err != nil {
		return err
	}
	a.say("%s  the registration of %s is altered", fine.Render("done"), name)
	check, err := api.CheckServer(ctx, name)
	if err != nil {
		return err
	}
	return a.showServer(c, check.Server, check.Status, check)
}

func (a app) acceptServer(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	check, err := api.CheckServer(ctx, name)
	if err != nil {
		return err
	}
	if check.Status.Trouble == nil || check.Status.Identity == nil {
		if check.Status.Trouble != nil {
			return errors.New(check.Status.Trouble.Detail)
		}
		a.say("nothing to accept: the known instance answers, %s", identityText(check.Server.Identity))
		return nil
	}
	a.say("%s  %s", bold.Render(name), environmentText(check.Server.Environment))
	a.say("  known: %s", identityText(check.Server.Identity))
	a.say("  found: %s", identityText(*check.Status.Identity))
	typed := c.String("confirm")
	if typed == "" && check.Status.Identity.Key == check.Server.Identity.Key {
		a.say("  only the key of its certificate is another one; work it out on the server itself and compare")
	}
	if typed == "" {
		if typed, err = a.ask("If the found one is right, type its key: "); err != nil {
			return err
		}
	}
	if _, err := api.AcceptServer(ctx, name, typed); err != nil {
		return err
	}
	a.say("%s  %s is known by that instance from now on", fine.Render("done"), name)
	return nil
}

// confirmed has a name typed again, after it said what would be done.
func (a app) confirmed(c *cli.Command, name, what string) (err error) {
	typed := c.String("confirm")
	if typed == "" {
		a.say("%s", what)
		if typed, err = a.ask("Type its name: "); err != nil {
			return &exitError{ExitUnconfirmed, fmt.Errorf("Nothing was done: confirm with --confirm %s", name)}
		}
	}
	if typed != name {
		return &exitError{ExitUnconfirmed, errors.New("Nothing was done: that is not the name.")}
	}
	return nil
}

func (a app) forgetServer(ctx context.Context, c *cli.Command, api *client.Client, name string) error {
	s, err := api.Servers(ctx, false)
	if err != nil {
		return err
	}
	found := false
	for _, x := range s {
		found = found || x.Name == name
	}
	if !found {
		return &exitError{ExitNotFound, fmt.Errorf("No server %s is registered.", name)}
	}
	if err := a.confirmed(c, name, "Genarch forgets how to reach "+name+", its admin login's password included. "+
		"Nothing on the server is touched; past changes and the journal stay."); err != nil {
		return err
	}
	if err := api.ForgetServer(ctx, name); err != nil {
		return err
	}
	a.say("%s  %s is forgotten", fine.Render("done"), name)
	return nil
}

func (a app) listServers(ctx context.Context, c *cli.Command) error {
	api, err := a.connect(c)
	if err != nil {
		return err
	}
	live := !c.Bool("registered")
	list, err := api.Servers(ctx, live)
	if err != nil {
		return err
	}
	if len(list) == 0 {
		a.say("no servers are registered yet; next: genarch server add NAME --help")
	}
	silent := 0
	status := func(f func(wire.Status) string) func(wire.Server) string {
		return func(s wire.Server) string {
			if s.Status == nil || !s.Status.Reachable {
				return ""
			}
			return f(*s.Status)
		}
	}
	for _, s := range list {
		if s.Status != nil && s.Status.Trouble != nil {
			silent++
		}
	}
	err = print(a, c, list, list, []column[wire.Server]{
		{title: "server", text: func(s wire.Server) string { return s.Name }},
		{title: "environment", text: func(s wire.Server) string { return s.Environment }},
		{title: "engine", text: func(s wire.Server) string { return s.Engine }},
		{title: "version", text: status(func(s wire.Status) string { return s.Version })},
		{title: "address", text: func(s wire.Server) string { return s.Host + ":" + strconv.Itoa(s.Port) }},
		{title: "databases", text: status(func(s wire.Status) string { return strconv.Itoa(s.Databases) }),
			right: true},
		{title: "sessions", text: status(func(s wire.Status) string {
			return fmt.Sprintf("%d of %d", s.Sessions,
				s.Allowed)
		}), right: true},
		{title: "size", text: status(func(s wire.Status) string { return sizeText(s.Size) }),
			exact: status(func(s wire.Status) string { return strconv.FormatInt(s.Size, 10) }), right: true},
		{title: "state", text: func(s wire.Server) string { return stateText(s.Status) }},
	})
	if silent > 0 {
		a.say("%d of %d servers answered", len(list)-silent, len(list))
	}
	return err
}

func stateText(s *wire.Status) string {
	switch {
	case s == nil:
		return ""
	case s.Trouble != nil:
		return s.Trouble.Detail
	case s.ReadOnly != "":
		return s.ReadOnly
	}
	return "answers"
}

// addAbilities adds what Genarch's login may do, and how to make it as it should be.
func addAbilities(p *properties, list []wire.Ability) {
	for _, ab := range list {
		switch {
		case ab.Unneeded && ab.Allowed:
			p.add("may "+ab.Title, "yes, which its work does without")
			p.add("", "to take it: "+ab.Remedy)
		case ab.Unneeded:
			p.add("may "+ab.Title, "no, as it should be")
		case ab.Allowed:
			p.add("may "+ab.Title, yes(true))
		default:
			p.add("may "+ab.Title, yes(false))
			p.add("", "to allow: "+ab.Remedy)
		}
	}
}

// showServer writes a server as a list of properties.
func (a app) showServer(c *cli.Command, s wire.Server, st wire.Status, whole any) error {
	if c.String("output") != "table" {
		return print(a, c, whole, []wire.Server{s}, []column[wire.Server]{
			{title: "server", text: func(s wire.Server) string { return s.Name }},
			{title: "environment", text: func(s wire.Server) string { return s.Environment }},
			{title: "engine", text: func(s wire.Server) string { return s.Engine }},
			{title: "address", text: func(s wire.Server) string { return s.Host + ":" + strconv.Itoa(s.Port) }},
			{title: "state", text: func(wire.Server) string { return stateText(&st) }},
		})
	}
	p := properties{}
	p.add("server", s.Name+"  "+environmentText(s.Environment))
	p.add("engine", strings.TrimSpace(s.Engine+" "+st.Version))
	p.add("address", fmt.Sprintf("%s:%d, TLS %s", s.Host, s.Port, s.TLS))
	if len(s.Clients) > 0 {
		p.add("clients use", strings.Join(s.Clients, ", "))
	}
	p.add("login", s.Admin)
	for _, name := range sortedKeys(s.Options) {
		p.add(strings.ReplaceAll(name, "_", " "), valueText(s.Options[name]))
	}
	p.add("known instance", identityText(s.Identity))
	p.add("names", ruleText(s.NameRule))
	p.add("set aside", keepingText(s.Keeping))
	for _, k := range sortedKeys(s.Labels) {
		p.add("label "+k, s.Labels[k])
	}
	p.add("state", stateText(&st))
	if st.Identity != nil && st.Trouble != nil {
		p.add("found instance", identityText(*st.Identity))
	}
	if st.Reachable && st.Trouble == nil {
		p.add("sessions", fmt.Sprintf("%d of %d allowed", st.Sessions, st.Allowed))
		p.add("databases", fmt.Sprintf("%d, %s", st.Databases, sizeText(st.Size)))
		p.add("defaults", strings.Trim(st.Encoding+", "+st.Collation, ", "))
		p.add("encrypted", yes(st.Encrypted))
	}
	addAbilities(&p, st.Abilities)
	p.print(a)
	for _, text := range s.Cautions {
		a.sayWrapped("      ", caution.Render("CAUTION")+"  "+visible(text))
	}
	if t := st.Trouble; t != nil {
		if next := a.nextText(t.Next, t.Actions); next != "" {
			a.say("  next: %s", visible(next))
		}
		return &exitError{ExitFailed, nil}
	}
	return nil
}

// keepingText says what is done with what was set aside.
func keepingText(k wire.Keeping) string {
	text := "kept for certain as long as its environment has it"
	if k.Days > 0 {
		text = "kept for certain for " + naming.Count(k.Days, "day")
	}
	if k.Discard {
		return text + ", then discarded"
	}
	return text
}

func ruleText(r wire.NameRule) string {
	text := "lower-case letters, digits and _"
	if r.Free {
		text = "whatever the engine takes"
	}
	if r.Suffix != "" {
		text += ", ending in " + r.Suffix
	}
	if r.MaxLength > 0 {
		text += fmt.Sprintf(", at most %d long", r.MaxLength)
	}
	return text
}

// serverPatch is what of a registration is to be another.
//
// Long: one part of a registration after the other.
func (a app) serverPatch(c *cli.Command, was wire.Server) (wire.ServerPatch, error) {
	p := wire.ServerPatch{Version: was.Version}
	given := false
	text := func(flag string, field **string) {
		if c.IsSet(flag) {
			v := c.String(flag)
			*field, given = &v, true
		}
	}
	text("host", &p.Host)
	text("admin", &p.Admin)
	text("environment", &p.Environment)
	text("tls", &p.TLS)
	text("server-key", &p.ServerKey)
	if c.IsSet("set") {
		v, err := options(c)
		if err != nil {
			return p, err
		}
		p.Options, given = &v, true
	}
	if c.IsSet("client-address") {
		v := slices.DeleteFunc(c.StringSlice("client-address"),
			func(s string) bool { return s == "" }) // one that is empty: none
		p.Clients, given = &v, true
	}
	if c.IsSet("port") {
		v := c.Int("port")
		p.Port, given = &v, true
	}
	if c.IsSet("label") {
		v := c.StringMap("label")
		p.Labels, given = &v, true
	}
	// Who could have the secret sent elsewhere without knowing it could read it.
	way := p.Host != nil || p.Port != nil || p.Admin != nil || p.Options != nil || p.TLS != nil || p.ServerKey != nil ||
		c.IsSet("ca-file")
	if c.IsSet("secret-file") || way {
		v, err := a.secret(c.String("secret-file"), "Password of Genarch's login there: ")
		if err != nil {
			return p, err
		}
		p.Secret, given = &v, true
	}
	if c.IsSet("ca-file") {
		v, err := readCA(c)
		if err != nil {
			return p, err
		}
		p.CA, given = &v, true
	}
	if rule, altered := nameRule(c, was.NameRule); altered {
		p.NameRule, given = &rule, true
	}
	if keeping, altered := keepingRule(c, was.Keeping); altered {
		p.Keeping, given = &keeping, true
	}
	if !given {
		return p, usage("Nothing to alter was named (see %s --help)", c.FullName())
	}
	return p, nil
}

// keepingRule is what is done with what was set aside, with what was named of it; false:
// nothing was.
func keepingRule(c *cli.Command, k wire.Keeping) (wire.Keeping, bool) {
	if c.IsSet("keep-days") {
		k.Days = c.Int("keep-days")
	}
	if c.IsSet("discard-due") {
		k.Discard = c.Bool("discard-due")
	}
	return k, c.IsSet("keep-days") || c.IsSet("discard-due")
}

// nameRule is the rule for names with what was named of it; false: nothing was.
func nameRule(c *cli.Command, rule wire.NameRule) (wire.NameRule, bool) {
	if c.IsSet("name-suffix") {
		rule.Suffix = c.String("name-suffix")
	}
	if c.IsSet("free-names") {
		rule.Free = c.Bool("free-names")
	}
	if c.IsSet("name-length") {
		rule.MaxLength = c.Int("name-length")
	}
	return rule, c.IsSet("name-suffix") || c.IsSet("free-names") || c.IsSet("name-length")
}

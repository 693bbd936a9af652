package sqlserver

import (
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

const (
	stepCreatePrincipal = "create_principal"
	checkPrincipal      = "principal"
	checkPassword       = "password"
	checkMember         = "member"
	checkGrant          = "grant"
)

// sidText is a number by which a login is known on several servers.
var sidText = regexp.MustCompile(`^0x[0-9A-Fa-f]{32}$`)

// setAccount shows one of the fields of an account in the brief.
func setAccount(p *planning.Draft, name string, value any, was *string) {
	f, _ := description.Option(change.PartAccount, name)
	p.Set(change.Setting{Name: name, Title: f.Title, Value: catalog.WriteValue(value), Was: was,
		Asked: p.Asked.Has(name), Source: planning.Source(p.Asked.Has(name), "default"), Decides: f.Decides})
}

// planCreateAccount briefs making a login, a server role, a user or a role in a database.
func planCreateAccount(p *planning.Draft) {
	b, spec, snap := &p.Brief, *p.In.Account, p.Snap
	who := spec.Principal()
	b.Summary = "create " + titleOf(who) + " " + shown(who.String()) + " on " + snap.Server.Name
	if a, ok := exact(snap.Access, who); ok && spec.IfNotExists {
		planExisting(p, a)
		return
	}
	for _, a := range snap.Access.Accounts {
		if a.Database == who.Database && strings.EqualFold(a.Name, who.Name) {
			b.Find(change.Stop, change.AccountExists, "Choose another name, or let it be, if it is there.",
				"There is a %s %s on %s already, and what is called alike but for upper and lower case is the same.",
				titleOf(a.Principal), shown(a.Principal.String()), snap.Server.Name).
				Offer(remedy.Option("if_not_exists", remedy.Yes))
			break
		}
	}
	planning.Manage(b, snap)
	planning.NewName(b, spec.Name, snap, loginLimits)
	if strings.Contains(spec.Name, `\`) && who.Database == "" {
		b.Find(change.Stop, "name.reserved", "Choose another name.",
			`A name with \ in it is one of Windows, which Genarch does not make.`)
	}
	planning.Password(b, spec, snap)
	if !place(p, who) {
		return
	}
	p.Set(change.Setting{Name: "name", Title: "Name", Value: spec.Name, Asked: true,
		Decides: "by what it is known " + map[bool]string{true: "on the server", false: "in the " +
			"database"}[who.Database == ""]})
	switch {
	case who.Role:
		create := createStep(who, "")
		p.Step(create, readBack(create.Args))
	case who.Database != "":
		args := map[string]string{}
		create := createStep(who, userClauses(p, args))
		maps.Copy(create.Args, args)
		p.Step(create, readBack(create.Args))
	default:
		planLogin(p)
	}
}

// createStep makes a principal; what follows its name says how.
func createStep(who catalog.Principal, clauses string) change.Step {
	args := checkOf(checkPrincipal, who)
	args["present"] = "yes"
	return change.Step{Kind: stepCreatePrincipal, Title: "create " + titleOf(who) + " " + shown(who.String()),
		Statement: onPrincipal("CREATE", who, clauses), Undo: onPrincipal("DROP", who, ""), Args: args}
}

// loginStep makes a login, of whose password the server gets a hash.
func loginStep(name, options string) change.Step {
	who := catalog.Principal{Name: name}
	return createStep(who, "").WithSecret(name, onPrincipal("CREATE", who, " WITH PASSWORD = "),
		" HASHED"+options+", CHECK_POLICY = OFF, CHECK_EXPIRATION = OFF")
}

// planExisting ends a brief for one that is there already.
func planExisting(p *planning.Draft, a catalog.Account) {
	want := map[string]string{}
	for _, name := range []string{"locked", "default_database", "default_schema", "login"} {
		if value, asked := p.Asked[name]; asked {
			want[name] = catalog.WriteValue(value)
		}
	}
	planning.Existing(&p.Brief, want, principalFacts(a),
		func(_, want, have string) bool { return strings.EqualFold(want, have) })
}

// principalFacts are a principal's properties under the names that checks use.
func principalFacts(a catalog.Account) map[string]string {
	return map[string]string{"present": "yes", "locked": catalog.WriteValue(a.Locked),
		"default_database": a.Properties.Text("default_database"), "login": a.Properties.Text("login"),
		"default_schema": a.Properties.Text("default_schema")}
}

// readBack is the last step: it looks for what the arguments say.
func readBack(args map[string]string) change.Step {
	return change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: args}
}

// userClauses say as whom a user is known, and where it looks for names.
func userClauses(p *planning.Draft, args map[string]string) string {
	spec, alone := p.In.Account, p.Asked.Bool("without_login")
	login := p.Asked.Text("login")
	if alone && login != "" {
		p.About("login", change.Stop, change.OptionInvalid, "Leave one of them out.",
			"A user without a login cannot be that of %s.", shown(login))
	}
	if login == "" && !alone {
		login = spec.Name
	}
	if hasSecret(*spec) {
		p.Find(change.Stop, change.PasswordMethod, "Leave the password out, and set that of the login.",
			"A user in a database has no password: its login signs in.")
	}
	clauses := " WITHOUT LOGIN"
	if login != "" {
		mayActAs(p, login, spec.Database)
		clauses = " FOR LOGIN " + quoteIdent(login)
		args["login"] = login
	}
	setAccount(p, "login", map[bool]string{true: "none", false: login}[login == ""], nil)
	if schema := p.Asked.Text("default_schema"); schema != "" {
		clauses += " WITH DEFAULT_SCHEMA = " + quoteIdent(schema)
		args["default_schema"] = schema
		setAccount(p, "default_schema", schema, nil)
	}
	p.Find(change.Note, change.GrantEffect, "", "It may connect to %s from then on, and nothing else.",
		shown(spec.Database))
	return clauses
}

// mayActAs stops where a login is not there, or is another user in the database already.
func mayActAs(p *planning.Draft, login, database string) {
	a, ok := exact(p.Snap.Access, catalog.Principal{Name: login})
	if !ok {
		p.About("login", change.Stop, change.OptionAbsent, "Create the login first, or make a user without one.",
			"There is no login %s on %s.", shown(login), p.Snap.Server.Name).
			Offer(remedy.Command("account.create", p.Snap.Server.Name+"/account:"+login))
		return
	}
	for _, m := range p.Snap.Access.Memberships {
		if m.Grantor == actsAs && m.Member == a.Principal && m.Role.Database == database {
			p.About("login", change.Stop, change.OptionUnusable, "Use that one.",
				"%s is the user %s in %s already, and can be only "+
					"one.", shown(login), shown(m.Role.Name), shown(database))
		}
	}
}

func hasSecret(spec change.AccountSpec) bool {
	return spec.Password == change.Generated || spec.Password == change.Given
}

// planLogin lays out making a login: the server gets a hash, never the text.
func planLogin(p *planning.Draft) {
	spec, snap := *p.In.Account, p.Snap
	if !hasSecret(spec) {
		p.Find(change.Stop, change.PasswordMissing, "Leave it out, and a password is generated.",
			"A login of SQL Server has a password; without one only those of Windows sign in.")
		return
	}
	password := "generated, shown once"
	if spec.Password == change.Given {
		password = fmt.Sprintf("as given (about %.0f bits)", spec.Bits)
	}
	p.Set(change.Setting{Name: "password", Title: "Password", Value: password, Asked: spec.Password == change.Given,
		Source:  planning.Source(spec.Password == change.Given, "Genarch"),
		Decides: "kept by the server as a hash; the text itself is never sent to it but to sign in"})
	options, args := "", map[string]string{}
	if sid := p.Asked.Text("sid"); sid != "" {
		if !sidText.MatchString(sid) {
			p.About("sid", change.Stop, change.OptionInvalid, "Give that of the same login on another server.",
				"A number is 0x and 32 digits of 0 to F, not %s.", shown(sid))
		}
		for _, a := range snap.Access.Accounts {
			if a.Database == "" && strings.EqualFold("0x"+a.Key, sid) {
				p.About("sid", change.Stop, change.OptionUnusable, "Use that login, or leave the number out.",
					"It is the number of %s.", shown(a.Name))
			}
		}
		options += ", SID = " + quoteWord(sid)
		setAccount(p, "sid", sid, nil)
	}
	if d := p.Asked.Text("default_database"); d != "" {
		knownDatabase(p, d)
		options += ", DEFAULT_DATABASE = " + quoteIdent(d)
		args["default_database"] = d
		setAccount(p, "default_database", d, nil)
	}
	p.Find(change.Note, change.PasswordMethod, "",
		"The machine's rules for passwords cannot be checked on a hash, so they are not asked for: Genarch's own hold.")
	create := loginStep(spec.Name, options)
	maps.Copy(create.Args, args)
	p.Step(create)
	args = create.Args
	if p.Asked.Bool("locked") {
		p.Step(lockStep(spec.Principal(), true))
		setAccount(p, "locked", true, nil)
		args = checkOf(checkPrincipal, spec.Principal())
		args["present"], args["locked"] = "yes", "yes"
	}
	p.Step(readBack(args))
	if !p.Asked.Bool("locked") {
		p.Step(signInStep(spec.Name))
	}
}

// knownDatabase stops where one that a login is to begin in is not there.
func knownDatabase(p *planning.Draft, name string) {
	if !slices.ContainsFunc(p.Snap.Names, func(n string) bool { return strings.EqualFold(n, name) }) {
		p.About("default_database", change.Stop, change.OptionAbsent, "Choose another.",
			"There is no database %s on %s, and the login could not sign in.", shown(name), p.Snap.Server.Name)
	}
}

// signInStep signs in as a login, to prove that its password works.
func signInStep(name string) change.Step {
	return change.Step{Kind: engine.StepProve, Title: "sign in as " + shown(name), ReadOnly: true,
		Args: map[string]string{"accounts": engine.EncodeList([]string{name})}}.NeedsSecrets(name)
}

// lockStep disables a login, or enables it.
func lockStep(who catalog.Principal, locked bool) change.Step {
	words := map[bool]string{true: " DISABLE", false: " ENABLE"}
	args := checkOf(checkPrincipal, who)
	args["present"], args["locked"] = "yes", catalog.WriteValue(locked)
	return change.Step{Kind: engine.StepStatement, Title: strings.ToLower(words[locked][1:]) + " " + shown(who.Name),
		Statement: onPrincipal("ALTER", who, words[locked]), Undo: onPrincipal("ALTER", who, words[!locked]),
		Args: args}
}

// planAlterAccount briefs locking a login, where it begins, and which login a user is.
//
// Long: its cases stand in the order in which their findings are read.
func planAlterAccount(p *planning.Draft) {
	b, spec, snap := &p.Brief, *p.In.Account, p.Snap
	who := spec.Principal()
	b.Summary = "alter " + titleOf(who) + " " + shown(who.String()) + " on " + snap.Server.Name
	a, ok := there(p, who, change.AccountAbsent)
	if !ok || !place(p, who) {
		return
	}
	planning.Manage(b, snap)
	have := principalFacts(a)
	last := checkOf(checkPrincipal, who)
	last["present"] = "yes"
	put := func(option, value, clause, undo string) {
		was := have[option]
		setAccount(p, option, value, &was)
		args := checkOf(checkPrincipal, who)
		args["present"], args[option], last[option] = "yes", value, value
		step := change.Step{Kind: engine.StepStatement, Title: "set the " + strings.ReplaceAll(option, "_",
			" ") + " of " +
			shown(who.String()), Statement: onPrincipal("ALTER", who, clause+quoteIdent(value)), Args: args}
		if undo != "" {
			step.Undo = onPrincipal("ALTER", who, clause+quoteIdent(undo))
		} else {
			step.Irreversible = true
		}
		p.Step(step)
	}
	if d := p.Asked.Text("default_database"); d != "" {
		knownDatabase(p, d)
		put("default_database", d, " WITH DEFAULT_DATABASE = ", have["default_database"])
	}
	if schema := p.Asked.Text("default_schema"); schema != "" {
		put("default_schema", schema, " WITH DEFAULT_SCHEMA = ", have["default_schema"])
	}
	if login := p.Asked.Text("login"); login != "" {
		mayActAs(p, login, who.Database)
		put("login", login, " WITH LOGIN = ", have["login"])
		p.Find(change.Note, change.GrantEffect, "", "%s then has in %s what the user %s was granted there.",
			shown(login), shown(who.Database), shown(who.Name))
	}
	if p.Asked.Has("locked") {
		locked := p.Asked.Bool("locked")
		if locked {
			planning.Keep(b, a, snap, "locked")
			if p.In.Clearing == nil {
				planning.OpenSessions(b, a, snap)
			}
		}
		was := have["locked"]
		setAccount(p, "locked", locked, &was)
		last["locked"] = catalog.WriteValue(locked)
		p.Step(lockStep(who, locked))
	}
	if p.In.Clearing != nil {
		if !p.Asked.Bool("locked") {
			b.Find(change.Stop, change.OptionInvalid, "Lock it too.",
				"Sessions of a login are ended together with a lock; otherwise they would be back at once.")
		}
		p.Step(planning.ClearAccount(b, p.In, a, snap, kill))
	}
	p.Step(readBack(last))
}

// planRenameAccount briefs another name.
func planRenameAccount(p *planning.Draft) {
	b, spec, snap := &p.Brief, *p.In.Account, p.Snap
	who, becomes := spec.Principal(), spec.Principal()
	becomes.Name = spec.NewName
	b.Summary = "rename " + titleOf(who) + " " + shown(who.String()) + " to " + shown(spec.NewName) + " on " +
		snap.Server.Name
	a, ok := there(p, who, change.AccountAbsent)
	if !ok || !place(p, who) {
		return
	}
	planning.Manage(b, snap)
	planning.Keep(b, a, snap, "renamed")
	planning.NewName(b, spec.NewName, snap, loginLimits)
	for _, x := range snap.Access.Accounts {
		if x.Database == who.Database && x.Principal != who && strings.EqualFold(x.Name, spec.NewName) {
			b.Find(change.Stop, change.AccountExists, "Choose another name.", "There is a %s %s on %s already.",
				titleOf(x.Principal), shown(x.Principal.String()), snap.Server.Name)
		}
	}
	if users := usersOf(snap.Access, who.Name); who.Database == "" && len(users) > 0 {
		var names []string
		for _, u := range users {
			names = append(names, u.String())
		}
		b.Find(change.Note, change.AccountMembers, "",
			"Its users keep their names and go on being it, for they are known by a number: "+
				"%s.", planning.Shorten(names))
	}
	args := checkOf(checkPrincipal, becomes)
	args["present"] = "yes"
	p.Step(change.Step{Kind: engine.StepStatement, Title: b.Summary,
		Statement: onPrincipal("ALTER", who, " WITH NAME = "+quoteIdent(spec.NewName)),
		Undo:      onPrincipal("ALTER", becomes, " WITH NAME = "+quoteIdent(who.Name)), Args: args}, readBack(args))
}

// planSetPassword briefs another password of a login.
func planSetPassword(p *planning.Draft) {
	b, spec, snap := &p.Brief, *p.In.Account, p.Snap
	who := spec.Principal()
	b.Summary = "set another password for " + shown(who.String()) + " on " + snap.Server.Name
	a, ok := there(p, who, change.AccountAbsent)
	if !ok {
		return
	}
	if who.Database != "" || who.Role || a.Method != methods["S"] {
		b.Find(change.Stop, change.PasswordMethod, "Set that of its login.", "The %s %s has no password on the server.",
			titleOf(who), shown(who.String()))
		return
	}
	planning.Manage(b, snap)
	planning.Keep(b, a, snap, "given another password: Genarch could not sign in any more")
	planning.Password(b, spec, snap)
	if a.Super || a.Global.Any(table.Of("CONTROL SERVER", "ALTER ANY LOGIN")) {
		planning.Takeover(b, snap, "whoever knows the new password", a.Name, "%s administers the server", shown(a.Name))
	}
	b.Find(change.Note, change.PasswordMethod, "", "The server gets a hash, never the text. Open sessions go on; the "+
		"next sign-in needs the new password. This step cannot be rolled back, because nobody but the server has the "+
		"old one.")
	p.Step(change.Step{Kind: engine.StepStatement, Title: "set the password of " + shown(a.Name), Irreversible: true,
		Args: checkOf(checkPassword, who)}.
		WithSecret(a.Name, onPrincipal("ALTER", who, " WITH PASSWORD = "), " HASHED"))
	if a.Locked {
		b.Find(change.Note, change.LoginUntried, "", "%s is disabled, so the password cannot be tried.", shown(a.Name))
		args := checkOf(checkPrincipal, who)
		args["present"] = "yes"
		p.Step(readBack(args))
		return
	}
	p.Step(signInStep(a.Name))
}

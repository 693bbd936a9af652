package mysqlfamily

import (
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// The kinds of steps on accounts that need more than a statement and a check.
const (
	stepCreateAccount = "create_account"
	stepCreateRole    = "create_role"
)

// quotePrincipal writes an account as 'name'@'host', and a role, where it has no host, as `name`.
func quotePrincipal(p catalog.Principal) string {
	switch {
	case p == catalog.Public:
		return "PUBLIC"
	case p.Role && p.Host == "":
		return quoteIdent(p.Name)
	}
	return quoteAccount(p.Name, p.Host)
}

// quoteDefiner writes a definer as the server tells it: name@host, and name@ for a role.
func quoteDefiner(text string) string {
	name, host := splitAccount(text)
	return quotePrincipal(catalog.Principal{Name: name, Host: host, Role: host == ""})
}

// checkOf names a principal in the arguments of a step.
func checkOf(check string, p catalog.Principal) map[string]string {
	return map[string]string{"check": check, "name": p.Name, "host": p.Host, "role": yesNo(p.Role)}
}

// principalOf reads what checkOf wrote.
func principalOf(args map[string]string) catalog.Principal {
	return catalog.Principal{Name: args["name"], Host: args["host"], Role: args["role"] == "yes"}
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// planHost settles the host of a new account: what the server would alter in it
// is altered here first, and what it would take and never match is refused.
func planHost(b *change.Brief, host string, snap catalog.Snapshot) string {
	if host == "" {
		host = "%"
	}
	host = strings.ToLower(host)
	if problem := productOf(snap).hosts.check(host); problem != "" {
		b.Find(change.Stop, change.HostInvalid, "Give a host as 10.0.3.7, 10.0.3.%, app1.ossavik.example or %", "%s",
			problem)
		return host
	}
	switch {
	case host == "%":
		level := change.Note
		if snap.Server.Environment == catalog.Production {
			level = change.Caution
		}
		b.Find(level, change.HostWide, "Say where it comes from, such as 10.0.3.%",
			"%s lets clients sign in from every host.", b.Target)
	case strings.Contains(host, "_") && !strings.Contains(host, "/"):
		b.Find(change.Caution, change.HostWide, "Write \\_ for the character itself.",
			"In a host, _ stands for any one character, so %s lets in more hosts than it names.", host)
	}
	return host
}

// planUsableName stops a name that the server stores and then lets nobody sign
// in as: it takes quotes off both ends of what a client sends.
func planUsableName(b *change.Brief, name string) {
	if len(name) > 1 && strings.HasPrefix(name, "'") && strings.HasSuffix(name, "'") {
		b.Find(change.Stop, "name.characters", "Choose another name.",
			"The name begins and ends with a quote, and the server removes those at sign-in, so nobody could ever sign in.")
	}
}

// planRivals tells which account a client would get where several fit.
func planRivals(b *change.Brief, p catalog.Principal, snap catalog.Snapshot) {
	before, after := productOf(snap).hosts.rivals(snap.Access.Accounts, p)
	for _, a := range before {
		if a.Name == "" {
			b.Find(change.Caution, change.AccountAnonymous,
				"Drop the anonymous account.",
				"The anonymous account %s catches sign-ins from %s: %s matches the host first, so %s is "+
					"refused from there even with the right password.", a.Principal, a.Host,
				productOf(snap).description.Title, p).
				Offer(remedy.Command("account.drop", change.PrincipalAddress(snap.Server.Name, a.Principal).String()))
			continue
		}
		b.Find(change.Caution, change.AccountOtherHost,
			"Use the existing account, or choose a host that does not overlap.",
			"Clients from %s sign in as %s, an account of its own with its own password and privileges, and not as %s.",
			a.Host, a.Principal, p)
	}
	for _, a := range after {
		b.Find(change.Caution, change.AccountOtherHost,
			"Use the existing account, or choose a host that does not overlap.",
			"Clients from %s, who sign in as %s today, will sign in as %s, with its password; what is granted to %s on databases holds for them as well, as long as nothing is granted to %s there.", p.Host, a.Principal, p, a.Principal, p)
	}
}

// takesOver reports whether an account or role can do anything on the whole server.
func takesOver(a catalog.Account) bool {
	return a.Super || a.GlobalGrant || a.Global.Any(may.Super.Or(may.CreateUser, may.File))
}

func hasSecret(spec change.AccountSpec) bool {
	return spec.Password == change.Generated || spec.Password == change.Given
}

// planCreateAccount: Long: its cases stand in the order in which their findings are read.
func planCreateAccount(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) {
	what := "account"
	if spec.Role {
		what, spec.Host = "role", productOf(snap).roleHost
	} else {
		spec.Host = planHost(b, spec.Host, snap)
	}
	p := spec.Principal()
	b.Target = change.PrincipalAddress(snap.Server.Name, p).String()
	b.Summary = "create " + what + " " + naming.Show(p.String()) + " on " + snap.Server.Name
	g := graphOf(snap)
	if a, ok := g.Account(p); ok {
		if spec.IfNotExists {
			compareAccount(b, spec, a)
			return
		}
		b.Find(change.Stop, change.AccountExists, "Choose another name, or let it be, if it is there.",
			"There is %s %s on %s already.", article(what), naming.Show(p.String()), snap.Server.Name).
			Offer(remedy.Option("if_not_exists", remedy.Yes))
	}
	for _, a := range snap.Access.Accounts {
		if a.Name == p.Name && a.Role != p.Role {
			b.Find(change.Stop, change.AccountExists, "Choose another name.",
				"There is %s %s already, and %s would take one for the other.",
				article(map[bool]string{true: "role", false: "account"}[a.Role]), naming.Show(a.Principal.String()),
				productOf(snap).description.Title)
		}
	}
	planning.Manage(b, snap)
	planning.NewName(b, spec.Name, snap, productOf(snap).accountLimits)
	planning.Password(b, spec, snap)
	planUsableName(b, spec.Name)
	if !spec.Role {
		planRivals(b, p, snap)
		if len(detailsOf(snap.Details).Definers) > 0 {
			b.Find(change.Caution, change.AccountRevives, "Look at each of them first.",
				"Objects that run with the privileges of an account of this name are left, and take effect again with it: %s.", planning.Shorten(detailsOf(snap.Details).Definers))
		}
	}
	left := slices.DeleteFunc(slices.Clone(snap.Access.Grants), func(gr catalog.Grant) bool { return gr.Grantee != p })
	if len(left) > 0 {
		b.Find(change.Caution, change.GrantsLeftover, "Look at them first.",
			"The grant tables still hold %s to an account of this name.", naming.Count(len(left), "grant")).
			Offer(remedy.Command("privilege.list", b.Target))
	}
	set := func(name, value string, asked bool, decides string) {
		b.Set(change.Setting{Name: name, Value: value, Asked: asked, Source: planning.Source(asked,
			productOf(snap).description.Title),
			Decides: decides})
	}
	set("name", spec.Name, true, "how it signs in")
	set("kind", what, true, "whether it signs in; a role is granted to accounts")
	if spec.Role {
		b.Steps = append(b.Steps, createRoleStep(p, productOf(snap)))
	} else {
		set("host", spec.Host, true, "where it comes from: name and host together are the account")
		b.Steps = append(b.Steps, planCredential(b, spec, snap, set))
		limit := orNone(catalog.WriteValue(spec.Options["connection_limit"]))
		set("connection_limit", limit, spec.Options.Has("connection_limit"), "how many sessions at once")
	}
	want := checkOf("account", p)
	want["present"] = "yes"
	wantOptions(want, spec)
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
		Args: want})
	if hasSecret(spec) && !spec.Options.Bool("locked") {
		planSignIn(b, snap, p)
	}
}

func article(what string) string {
	if what == "account" {
		return "an account"
	}
	return "a " + what
}

func createRoleStep(p catalog.Principal, of *product) change.Step {
	args := checkOf("account", p)
	args["present"] = "yes"
	return change.Step{Kind: stepCreateRole, Title: "create role " + naming.Show(p.Name),
		Statement: "CREATE ROLE " + quotePrincipal(p) + of.ownRole,
		Undo:      "DROP ROLE " + quotePrincipal(p), Args: args}
}

// createAccountStep renders CREATE USER: never without a credential, for that
// would let in whoever knows the name.
func createAccountStep(p catalog.Principal, secret bool, method, options string, of *product) change.Step {
	args := checkOf("account", p)
	args["present"] = "yes"
	args["method"] = method
	before := "CREATE USER " + quoteAccount(p.Name, p.Host) + "\n  " + of.credential(method)
	step := change.Step{Kind: stepCreateAccount, Title: "create account " + naming.Show(p.String()),
		Statement: before + quoteText(of.nobody) + options,
		Undo:      "DROP USER " + quoteAccount(p.Name, p.Host), Args: args}
	if secret {
		return step.WithSecret(p.Name, before, options)
	}
	return step
}

func planCredential(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot,
	set func(name, value string, asked bool, decides string)) change.Step {
	options := accountOptions(b, spec, snap)
	of := productOf(snap)
	method := of.plainMethod
	switch spec.Password {
	case change.NoPassword:
		b.Find(change.Note, change.PasswordMissing, "Set one later.",
			"Nobody can sign in as %s until it has a password.", b.Target).
			Offer(remedy.Command("account.password", b.Target))
		set("password", "none: nobody can sign in", true,
			"an account without any credential would let in everybody, so this one lets in nobody")
	default:
		method = of.method(b, spec.Options.Text("method"), "", snap)
		value := "generated, shown once"
		if spec.Password == change.Given {
			value = fmt.Sprintf("as given (about %.0f bits)", spec.Bits)
		}
		set("password", value, spec.Password == change.Given, "kept by the server by the method "+method)
	}
	return createAccountStep(spec.Principal(), hasSecret(spec), method, options, of)
}

// planSignIn adds the proof that the password works, where that can be tried.
func planSignIn(b *change.Brief, snap catalog.Snapshot, accounts ...catalog.Principal) {
	names := tryable(b, snap, accounts...)
	if len(names) > 0 {
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepProve,
			Title: "sign in as " + naming.Show(strings.Join(names, " and ")), ReadOnly: true,
			Args: map[string]string{"accounts": engine.EncodeList(names)}}.NeedsSecrets(namesOf(names)...))
	}
}

// namesOf are the names of accounts written as name@host: by these their
// passwords are kept.
func namesOf(accounts []string) []string {
	var out []string
	for _, a := range accounts {
		name, _ := splitAccount(a)
		out = append(out, name)
	}
	return out
}

// tryable are the accounts whose host lets Genarch itself in.
func tryable(b *change.Brief, snap catalog.Snapshot, accounts ...catalog.Principal) []string {
	var out []string
	hosts := productOf(snap).hosts
	for _, p := range accounts {
		if hosts.covers(p.Host, detailsOf(snap.Details).Client) ||
			detailsOf(snap.Details).Client == "localhost" &&
				(hosts.covers(p.Host, "127.0.0.1") || hosts.covers(p.Host, "::1")) {
			out = append(out, p.String())
			continue
		}
		b.Find(change.Note, change.LoginUntried, "Try it from there; the handover sheet has the connection strings.",
			"Genarch comes from %s and cannot try the sign-in of %s.", detailsOf(snap.Details).Client, p)
	}
	return out
}

var daysText = regexp.MustCompile(`^[1-9][0-9]{0,3}d$`)

// accountOptions renders what CREATE USER and ALTER USER have in common.
func accountOptions(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) string {
	text := ""
	if spec.Options.Has("tls") {
		text += "\n  REQUIRE NONE"
		if spec.Options.Bool("tls") {
			text = "\n  REQUIRE SSL"
			if !detailsOf(snap.Details).TLSReady {
				b.Find(change.Stop, change.TLSMissing, "Set up TLS on the server first (ssl_cert, ssl_key).",
					"The server has no TLS, so nobody could sign in: it would only say that access is denied.")
			}
		}
	}
	if limit, ok := spec.Options["connection_limit"]; ok {
		text += "\n  WITH MAX_USER_CONNECTIONS " + strconv.Itoa(storedLimit(limitOf(limit)))
	}
	if spec.Options.Has("locked") {
		text += "\n  ACCOUNT " + map[bool]string{true: "LOCK", false: "UNLOCK"}[spec.Options.Bool("locked")]
	}
	switch expires := spec.Options.Text("expires"); {
	case expires == "":
	case expires == "never":
		text += "\n  PASSWORD EXPIRE NEVER"
	case expires == "now":
		text += "\n  PASSWORD EXPIRE"
	case daysText.MatchString(expires):
		text += "\n  PASSWORD EXPIRE INTERVAL " + strings.TrimSuffix(expires, "d") + " DAY"
	default:
		b.Find(change.Stop, change.OptionInvalid, "Give a number of days as 90d, or now, or never.",
			"%s knows an expiry after a number of days, not %q.", productOf(snap).description.Title, expires)
	}
	return text
}

// limitOf is a limit that was asked for: -1 for none.
func limitOf(asked any) int {
	if n, ok := asked.(int64); ok {
		return int(n)
	}
	return -1
}

// limitText is a limit as people write it.
func limitText(limit int) string {
	if limit < 0 {
		return "none"
	}
	return strconv.Itoa(limit)
}

// planManage stops where Genarch's login may not alter an account.
func planManage(b *change.Brief, a catalog.Account, snap catalog.Snapshot) {
	planning.Manage(b, snap)
	planAbove(b, a.Principal, snap)
}

// storedLimit is how the server writes a limit: 0 is none, -1 lets nobody in.
func storedLimit(limit int) int {
	switch {
	case limit < 0:
		return 0
	case limit == 0:
		return -1
	}
	return limit
}

// wantOptions adds to a check what the spec asks for.
func wantOptions(want map[string]string, spec change.AccountSpec) {
	if limit, ok := spec.Options["connection_limit"]; ok {
		want["connection_limit"] = catalog.WriteValue(limit)
	}
	if spec.Options.Has("locked") {
		want["locked"] = yesNo(spec.Options.Bool("locked"))
	}
	if spec.Options.Has("tls") {
		want["tls"] = map[bool]string{true: "ANY", false: ""}[spec.Options.Bool("tls")]
	}
	if spec.Options.Text("expires") == "now" {
		want["expired"] = "yes"
	}
}

func accountFacts(a catalog.Account) map[string]string {
	return map[string]string{"present": "yes", "connection_limit": limitText(a.ConnectionLimit),
		"locked": yesNo(a.Locked), "tls": a.TLS,
		"expired": yesNo(a.Expired), "default_role": a.DefaultRole,
		secondPassword: yesNo(a.Properties.Bool(secondPassword))}
}

func compareAccount(b *change.Brief, spec change.AccountSpec, a catalog.Account) {
	want := map[string]string{}
	wantOptions(want, spec)
	planning.Existing(b, want, accountFacts(a), func(_, want, have string) bool { return want == have })
	if hasSecret(spec) {
		b.Find(change.Note, change.PasswordMethod, "Set one, if it is to have another.",
			"%s keeps its password.", b.Target).Offer(remedy.Command("account.password", b.Target))
	}
}

// planAlterAccount briefs new limits, expiry, lock, demand for TLS, default role.
func planAlterAccount(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Account
	a, ok := planning.FindAccount(b, spec.Principal(), snap, change.AccountAbsent)
	b.Summary = "alter " + naming.Show(spec.Principal().String()) + " on " + snap.Server.Name
	if !ok {
		return
	}
	b.Target = change.PrincipalAddress(snap.Server.Name, a.Principal).String()
	planManage(b, a, snap)
	have, want := accountFacts(a), checkOf("account", a.Principal)
	wantOptions(want, spec)
	for _, k := range []string{"connection_limit", "locked", "tls"} {
		if v, ok := want[k]; ok {
			was := have[k]
			b.Set(change.Setting{Name: k, Was: &was, Value: v, Asked: true, Decides: optionDecides[k]})
		}
	}
	if expires := spec.Options.Text("expires"); expires != "" {
		was := "never"
		if !a.Expires.IsZero() {
			was = a.Expires.Format("2006-01-02")
		}
		b.Set(change.Setting{Name: "expires", Was: &was, Value: expires, Asked: true,
			Decides: "when the password has to be changed; open sessions go on"})
	}
	if spec.Options.Bool("locked") || spec.Options.Text("expires") == "now" {
		planning.Keep(b, a, snap, "locked")
		if in.Clearing == nil {
			planning.OpenSessions(b, a, snap)
		}
	}
	if role := spec.Options.Text("default_role"); role != "" {
		planDefaultRole(b, role, a, snap)
		want["default_role"] = strings.Replace(role, "none", "", 1)
	}
	if text := accountOptions(b, spec, snap); text != "" {
		user := "ALTER USER " + quotePrincipal(a.Principal)
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement,
			Title: "alter " + naming.Show(a.Principal.String()), Statement: user + text,
			Undo: user + undoOptions(spec, a), Args: want})
	}
	planDiscard(b, spec, a, want)
	if in.Clearing != nil {
		if !spec.Options.Bool("locked") {
			b.Find(change.Stop, change.OptionInvalid, "Lock it too.",
				"Sessions of an account are ended together with a lock; otherwise they would be back at once.")
		}
		b.Steps = append(b.Steps, planning.ClearAccount(b, in, a, snap, productOf(snap).killEach()))
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
		Args: want})
}

var optionDecides = map[string]string{"connection_limit": "how many sessions at once; open ones stay",
	"locked": "whether it may sign in; open sessions go on",
	"tls":    "whether it may sign in without TLS"}

func orNone(text string) string {
	if text == "" {
		return "none"
	}
	return text
}

// undoOptions renders the options as they are now.
func undoOptions(spec change.AccountSpec, a catalog.Account) string {
	text := ""
	if spec.Options.Has("tls") {
		text += "\n  REQUIRE " + map[bool]string{true: "NONE", false: "SSL"}[a.TLS == ""]
	}
	if spec.Options.Has("connection_limit") {
		text += "\n  WITH MAX_USER_CONNECTIONS " + strconv.Itoa(storedLimit(a.ConnectionLimit))
	}
	if spec.Options.Has("locked") {
		text += "\n  ACCOUNT " + map[bool]string{true: "LOCK", false: "UNLOCK"}[a.Locked]
	}
	// A password that was made to end now stays so: only a new one helps.
	switch days := a.PasswordDays; {
	case !spec.Options.Has("expires"):
	case days == nil:
		text += "\n  PASSWORD EXPIRE DEFAULT"
	case *days == 0:
		text += "\n  PASSWORD EXPIRE NEVER"
	default:
		text += "\n  PASSWORD EXPIRE INTERVAL " + strconv.Itoa(*days) + " DAY"
	}
	return text
}

func planRenameAccount(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) {
	b.Summary = "rename " + naming.Show(spec.Principal().String()) + " on " + snap.Server.Name
	if spec.Role {
		b.Find(change.Stop, change.OptionUnsupported,
			"Create another role, grant it what this one has, then drop this one.", "%s cannot rename a role.",
			productOf(snap).description.Title)
	}
	a, ok := planning.FindAccount(b, spec.Principal(), snap, change.AccountAbsent)
	if !ok {
		return
	}
	b.Target = change.PrincipalAddress(snap.Server.Name, a.Principal).String()
	to := a.Principal
	if spec.NewName != "" {
		to.Name = spec.NewName
		planUsableName(b, to.Name)
		planning.NewName(b, to.Name, snap, productOf(snap).accountLimits)
	}
	if spec.NewHost != "" {
		to.Host = planHost(b, spec.NewHost, snap)
	}
	b.Summary += " to " + naming.Show(to.String())
	planManage(b, a, snap)
	planning.Keep(b, a, snap, "renamed")
	if _, taken := graphOf(snap).Account(to); taken {
		b.Find(change.Stop, change.AccountExists, "Choose another name or host.",
			"There is an account %s on %s already.", naming.Show(to.String()), snap.Server.Name)
	}
	if len(detailsOf(snap.Details).Definers) > 0 {
		b.Find(change.Stop, change.AccountDefines, "Create them again with another definer first.",
			"%s is the definer of objects that a rename leaves behind, and that fail afterwards: %s.", b.Target,
			planning.Shorten(detailsOf(snap.Details).Definers))
	}
	rest := snap
	others := *snap.Access
	others.Accounts = slices.DeleteFunc(slices.Clone(others.Accounts),
		func(x catalog.Account) bool { return x.Principal == a.Principal })
	rest.Access = &others
	planRivals(b, to, rest)
	if n := len(snap.Sessions); n > 0 {
		b.Find(change.Note, change.AccountSessions, "",
			"%s of the account stay open, with the old name and privileges until the next sign-in.",
			naming.Count(n, "session")).Passing = true
	}
	want := checkOf("account", to)
	want["present"] = "yes"
	b.Steps = []change.Step{
		{Kind: engine.StepStatement, Title: b.Summary,
			Statement: "RENAME USER " + quotePrincipal(a.Principal) + " TO " + quotePrincipal(to),
			Undo:      "RENAME USER " + quotePrincipal(to) + " TO " + quotePrincipal(a.Principal), Args: want},
		{Kind: change.Verify, Title: "read back", ReadOnly: true, Args: want},
	}
}

func planSetPassword(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) {
	b.Summary = "set another password for " + naming.Show(spec.Principal().String()) + " on " + snap.Server.Name
	if spec.Role {
		b.Find(change.Stop, change.OptionUnsupported, "Choose an account.",
			"A role has no password, because nobody signs in as a role.")
		return
	}
	a, ok := planning.FindAccount(b, spec.Principal(), snap, change.AccountAbsent)
	if !ok {
		return
	}
	b.Target = change.PrincipalAddress(snap.Server.Name, a.Principal).String()
	planManage(b, a, snap)
	planning.Keep(b, a, snap, "given another password: Genarch could not sign in any more")
	planning.Password(b, spec, snap)
	if takesOver(a) {
		planning.Takeover(b, snap, "whoever knows the new password", a.Name,
			"%s may do everything on every database, or alter accounts", naming.Show(a.Principal.String()))
	}
	method := productOf(snap).method(b, spec.Options.Text("method"), a.Method, snap)
	if a.Method != method {
		b.Find(change.Caution, change.PasswordMethod, "Leave it as it is.",
			"%s signs in with the method %s today, and with %s alone afterwards.", b.Target, a.Method, method)
	}
	end := planKeepOld(b, spec, a, method)
	if end == "" {
		b.Find(change.Note, change.GrantEffect, "",
			"Open sessions go on; the next sign-in needs the new password. The old one is not kept, so this step "+
				"cannot be rolled back.")
	}
	args := checkOf("password", a.Principal)
	args["method"] = method
	b.Steps = []change.Step{change.Step{Kind: engine.StepStatement,
		Title: "set the password of " + naming.Show(a.Principal.String()), Args: args}.
		WithSecret(a.Name, "ALTER USER "+quotePrincipal(a.Principal)+"\n  "+productOf(snap).credential(method), end)}
	if a.Locked {
		b.Find(change.Note, change.LoginUntried, "", "%s is locked, so the password cannot be tried.", a.Principal)
		b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back", ReadOnly: true,
			Args: map[string]string{"check": "account", "name": a.Name, "host": a.Host, "present": "yes"}})
		return
	}
	planSignIn(b, snap, a.Principal)
}

// setText writes privileges as SQL lists them, USAGE for none.
func setText(s privilege.Set) string {
	if s.Empty() {
		return "USAGE"
	}
	return s.String()
}

package postgres

import (
	"fmt"
	"regexp"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// The kinds of steps on roles and access.
const (
	stepCreateRole = "create_role"
	// stepAccess alters privileges inside one database, in one transaction.
	stepAccess = "access"
	// stepHandOver gives what a role owns in one database to another, and
	// takes what was granted to it there.
	stepHandOver = "hand_over"
)

// planCreateAccount briefs making a role, with login or without.
//
// Long: its cases stand in the order in which their findings are read.
func planCreateAccount(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) {
	what := "account"
	if spec.Role {
		what = "role"
	}
	b.Summary = "create " + what + " " + naming.Show(spec.Name) + " on " + snap.Server.Name
	planNoHost(b, spec)
	if a, ok := find(snap.Access.Accounts, spec.Name); ok {
		if spec.IfNotExists {
			compareAccount(b, spec, a)
			return
		}
		b.Find(change.Stop, change.AccountExists, "Choose another name, or let it be, if it is there.",
			"There is a role %s on %s already. PostgreSQL keeps accounts and roles under the same names.",
			naming.Show(a.Name), snap.Server.Name).Offer(remedy.Option("if_not_exists", remedy.Yes))
	}
	planning.Manage(b, snap)
	planning.NewName(b, spec.Name, snap, accountLimits)
	if strings.HasPrefix(spec.Name, "pg_") {
		b.Find(change.Stop, "name.reserved", "Choose another name.",
			"Names that begin with pg_ are reserved for the server.")
	}
	planning.Password(b, spec, snap)
	limits := roleOptions(b, spec)
	if !spec.Role && spec.Password == change.NoPassword {
		b.Find(change.Caution, change.PasswordMissing, "Leave it out, and a password is generated.",
			"%s has no password, so it signs in only where the server's pg_hba.conf asks for none, or by another method such as a certificate.", b.Target)
	}
	set := func(name, value string, asked bool, decides string) {
		b.Set(change.Setting{Name: name, Value: value, Asked: asked, Source: planning.Source(asked, "PostgreSQL"),
			Decides: decides})
	}
	set("name", spec.Name, true, "how it signs in, and how others see it")
	set("kind", what, true, "whether it signs in; a role is granted to accounts")
	if !spec.Role {
		password := "generated, shown once"
		switch spec.Password {
		case change.Given:
			password = fmt.Sprintf("as given (about %.0f bits)", spec.Bits)
		case change.NoPassword:
			password = "none"
		}
		set("password", password, spec.Password == change.Given,
			"kept by the server as a SCRAM-SHA-256 verifier; the text itself is never sent to it")
	}
	set("connection_limit", orElse(catalog.WriteValue(spec.Options["connection_limit"]), "none"),
		spec.Options.Has("connection_limit"), "how many sessions at once")
	set("expires", orElse(spec.Options.Text("expires"), "never"), spec.Options.Has("expires"),
		"until when its password lets it in; open sessions go on")

	b.Steps = append(b.Steps, createRoleStep(spec, limits))
	if comment := spec.Options.Text("comment"); comment != "" {
		b.Steps = append(b.Steps, commentStep(spec.Name, comment, ""))
	}
	args := map[string]string{"check": "account", "name": spec.Name, "present": "yes",
		"login": yesNo(!spec.Role && !spec.Options.Bool("locked"))}
	if limit, ok := spec.Options["connection_limit"]; ok {
		args["connection_limit"] = catalog.WriteValue(limit)
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
		Args: args})
	if hasSecret(spec) && !spec.Options.Bool("locked") {
		b.Steps = append(b.Steps, signInStep(spec.Name))
	}
}

func orElse(text, word string) string {
	if text == "" {
		return word
	}
	return text
}

func hasSecret(spec change.AccountSpec) bool {
	return spec.Password == change.Generated || spec.Password == change.Given
}

// createRoleStep renders CREATE ROLE; the password, if any, comes last.
func createRoleStep(spec change.AccountSpec, options string) change.Step {
	word := "account"
	text := "CREATE ROLE " + quoteIdent(spec.Name)
	if spec.Role || spec.Options.Bool("locked") {
		text += " NOLOGIN"
	} else {
		text += " LOGIN"
	}
	if spec.Role {
		word = "role"
	}
	text += options
	step := change.Step{Kind: stepCreateRole, Title: "create " + word + " " + naming.Show(spec.Name), Statement: text,
		Undo: "DROP ROLE " + quoteIdent(spec.Name), Args: map[string]string{"name": spec.Name}}
	if hasSecret(spec) {
		step = step.WithSecret(spec.Name, text+" PASSWORD ", "")
	}
	return step
}

// signInStep signs in as an account, to prove that its password works.
func signInStep(names ...string) change.Step {
	return change.Step{Kind: engine.StepProve, Title: "sign in as " + naming.Show(strings.Join(names, " and ")),
		ReadOnly: true,
		Args:     map[string]string{"accounts": engine.EncodeList(names)}}.NeedsSecrets(names...)
}

var dateText = regexp.MustCompile(`^\d{4}-\d{2}-\d{2}( \d{2}:\d{2}(:\d{2})?)?$`)

// roleOptions renders what CREATE ROLE and ALTER ROLE have in common.
func roleOptions(b *change.Brief, spec change.AccountSpec) string {
	text := ""
	if limit, ok := spec.Options["connection_limit"]; ok {
		text += " CONNECTION LIMIT " + limitNumber(limit)
	}
	switch expires := spec.Options.Text("expires"); {
	case expires == "never":
		text += " VALID UNTIL 'infinity'"
	case dateText.MatchString(expires):
		text += " VALID UNTIL '" + expires + " UTC'"
	case expires != "":
		b.Find(change.Stop, change.OptionInvalid, "Give a date as 2027-01-31, or never.",
			"PostgreSQL knows an expiry at a date, not %q.", expires)
	}
	return text
}

// planNoHost refuses a host, which PostgreSQL's roles do not have.
func planNoHost(b *change.Brief, spec change.AccountSpec) {
	if spec.Host != "" || spec.NewHost != "" {
		b.Find(change.Stop, change.OptionUnsupported, "Leave it out.",
			"PostgreSQL roles have no host. Where a role may sign in from is set in the server's pg_hba.conf.")
	}
}

// compareAccount ends a brief for a role that is there already.
func compareAccount(b *change.Brief, spec change.AccountSpec, a catalog.Account) {
	want, have := map[string]string{"login": yesNo(!spec.Role)}, accountFacts(a)
	for _, option := range []string{"connection_limit", "comment", "expires"} {
		if value, ok := spec.Options[option]; ok {
			want[option] = catalog.WriteValue(value)
		}
	}
	planning.Existing(b, want, have, func(name, want, have string) bool {
		return want == have || name == "expires" && want != "" && strings.HasPrefix(have, want)
	})
	if hasSecret(spec) {
		b.Find(change.Note, change.PasswordMethod, "Set one, if it is to have another.",
			"%s keeps its password.", b.Target).Offer(remedy.Command("account.password", b.Target))
	}
}

// accountFacts writes a role's properties under the names that checks use.
func accountFacts(a catalog.Account) map[string]string {
	expires := "never"
	if !a.Expires.IsZero() {
		expires = a.Expires.UTC().Format("2006-01-02 15:04:05")
	}
	return map[string]string{"name": a.Name, "present": "yes", "login": yesNo(a.Login),
		"connection_limit": limitText(a.ConnectionLimit),
		"expires":          expires, "comment": a.Comment}
}

// limitText is a connection limit as people write it.
func limitText(limit int) string {
	if limit < 0 {
		return "none"
	}
	return strconv.Itoa(limit)
}

func commentStep(role, comment, before string) change.Step {
	say := func(text string) string {
		if text == "" {
			return "COMMENT ON ROLE " + quoteIdent(role) + " IS NULL"
		}
		return "COMMENT ON ROLE " + quoteIdent(role) + " IS " + strings.TrimSpace(quoteText(text))
	}
	return change.Step{Kind: engine.StepStatement, Title: "set the comment", Statement: say(comment), Undo: say(before),
		Args: map[string]string{"check": "account", "name": role, "comment": comment}}
}

// planAlterAccount briefs new limits, expiry, lock, comment.
//
// Long: its cases stand in the order in which their findings are read.
func planAlterAccount(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Account
	b.Summary = "alter " + naming.Show(spec.Name) + " on " + snap.Server.Name
	planNoHost(b, spec)
	a, ok := planning.FindAccount(b, catalog.Principal{Name: spec.Name}, snap, change.AccountAbsent)
	if !ok {
		return
	}
	planning.Manage(b, snap)
	text, undo, want := roleOptions(b, spec), "", map[string]string{"check": "account", "name": a.Name}
	have := accountFacts(a)
	set := func(name, value, was, decides string) {
		b.Set(change.Setting{Name: name, Was: &was, Value: value, Asked: true, Decides: decides})
	}
	if limit, ok := spec.Options["connection_limit"]; ok {
		want["connection_limit"] = catalog.WriteValue(limit)
		undo += " CONNECTION LIMIT " + strconv.Itoa(a.ConnectionLimit)
		set("connection_limit", want["connection_limit"], have["connection_limit"],
			"how many sessions at once; open ones stay")
		if a.Super {
			b.Find(change.Note, change.AccountSuper, "", "%s is a superuser, to whom no connection limit applies.",
				a.Name)
		}
	}
	if spec.Options.Has("expires") {
		undo += " VALID UNTIL '" + strings.Replace(have["expires"], "never", "infinity", 1) + "'"
		if have["expires"] != "never" {
			undo = strings.TrimSuffix(undo, "'") + " UTC'"
		}
		set("expires", spec.Options.Text("expires"), have["expires"],
			"until when its password lets it in; open sessions go on")
	}
	if locked := spec.Options.Bool("locked"); spec.Options.Has("locked") {
		want["login"] = yesNo(!locked)
		on, off := " LOGIN", " NOLOGIN"
		if locked {
			on, off = off, on
			planning.Keep(b, a, snap, "locked")
			if in.Clearing == nil {
				planning.OpenSessions(b, a, snap)
			}
		}
		text, undo = text+on, undo+off
		set("locked", yesNo(locked), yesNo(!a.Login), "whether it may sign in")
	}
	if text != "" {
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement, Title: "alter " + naming.Show(a.Name),
			Args:      want,
			Statement: "ALTER ROLE " + quoteIdent(a.Name) + text, Undo: "ALTER ROLE " + quoteIdent(a.Name) + undo})
	}
	if in.Clearing != nil {
		if !spec.Options.Bool("locked") {
			b.Find(change.Stop, change.OptionInvalid, "Lock it too.",
				"Sessions of an account are ended together with a lock; otherwise they would be back at once.")
		}
		b.Steps = append(b.Steps, planning.ClearAccount(b, in, a, snap, terminate))
	}
	if comment := spec.Options.Text("comment"); spec.Options.Has("comment") {
		set("comment", comment, a.Comment, "which remark everybody on the server can read")
		b.Steps = append(b.Steps, commentStep(a.Name, comment, a.Comment))
		want["comment"] = comment
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
		Args: want})
}

func planRenameAccount(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) {
	b.Summary = "rename " + naming.Show(spec.Name) + " to " + naming.Show(spec.NewName) + " on " + snap.Server.Name
	planNoHost(b, spec)
	a, ok := planning.FindAccount(b, catalog.Principal{Name: spec.Name}, snap, change.AccountAbsent)
	if !ok {
		return
	}
	planning.Manage(b, snap)
	planning.Keep(b, a, snap, "renamed")
	if other, taken := find(snap.Access.Accounts, spec.NewName); taken {
		b.Find(change.Stop, change.AccountExists, "Choose another name.", "There is a role %s on %s already.",
			naming.Show(other.Name), snap.Server.Name)
	}
	planning.NewName(b, spec.NewName, snap, accountLimits)
	passwordOfRenamed(b, a)
	if n := len(snap.Sessions); n > 0 {
		b.Find(change.Note, change.AccountSessions, "",
			"%s of the account stay open, and are listed under the new name.", naming.Count(n, "session")).
			Passing = true
	}
	rename := renameRoleStep(a.Name, spec.NewName)
	rename.Title = b.Summary
	b.Steps = []change.Step{rename,
		{Kind: change.Verify, Title: "read back", ReadOnly: true,
			Args: map[string]string{"check": "account", "name": spec.NewName, "present": "yes"}},
	}
}

// passwordOfRenamed cautions where a rename loses the password.
func passwordOfRenamed(b *change.Brief, a catalog.Account) {
	text := "A rename clears a password that is kept as md5, since the name is part of it."
	if a.Password == nil {
		text += " Genarch's login cannot see how this one is kept."
	}
	if a.Method == "md5" || a.Password == nil && a.Login {
		b.Find(change.Caution, change.PasswordCleared, "Set a password afterwards, if it was.", "%s", text).
			Offer(remedy.Command("account.password", b.Target))
	}
}

func renameRoleStep(from, to string) change.Step {
	rename := func(from, to string) string {
		return "ALTER ROLE " + quoteIdent(from) + " RENAME TO " + quoteIdent(to)
	}
	return change.Step{Kind: engine.StepStatement, Statement: rename(from, to), Undo: rename(to, from),
		Args: map[string]string{"check": "account", "name": to, "present": "yes"}}
}

func planSetPassword(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) {
	b.Summary = "set another password for " + naming.Show(spec.Name) + " on " + snap.Server.Name
	a, ok := planning.FindAccount(b, catalog.Principal{Name: spec.Name}, snap, change.AccountAbsent)
	if !ok {
		return
	}
	planning.Manage(b, snap)
	planning.Keep(b, a, snap, "given another password: Genarch could not sign in any more")
	planning.Password(b, spec, snap)
	if reach := takesOver(a, snap); reach != "" {
		planning.Takeover(b, snap, "whoever knows the new password", a.Name, "%s %s", naming.Show(a.Name), reach)
	}
	b.Find(change.Note, change.PasswordMethod, "",
		"The server gets a SCRAM-SHA-256 verifier, never the text. Open sessions go on; the next sign-in needs the new password. This step cannot be rolled back, because nobody but the server has the old one.")
	before := "ALTER ROLE " + quoteIdent(a.Name) + " PASSWORD "
	b.Steps = []change.Step{change.Step{Kind: engine.StepStatement, Title: "set the password of " + naming.Show(a.Name),
		Args: map[string]string{"check": "password", "name": a.Name}}.WithSecret(a.Name, before, "")}
	if a.Login {
		b.Steps = append(b.Steps, signInStep(a.Name))
	} else {
		b.Find(change.Note, change.LoginUntried, "", "%s may not sign in, so the password cannot be tried.", a.Name)
		b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back", ReadOnly: true,
			Args: map[string]string{"check": "account", "name": a.Name, "present": "yes"}})
	}
}

func role(name string) catalog.Principal { return catalog.Principal{Name: name} }

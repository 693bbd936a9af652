package planning

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/policy"
	"example.com/genarch/core/privilege"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// Manage adds the finding that the login may not alter accounts.
func Manage(b *change.Brief, snap catalog.Snapshot) {
	if login := snap.Instance.Login; !login.May("manage_accounts") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("manage_accounts"),
			"Genarch's login %s may not create or alter accounts on %s.", login.Name, snap.Server.Name)
	}
}

// NewName adds what speaks against the name of a new account or role: what
// the engine cannot store, and names that are easily taken for it.
func NewName(b *change.Brief, name string, snap catalog.Snapshot, lim naming.Limits) {
	for _, p := range (naming.Rule{Free: true}).Check(name, lim) {
		f := b.Find(change.Stop, p.Code, "Choose another name.", "%s", p.Text)
		if f.Suggestion = snap.Server.NameRule.Suggest(name, lim,
			func(string) bool { return false }); f.Suggestion != "" && snap.Server.NameRule.Suffix == "" {
			f.Next = "For example: " + f.Suggestion
		}
	}
	rule := snap.Server.NameRule
	rule.Suffix, rule.MaxLength = "", 0
	if len(b.Codes(change.Stop)) == 0 {
		for _, p := range rule.Check(name, lim) {
			b.Find(change.Caution, p.Code, "Choose a plain name, or accept this one.",
				"%s The name has to be quoted wherever it is written.", p.Text)
			break
		}
	}
	var others []string
	for _, a := range snap.Access.Accounts {
		if a.Name != name && !slices.Contains(others, a.Name) {
			others = append(others, a.Name)
		}
	}
	if with, how, found := naming.Clashes(name, others); found && how != naming.SameName {
		text := "There is an account or role %s on %s, which is easily mistaken for this one."
		if how == naming.SameButCase {
			text = "There is an account or role %s on %s, which differs only in upper and lower case."
		}
		b.Find(change.Caution, change.AccountLookalike, "Use that one, or choose a name that differs more.", text,
			naming.Show(with), snap.Server.Name)
	}
}

// Password adds what there is to say about a given password.
func Password(b *change.Brief, spec change.AccountSpec, snap catalog.Snapshot) {
	if spec.Password != change.Given {
		return
	}
	rule := policy.AccountPasswords
	weak, forbidden := rule.Weak(snap.Server.Environment, spec.Bits)
	level := change.Caution
	if forbidden {
		level = change.Stop
	}
	if weak {
		b.Find(level, change.PasswordWeak, "Leave it out, and a strong one is generated.",
			"The password is easily guessed (about %.0f bits; %.0f are required).", spec.Bits, rule.Bits)
	}
}

// FindAccount looks an account up, and adds the finding that it is not there:
// on MariaDB a name without a host means the one account of that name.
func FindAccount(b *change.Brief, p catalog.Principal, snap catalog.Snapshot, code string) (catalog.Account, bool) {
	found := catalog.Candidates(snap.Access.Accounts, p)
	what := "account"
	if p.Role {
		what = "role"
	}
	switch len(found) {
	case 0:
		f := b.Find(change.Stop, code, "List them.", "There is no %s %s on %s.", what, naming.Show(p.String()),
			snap.Server.Name).Offer(remedy.Command("account.list", snap.Server.Name))
		var names []string
		for _, a := range snap.Access.Accounts {
			names = append(names, a.Name)
		}
		if with, _, like := naming.Clashes(p.Name, names); like {
			f.Next, f.Suggestion = "Did you mean "+naming.Show(with)+"?", with
			if with == p.Name {
				f.Next, f.Suggestion = "There is one of that name elsewhere: "+hostsOf(snap.Access.Accounts, with), ""
			}
		}
		return catalog.Account{}, false
	case 1:
		return found[0], !held(b, found[0], snap, "altered")
	}
	var hosts []string
	for _, a := range found {
		hosts = append(hosts, a.Principal.String())
	}
	b.Find(change.Stop, change.AccountAmbiguous, "Say which: "+strings.Join(hosts, ", "),
		"There are %[2]d accounts named %[1]s, and each is an account of its own.", naming.Show(p.Name), len(found)).
		Suggestion = hosts[0]
	return catalog.Account{}, false
}

func hostsOf(list []catalog.Account, name string) string {
	var out []string
	for _, a := range list {
		if a.Name == name {
			word := a.Principal.String()
			if a.Role {
				word = "the role " + word
			}
			out = append(out, word)
		}
	}
	return strings.Join(out, ", ")
}

// Keep stops what would harm Genarch's own login or the engine's accounts.
func Keep(b *change.Brief, a catalog.Account, snap catalog.Snapshot, action string) {
	switch {
	case held(b, a, snap, action):
	case a.Principal == snap.Self:
		b.Find(change.Stop, change.AccountOwn, "Do that with the engine's own client, as another administrator.",
			"%s is the login that Genarch itself uses on %s; it cannot be %s from here.",
			naming.Show(a.Principal.String()), snap.Server.Name, action)
	case a.System:
		b.Find(change.Stop, change.AccountSystem, "Leave it as it is.",
			"%s belongs to the server itself and cannot be %s.", naming.Show(a.Principal.String()), action)
	}
}

// held stops what is asked for of an account that was set aside.
func held(b *change.Brief, a catalog.Account, snap catalog.Snapshot, action string) bool {
	if a.Held == nil {
		return false
	}
	b.Find(change.Stop, change.AccountHeld, "Bring it back first, or discard it.",
		"%s is what the account %s was set aside as, and cannot be %s.", naming.Show(a.Name), naming.Show(a.Held.Name),
		action).Offer(remedy.Command("holding.list", snap.Server.Name))
	return true
}

// Loses tells what goes with an account that is dropped.
func Loses(b *change.Brief, g *access.Graph, p catalog.Principal) {
	var lost []string
	for _, l := range g.Direct(p) {
		if !l.Privileges.Empty() && !l.Owner {
			lost = append(lost, l.Privileges.String()+" on "+l.Text())
		}
	}
	if len(lost) > 0 {
		b.Find(change.Note, change.AccountLosesGrants, "", "%s loses %s.", b.Target, Shorten(lost))
	}
}

// Circle stops a membership that would make a role belong to itself.
func Circle(b *change.Brief, role, member catalog.Principal, g *access.Graph) {
	atOnce, dormant := g.Roles(role)
	if role == member || slices.Contains(atOnce, member) || slices.Contains(dormant, member) {
		b.Find(change.Stop, change.RoleCircle, "Look at who belongs to whom.",
			"%s is a member of %s already, so it would become a member of itself.", naming.Show(role.String()),
			naming.Show(member.String())).Offer(remedy.Command("role.show", b.Target))
	}
}

// GrantOption cautions about the right to give privileges on.
func GrantOption(b *change.Brief, to catalog.Principal) {
	if to == catalog.Public {
		b.Find(change.Stop, change.GrantInvalid, "Leave out the grant option.",
			"The grant option cannot be granted to everybody.")
		return
	}
	b.Find(change.Caution, change.PrivilegeGrantOption, "Leave out the grant option.",
		"%s could grant these privileges to anybody, outside Genarch.", naming.Show(to.String()))
}

// Absent ends a brief for a thing that is not there, where it was to go only
// if present.
func Absent(b *change.Brief) {
	b.Outcome = change.Nothing
	b.Summary = b.Target + " is not there"
	b.Find(change.Note, change.AccountAbsent, "", "%s does not exist, so nothing will be done.", b.Target)
}

// Done ends a brief for something that is so already.
func Done(b *change.Brief, code, format string, args ...any) {
	b.Outcome = change.Nothing
	b.Find(change.Note, code, "", format, args...)
	b.Summary = b.Findings[len(b.Findings)-1].Text
	b.Steps = nil
}

// Privileges reads the single privileges of a grant and stops those that
// the kind of object does not have.
func Privileges(b *change.Brief, spec change.GrantSpec, d *engine.Description) privilege.Set {
	set, _ := d.Table.Parse(spec.Privileges) // checked with the intent
	o := spec.Object()
	known := d.PrivilegeSet(o.Scope)
	if wrong := set.Minus(known); !wrong.Empty() || known.Empty() {
		b.Find(change.Stop, change.GrantInvalid, "On a "+string(o.Scope)+" there are: "+known.String(),
			"There is no privilege %s on a %s.", wrong, o.Scope)
	}
	return set
}

// Team adds what speaks against a team's name, and reports whether its
// role and accounts can be made.
func Team(b *change.Brief, t change.TeamSpec, snap catalog.Snapshot, lim naming.Limits) {
	Manage(b, snap)
	for _, p := range t.CheckTeam(snap.Server.NameRule, lim) {
		b.Find(change.Stop, change.TeamName, "Choose a short plain name, such as tickets.", "%s", p.Text)
		return
	}
	for _, p := range []catalog.Principal{t.Owner(), t.App(), t.Reader()} {
		for _, a := range snap.Access.Accounts {
			if a.Name == p.Name {
				b.Find(change.Stop, change.AccountExists,
					"Choose another name for the team, or create the database alone and grant bundles on it.",
					"There is an account or role %s on %s already.", naming.Show(a.Principal.String()),
					snap.Server.Name).Offer(remedy.Command("privilege.grant", b.Target))
			}
		}
		if b.Stopped() {
			continue
		}
		NewName(b, p.Name, snap, lim)
	}
}

// Takeover cautions about what hands the whole server over, and has the name of
// who gets it typed.
func Takeover(b *change.Brief, snap catalog.Snapshot, who, name, format string, args ...any) {
	b.Confirm = name
	b.Find(change.Caution, change.ServerTakenOver, "Grant only what is needed; or accept it, and type the name.",
		"%s: %s could then do anything on %s, outside Genarch too.",
		fmt.Sprintf(format, args...), naming.Show(who), snap.Server.Name)
}

package sqlserver

import (
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/privilege"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// owners is the role whose members may do everything in a database.
const owners = "db_owner"

// takingOver are server roles that lead to the whole server: who alters logins can become anybody.
var takingOver = map[string]string{"sysadmin": "may do everything", "securityadmin": "alters logins and grants"}

// memberStep puts somebody into a role, or takes him out.
func memberStep(role, member catalog.Principal, give bool) change.Step {
	verbs := map[bool]string{true: "ADD", false: "DROP"}
	titles := map[bool]string{true: "put " + shown(member.Name) + " into ",
		false: "take " + shown(member.Name) + " out of "}
	args := checkOf(checkMember, role)
	args["member"], args["member_role"], args["present"] = member.Name, catalog.WriteValue(member.Role),
		catalog.WriteValue(give)
	return change.Step{Kind: engine.StepStatement,
		Title:     titles[give] + "the " + titleOf(role) + " " + shown(role.String()),
		Statement: ofMember(verbs[give], role, member.Name), Undo: ofMember(verbs[!give], role, member.Name),
		Args: args}
}

// planMember briefs making somebody a member of a role, or ending it. A login that is named with a
// database means its user there.
//
// Long: its cases stand in the order in which their findings are read.
func planMember(p *planning.Draft, give bool) {
	b, spec, snap := &p.Brief, p.In.Member, p.Snap
	role := catalog.Principal{Name: spec.Role, Database: spec.To.Database, Role: true}
	b.Summary = "make " + shown(spec.To.String()) + " a member of " + shown(role.String())
	if !give {
		b.Summary = "end that " + shown(spec.To.String()) + " belongs to " + shown(role.String())
	}
	planning.Manage(b, snap)
	if !place(p, role) {
		return
	}
	r, okRole := there(p, role, change.RoleAbsent)
	member := spec.To
	if _, ok := exact(snap.Access, member); !ok && member.Database != "" && !member.Role {
		for _, u := range usersOf(snap.Access, member.Name) {
			if u.Database == member.Database {
				member = u
			}
		}
	}
	m, okMember := there(p, member, change.AccountAbsent)
	if !okRole || !okMember {
		return
	}
	if spec.Admin {
		b.Find(change.Stop, change.OptionUnsupported, "Leave it out.", "SQL Server has no admin option: who may "+
			"alter a "+
			"role adds members.")
	}
	if role.Name == "public" {
		b.Find(change.Stop, change.GrantInvalid, "Leave it as it is.", "Everybody is in public, always.")
	}
	planning.Keep(b, m, snap, "given other roles")
	b.Set(change.Setting{Name: "role", Title: "Role", Value: r.Principal.String(), Asked: true,
		Decides: "whose privileges are had"})
	b.Set(change.Setting{Name: "member", Title: "Member", Value: m.Principal.String(), Asked: true,
		Decides: "who has them"})
	held := slices.ContainsFunc(snap.Access.Memberships, func(x catalog.Membership) bool {
		return x.Role == r.Principal && x.Member == m.Principal
	})
	switch {
	case give && held:
		planning.Done(b, change.RoleHeld, "%s is a member of %s already, so nothing will be "+
			"done.", m.Principal, r.Principal)
		return
	case !give && !held:
		planning.Done(b, change.RoleHeld, "%s is no member of %s, so nothing will be done.", m.Principal, r.Principal)
		return
	case give:
		planning.Circle(b, r.Principal, m.Principal, access.New(*snap.Access, Engine{}.Rules))
		if reach := takingOver[r.Name]; (r.Super || reach != "") && r.Database == "" && !m.Super {
			planning.Takeover(b, snap, m.Name, m.Name, "the server role %s %s", r.Name, reach)
		}
		if r.Name == owners && r.Database != "" {
			carefulOwner(p, m.Principal)
		}
	}
	b.Find(change.Note, change.GrantEffect, "", "It holds with the next statement, in open sessions too.")
	step := memberStep(r.Principal, m.Principal, give)
	p.Step(step, readBack(step.Args))
}

func carefulOwner(p *planning.Draft, who catalog.Principal) {
	p.Find(change.Caution, change.GrantWide, "Grant the bundle build.",
		"%s could drop the database, and alter who gets in, outside Genarch.", shown(who.Name))
}

// grantTo finds whom a grant is for: a login's user in the database, who is made where there is none.
func grantTo(p *planning.Draft, d catalog.AccessDatabase) (who catalog.Principal, create *change.Step, ok bool) {
	spec, a := p.In.Grant, p.Snap.Access
	inside := catalog.Principal{Name: spec.To.Name, Database: d.Name, Role: spec.To.Role}
	switch {
	case spec.To == catalog.Public:
		return catalog.Principal{Name: "public", Database: d.Name, Role: true}, nil, true
	case spec.To.Database != "" && spec.To.Database != d.Name:
		p.Find(change.Stop, change.GrantInvalid, "Name one of the database, or a login.", "%s is in another database.",
			shown(spec.To.String()))
		return inside, nil, false
	case spec.To.Role || spec.To.Database != "":
		_, ok := there(p, inside, change.AccountAbsent)
		return inside, nil, ok
	}
	for _, m := range a.Memberships {
		switch {
		case m.Grantor != actsAs || m.Member != spec.To || m.Role.Database != d.Name:
		case m.Role == dbo(d.Name):
			p.Find(change.Stop, change.GrantInvalid, "Nothing has to be granted; give the database another owner "+
				"first, "+
				"if it is to have less.", "%s owns %s, and may do everything there: the server takes no grant or "+
				"denial for it.",
				shown(spec.To.Name), shown(d.Name))
			return m.Role, nil, false
		default:
			return m.Role, nil, true
		}
	}
	login, isLogin := exact(a, spec.To)
	other, taken := exact(a, inside)
	switch {
	case isLogin && taken:
		p.Find(change.Stop, change.AccountExists, "Have the login be that user, or name the user.",
			"%s has no user in %s, where somebody else is called so: a user is known by a number, and not by its name.",
			shown(login.Name), shown(d.Name)).Offer(remedy.Command("account.alter",
			change.PrincipalAddress(p.Snap.Server.Name, other.Principal).String()).With("options.login", login.Name))
		return inside, nil, false
	case isLogin:
		step := createStep(inside, " FOR LOGIN "+quoteIdent(login.Name))
		step.Args["login"] = login.Name
		return inside, &step, true
	case taken:
		return inside, nil, true
	}
	_, ok = there(p, spec.To, change.AccountAbsent)
	return inside, nil, ok
}

// securable writes what a grant is on; nothing: the database.
func securable(o catalog.Object) string {
	switch o.Scope {
	case catalog.ScopeDatabase:
		return ""
	case catalog.ScopeSchema:
		return " ON SCHEMA::" + quoteIdent(o.Schema)
	}
	return " ON OBJECT::" + quoteIdent(o.Schema) + "." + quoteIdent(o.Name)
}

// words writes privileges, each with its column where there is one.
func words(set privilege.Set, column string) string {
	names := set.Names()
	if column != "" {
		for i := range names {
			names[i] += " (" + quoteIdent(column) + ")"
		}
	}
	return strings.Join(names, ", ")
}

// The verbs of the statements on privileges.
const (
	verbGrant  = "GRANT"
	verbDeny   = "DENY"
	verbRevoke = "REVOKE"
)

// granting writes one statement on privileges. passOn: with the right to pass them on, or, where they are
// taken, from those to whom they were passed on as well. by is whose grant it is; empty: the owner's.
func granting(verb string, set privilege.Set, o catalog.Object, who catalog.Principal, passOn bool, by string) string {
	text := verb + " " + words(set, o.Column) + securable(o) + map[bool]string{true: " FROM ",
		false: " TO "}[verb == verbRevoke] +
		quoteIdent(who.Name)
	switch {
	case passOn && verb == verbGrant:
		text += " WITH GRANT OPTION"
	case passOn:
		text += " CASCADE"
	}
	if by != "" && by != "dbo" {
		text += " AS " + quoteIdent(by)
	}
	return inDatabase(o.Database, text)
}

// entriesOf are what somebody was given and denied on exactly one object, together what one granted in
// one way.
func entriesOf(d catalog.AccessDatabase, o catalog.Object, who catalog.Principal) (out []catalog.Entry) {
	list := d.Entries
	if o.Scope != catalog.ScopeDatabase {
		list = nil
		for _, c := range d.Interior.Classes {
			if c.Object == o {
				list = append(list, c.Entries...)
			}
		}
	}
	for _, e := range list {
		if e.Grantee != who {
			continue
		}
		i := slices.IndexFunc(out, func(x catalog.Entry) bool {
			return x.Grantor == e.Grantor && x.Denied.Empty() == e.Denied.Empty() &&
				x.Grantable.Empty() == e.Grantable.Empty()
		})
		if i < 0 {
			out = append(out, e)
			continue
		}
		x := &out[i]
		x.Privileges, x.Denied, x.Grantable = x.Privileges.Or(e.Privileges), x.Denied.Or(e.Denied),
			x.Grantable.Or(e.Grantable)
	}
	return out
}

func heldBy(list []catalog.Entry) (granted, passed, denied privilege.Set) {
	for _, e := range list {
		granted, passed, denied = granted.Or(e.Privileges), passed.Or(e.Grantable), denied.Or(e.Denied)
	}
	return granted, passed, denied
}

// grantArgs are what is looked for after a statement on privileges.
func grantArgs(o catalog.Object, who catalog.Principal, set privilege.Set, state string) map[string]string {
	args := checkOf(checkGrant, who)
	args["scope"], args["schema"], args["object"], args["column"] = string(o.Scope), o.Schema, o.Name, o.Column
	args["privileges"], args["state"] = engine.EncodeList(set.Names()), state
	return args
}

// The states of a privilege.
const (
	stateGranted = "granted"
	statePassing = "grantable"
	stateDenied  = "denied"
	stateNone    = "none"
)

// giveStep grants privileges on one object, or denies them. What was there before is put back by undo.
func giveStep(o catalog.Object, who catalog.Principal, set privilege.Set, was []catalog.Entry, deny,
	passOn bool) change.Step {
	granted, passed, denied := heldBy(was)
	verb, state, before := verbGrant, stateGranted, denied
	switch {
	case deny:
		verb, state, before = verbDeny, stateDenied, granted
	case passOn:
		state = statePassing
	}
	undo := granting(verbRevoke, set, o, who, passOn, "")
	if back := before.And(set); !back.Empty() {
		undo = granting(map[bool]string{true: verbGrant, false: verbDeny}[deny], back, o, who, deny &&
			passed.Any(back), "")
	}
	return change.Step{Kind: engine.StepStatement,
		Title: strings.ToLower(verb) + " " + shown(who.Name) + " " + set.String() +
			" on " + objectText(o), Statement: granting(verb, set, o, who, passOn || deny &&
			!passed.And(set).Empty(), ""),
		Undo: undo, Args: grantArgs(o, who, set, state)}
}

func objectText(o catalog.Object) string {
	if o.Scope == catalog.ScopeDatabase {
		return shown(o.Database)
	}
	return string(o.Scope) + " " + access.ObjectText(o)
}

// planGive briefs granting a bundle or single privileges, or denying them.
//
// Long: its cases stand in the order in which their findings are read.
func planGive(p *planning.Draft) {
	b, spec, snap := &p.Brief, p.In.Grant, p.Snap
	deny := p.Asked.Bool("deny")
	verb := map[bool]string{true: "deny ", false: "grant "}[deny]
	what := "the bundle " + string(spec.Bundle)
	if spec.Bundle == "" {
		what = strings.ToUpper(strings.Join(spec.Privileges, ", "))
	}
	o := spec.Object()
	b.Summary = verb + shown(spec.To.String()) + " " + what + " on " + objectText(o)
	d, ok := openDatabase(p, spec.Database)
	if !ok {
		return
	}
	who, create, ok := grantTo(p, d)
	if !ok {
		return
	}
	if a, there := exact(snap.Access, spec.To); there && a.Super {
		b.Find(change.Note, change.AccountSuper, "", "%s administers the server, and may do everything whatever it is "+
			"granted or denied.", shown(a.Name))
	}
	b.Set(change.Setting{Name: "account", Title: "Account", Value: who.String(), Asked: true, Decides: "who may do it"})
	switch {
	case deny && spec.Bundle != "":
		b.Find(change.Stop, change.OptionInvalid, "Name the privileges.", "Single privileges are denied, not bundles.")
		return
	case deny && spec.GrantOption:
		b.Find(change.Stop, change.OptionInvalid, "Leave out the grant option.", "What is denied cannot be passed on.")
		return
	case spec.GrantOption:
		planning.GrantOption(b, spec.To)
	}
	if create != nil {
		b.Find(change.Note, change.AccountMembers, "", "%s has no user in %s so far; one is made, known by the "+
			"login's "+
			"number.", shown(spec.To.Name), shown(d.Name))
		p.Step(*create)
	}
	if spec.Bundle != "" {
		b.Set(change.Setting{Name: "bundle", Title: "Bundle", Value: string(spec.Bundle), Asked: true,
			Decides: description.BundleDecides(spec.Bundle)})
		if !planBundle(p, d, who, create != nil) {
			return
		}
		if len(p.Steps) == 0 {
			planning.Done(b, change.GrantHeld, "%s was granted all of that on %s already, so nothing will be done; "+
				"what is "+
				"denied wins over it.", who, shown(d.Name))
			planDenied(p, d, who, o)
			return
		}
	} else {
		set := planning.Privileges(b, *spec, &description)
		if detailsOf(snap.Details).ObjectAbsent {
			b.Find(change.Stop, change.ObjectAbsent, "Look at the name.", "There is no %s %s.", o.Scope,
				access.ObjectText(o))
		}
		if b.Stopped() {
			return
		}
		b.Set(change.Setting{Name: "privileges", Title: "Privileges", Value: set.String(), Asked: true,
			Decides: "what may be done on " + objectText(o)})
		was := entriesOf(d, o, who)
		granted, passed, denied := heldBy(was)
		have := map[bool]privilege.Set{true: denied, false: granted}[deny]
		if spec.GrantOption {
			have = passed
		}
		if have.Has(set) && create == nil {
			planning.Done(b, change.GrantHeld, "That is so already for %s on %s, so nothing will be done.", who,
				objectText(o))
			return
		}
		planReplaced(p, who, o, map[bool]privilege.Set{true: granted, false: denied}[deny].And(set), deny)
		if deny && passed.Any(set) {
			planPassedOn(p, d, who)
		}
		p.Step(giveStep(o, who, set.Minus(have), was, deny, spec.GrantOption))
	}
	if !deny {
		planDenied(p, d, who, o)
	} else {
		b.Find(change.Note, change.GrantEffect, "", "A denial wins over every grant, by whatever role it comes; "+
			"administrators and owners are not held by it.")
	}
	b.Find(change.Note, change.GrantEffect, "", "It holds with the next statement, in open sessions too.")
	p.Step(readBack(p.Steps[len(p.Steps)-1].Args))
}

// planReplaced says which denials a grant replaces, or which grants a denial.
func planReplaced(p *planning.Draft, who catalog.Principal, o catalog.Object, set privilege.Set, deny bool) {
	if !set.Empty() {
		p.Find(change.Caution, change.GrantNarrows, "Look whether that is meant.",
			"%s was %s %s on %s, which this replaces.", shown(who.Name),
			map[bool]string{true: "granted", false: "denied"}[deny], set, objectText(o))
	}
}

// planPassedOn cautions that others lose what somebody passed on to them.
func planPassedOn(p *planning.Draft, d catalog.AccessDatabase, who catalog.Principal) {
	var given []string
	for _, c := range d.Interior.Classes {
		for _, e := range c.Entries {
			if e.Grantor == who.Name {
				given = append(given, e.Privileges.String()+" on "+objectText(c.Object)+" to "+e.Grantee.Name)
			}
		}
	}
	for _, e := range d.Entries {
		if e.Grantor == who.Name {
			given = append(given, e.Privileges.String()+" to "+e.Grantee.Name)
		}
	}
	if len(given) > 0 {
		p.Find(change.Caution, change.GrantOther, "Grant it to them again afterwards.",
			"%s granted something to others, who can lose it too: %s.", shown(who.Name), planning.Shorten(given))
	}
}

// planBundle grants what of a bundle is missing; a fresh user may connect already. It reports false where
// nothing is.
func planBundle(p *planning.Draft, d catalog.AccessDatabase, who catalog.Principal, fresh bool) bool {
	spec := p.In.Grant
	g := access.New(*p.Snap.Access, Engine{}.Rules)
	if c := g.Level(who, d.Name); c.Level >= spec.Bundle.Level() && !c.Gap {
		planning.Done(&p.Brief, change.GrantHeld, "%s has %s on %s already, by itself or through a role, so nothing "+
			"will "+
			"be done.", who, c.Level, shown(d.Name))
		return false
	}
	if spec.GrantOption && spec.Bundle == access.BundleOwn {
		p.Find(change.Stop, change.OptionInvalid, "Leave out the grant option.", "Members of %s may grant "+
			"anyway.", owners)
	}
	if spec.Bundle == access.BundleOwn {
		carefulOwner(p, who)
		p.Step(memberStep(catalog.Principal{Name: owners, Database: d.Name, Role: true}, who, true))
		return true
	}
	give := func(o catalog.Object, set privilege.Set) {
		was := entriesOf(d, o, who)
		granted, passed, denied := heldBy(was)
		if spec.GrantOption {
			granted = passed
		} else if fresh && o.Scope == catalog.ScopeDatabase {
			granted = connect
		}
		if missing := set.Minus(granted); !missing.Empty() {
			planReplaced(p, who, o, denied.And(missing), false)
			p.Step(giveStep(o, who, missing, was, false, spec.GrantOption))
		}
	}
	give(catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name}, bundles[spec.Bundle].onDatabase)
	if set := bundles[spec.Bundle].onSchemas; !set.Empty() {
		for _, c := range d.Interior.Classes {
			if c.Scope == catalog.ScopeSchema {
				give(c.Object, set)
			}
		}
		p.Find(change.Note, change.GrantUncovered, "Grant the bundle again then.",
			"A schema that is made later is not covered: tables in it cannot be made or altered.")
	}
	return true
}

// planDenied says what is denied to somebody all the same: a denial of a role wins over his own grants.
// His own on what is granted just now is replaced.
func planDenied(p *planning.Draft, d catalog.AccessDatabase, who catalog.Principal, on catalog.Object) {
	g := access.New(*p.Snap.Access, Engine{}.Rules)
	roles, _ := g.Roles(who)
	classes := append([]catalog.Class{{Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name},
		Entries: d.Entries}}, d.Interior.Classes...)
	var by []string
	for _, c := range classes {
		for _, e := range c.Entries {
			if !e.Denied.Empty() && (slices.Contains(roles, e.Grantee) || e.Grantee == who && c.Object != on) {
				by = append(by, e.Denied.String()+" on "+objectText(c.Object)+" to "+e.Grantee.Name)
			}
		}
	}
	for _, r := range roles {
		if set, ok := deniers[r.Name]; ok && r.Database == d.Name {
			by = append(by, set.String()+" to "+r.Name)
		}
	}
	if len(by) > 0 {
		p.Find(change.Caution, change.GrantNarrows, "Ask why: it may not do what is granted here.",
			"Something is denied to %s in %s, and a denial wins over every grant: %s.", shown(who.Name), shown(d.Name),
			planning.Shorten(by)).Offer(remedy.Command("privilege.why", p.Snap.Server.Name+"/"+d.Name))
	}
}

// planTake briefs taking privileges: single ones, all, or all beyond a bundle. Denials are taken too.
//
// Long: its cases stand in the order in which their findings are read.
func planTake(p *planning.Draft) {
	b, spec := &p.Brief, p.In.Grant
	o := spec.Object()
	what := "everything"
	switch {
	case len(spec.Privileges) > 0:
		what = strings.ToUpper(strings.Join(spec.Privileges, ", "))
	case spec.Bundle != "":
		what = "everything beyond " + string(spec.Bundle)
	}
	b.Summary = "revoke " + what + " on " + objectText(o) + " from " + shown(spec.To.String())
	d, ok := openDatabase(p, spec.Database)
	if !ok {
		return
	}
	who, create, ok := grantTo(p, d)
	if !ok {
		return
	}
	b.Set(change.Setting{Name: "account", Title: "Account", Value: who.String(), Asked: true,
		Decides: "who may not do it any more"})
	passed := false
	take := func(o catalog.Object, only privilege.Set) {
		for _, e := range entriesOf(d, o, who) {
			passed = passed || e.Grantable.Any(only)
			if step, any := takeStep(o, e, only); any {
				p.Step(step)
			}
		}
	}
	single := len(spec.Privileges) > 0
	if single {
		set := planning.Privileges(b, *spec, &description)
		if b.Stopped() {
			return
		}
		take(o, set)
	} else {
		member := catalog.Membership{Role: catalog.Principal{Name: owners, Database: d.Name, Role: true}, Member: who}
		for _, m := range p.Snap.Access.Memberships {
			if m.Role == member.Role && m.Member == who && spec.Bundle != access.BundleOwn {
				p.Step(memberStep(m.Role, who, false))
			}
		}
		take(o, table.All().Minus(bundles[spec.Bundle].onDatabase))
		for _, c := range d.Interior.Classes {
			keep := privilege.Set{}
			if c.Scope == catalog.ScopeSchema {
				keep = bundles[spec.Bundle].onSchemas
			}
			take(c.Object, table.All().Minus(keep))
		}
	}
	if len(p.Steps) == 0 || create != nil {
		planning.Done(b, change.GrantHeld, "%s was granted nothing of that on %s, so nothing will be done.", spec.To,
			objectText(o))
		return
	}
	if passed {
		planPassedOn(p, d, who)
	}
	if !single && spec.Bundle == "" && !who.Role {
		b.Find(change.Note, change.GrantRemains, "Drop the user, if it is not needed any more.",
			"%s stays a user of %s that may not connect.", shown(who.Name), shown(d.Name)).
			Offer(remedy.Command("account.drop", change.PrincipalAddress(p.Snap.Server.Name, who).String()))
	}
	var roles []string
	for _, m := range p.Snap.Access.Memberships {
		if m.Member == who && (single || m.Role.Name != owners) {
			roles = append(roles, m.Role.Name)
		}
	}
	if len(roles) > 0 {
		b.Find(change.Note, change.GrantRemains, "End the membership too.",
			"%s keeps what it has as a member of %s.", shown(who.Name), planning.Shorten(roles))
	}
	b.Find(change.Note, change.GrantEffect, "", "It holds with the next statement, in open sessions too.")
	p.Step(readBack(p.Steps[len(p.Steps)-1].Args))
}

// takeStep takes of one entry what is to go, denials too, and puts back exactly that when undone. It reports
// whether there is anything.
func takeStep(o catalog.Object, e catalog.Entry, only privilege.Set) (change.Step, bool) {
	set := e.Privileges.Or(e.Denied).And(only)
	if set.Empty() {
		return change.Step{}, false
	}
	passed := !e.Grantable.And(set).Empty()
	undo := granting(verbGrant, set, o, e.Grantee, passed, e.Grantor)
	if !e.Denied.Empty() {
		undo = granting(verbDeny, set, o, e.Grantee, false, e.Grantor)
	}
	args := grantArgs(o, e.Grantee, set, stateNone)
	args["by"] = e.Grantor
	return change.Step{Kind: engine.StepStatement, Title: "revoke " + set.String() + " on " + objectText(o) + " from " +
		shown(e.Grantee.Name), Statement: granting(verbRevoke, set, o, e.Grantee, passed, e.Grantor), Undo: undo,
		Args: args}, true
}

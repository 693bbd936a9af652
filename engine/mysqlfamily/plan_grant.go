package mysqlfamily

import (
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// procedure is the usual kind of routine; routines are the others that a grant can
// be about, as mysql.procs_priv and the statement call them.
const procedure = "PROCEDURE"

var routines = []string{"FUNCTION", "PACKAGE", "PACKAGE BODY"}

// onSQL names what a grant is about: the database by its escaped name, for
// there _ and % are wildcards, everything below by its plain name.
func onSQL(o catalog.Object) string {
	switch o.Scope {
	case catalog.ScopeDatabase:
		return quoteIdent(escaped(o.Database)) + ".*"
	case catalog.ScopeRoutine:
		word := procedure
		if i := slices.Index(routines, o.Routine); i >= 0 {
			word = routines[i]
		}
		return word + " " + quoteIdent(o.Database) + "." + quoteIdent(o.Name)
	}
	return quoteIdent(o.Database) + "." + quoteIdent(o.Name)
}

// columnText writes privileges, with their column where there is one.
func columnText(set privilege.Set, column string) string {
	if column == "" {
		return setText(set)
	}
	var out []string
	for _, name := range set.Names() {
		out = append(out, name+" ("+quoteIdent(column)+")")
	}
	return strings.Join(out, ", ")
}

// grantSQL and revokeSQL render one grant; on is what stands behind ON.
func grantSQL(words, on string, to catalog.Principal, grantOption bool) string {
	text := "GRANT " + words + "\n  ON " + on + "\n  TO " + quotePrincipal(to)
	if grantOption {
		text += "\n  WITH GRANT OPTION"
	}
	return grantMode(on, text)
}

func revokeSQL(words, on string, from catalog.Principal) string {
	return grantMode(on, "REVOKE "+words+"\n  ON "+on+"\n  FROM "+quotePrincipal(from))
}

func grantMode(on, text string) string {
	if strings.HasPrefix(on, "PACKAGE") { // a name would begin with its quote
		return inOracleMode(text)
	}
	return text
}

// giveStep gives privileges and rolls back, when undone, only those that were
// not there before: had, and passed for the right to pass on.
func giveStep(title string, to catalog.Principal, o catalog.Object, set, had privilege.Set,
	grantOption, passed bool) change.Step {
	words := columnText(set, o.Column)
	var fresh []string
	if !had.Has(set) {
		fresh = append(fresh, columnText(set.Minus(had), o.Column))
	}
	if grantOption && !passed {
		fresh = append(fresh, "GRANT OPTION")
	}
	undo := "SELECT 'nothing has to be rolled back'"
	if len(fresh) > 0 {
		undo = revokeSQL(strings.Join(fresh, ", "), onSQL(o), to)
	}
	args := checkOf("privileges", to)
	args["scope"], args["database"], args["object"], args["column"], args["privileges"], args["present"] = string(o.Scope), o.Database, o.Name, o.Column, set.String(), "yes"
	if o.Routine != "" {
		args["routine"] = o.Routine
	}
	return change.Step{Kind: engine.StepStatement, Title: title, Statement: grantSQL(words, onSQL(o), to, grantOption),
		Undo: undo, Args: args}
}

// directOn is what p was given itself on exactly this object.
func directOn(grants []catalog.Grant, p catalog.Principal, o catalog.Object) (set, grantOption privilege.Set) {
	for _, g := range grants {
		same := g.Object == o
		if o.Scope == catalog.ScopeDatabase {
			same = g.Scope == o.Scope && !isPattern(g.Database) && plain(g.Database) == o.Database
		}
		if same && g.Grantee == p {
			set, grantOption = set.Or(g.Privileges), grantOption.Or(g.Grantable)
		}
	}
	return set, grantOption
}

// grantTarget finds the account and the database of a grant.
func grantTarget(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot, needDatabase bool) (catalog.Principal,
	bool) {
	if spec.Database != "" && needDatabase &&
		!slices.ContainsFunc(snap.Access.Databases,
			func(d catalog.AccessDatabase) bool { return d.Name == spec.Database }) {
		b.Find(change.Stop, change.DatabaseAbsent, "List them.",
			"There is no database %s on %s. %s would accept the grant all the same, and it would take effect "+
				"once the database exists.",
			naming.Show(spec.Database), snap.Server.Name, productOf(snap).description.Title).
			Offer(remedy.Command("database.list", snap.Server.Name))
		return spec.To, false
	}
	if spec.To == catalog.Public {
		return spec.To, true
	}
	a, ok := planning.FindAccount(b, spec.To, snap, change.AccountAbsent)
	if ok && a.Global.Has(productOf(snap).own()) {
		b.Find(change.Note, change.AccountSuper, "", "%s may do everything on every database, whatever it is granted.",
			a.Principal)
	}
	if ok {
		planAbove(b, a.Principal, snap)
	}
	return a.Principal, ok
}

func planGive(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot) {
	what := "bundle " + string(spec.Bundle)
	if spec.Bundle == "" {
		what = strings.ToUpper(strings.Join(spec.Privileges, ", "))
	}
	o := spec.Object()
	o.Routine = detailsOf(snap.Details).Routine
	b.Summary = "grant " + naming.Show(spec.To.String()) + " " + what + " on " + grantObjectText(o)
	to, ok := grantTarget(b, spec, snap, true)
	if !ok {
		return
	}
	if slices.Contains(system, spec.Database) || spec.Database == markerDatabase {
		b.Find(change.Stop, change.GrantInvalid, "Grant it on the databases of the team.",
			"%s belongs to the server itself. Whoever may write there controls the whole server, and whoever may read there has everybody's verifiers.", spec.Database)
	}
	set := productOf(snap).bundles[spec.Bundle]
	b.Set(change.Setting{Name: "account", Value: to.String(), Asked: true, Decides: "who may do it"})
	if spec.Bundle != "" {
		b.Set(change.Setting{Name: "bundle", Value: string(spec.Bundle), Asked: true,
			Decides: productOf(snap).description.BundleDecides(spec.Bundle)})
	} else if set = planning.Privileges(b, spec, productOf(snap).description); b.Stopped() {
		return
	}
	b.Set(change.Setting{Name: "privileges", Value: set.String(), Asked: spec.Bundle == "",
		Source:  planning.Source(spec.Bundle == "", "bundle "+string(spec.Bundle)),
		Decides: "what may be done on " + grantObjectText(o)})
	if detailsOf(snap.Details).ObjectAbsent {
		b.Find(change.Stop, change.ObjectAbsent, "Look at the name.", "There is no %s %s.", o.Scope,
			access.ObjectText(o))
	}
	planGivable(b, spec.Database, snap)
	if spec.GrantOption {
		planning.GrantOption(b, to)
	}
	had, passed := directOn(snap.Access.Grants, to, o)
	if had.Has(set) && (!spec.GrantOption || passed.Has(set)) {
		planning.Done(b, change.GrantHeld, "%s has that on %s already, so nothing will be done.", to,
			grantObjectText(o))
		return
	}
	planNarrows(b, snap, to, o, had.Or(set))
	if to.Role {
		noteRole(b, snap, to)
	}
	step := giveStep(b.Summary, to, o, set, had, spec.GrantOption, !passed.Empty())
	b.Steps = []change.Step{step, {Kind: change.Verify, Title: "read back what it may do now", ReadOnly: true,
		Args: step.Args}}
	noteEffect(b, snap, o)
}

func grantObjectText(o catalog.Object) string {
	if o.Scope == catalog.ScopeDatabase {
		return naming.Show(o.Database)
	}
	return string(o.Scope) + " " + access.ObjectText(o)
}

func planGivable(b *change.Brief, database string, snap catalog.Snapshot) {
	if detailsOf(snap.Details).PlainNames && strings.ContainsAny(database, `_%\`) {
		b.Find(change.Stop, change.GrantInvalid, "Grant it by the server's own client, and look what it opens.",
			"With partial_revokes the server takes the name of a grant as it stands, and whether a character that was a "+
				"wildcard before has to be written in another way has not been tried: %s.", naming.Show(database))
	}
	if login := snap.Instance.Login; !login.May("give_bundles") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("give_bundles"),
			"Genarch's login %s may not grant privileges on databases.", login.Name)
	}
}

// planNarrows: of all grants on databases only the most specific holds, so one
// on the exact name can take away what a pattern gave.
func planNarrows(b *change.Brief, snap catalog.Snapshot, to catalog.Principal, o catalog.Object, after privilege.Set) {
	if o.Scope != catalog.ScopeDatabase {
		return
	}
	g := graphOf(snap)
	if had, _ := directOn(snap.Access.Grants, to, o); !had.Empty() {
		return
	}
	by, held := winningGrant(g, to, o.Database)
	if lost := held.Minus(after); !lost.Empty() {
		b.Find(change.Caution, change.GrantNarrows,
			"Grant a bundle that holds these too, or revoke the grant on the pattern first.",
			"%s has %s there by a grant on the pattern %s, and loses it: for %s only the grant on the exact "+
				"name counts.", to, lost, by,
			productOf(snap).description.Title)
	}
}

// noteRole says for whom a role does not hold by itself.
func noteRole(b *change.Brief, snap catalog.Snapshot, role catalog.Principal) {
	var dormant []string
	for _, m := range snap.Access.Memberships {
		if m.Role != role || m.Member.Role {
			continue
		}
		for _, a := range snap.Access.Accounts {
			if a.Principal == m.Member && !m.Inherit && !slices.Contains(defaultsOf(a), role.Name) &&
				a.Principal != snap.Self {
				dormant = append(dormant, a.Principal.String())
			}
		}
	}
	if len(dormant) > 0 {
		b.Find(change.Note, change.RoleDormant, "Make it their default role.",
			"The role is not the default role of %s, so for them it holds only after SET ROLE.",
			planning.Shorten(dormant)).
			Offer(remedy.Command("account.alter", snap.Server.Name).With("options.default_role", role.Name))
	}
}

// noteEffect says when the change comes into force, and for whom not yet.
func noteEffect(b *change.Brief, snap catalog.Snapshot, o catalog.Object) {
	if o.Scope != catalog.ScopeDatabase {
		b.Find(change.Note, change.GrantEffect, "", "The grant holds at once, in open sessions too.")
		return
	}
	text := "The change holds at once, but sessions that are in the database keep what they had until they leave it or run USE again"
	if len(snap.Sessions) > 0 {
		text += ": " + planning.Shorten(snap.Sessions)
	}
	b.Find(change.Note, change.GrantEffect, "", "%s.", text).Passing = true
}

// routineMeant finds the kind of a routine that was named: the procedure, if
// something is held on one of the name, else the function or package.
func routineMeant(grants []catalog.Grant, to catalog.Principal, o catalog.Object) catalog.Object {
	if o.Scope != catalog.ScopeRoutine {
		return o
	}
	meant := o
	for _, g := range grants {
		if g.Grantee == to && g.Scope == o.Scope && g.Database == o.Database && g.Name == o.Name {
			if g.Object == o {
				return o
			}
			meant = g.Object
		}
	}
	return meant
}

// planTake briefs taking privileges: single ones, all, or down to a bundle.
//
// Long: its cases stand in the order in which their findings are read.
func planTake(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot) {
	o := spec.Object()
	what := "everything"
	switch {
	case len(spec.Privileges) > 0:
		what = strings.ToUpper(strings.Join(spec.Privileges, ", "))
	case spec.Bundle != "":
		what = "everything beyond " + string(spec.Bundle)
	case spec.Options.Text("pattern") != "":
		what = "the grant on the pattern " + spec.Options.Text("pattern")
	}
	b.Summary = "revoke " + what + " on " + grantObjectText(o) + " from " + naming.Show(spec.To.String())
	to, ok := grantTarget(b, spec, snap, false)
	if !ok {
		// What is left of an account that is gone cannot be named by REVOKE.
		return
	}
	b.Set(change.Setting{Name: "account", Value: to.String(), Asked: true, Decides: "who may not do it any more"})
	planGivable(b, spec.Database, snap)
	keep := productOf(snap).bundles[spec.Bundle]
	var only privilege.Set = table.All()
	if len(spec.Privileges) > 0 {
		if only = planning.Privileges(b, spec, productOf(snap).description); b.Stopped() {
			return
		}
	}
	o = routineMeant(snap.Access.Grants, to, o)
	for _, g := range snap.Access.Grants {
		if g.Grantee != to || !concerns(g, spec, o) {
			continue
		}
		if step, any := takeStep(g, only.Minus(keep), len(spec.Privileges) == 0); any {
			b.Steps = append(b.Steps, step)
		}
		if g.Scope == catalog.ScopeDatabase && isPattern(g.Database) {
			var opens []string
			for _, d := range snap.Access.Databases {
				if d.Name != spec.Database && matches(g.Database, d.Name) {
					opens = append(opens, d.Name)
				}
			}
			if len(opens) > 0 {
				b.Find(change.Caution, change.GrantWide, "Grant it on those databases by name first.",
					"The grant is on the pattern %s, so %s loses it on these databases too: %s.", g.Database, to,
					planning.Shorten(opens))
			}
		}
	}
	noteRemains(b, snap, to, o, spec)
	if len(b.Steps) == 0 {
		planning.Done(b, change.GrantHeld, "%s was granted nothing of that on %s, so nothing will be done.", to,
			grantObjectText(o))
		return
	}
	last := b.Steps[len(b.Steps)-1].Args
	if len(spec.Privileges) == 0 && spec.Options.Text("pattern") == "" {
		last = checkOf("only", to)
		last["database"], last["privileges"] = spec.Database, keep.String()
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back what it may do now", ReadOnly: true,
		Args: last})
	noteEffect(b, snap, o)
}

// concerns reports whether a grant is one that the request is about.
func concerns(g catalog.Grant, spec change.GrantSpec, o catalog.Object) bool {
	switch {
	case spec.Options.Text("pattern") != "":
		return g.Scope == catalog.ScopeDatabase && g.Database == spec.Options.Text("pattern")
	case len(spec.Privileges) > 0 && o.Scope != catalog.ScopeDatabase:
		return g.Object == o
	case g.Scope == catalog.ScopeDatabase:
		// Also the one whose name was meant plainly, and is a pattern.
		return plain(g.Database) == o.Database && !isPattern(g.Database) || g.Database == o.Database
	}
	return len(spec.Privileges) == 0 && spec.Bundle == "" && g.Database == o.Database
}

// takeStep takes of one grant what is to go, whole with the right to pass on, and
// puts back exactly that when undone. It reports whether there is anything.
func takeStep(g catalog.Grant, take privilege.Set, whole bool) (change.Step, bool) {
	on := onSQL(g.Object)
	if g.Scope == catalog.ScopeDatabase {
		on = quoteIdent(g.Database) + ".*"
	}
	args := checkOf("privileges", g.Grantee)
	gone := g.Privileges.And(take)
	args["scope"], args["database"], args["object"], args["column"], args["privileges"], args["present"], args["as_written"] = string(g.Scope), g.Database, g.Name, g.Column, gone.String(), "no", "yes"
	if g.Routine != "" {
		args["routine"] = g.Routine
	}
	grantOption := !g.Grantable.Empty() && whole
	var words []string
	if !gone.Empty() {
		words = append(words, columnText(gone, g.Column))
	}
	if grantOption {
		words = append(words, "GRANT OPTION")
	}
	return change.Step{Kind: engine.StepStatement, Title: "revoke " + strings.Join(words, ", ") + " on " + on,
		Args:      args,
		Statement: revokeSQL(strings.Join(words, ", "), on, g.Grantee),
		Undo:      grantSQL(columnText(gone, g.Column), on, g.Grantee, grantOption)}, len(words) > 0
}

// noteRemains says by which other ways the account keeps something there.
func noteRemains(b *change.Brief, snap catalog.Snapshot, to catalog.Principal, o catalog.Object,
	spec change.GrantSpec) {
	rest := *snap.Access
	rest.Grants = slices.DeleteFunc(slices.Clone(rest.Grants),
		func(g catalog.Grant) bool { return g.Grantee == to && concerns(g, spec, o) })
	g := productOf(snap).graph(rest)
	if c := g.Level(to, o.Database); c.Level != access.None {
		a := g.Why(to, may.Select, catalog.Object{Scope: catalog.ScopeDatabase, Database: o.Database})
		how := ""
		if len(a.Needs) > 0 && len(a.Needs[0].Chains) > 0 {
			how = ": " + a.Needs[0].Chains[0].Text()
		}
		b.Find(change.Note, change.GrantRemains, "", "%s keeps %s on %s%s.", to, c.Level, naming.Show(o.Database), how)
	}
}

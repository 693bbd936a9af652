package postgres

import (
	"fmt"
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

// accessStep is statements that run inside one database, in one transaction:
// all or nothing. grantees are whose privileges it alters: what they had is noted
// when it runs, and put back exactly when it is undone.
func accessStep(title, database string, statements, undo []string, grantees ...string) change.Step {
	return change.Step{Kind: stepAccess, Title: title, Statement: accessText(database, statements, ""),
		Undo: accessText(database, undo, ""), Seconds: 120,
		Args: map[string]string{"database": database, "statements": engine.EncodeList(statements),
			"undo":     engine.EncodeList(undo),
			"grantees": engine.EncodeList(grantees)}}
}

// undoNoted stands for the undo of a step until it runs: what it takes to put
// things back is known, and goes on record, only then.
func undoNoted(database string) string {
	return "-- connected to " + naming.Show(database) +
		": puts back exactly what the step finds. The statements are noted right before it takes effect, and shown here then"
}

// target finds the database of a grant and stops where nothing can be granted.
func grantTarget(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot) (catalog.AccessDatabase,
	catalog.Principal, bool) {
	i := slices.IndexFunc(snap.Access.Databases, func(d catalog.AccessDatabase) bool { return d.Name == spec.Database })
	if i < 0 {
		b.Find(change.Stop, change.DatabaseAbsent, "List them.",
			"There is no database %s on %s.", naming.Show(spec.Database), snap.Server.Name).
			Offer(remedy.Command("database.list", snap.Server.Name))
		return catalog.AccessDatabase{}, spec.To, false
	}
	d := snap.Access.Databases[i]
	to := catalog.Public
	if spec.To != catalog.Public {
		a, ok := planning.FindAccount(b, role(spec.To.Name), snap, change.AccountAbsent)
		if !ok {
			return d, to, false
		}
		to = a.Principal
		if a.Super {
			b.Find(change.Note, change.AccountSuper, "",
				"%s is a superuser, and may do everything whatever it is granted.", a.Name)
		}
	}
	switch {
	case d.Closed:
		b.Find(change.Stop, change.DatabaseClosed, "ALTER DATABASE "+quoteIdent(d.Name)+" ALLOW_CONNECTIONS true",
			"%s allows no connections, so nothing inside it can be granted.", naming.Show(d.Name))
		return d, to, false
	case d.Interior == nil:
		b.Find(change.Stop, change.CatalogueHidden,
			"Let Genarch's login connect: GRANT CONNECT ON DATABASE "+quoteIdent(d.Name)+" TO "+
				quoteIdent(snap.Instance.Login.Name), "The objects in %s cannot be read: %s.", naming.Show(d.Name),
			d.Why)
		return d, to, false
	}
	return d, to, true
}

func grantee(p catalog.Principal) string {
	if p == catalog.Public {
		return "PUBLIC"
	}
	return quoteIdent(p.Name)
}

// planGive briefs giving a bundle or single privileges.
func planGive(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot) {
	what := "bundle " + string(spec.Bundle)
	if spec.Bundle == "" {
		what = strings.ToUpper(strings.Join(spec.Privileges, ", "))
	}
	b.Summary = "grant " + naming.Show(spec.To.String()) + " " + what + " on " + grantObjectText(spec)
	d, to, ok := grantTarget(b, spec, snap)
	if !ok {
		return
	}
	b.Set(change.Setting{Name: "account", Value: to.String(), Asked: true, Decides: "who may do it"})
	if spec.GrantOption {
		planning.GrantOption(b, to)
	}
	g := graph(*snap.Access)
	if spec.Bundle == "" {
		planGiveSingle(b, spec, snap, g, to)
		return
	}
	b.Set(change.Setting{Name: "bundle", Value: string(spec.Bundle), Asked: true,
		Decides: description.BundleDecides(spec.Bundle)})
	if c := g.Level(to, d.Name); c.Level >= spec.Bundle.Level() && !c.Gap {
		planning.Done(b, change.GrantHeld, "%s has %s on %s already, %s, so nothing will be done.", to, c.Level,
			naming.Show(d.Name), "directly or through a role")
		return
	}
	if spec.Bundle == access.BundleOwn {
		planGiveOwn(b, spec, snap, d, to)
		return
	}
	planCovered(b, snap, d)
	s := bundleStatements(spec.Bundle, d, to, spec.GrantOption)
	b.Steps = []change.Step{accessStep(b.Summary, d.Name, s.give, s.take, to.Name)}
	if spec.Bundle == access.BundleBuild {
		planMaker(b, d, to)
	}
	noteEffect(b, snap, true)
	check := map[string]string{"check": "level", "database": d.Name, "account": to.Name, "level": string(spec.Bundle)}
	if to == catalog.Public {
		check["public"] = "yes"
	}
	finishGrant(b, check)
}

// finishGrant gives the acting step its check, and ends with the same reading.
func finishGrant(b *change.Brief, check map[string]string) {
	for k, v := range check {
		b.Steps[0].Args[k] = v
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back what it may do now", ReadOnly: true,
		Args: check})
}

// bundlePlan are the statements that give a bundle and those that take it.
type bundlePlan struct{ give, take []string }

// bundleStatements renders a bundle on everything that is in the database now,
// and on what its makers will make.
func bundleStatements(bundle access.Bundle, d catalog.AccessDatabase, to catalog.Principal,
	grantOption bool) bundlePlan {
	return setStatements(d, to, grantOption, func(s catalog.Scope) privilege.Set { return bundles[bundle][s] })
}

// setStatements renders privileges by scope. Schemas are named one by one;
// everything in them is reached by ALL … IN SCHEMA.
func setStatements(d catalog.AccessDatabase, to catalog.Principal, grantOption bool,
	on func(catalog.Scope) privilege.Set) bundlePlan {
	var p bundlePlan
	who, option := grantee(to), ""
	if grantOption {
		option = " WITH GRANT OPTION"
	}
	add := func(set privilege.Set, object string) {
		if !set.Empty() {
			p.give = append(p.give, "GRANT "+set.String()+" ON "+object+" TO "+who+option)
			p.take = append(p.take, "REVOKE "+set.String()+" ON "+object+" FROM "+who)
		}
	}
	add(on(catalog.ScopeDatabase), "DATABASE "+quoteIdent(d.Name))
	var schemas []string
	for _, c := range d.Interior.Classes {
		if c.Scope == catalog.ScopeSchema {
			schemas = append(schemas, quoteIdent(c.Schema))
		}
	}
	if list := strings.Join(schemas, ", "); list != "" {
		add(on(catalog.ScopeSchema), "SCHEMA "+list)
		add(on(catalog.ScopeTable), "ALL TABLES IN SCHEMA "+list)
		add(on(catalog.ScopeSequence), "ALL SEQUENCES IN SCHEMA "+list)
	}
	for _, maker := range makers(d) {
		if maker == to.Name && to != catalog.Public {
			continue // what it makes it owns
		}
		for _, o := range []struct {
			scope catalog.Scope
			word  string
		}{{catalog.ScopeSchema, "SCHEMAS"}, {catalog.ScopeTable, "TABLES"}, {catalog.ScopeSequence, "SEQUENCES"}} {
			if set := on(o.scope); !set.Empty() {
				before := "ALTER DEFAULT PRIVILEGES FOR ROLE " + quoteIdent(maker)
				p.give = append(p.give, before+" GRANT "+set.String()+" ON "+o.word+" TO "+who+option)
				p.take = append(p.take, before+" REVOKE "+set.String()+" ON "+o.word+" FROM "+who)
			}
		}
	}
	slices.Reverse(p.take)
	return p
}

// planCovered says what Genarch's login cannot reach, being no superuser.
func planCovered(b *change.Brief, snap catalog.Snapshot, d catalog.AccessDatabase) {
	login := snap.Instance.Login
	if login.Superuser {
		return
	}
	g := graph(*snap.Access)
	atOnce, _ := g.Roles(role(login.Name))
	acts := append(atOnce, role(login.Name))
	if !slices.Contains(acts, role(d.Owner)) {
		b.Find(change.Stop, change.RightsMissing, "GRANT "+quoteIdent(d.Owner)+" TO "+quoteIdent(login.Name),
			"Genarch's login %s may not grant on %s, because it is no member of the owner %s.", login.Name,
			naming.Show(d.Name), d.Owner)
	}
	for _, maker := range makers(d) {
		if !slices.Contains(acts, role(maker)) && maker != d.Owner {
			b.Find(change.Stop, change.GrantUncovered, "GRANT "+quoteIdent(maker)+" TO "+quoteIdent(login.Name),
				"Objects that %s owns or creates in %s cannot be covered, because Genarch's login %s is no member of it.", maker, naming.Show(d.Name), login.Name)
		}
	}
}

// planMaker: who may build makes tables, which the holders of read and write
// could not see: what the owner's tables open to them, its tables open too.
func planMaker(b *change.Brief, d catalog.AccessDatabase, maker catalog.Principal) {
	var give, take []string
	for _, f := range d.Interior.Futures {
		if f.Maker != d.Owner || f.Schema != "" || f.On == "type" {
			continue
		}
		for _, e := range f.Entries {
			if e.Grantee == maker || e.Grantee.Name == d.Owner || e.Grantee == catalog.Public {
				continue
			}
			before := "ALTER DEFAULT PRIVILEGES FOR ROLE " + quoteIdent(maker.Name)
			word := strings.ToUpper(string(f.On)) + "S"
			give = append(give, before+" GRANT "+e.Privileges.String()+" ON "+word+" TO "+grantee(e.Grantee))
			take = append(take, before+" REVOKE "+e.Privileges.String()+" ON "+word+" FROM "+grantee(e.Grantee))
		}
	}
	if len(give) == 0 {
		b.Find(change.Note, change.GrantUncovered, "Grant bundles to others afterwards: they cover what it creates.",
			"%s owns what it creates, and nobody else can read that until it is granted.", maker)
		return
	}
	b.Find(change.Note, change.GrantUncovered, "",
		"Objects that %s creates will be open to those to whom the objects of %s are open.", maker, d.Owner)
	step := &b.Steps[0]
	all, back := append(engine.DecodeList(step.Args["statements"]), give...), append(take,
		engine.DecodeList(step.Args["undo"])...)
	*step = accessStep(step.Title, d.Name, all, back,
		append(engine.DecodeList(step.Args["grantees"]), granteesOf(d)...)...)
}

// granteesOf lists who has default privileges from the owner of a database.
func granteesOf(d catalog.AccessDatabase) []string {
	var out []string
	for _, f := range d.Interior.Futures {
		for _, e := range f.Entries {
			if f.Maker == d.Owner && e.Grantee != catalog.Public && !slices.Contains(out, e.Grantee.Name) {
				out = append(out, e.Grantee.Name)
			}
		}
	}
	return out
}

// planGiveOwn: to own is to belong to the owner, and what is made there is to
// belong to the owner too.
func planGiveOwn(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot, d catalog.AccessDatabase,
	to catalog.Principal) {
	owner, _ := find(snap.Access.Accounts, d.Owner)
	if owner.Super || to == catalog.Public {
		b.Find(change.Stop, change.OwnerDenied,
			"Give the database an owner role of its own first: ALTER DATABASE "+quoteIdent(d.Name)+
				" OWNER TO a role without login",
			"The owner of %s is %s, a superuser, whose members could do everything on the whole server.",
			naming.Show(d.Name), d.Owner)
		return
	}
	var also []string
	for _, other := range snap.Access.Databases {
		if other.Owner == d.Owner && other.Name != d.Name {
			also = append(also, other.Name)
		}
	}
	if len(also) > 0 {
		b.Find(change.Caution, change.GrantWide, "Give each database an owner of its own.",
			"%s owns other databases too, which %s gets with it: %s.", d.Owner, to, planning.Shorten(also))
	}
	planning.Circle(b, owner.Principal, to, graph(*snap.Access))
	planning.Manage(b, snap)
	who, option := quoteIdent(to.Name), ""
	if snap.Instance.Number >= 160000 {
		option = " WITH INHERIT TRUE, SET TRUE"
		if spec.GrantOption {
			option += ", ADMIN TRUE"
		}
	} else if spec.GrantOption {
		option = " WITH ADMIN OPTION"
	}
	b.Find(change.Note, change.GrantEffect, "", "Objects that %s creates in %s after its next sign-in belong to %s.",
		to, naming.Show(d.Name), d.Owner)
	b.Steps = []change.Step{
		accessStep("grant CONNECT to "+to.Name, d.Name,
			[]string{"GRANT CONNECT, TEMPORARY ON DATABASE " + quoteIdent(d.Name) + " TO " + who},
			[]string{"REVOKE CONNECT, TEMPORARY ON DATABASE " + quoteIdent(d.Name) + " FROM " + who}, to.Name),
		{Kind: engine.StepStatement, Title: "let it act as the owner " + d.Owner,
			Statement: "GRANT " + quoteIdent(d.Owner) + " TO " + who + option,
			Undo:      "REVOKE " + quoteIdent(d.Owner) + " FROM " + who,
			Args:      map[string]string{"check": "member", "role": d.Owner, "member": to.Name, "present": "yes"}},
		{Kind: engine.StepStatement, Title: "let what it makes belong to the owner",
			Args: map[string]string{"check": "acts_as", "name": to.Name, "database": d.Name, "role": d.Owner},
			Statement: "ALTER ROLE " + who + " IN DATABASE " + quoteIdent(d.Name) + " SET role = " +
				strings.TrimSpace(quoteText(d.Owner)),
			Undo: "ALTER ROLE " + who + " IN DATABASE " + quoteIdent(d.Name) + " RESET role"},
		{Kind: change.Verify, Title: "read back what it may do now", ReadOnly: true,
			Args: map[string]string{"check": "level", "database": d.Name, "account": to.Name, "level": "own"}},
	}
	b.Steps[0].Args["check"] = "none"
}

func planGiveSingle(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot, g *access.Graph,
	to catalog.Principal) {
	d := databaseOf(snap, spec.Database)
	set := planning.Privileges(b, spec, &description)
	o, ok := findObject(b, spec.Object(), d)
	if !ok || b.Stopped() {
		return
	}
	planCovered(b, snap, d)
	b.Set(change.Setting{Name: "privileges", Value: set.String(), Asked: true,
		Decides: "what may be done on " + grantObjectText(spec)})
	if !spec.GrantOption && hasDirect(g, to, o, set) {
		planning.Done(b, change.GrantHeld, "%s has %s on %s already, so nothing will be done.", to, set,
			grantObjectText(spec))
		return
	}
	option := ""
	if spec.GrantOption {
		option = " WITH GRANT OPTION"
	}
	words := onColumns(set, o.Column)
	b.Steps = []change.Step{accessStep(b.Summary, d.Name,
		[]string{"GRANT " + words + " ON " + objectSQL(o) + " TO " + grantee(to) + option},
		[]string{"REVOKE " + words + " ON " + objectSQL(o) + " FROM " + grantee(to)}, to.Name)}
	noteEffect(b, snap, true)
	finishGrant(b, privilegeCheck(to, o, set, true))
}

func databaseOf(snap catalog.Snapshot, name string) catalog.AccessDatabase {
	for _, d := range snap.Access.Databases {
		if d.Name == name {
			return d
		}
	}
	return catalog.AccessDatabase{}
}

// hasDirect reports whether p was given the privileges itself.
func hasDirect(g *access.Graph, p catalog.Principal, o catalog.Object, set privilege.Set) bool {
	var held privilege.Set
	for _, l := range g.Direct(p) {
		if l.Object.Database == o.Database && l.Object.Fits(o) {
			held = held.Or(l.Privileges)
		}
	}
	return held.Has(set)
}

func privilegeCheck(to catalog.Principal, o catalog.Object, set privilege.Set, present bool) map[string]string {
	out := map[string]string{"check": "privileges", "database": o.Database, "scope": string(o.Scope),
		"schema": o.Schema, "object": o.Name, "args": o.Args, "column": o.Column,
		"account": to.Name, "privileges": set.String(), "present": yesNo(present)}
	if to == catalog.Public {
		out["public"] = "yes"
	}
	return out
}

// planTake briefs taking privileges: single ones, all, or down to a bundle.
//
// Long: its cases stand in the order in which their findings are read.
func planTake(b *change.Brief, spec change.GrantSpec, snap catalog.Snapshot) {
	what := "everything"
	switch {
	case len(spec.Privileges) > 0:
		what = strings.ToUpper(strings.Join(spec.Privileges, ", "))
	case spec.Bundle != "":
		what = "everything beyond " + string(spec.Bundle)
	}
	b.Summary = "revoke " + what + " on " + grantObjectText(spec) + " from " + naming.Show(spec.To.String())
	d, to, ok := grantTarget(b, spec, snap)
	if !ok {
		return
	}
	b.Set(change.Setting{Name: "account", Value: to.String(), Asked: true, Decides: "who may not do it any more"})
	g := graph(*snap.Access)
	var statements, undo []string
	var check map[string]string
	// asked is what of an object's privileges is to be taken.
	var asked func(catalog.Object) privilege.Set
	switch {
	case len(spec.Privileges) > 0:
		set := planning.Privileges(b, spec, &description)
		o, ok := findObject(b, spec.Object(), d)
		if !ok || b.Stopped() {
			return
		}
		asked = func(other catalog.Object) privilege.Set {
			if other == o {
				return set
			}
			return privilege.Set{}
		}
		words := onColumns(set, o.Column)
		statements = []string{"REVOKE " + words + " ON " + objectSQL(o) + " FROM " + grantee(to)}
		undo = []string{"GRANT " + words + " ON " + objectSQL(o) + " TO " + grantee(to)}
		check = privilegeCheck(to, o, set, false)
		noteRemains(b, g, to, o, set)
	default:
		keep := func(catalog.Scope) privilege.Set { return privilege.Set{} }
		if spec.Bundle != "" {
			keep = func(s catalog.Scope) privilege.Set { return bundles[spec.Bundle][s] }
		}
		asked = func(o catalog.Object) privilege.Set { return table.All().Minus(keep(o.Scope)) }
		p := setStatements(d, to, false, func(s catalog.Scope) privilege.Set {
			return description.PrivilegeSet(s).Minus(keep(s)).And(notBefore(snap.Instance.Number))
		})
		statements, undo = p.take, p.give
		if spec.Bundle == "" {
			statements = append(statements, singleRevokes(d, to)...)
		}
		check = map[string]string{"check": "direct_none", "database": d.Name, "account": to.Name,
			"keep": string(spec.Bundle)}
		if to == catalog.Public {
			check["public"] = "yes"
		}
		planTakeOwn(b, d, to, snap)
		if len(b.Steps) == 0 && !holdsAnything(g, to, d, keep) {
			planning.Done(b, change.GrantHeld, "%s was granted nothing of that on %s, so nothing will be done.", to,
				naming.Show(d.Name))
			noteRemains(b, g, to, catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name}, may.Connect)
			return
		}
		noteRemains(b, g, to, catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name}, may.Connect)
	}
	others := byOthers(d, to, asked)
	if len(others) > 0 && snap.Instance.Login.Superuser {
		b.Find(change.Note, change.GrantOther, "",
			"Some of it was granted by others (%s). It is revoked as each of them, since otherwise PostgreSQL would report success and do nothing.", planning.Shorten(grantorsOf(others)))
		for _, l := range others {
			statements = append(statements, "SET LOCAL ROLE "+quoteIdent(l.Grantor),
				"REVOKE "+onColumns(l.Privileges, l.Object.Column)+" ON "+objectSQL(l.Object)+" FROM "+grantee(to),
				"RESET ROLE")
		}
	} else if len(others) > 0 {
		b.Find(change.Stop, change.GrantOther, "Ask them to revoke it, or register the server with a superuser.",
			"Some of it was granted by others (%s), and only they or a superuser can revoke it.",
			planning.Shorten(grantorsOf(others)))
	}
	planCovered(b, snap, d)
	step := accessStep(b.Summary, d.Name, statements, undo, to.Name)
	step.Undo = undoNoted(d.Name)
	for k, v := range check {
		step.Args[k] = v
	}
	b.Steps = append(b.Steps, step,
		change.Step{Kind: change.Verify, Title: "read back what it may do now", ReadOnly: true, Args: check})
	noteEffect(b, snap, false)
}

// notBefore leaves out privileges that a version does not know: MAINTAIN came
// with 17.
func notBefore(number int) privilege.Set {
	if number < 170000 {
		return table.All().Minus(may.Maintain)
	}
	return table.All()
}

// singleRevokes takes what ALL … IN SCHEMA does not reach: routines and columns.
func singleRevokes(d catalog.AccessDatabase, to catalog.Principal) []string {
	var out []string
	for _, c := range d.Interior.Classes {
		for _, e := range c.Entries {
			if e.Grantee != to || e.Builtin {
				continue
			}
			switch {
			case c.Scope == catalog.ScopeRoutine && to != catalog.Public:
				out = append(out, "REVOKE ALL ON ALL ROUTINES IN SCHEMA "+quoteIdent(c.Schema)+" FROM "+grantee(to))
			case c.Scope == catalog.ScopeColumn:
				out = append(out, "REVOKE "+onColumns(e.Privileges, c.Column)+" ON "+objectSQL(c.Object)+" FROM "+
					grantee(to))
			}
		}
	}
	return slices.Compact(out)
}

// planTakeOwn ends the membership by which somebody acts as the owner.
func planTakeOwn(b *change.Brief, d catalog.AccessDatabase, to catalog.Principal, snap catalog.Snapshot) {
	for _, m := range snap.Access.Memberships {
		if m.Role.Name == d.Owner && m.Member == to {
			option := ""
			if m.Admin {
				option = " WITH ADMIN OPTION"
			}
			b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement,
				Title:     "let it not act as the owner " + d.Owner + " any more",
				Statement: "REVOKE " + quoteIdent(d.Owner) + " FROM " + quoteIdent(to.Name),
				Undo:      "GRANT " + quoteIdent(d.Owner) + " TO " + quoteIdent(to.Name) + option,
				Args:      map[string]string{"check": "member", "role": d.Owner, "member": to.Name, "present": "no"}},
				change.Step{Kind: engine.StepStatement, Title: "roll back that what it makes belongs to the owner",
					Args: map[string]string{"check": "acts_as", "name": to.Name, "database": d.Name, "role": ""},
					Statement: "ALTER ROLE " + quoteIdent(to.Name) + " IN DATABASE " + quoteIdent(d.Name) +
						" RESET role",
					Undo: "ALTER ROLE " + quoteIdent(to.Name) + " IN DATABASE " + quoteIdent(d.Name) +
						" SET role = " + strings.TrimSpace(quoteText(d.Owner))})
			return
		}
	}
}

func holdsAnything(g *access.Graph, to catalog.Principal, d catalog.AccessDatabase,
	keep func(catalog.Scope) privilege.Set) bool {
	return slices.ContainsFunc(g.Direct(to), func(l access.Line) bool {
		scope := l.Object.Scope
		if scope == catalog.ScopeFuture {
			scope = l.On
		}
		if scope == catalog.ScopeRoutine && to == catalog.Public {
			return false // everybody runs every routine until that is taken one by one
		}
		return l.Object.Database == d.Name && !l.Owner && !keep(scope).Has(l.Privileges) &&
			l.Object.Scope != catalog.ScopeServer
	})
}

// byOthers lists what of the asked privileges somebody else than an object's
// owner gave to p.
func byOthers(d catalog.AccessDatabase, p catalog.Principal, asked func(catalog.Object) privilege.Set) []access.Line {
	var out []access.Line
	add := func(o catalog.Object, owner string, entries []catalog.Entry) {
		for _, e := range entries {
			set := e.Privileges.And(asked(o))
			l := access.Line{Object: o, Grantor: e.Grantor, Privileges: set}
			seen := func(x access.Line) bool {
				return x.Object == l.Object && x.Grantor == l.Grantor && x.Privileges == l.Privileges
			}
			if e.Grantee == p && e.Grantor != owner && owner != "" && !set.Empty() && !slices.ContainsFunc(out, seen) {
				out = append(out, l)
			}
		}
	}
	add(catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name}, d.Owner, d.Entries)
	for _, c := range d.Interior.Classes {
		o := c.Object
		if o.Name == "" && c.Count == 1 { // one with such a list is read by itself
			o.Name = c.Example
		}
		if o.Name != "" || o.Scope == catalog.ScopeSchema {
			add(o, c.Owner, c.Entries)
		}
	}
	return out
}

func grantorsOf(lines []access.Line) []string {
	var out []string
	for _, l := range lines {
		if !slices.Contains(out, l.Grantor) {
			out = append(out, l.Grantor)
		}
	}
	return out
}

// noteRemains says by which other ways somebody keeps a privilege.
func noteRemains(b *change.Brief, g *access.Graph, to catalog.Principal, o catalog.Object, set privilege.Set) {
	a := g.Why(to, set, o)
	if len(a.Needs) == 0 {
		return
	}
	for _, c := range a.Needs[len(a.Needs)-1].Chains {
		if len(c.Roles) > 0 || c.Via != access.ViaGrant {
			b.Find(change.Note, change.GrantRemains, "", "%s keeps %s on %s: %s.", to, set, access.ObjectText(o),
				c.Text())
			return
		}
	}
}

// noteEffect says when the change comes into force, and for whom not yet.
func noteEffect(b *change.Brief, snap catalog.Snapshot, give bool) {
	text := "The grant holds in open sessions from their next statement on"
	if !give {
		text = "Privileges on tables are gone at the next statement, in open sessions too; sessions stay open even without CONNECT"
	}
	if n := len(snap.Sessions); n > 0 {
		text += fmt.Sprintf(". Connected at present (%s): %s", naming.Count(n, "session"),
			planning.Shorten(snap.Sessions))
	}
	b.Find(change.Note, change.GrantEffect, "", "%s.", text).Passing = true
}

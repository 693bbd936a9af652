package sqlserver

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// planDropAccount briefs dropping a login with the users that it acts as, or a user, or a role.
func planDropAccount(p *planning.Draft) {
	b, spec, snap := &p.Brief, *p.In.Account, p.Snap
	who := spec.Principal()
	b.Summary = "drop " + titleOf(who) + " " + shown(who.String()) + " on " + snap.Server.Name
	if _, ok := exact(snap.Access, who); !ok && spec.IfExists {
		planning.Absent(b)
		return
	}
	a, ok := there(p, who, change.AccountAbsent)
	if !ok || !place(p, who) {
		return
	}
	planning.Manage(b, snap)
	planning.Keep(b, a, snap, "dropped")
	b.Confirm = a.Name
	b.Set(change.Setting{Name: "name", Title: "Name", Value: a.Name, Asked: true,
		Decides: "it is removed for good; the same name again is another " + titleOf(who)})
	g := access.New(*snap.Access, Engine{}.Rules)
	switch {
	case who.Role:
		planDropMembers(p, who)
	case who.Database == "":
		planDropLogin(p, a)
	}
	for _, x := range detailsOf(snap.Details).Belongings {
		if len(x.Names) > 0 {
			next := "Give them to somebody else, or take them back, first."
			if x.Give != "" {
				next = "Give them to somebody else: " + x.Give
			}
			b.Find(change.Stop, change.AccountOwns, next, "%s owns %s, and cannot be dropped as long as it does: %s.",
				shown(x.Who.String()), x.What, planning.Shorten(x.Names))
		}
	}
	if who.Database != "" {
		planOwned(p, who)
		planning.Loses(b, g, who)
	}
	gone := checkOf(checkPrincipal, who)
	gone["present"] = "no"
	p.Step(dropPrincipal(who), change.Step{Kind: change.Verify, Title: "read back that it is " +
		"gone", ReadOnly: true, Args: gone})
}

// dropPrincipal drops one principal.
func dropPrincipal(who catalog.Principal) change.Step {
	args := checkOf(checkPrincipal, who)
	args["present"] = "no"
	return change.Step{Kind: engine.StepStatement, Title: "drop " + titleOf(who) + " " + shown(who.String()),
		Statement: onPrincipal("DROP", who, ""), Irreversible: true, Args: args}
}

// planDropMembers empties a role, which the server does not drop while somebody is in it.
func planDropMembers(p *planning.Draft, role catalog.Principal) {
	var names []string
	for _, m := range p.Snap.Access.Memberships {
		if m.Role != role || m.Grantor == actsAs {
			continue
		}
		names = append(names, m.Member.String())
		p.Step(memberStep(role, m.Member, false))
	}
	if len(names) > 0 {
		p.Find(change.Caution, change.AccountMembers, "Look at what they would lose.", "%s loses its members: %s.",
			p.Target, planning.Shorten(names)).Offer(remedy.Command("role.show", p.Target))
	}
}

// planDropLogin keeps a login out, ends its sessions, and drops its users, which would be left without
// a login otherwise.
//
// Long: its cases stand in the order in which their findings are read.
func planDropLogin(p *planning.Draft, a catalog.Account) {
	b, snap := &p.Brief, p.Snap
	planning.Use(b, change.AccountSeen, "signed in as this login", len(snap.Sessions) > 0, snap.Use)
	to := p.Asked.Text("reassign_to")
	if to != "" {
		if x, ok := there(p, catalog.Principal{Name: to}, change.AccountAbsent); ok && x.Principal == a.Principal {
			p.About("reassign_to", change.Stop, change.OptionInvalid, "Name another login.",
				"%s cannot be reassigned to itself.", shown(a.Name))
		}
		b.Set(change.Setting{Name: "reassign_to", Title: "Reassign what it owns to", Value: to, Asked: true,
			Decides: "who owns its databases afterwards"})
	}
	var owned, waiting, closed []string
	for _, name := range snap.Names {
		if strings.HasPrefix(name, planning.HeldPrefix) {
			waiting = append(waiting, name)
		}
	}
	for _, d := range snap.Access.Databases {
		if d.Closed {
			closed = append(closed, d.Name)
		}
	}
	var held []string
	for _, name := range detailsOf(snap.Details).Owns {
		if slices.Contains(waiting, name) || slices.Contains(closed, name) {
			held = append(held, name)
		} else {
			owned = append(owned, name)
		}
	}
	if len(held) > 0 {
		b.Find(change.Stop, change.AccountOwns, "Bring them back or online first, or discard what was set aside.",
			"%s owns databases that are not online, and cannot be given to somebody else: %s.", b.Target,
			planning.Shorten(held)).Offer(remedy.Command("holding.list", snap.Server.Name))
	}
	switch {
	case len(owned) > 0 && to == "":
		b.Find(change.Stop, change.AccountOwns, "Name the new owner.", "%s owns %s, and cannot be dropped as long as "+
			"it does.", b.Target, planning.Shorten(owned)).Offer(remedy.Option("options.reassign_to", ""))
	case len(owned) > 0:
		b.Find(change.Caution, change.AccountOwns, "Choose another login to reassign them to.",
			"%s becomes the owner of %s.", shown(to), planning.Shorten(owned))
		for _, name := range owned {
			step := ownerStep(name, to, a.Name)
			step.Title = "give " + shown(name) + " to " + shown(to)
			p.Step(step)
		}
	}
	if shut := append(closed, waiting...); len(shut) > 0 {
		b.Find(change.Caution, change.CatalogueHidden, "Look at it when they are back.",
			"Databases that are not online, or were set aside, cannot be looked into: a user that it has there would "+
				"be "+
				"left without a login: %s.", planning.Shorten(shut))
	}
	if !a.Locked {
		p.Step(lockStep(a.Principal, true))
	}
	p.Step(planning.ClearAccount(b, p.In, a, snap, kill))
	users := usersOf(snap.Access, a.Name)
	g := access.New(*snap.Access, Engine{}.Rules)
	for _, u := range users {
		planOwned(p, u)
		planning.Loses(b, g, u)
		p.Step(dropPrincipal(u))
	}
	if len(users) > 0 {
		var names []string
		for _, u := range users {
			names = append(names, u.String())
		}
		b.Find(change.Note, change.AccountMembers, "",
			"It is dropped with its users, and all that was granted to them: %s.", planning.Shorten(names))
	}
}

// planOwned stops where somebody owns a schema, or granted something to others: the server does not drop
// him then.
func planOwned(p *planning.Draft, who catalog.Principal) {
	i := slices.IndexFunc(p.Snap.Access.Databases,
		func(d catalog.AccessDatabase) bool { return d.Name == who.Database })
	if i < 0 || p.Snap.Access.Databases[i].Interior == nil {
		return
	}
	d := p.Snap.Access.Databases[i]
	entries := slices.Clone(d.Entries)
	var owned []string
	for _, c := range d.Interior.Classes {
		entries = append(entries, c.Entries...)
		if c.Scope == catalog.ScopeSchema && c.Owner == who.Name {
			owned = append(owned, c.Schema)
		}
	}
	if len(owned) > 0 {
		p.Find(change.Stop, change.AccountOwns,
			"Give them to somebody else: "+schemaTo(who.Database, owned[0], defaultSchema),
			"%s owns the schemas %s, and cannot be dropped as long as it does.", shown(who.String()),
			planning.Shorten(owned))
	}
	var given []string
	for _, e := range entries {
		if e.Grantor == who.Name {
			given = append(given, fmt.Sprintf("%s to %s", e.Privileges.Or(e.Denied), e.Grantee.Name))
		}
	}
	if len(given) > 0 {
		p.Find(change.Stop, change.GrantOther, "Revoke that first.",
			"%s granted something to others, and cannot be dropped as long as it holds: %s.", shown(who.String()),
			planning.Shorten(given))
	}
}

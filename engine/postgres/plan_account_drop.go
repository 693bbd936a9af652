package postgres

import (
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// planDropAccount briefs removing a role: what it owns goes to another or stops
// the change, and everything that it was given is listed before it goes.
func planDropAccount(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Account
	reassignTo := spec.Options.Text("reassign_to")
	b.Summary = "drop " + naming.Show(spec.Name) + " on " + snap.Server.Name
	a, ok := find(snap.Access.Accounts, spec.Name)
	if !ok && spec.IfExists {
		planning.Absent(b)
		return
	}
	if !ok {
		planning.FindAccount(b, catalog.Principal{Name: spec.Name}, snap, change.AccountAbsent)
		return
	}
	planning.Manage(b, snap)
	planning.Keep(b, a, snap, "dropped")
	b.Confirm = a.Name
	b.Set(change.Setting{Name: "name", Value: a.Name, Asked: true,
		Decides: "it is removed for good; the same name again is another role"})
	if a.Login || a.Locked {
		planning.Use(b, change.AccountSeen, "signed in as this account", len(snap.Sessions) > 0, snap.Use)
	}
	if reassignTo != "" {
		if to, ok := planning.FindAccount(b, catalog.Principal{Name: reassignTo}, snap, change.AccountAbsent); ok &&
			to.Name == a.Name {
			b.Find(change.Stop, change.OptionInvalid, "Name another role.", "%s cannot be reassigned to itself.",
				a.Name)
		}
	}
	planLose(b, in, reassignTo, a, snap)
	planDropRole(b, in, a, snap)
	if reassignTo != "" {
		b.Set(change.Setting{Name: "reassign_to", Value: reassignTo, Asked: true,
			Decides: "who owns afterwards what it owns"})
	}
}

// planLose tells what goes with a role.
func planLose(b *change.Brief, in change.Intent, reassignTo string, a catalog.Account, snap catalog.Snapshot) {
	planHoldings(b, in, reassignTo, a, snap)
	g := graph(*snap.Access)
	planDropMembers(b, a, snap)
	planning.Loses(b, g, a.Principal)
	for _, d := range snap.Access.Databases {
		if d.Interior == nil {
			continue
		}
		for _, c := range d.Interior.Classes {
			for _, e := range c.Entries {
				if e.Grantor == a.Name && c.Owner != a.Name && e.Grantee != a.Principal {
					b.Find(change.Caution, change.GrantOther, "Grant it to them again afterwards.",
						"%s granted %s on %s to %s, who loses it too.", a.Name, e.Privileges,
						access.ObjectText(c.Object), e.Grantee)
				}
			}
		}
	}
}

// keepOutSteps keep a role out, and end its sessions.
func keepOutSteps(b *change.Brief, in change.Intent, a catalog.Account, snap catalog.Snapshot) (steps []change.Step) {
	if a.Login {
		steps = append(steps, change.Step{Kind: engine.StepStatement, Title: "keep it out",
			Statement: "ALTER ROLE " + quoteIdent(a.Name) + " NOLOGIN",
			Undo:      "ALTER ROLE " + quoteIdent(a.Name) + " LOGIN",
			Args:      map[string]string{"check": "account", "name": a.Name, "login": "no"}})
	}
	if clear := planning.ClearAccount(b, in, a, snap, terminate); a.Login || b.AffectedCount > 0 {
		steps = append(steps, clear)
	}
	return steps
}

// planDropRole drops a role once it is kept out and what it has is seen to.
func planDropRole(b *change.Brief, in change.Intent, a catalog.Account, snap catalog.Snapshot) {
	b.Steps = append(keepOutSteps(b, in, a, snap), b.Steps...)
	b.Steps = append(b.Steps,
		change.Step{Kind: engine.StepStatement, Title: "drop " + naming.Show(a.Name),
			Statement: "DROP ROLE " + quoteIdent(a.Name),
			Args:      map[string]string{"check": "account", "name": a.Name, "present": "no"}},
		change.Step{Kind: change.Verify, Title: "read back that it is gone", ReadOnly: true,
			Args: map[string]string{"check": "account", "name": a.Name, "present": "no"}})
}

// where says in which database, or that it is of the whole server.
func (h belonging) where() string {
	switch {
	case h.Database != "":
		return "in database " + naming.Show(h.Database)
	case len(h.Databases) > 0:
		return "for the whole server (databases: " + strings.Join(h.Databases, ", ") + ")"
	}
	return "for the whole server"
}

// planHoldings lays out, for each database where the role has anything, giving
// its things away and taking its grants.
//
// Long: its cases stand in the order in which their findings are read.
func planHoldings(b *change.Brief, in change.Intent, reassignTo string, a catalog.Account, snap catalog.Snapshot) {
	home := orElse(snap.Server.Options.Text("database"), "postgres")
	shared := false
	var inside []belonging
	for _, h := range detailsOf(snap.Details).Belongings {
		if h.Owned > 0 {
			where := h.where()
			if in.Kind == change.Discard {
				b.Find(change.Stop, change.AccountOwns, "Bring it back, and drop it for good with a new owner.",
					"%s owns %s %s: %s.", b.Target, naming.Count(h.Owned, "object"), where, h.Kinds).
					Offer(remedy.Command("holding.bring-back", b.Target))
			} else if reassignTo == "" {
				b.Find(change.Stop, change.AccountOwns, "Name the new owner.", "%s owns %s %s: %s.",
					b.Target, naming.Count(h.Owned, "object"), where, h.Kinds).
					Offer(remedy.Option("options.reassign_to", ""))
			} else {
				b.Find(change.Caution, change.AccountOwns, "Choose another role to reassign them to.",
					"%s becomes the owner of %s %s: %s.", naming.Show(reassignTo), naming.Count(h.Owned, "object"),
					where, h.Kinds)
			}
		}
		if h.Owned+h.Granted > maxRestore {
			b.Find(change.Caution, change.AccountOwns, "Reassign objects in smaller parts first.",
				"%s has %d objects and privileges in %s, too many to record. Once they are reassigned and revoked, a later step that fails cannot restore them.", b.Target, h.Owned+h.Granted, naming.Show(h.Database))
		}
		if h.Policies > 0 {
			b.Find(change.Caution, change.AccountOwns, "Look at the policies first.",
				"%s is named in %s in %s, and will not be any more.", b.Target,
				naming.Count(h.Policies, "row policy", "row policies"), naming.Show(h.Database))
		}
		switch {
		case h.Database == "":
			shared = true
		case h.Closed:
			b.Find(change.Stop, change.DatabaseClosed,
				"ALTER DATABASE "+quoteIdent(h.Database)+" ALLOW_CONNECTIONS true",
				"%s has objects or privileges in %s, which allows no connections, so they can neither be reassigned nor revoked.", b.Target, naming.Show(h.Database))
		default:
			inside = append(inside, h)
		}
	}
	if shared && len(inside) == 0 {
		inside = append(inside, belonging{Database: home})
	}
	for _, h := range inside {
		var statements []string
		title := "revoke what it was granted in " + naming.Show(h.Database)
		if reassignTo != "" {
			statements = append(statements, "REASSIGN OWNED BY "+quoteIdent(a.Name)+" TO "+quoteIdent(reassignTo))
			title = "reassign what it owns to " + naming.Show(reassignTo) + ", and " + title
		}
		statements = append(statements, "DROP OWNED BY "+quoteIdent(a.Name))
		grantees := []string{a.Name}
		if reassignTo != "" {
			grantees = append(grantees, reassignTo) // what it holds beside becomes one with what it owns
		}
		step := accessStep(title, h.Database, statements, nil, grantees...)
		step.Kind, step.Undo = stepHandOver, undoNoted(h.Database)
		step.Args["check"], step.Args["name"] = "holds_nothing", a.Name
		b.Steps = append(b.Steps, step)
	}
}

func planDropMembers(b *change.Brief, a catalog.Account, snap catalog.Snapshot) {
	var members, roles []string
	for _, m := range snap.Access.Memberships {
		if m.Role == a.Principal {
			members = append(members, m.Member.Name)
		}
		if m.Member == a.Principal {
			roles = append(roles, m.Role.Name)
		}
	}
	if len(members) > 0 {
		b.Find(change.Caution, change.AccountMembers, "Look at what they would lose.",
			"%s loses its members: %s.", b.Target, planning.Shorten(members)).
			Offer(remedy.Command("role.show", b.Target))
	}
	if len(roles) > 0 {
		b.Find(change.Note, change.AccountMembers, "", "%s is a member of %s; the membership ends.", b.Target,
			planning.Shorten(roles))
	}
}

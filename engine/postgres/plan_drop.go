package postgres

import (
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
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
	b.Set(change.Setting{Name: "name", Value: a.Name, Asked: true, Decides: "it is removed for good; the same name again is another role"})
	if a.Login || a.Locked {
		planning.Use(b, change.AccountSeen, "signed in as it", len(snap.Sessions) > 0, snap.Use)
	}
	if reassignTo != "" {
		if to, ok := planning.FindAccount(b, catalog.Principal{Name: reassignTo}, snap, change.AccountAbsent); ok && to.Name == a.Name {
			b.Find(change.Stop, change.OptionInvalid, "name another role", "%s cannot be given to itself", a.Name)
		}
	}
	planHoldings(b, reassignTo, a, snap)
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
					b.Find(change.Caution, change.GrantOther, "give it to them again afterwards", "%s gave %s on %s to %s, who loses it too", a.Name, e.Privileges, access.ObjectText(c.Object), e.Grantee)
				}
			}
		}
	}
	drop := []change.Step{}
	if a.Login {
		drop = append(drop, change.Step{Kind: engine.StepStatement, Title: "keep it out", Statement: "ALTER ROLE " + quoteIdent(a.Name) + " NOLOGIN",
			Undo: "ALTER ROLE " + quoteIdent(a.Name) + " LOGIN", Args: map[string]string{"check": "account", "name": a.Name, "login": "no"}})
	}
	if clear := planning.ClearAccount(b, in, a, snap, terminate); a.Login || b.AffectedCount > 0 {
		drop = append(drop, clear)
	}
	b.Steps = append(drop, b.Steps...)
	b.Steps = append(b.Steps,
		change.Step{Kind: engine.StepStatement, Title: "drop " + naming.Show(a.Name), Statement: "DROP ROLE " + quoteIdent(a.Name),
			Args: map[string]string{"check": "account", "name": a.Name, "present": "no"}},
		change.Step{Kind: change.Verify, Title: "read back that it is gone", ReadOnly: true, Args: map[string]string{"check": "account", "name": a.Name, "present": "no"}})
	if reassignTo != "" {
		b.Set(change.Setting{Name: "reassign_to", Value: reassignTo, Asked: true, Decides: "who owns afterwards what it owns"})
	}
}

// planHoldings lays out, for each database where the role has anything, giving
// its things away and taking its grants.
func planHoldings(b *change.Brief, reassignTo string, a catalog.Account, snap catalog.Snapshot) {
	home := orElse(snap.Server.Options.Text("database"), "postgres")
	shared := false
	var inside []holding
	for _, h := range detailsOf(snap.Details).Holdings {
		if h.Owned > 0 {
			where := "in database " + naming.Show(h.Database)
			if h.Database == "" {
				where = "for the whole server"
				if len(h.Databases) > 0 {
					where += " (databases: " + strings.Join(h.Databases, ", ") + ")"
				}
			}
			if reassignTo == "" {
				b.Find(change.Stop, change.AccountOwns, "say who gets it: --reassign-to ROLE", "it owns %d objects %s: %s", h.Owned, where, h.Kinds)
			} else {
				b.Find(change.Caution, change.AccountOwns, "choose another role to give them to", "%s becomes the owner of %d objects %s: %s", naming.Show(reassignTo), h.Owned, where, h.Kinds)
			}
		}
		if h.Owned+h.Granted > maxRestore {
			b.Find(change.Caution, change.AccountOwns, "give things away in smaller parts first", "it has %d objects and privileges in %s, too many to note: once they are given away and taken, a later step that fails cannot put them back", h.Owned+h.Granted, naming.Show(h.Database))
		}
		if h.Policies > 0 {
			b.Find(change.Caution, change.AccountOwns, "look at the policies first", "row policies in %s name it (%d); they cease to name it", naming.Show(h.Database), h.Policies)
		}
		switch {
		case h.Database == "":
			shared = true
		case h.Closed:
			b.Find(change.Stop, change.DatabaseClosed, "ALTER DATABASE "+quoteIdent(h.Database)+" ALLOW_CONNECTIONS true", "it has something in %s, which allows no connections, so that cannot be given away or taken", naming.Show(h.Database))
		default:
			inside = append(inside, h)
		}
	}
	if shared && len(inside) == 0 {
		inside = append(inside, holding{Database: home})
	}
	for _, h := range inside {
		var statements []string
		title := "take what it was given in " + naming.Show(h.Database)
		if reassignTo != "" {
			statements = append(statements, "REASSIGN OWNED BY "+quoteIdent(a.Name)+" TO "+quoteIdent(reassignTo))
			title = "give what it owns to " + naming.Show(reassignTo) + ", and " + title
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
		b.Find(change.Caution, change.AccountMembers, "look what they would lose: genarch role show "+b.Target, "belonging to it ends for: %s", planning.Shorten(members))
	}
	if len(roles) > 0 {
		b.Find(change.Note, change.AccountMembers, "", "it belongs to %s; that ends", planning.Shorten(roles))
	}
}

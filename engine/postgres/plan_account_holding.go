package postgres

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// An account that was set aside waits under a name of ours and may not sign in. What it was
// is in its comment; its memberships, its grants, its password and what it owns stay with it.

// planSetAsideAccount briefs putting a role out of the way with all that it has.
func planSetAsideAccount(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Account
	b.Summary = "set account " + naming.Show(spec.Name) + " aside on " + snap.Server.Name
	a, ok := find(snap.Access.Accounts, spec.Name)
	if !ok && spec.IfExists {
		planning.Absent(b)
		return
	}
	planNoHost(b, spec)
	if a, ok = planning.FindAccount(b, role(spec.Name), snap, change.AccountAbsent); !ok {
		return
	}
	planning.Manage(b, snap)
	planning.Keep(b, a, snap, "set aside")
	b.Confirm = a.Name
	b.Set(change.Setting{Name: "name", Value: a.Name, Asked: true,
		Decides: "it is free afterwards; another account of that name is another one"})
	waits := heldAccountName(a)
	h := planning.AccountHolding(a, spec.KeepDays, snap)
	planning.SetAsideAccount(b, in, snap, h, waits, "The name "+naming.Show(a.Name)+
		" is free afterwards. Its memberships, its grants and what it owns stay with it.")
	passwordOfRenamed(b, a)
	planStays(b, a, snap)
	rename := renameRoleStep(a.Name, waits)
	rename.Title = "rename it to " + waits
	b.Steps = append(keepOutSteps(b, in, a, snap),
		noteAccountStep(a, a.Name, "note in its comment what it was, and how long it is kept", planning.WriteNote(h)),
		rename, accountIsStep(waits, false, planning.WriteNote(h)))
}

// planStays tells what the account keeps meanwhile that others may trip over.
func planStays(b *change.Brief, a catalog.Account, snap catalog.Snapshot) {
	var members []string
	for _, m := range snap.Access.Memberships {
		if m.Role == a.Principal {
			members = append(members, m.Member.Name)
		}
	}
	if len(members) > 0 {
		b.Find(change.Caution, change.AccountMembers, "Revoke the membership first, if that is to end.",
			"%s has members, who keep what they have by it: %s.", b.Target, planning.Shorten(members)).
			Offer(remedy.Command("role.show", b.Target))
	}
	for _, h := range detailsOf(snap.Details).Belongings {
		if h.Owned == 0 {
			continue
		}
		b.Find(change.Note, change.AccountOwns, "Before it can be discarded, another owner has to be named.",
			"%s stays the owner of %s %s.", b.Target, naming.Count(h.Owned, "object"), h.where())
	}
}

// planAccountHolding briefs what is done with an account that was set aside.
func planAccountHolding(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	action := map[change.Kind]string{change.BringBack: "brought back", change.Discard: "discarded",
		change.KeepHolding: "kept longer"}[in.Kind]
	b.Summary = "what was set aside as " + naming.Show(in.Holding.ID)
	if !planning.HoldingThere(b, in, snap, action) {
		return
	}
	a, _ := planning.HeldAccount(in, snap)
	if a.Held.Opened && in.Kind != change.KeepHolding {
		b.Find(change.Caution, change.HoldingOpened, "Find out who let it sign in, and what for.",
			"%s may sign in again, by an alteration outside Genarch; it may not be what it was.", naming.Show(a.Name))
	}
	switch in.Kind {
	case change.BringBack:
		planBringAccountBack(b, in, a, snap)
	case change.Discard:
		planning.Discard(b, in, snap)
		planLose(b, in, "", a, snap)
		planDropRole(b, in, a, snap)
	case change.KeepHolding:
		if h, differs := planning.KeepHolding(b, in, snap); differs {
			b.Steps = append(b.Steps, noteAccountStep(a, a.Name, "note it in its comment", planning.WriteNote(h)),
				accountIsStep(a.Name, a.Login, planning.WriteNote(h)))
		}
	}
}

// planBringAccountBack gives it its name and its comment back, and lets it sign in if it could.
func planBringAccountBack(b *change.Brief, in change.Intent, a catalog.Account, snap catalog.Snapshot) {
	h := *a.Held
	name := planning.BackAs(b, in, snap, accountLimits)
	b.Summary = "bring account " + naming.Show(h.Name) + " back on " + snap.Server.Name
	if name != h.Name {
		b.Summary += " as " + naming.Show(name)
	}
	if name == a.Name {
		b.Find(change.Stop, change.NameTaken, "Choose another name.", "It waits under that name.").Option = "new_name"
	}
	rename := renameRoleStep(a.Name, name)
	rename.Title = "rename it to " + naming.Show(name)
	b.Steps = append(b.Steps, rename, noteAccountStep(a, name, "give it its comment back", h.Comment))
	if h.Open && !a.Login {
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement, Title: "let it sign in",
			Statement: "ALTER ROLE " + quoteIdent(name) + " LOGIN", Undo: "ALTER ROLE " + quoteIdent(name) + " NOLOGIN",
			Args: map[string]string{"check": "account", "name": name, "login": "yes"}})
	}
	b.Steps = append(b.Steps, accountIsStep(name, h.Open || a.Login, h.Comment))
}

// noteAccountStep sets the comment of a role, which is called name by then.
func noteAccountStep(a catalog.Account, name, title, comment string) change.Step {
	step := commentStep(name, comment, a.Comment)
	step.Title = title
	return step
}

// accountIsStep reads back whether a role may sign in, and its comment.
func accountIsStep(name string, login bool, comment string) change.Step {
	return change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
		Args: map[string]string{"check": "account", "name": name, "present": "yes", "login": yesNo(login),
			"comment": comment}}
}

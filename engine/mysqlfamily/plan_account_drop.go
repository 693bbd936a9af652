package mysqlfamily

import (
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// planDropAccount briefs removing an account or role. MariaDB refuses nothing
// and checks nothing, so everything is looked at here.
//
// Long: its cases stand in the order in which their findings are read.
func planDropAccount(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Account
	b.Summary = "drop " + naming.Show(spec.Principal().String()) + " on " + snap.Server.Name
	if spec.IfExists && len(catalog.Candidates(snap.Access.Accounts, spec.Principal())) == 0 {
		planning.Absent(b)
		return
	}
	a, ok := planning.FindAccount(b, spec.Principal(), snap, change.AccountAbsent)
	if !ok {
		return
	}
	b.Target = change.PrincipalAddress(snap.Server.Name, a.Principal).String()
	planManage(b, a, snap)
	planning.Keep(b, a, snap, "dropped")
	b.Confirm = a.Principal.String()
	b.Set(change.Setting{Name: "name", Value: a.Principal.String(), Asked: true,
		Decides: "it is removed for good, with everything that was granted to it"})
	if a.Super && !slices.ContainsFunc(snap.Access.Accounts,
		func(x catalog.Account) bool { return x.Super && x.Principal != a.Principal }) {
		b.Find(change.Stop, change.AccountLast, "Make another administrator first.",
			"%s is the last account that may grant all privileges.", b.Target)
	}
	if len(detailsOf(snap.Details).Definers) > 0 {
		b.Find(change.Stop, change.AccountDefines,
			"Make them anew with another definer, or lock the account instead.",
			"%s is the definer of objects that would fail without it: %s.", b.Target,
			planning.Shorten(detailsOf(snap.Details).Definers)).Offer(remedy.Command("account.lock", b.Target))
	}
	if !a.Role {
		planning.Use(b, change.AccountSeen, "signed in as this account", len(snap.Sessions) > 0, snap.Use)
	}
	planning.Loses(b, graphOf(snap), a.Principal)
	planMandatory(b, a.Principal, snap.Access)
	for _, m := range snap.Access.Memberships {
		if m.Grantor == byMandatory {
			continue
		}
		switch a.Principal {
		case m.Member:
			b.Find(change.Note, change.AccountMembers, "", "%s is a member of the role %s; the membership ends.",
				b.Target, m.Role)
			if m.Admin && !slices.ContainsFunc(snap.Access.Memberships,
				func(x catalog.Membership) bool { return x.Role == m.Role && x.Admin && x.Member != a.Principal }) {
				b.Find(change.Caution, change.AccountMembers,
					"Grant the admin option to somebody else first.",
					"Nobody else may grant the role %s, so it could never be granted to anybody again.", m.Role).
					Offer(remedy.Command("role.grant", change.PrincipalAddress(snap.Server.Name, m.Role).String()).
						With("admin", remedy.Yes))
			}
		case m.Role:
			if m.Member != snap.Self {
				b.Find(change.Caution, change.AccountMembers, "Look what they would lose.",
					"%s is a member of this role, and loses it.", m.Member)
			}
		}
	}
	if a.Role {
		for _, x := range snap.Access.Accounts {
			if slices.Contains(defaultsOf(x), a.Name) {
				// Else a later role of that name would be its default again.
				b.Steps = append(b.Steps, defaultRolesStep(x, without(defaultsOf(x), a.Name), productOf(snap)))
			}
		}
	} else {
		if !a.Locked {
			args := checkOf("account", a.Principal)
			args["locked"] = "yes"
			user := "ALTER USER " + quotePrincipal(a.Principal)
			b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement, Title: "keep it out",
				Statement: user + " ACCOUNT LOCK", Undo: user + " ACCOUNT UNLOCK", Args: args})
		}
		b.Steps = append(b.Steps, planning.ClearAccount(b, in, a, snap, productOf(snap).killEach()))
	}
	gone := checkOf("account", a.Principal)
	gone["present"] = "no"
	word := "USER"
	if a.Role {
		word = "ROLE"
	}
	b.Steps = append(b.Steps,
		change.Step{Kind: engine.StepStatement, Title: "drop " + naming.Show(a.Principal.String()),
			Statement: "DROP " + word + " " + quotePrincipal(a.Principal), Args: gone},
		change.Step{Kind: change.Verify, Title: "read back that it is gone", ReadOnly: true, Args: gone})
}

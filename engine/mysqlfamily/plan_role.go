package mysqlfamily

import (
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// defaultsOf are the default roles of an account.
func defaultsOf(a catalog.Account) []string {
	if len(a.DefaultRoles) == 0 && a.DefaultRole != "" {
		return []string{a.DefaultRole}
	}
	return a.DefaultRoles
}

func setDefaultRoles(roles []string, p catalog.Principal, of *product) string {
	words := []string{"NONE"}
	if len(roles) > 0 {
		words = nil
	}
	for _, r := range roles {
		words = append(words, quotePrincipal(of.role(r)))
	}
	return "SET DEFAULT ROLE " + strings.Join(words, ", ") + " " + of.defaultOf + " " + quotePrincipal(p)
}

// defaultRolesStep sets which roles of an account hold from its sign-in on.
func defaultRolesStep(a catalog.Account, to []string, of *product) change.Step {
	args := checkOf("account", a.Principal)
	args["default_role"] = strings.Join(to, ", ")
	return change.Step{Kind: engine.StepStatement,
		Title:     "set the default role of " + naming.Show(a.Principal.String()),
		Statement: setDefaultRoles(to, a.Principal, of),
		Undo:      setDefaultRoles(defaultsOf(a), a.Principal, of), Args: args}
}

// without is a list without one of its words.
func without(list []string, word string) []string {
	return slices.DeleteFunc(slices.Clone(list), func(x string) bool { return x == word })
}

func planDefaultRole(b *change.Brief, role string, a catalog.Account, snap catalog.Snapshot) {
	if role != "none" && !slices.ContainsFunc(snap.Access.Memberships, func(m catalog.Membership) bool {
		return m.Member == a.Principal && m.Role.Name == role
	}) {
		b.Find(change.Stop, change.RoleHeld,
			"Grant it first.",
			"%s is no member of the role %s.", a.Principal, role).
			Offer(remedy.Command("role.grant", change.PrincipalAddress(snap.Server.Name,
				catalog.Principal{Name: role, Role: true}).String()).With("to", a.Principal.String()))
	}
	decides := "which of its roles holds from the next sign-in on; there can be one"
	if !productOf(snap).oneDefault {
		decides = "which of its roles alone holds from the next sign-in on; to add one, grant it"
	}
	b.Set(change.Setting{Name: "default_role", Value: role, Asked: true, Was: &a.DefaultRole, Decides: decides})
	b.Steps = append(b.Steps, defaultRolesStep(a, without([]string{role}, "none"), productOf(snap)))
}

// planMember briefs giving a role to an account or another role, or taking it.
//
// Long: its cases stand in the order in which their findings are read.
func planMember(b *change.Brief, spec change.MemberSpec, snap catalog.Snapshot, give bool) {
	b.Summary = "grant role " + naming.Show(spec.Role) + " to " + naming.Show(spec.To.String())
	if !give {
		b.Summary = "revoke role " + naming.Show(spec.Role) + " from " + naming.Show(spec.To.String())
	}
	r, okRole := planning.FindAccount(b, catalog.Principal{Name: spec.Role, Role: true}, snap, change.RoleAbsent)
	m, okMember := planning.FindAccount(b, spec.To, snap, change.AccountAbsent)
	if !okRole || !okMember {
		return
	}
	planAbove(b, m.Principal, snap)
	var held *catalog.Membership
	of := productOf(snap)
	admin := of.grantsRoles(snap.Instance.Login)
	for i, x := range snap.Access.Memberships {
		if x.Role == r.Principal && x.Member == m.Principal {
			held = &snap.Access.Memberships[i]
		}
		admin = admin || x.Role == r.Principal && x.Member == snap.Self && x.Admin
	}
	if !admin {
		b.Find(change.Stop, change.RightsMissing,
			"Whoever made it runs: GRANT "+quotePrincipal(r.Principal)+" TO "+quotePrincipal(snap.Self)+" WITH "+
				"ADMIN OPTION",
			"Genarch's login %s may not grant the role %s: only those with its admin option may.", snap.Self, r.Name)
	}
	if give && takesOver(r) && !takesOver(m) {
		planning.Takeover(b, snap, m.Principal.String(), m.Name,
			"the role %s may do everything on every database, or alter accounts", naming.Show(r.Name))
	}
	b.Set(change.Setting{Name: "role", Value: r.Name, Asked: true, Decides: "whose privileges are had"})
	b.Set(change.Setting{Name: "member", Value: m.Principal.String(), Asked: true, Decides: "who has them"})
	grant := func(admin bool) string {
		text := "GRANT " + quotePrincipal(r.Principal) + " TO " + quotePrincipal(m.Principal)
		if admin {
			text += " WITH ADMIN OPTION"
		}
		return text
	}
	revoke := "REVOKE " + quotePrincipal(r.Principal) + " FROM " + quotePrincipal(m.Principal)
	args := checkOf("member", m.Principal)
	args["of"], args["present"] = r.Name, yesNo(give)
	switch {
	case !give && held == nil:
		planning.Done(b, change.RoleHeld, "%s is no member of the role %s, so nothing will be done.", m.Principal,
			r.Name)
		return
	case !give:
		planMandatory(b, r.Principal, snap.Access)
		if slices.Contains(defaultsOf(m), r.Name) {
			b.Steps = append(b.Steps, defaultRolesStep(m, without(defaultsOf(m), r.Name), of))
		}
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement, Title: b.Summary, Statement: revoke,
			Undo: grant(held.Admin), Args: args})
		b.Find(change.Note, change.GrantEffect, "",
			"Sessions in which the role is active keep it until they end or set another one%s.", connectedText(snap)).
			Passing = true
	default:
		planning.Circle(b, r.Principal, m.Principal, graphOf(snap))
		if held != nil && held.Admin == spec.Admin &&
			(m.Role || slices.Contains(defaultsOf(m), r.Name) || spec.Options.Bool("no_default")) {
			planning.Done(b, change.RoleHeld, "%s is a member of the role %s already, so nothing will be done.",
				m.Principal, r.Name)
			return
		}
		if spec.Admin {
			b.Find(change.Caution, change.RoleAdminOption, "Leave out the admin option.",
				"%s could grant the role %s to anybody, outside Genarch.", m.Principal, r.Name)
		}
		undo := revoke
		if held != nil {
			undo = "REVOKE ADMIN OPTION FOR " + quotePrincipal(r.Principal) + " FROM " + quotePrincipal(m.Principal)
		}
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepStatement, Title: b.Summary,
			Statement: grant(spec.Admin), Undo: undo, Args: args})
		switch {
		case m.Role:
			b.Find(change.Note, change.GrantEffect, "",
				"The grant holds for the members of %s from their next sign-in on.", m.Name)
		case spec.Options.Bool("no_default"):
			b.Find(change.Note, change.RoleDormant, "", "The role holds only after SET ROLE %s.", r.Name)
		case of.oneDefault && m.DefaultRole != "" && m.DefaultRole != r.Name:
			b.Find(change.Caution, change.RoleDormant,
				"Put both roles into one and grant that, or change the default role afterwards.",
				"%s has the default role %s, and there can be only one, so %s holds only after SET ROLE %s.",
				m.Principal, m.DefaultRole, r.Name, r.Name)
		default:
			b.Steps = append(b.Steps, defaultRolesStep(m,
				slices.Sorted(slices.Values(append(without(defaultsOf(m), r.Name), r.Name))), of))
			b.Find(change.Note, change.GrantEffect, "",
				"The role becomes its default role and holds from the next sign-in on%s.", connectedText(snap)).
				Passing = true
		}
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back", ReadOnly: true, Args: args})
}

func connectedText(snap catalog.Snapshot) string {
	if len(snap.Sessions) == 0 {
		return ""
	}
	return "; connected now: " + planning.Shorten(snap.Sessions)
}

package postgres

import (
	"fmt"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// serverRoles are predefined roles that reach the server's files and programs, or
// all of its settings: each leads to superuser. Source: the manual's "Predefined
// Roles".
var serverRoles = map[string]string{
	"pg_execute_server_program": "runs programs as the server's own account",
	"pg_write_server_files":     "writes any file that the server can",
	"pg_read_server_files":      "reads any file that the server can, the keys and verifiers among them",
	"pg_write_all_data":         "writes every table, those of other programs too",
}

// takesOver says in words how a role leads to the whole server; empty: it does not.
func takesOver(r catalog.Account, snap catalog.Snapshot) string {
	g := graph(*snap.Access)
	atOnce, dormant := g.Roles(r.Principal)
	for _, p := range append(append([]catalog.Principal{r.Principal}, atOnce...), dormant...) {
		if reach := serverRoles[p.Name]; reach != "" {
			return reach
		}
		if a, ok := find(snap.Access.Accounts, p.Name); ok && a.Super {
			return "is a superuser, or belongs to one"
		}
	}
	return ""
}

// planMember briefs making an account or role a member of a role, or ending it.
//
// Long: its cases stand in the order in which their findings are read.
func planMember(b *change.Brief, spec change.MemberSpec, snap catalog.Snapshot, give bool) {
	member := catalog.Principal{Name: spec.To.Name}
	b.Summary = "make " + naming.Show(member.Name) + " a member of " + naming.Show(spec.Role)
	if !give {
		b.Summary = "end that " + naming.Show(member.Name) + " belongs to " + naming.Show(spec.Role)
	}
	planning.Manage(b, snap)
	r, okRole := planning.FindAccount(b, role(spec.Role), snap, change.RoleAbsent)
	m, okMember := planning.FindAccount(b, member, snap, change.AccountAbsent)
	if !okRole || !okMember {
		return
	}
	var held []catalog.Membership
	for _, x := range snap.Access.Memberships {
		if x.Role == r.Principal && x.Member == m.Principal {
			held = append(held, x)
		}
	}
	modern := snap.Instance.Number >= 160000
	if reach := takesOver(r, snap); give && reach != "" && !m.Super {
		planning.Takeover(b, snap, m.Name, m.Name, "the role %s %s", naming.Show(r.Name), reach)
	}
	b.Set(change.Setting{Name: "role", Value: r.Name, Asked: true, Decides: "whose privileges are had"})
	b.Set(change.Setting{Name: "member", Value: m.Name, Asked: true, Decides: "who has them"})
	revoke := func(x catalog.Membership) string {
		text := "REVOKE " + quoteIdent(r.Name) + " FROM " + quoteIdent(m.Name)
		if modern && x.Grantor != "" {
			text += " GRANTED BY " + quoteIdent(x.Grantor)
		}
		return text
	}
	grant := func(admin, inherit, set bool) string {
		text := "GRANT " + quoteIdent(r.Name) + " TO " + quoteIdent(m.Name)
		switch {
		case modern:
			text += fmt.Sprintf(" WITH ADMIN %t, INHERIT %t, SET %t", admin, inherit, set)
		case admin:
			text += " WITH ADMIN OPTION"
		}
		return text
	}
	args := func(present string) map[string]string {
		return map[string]string{"check": "member", "role": r.Name, "member": m.Name, "present": present}
	}
	if !give {
		if len(held) == 0 {
			planning.Done(b, change.RoleHeld, "%s is no member of %s, so nothing will be done.", m.Name, r.Name)
			return
		}
		for i, x := range held {
			step := change.Step{Kind: engine.StepStatement, Title: b.Summary, Statement: revoke(x),
				Undo: grant(x.Admin, x.Inherit, x.Set), Args: args("no")}
			if i < len(held)-1 {
				step.Args = map[string]string{"check": "none"}
			}
			b.Steps = append(b.Steps, step)
		}
		b.Find(change.Note, change.GrantEffect, "",
			"%s loses the privileges of %s at its next statement, in open sessions too.", m.Name, r.Name)
	} else {
		planning.Circle(b, r.Principal, m.Principal, graph(*snap.Access))
		inherit, set := !isNo(spec.Options, "inherit"), !isNo(spec.Options, "set_role")
		for _, x := range held {
			if x.Admin == spec.Admin && x.Inherit == (inherit && (modern || m.Inherit)) && x.Set == set {
				planning.Done(b, change.RoleHeld, "%s is a member of %s already, so nothing will be done.", m.Name,
					r.Name)
				return
			}
		}
		if spec.Admin {
			b.Find(change.Caution, change.RoleAdminOption, "Leave out the admin option.",
				"%s could make others members of %s, outside Genarch.", m.Name, r.Name)
		}
		if r.Super {
			b.Find(change.Caution, change.AccountSuper, "Grant a bundle on one database instead.",
				"%s is a superuser, and its members can become one with SET ROLE.", r.Name)
		}
		if !inherit || !modern && !m.Inherit {
			b.Find(change.Note, change.RoleDormant, "", "The privileges of %s hold only after SET ROLE.", r.Name)
		}
		step := change.Step{Kind: engine.StepStatement, Title: b.Summary, Statement: grant(spec.Admin, inherit, set),
			Args: args("yes"),
			Undo: "REVOKE " + quoteIdent(r.Name) + " FROM " + quoteIdent(m.Name)}
		if len(held) > 0 {
			step.Undo = grant(held[0].Admin, held[0].Inherit, held[0].Set)
			if !modern && !held[0].Admin {
				step.Undo = "REVOKE ADMIN OPTION FOR " + quoteIdent(r.Name) + " FROM " + quoteIdent(m.Name)
			}
		}
		b.Steps = append(b.Steps, step)
		b.Find(change.Note, change.GrantEffect, "",
			"The grant holds at once: in open sessions from the next statement on.")
	}
	last := args(map[bool]string{true: "yes", false: "no"}[give])
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back", ReadOnly: true, Args: last})
}

// isNo reports whether an option was asked for and is no.
func isNo(options catalog.Values, name string) bool { return options[name] == false }

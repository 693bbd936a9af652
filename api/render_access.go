package api

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/api/wire"
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// accountRenderer renders the accounts of one reading; what concerns all of them
// is gathered once.
type accountRenderer struct {
	srv      catalog.Server
	d        *engine.Description
	g        *access.Graph
	memberOf map[catalog.Principal][]catalog.Membership
	members  map[catalog.Principal][]catalog.Membership
	owns     map[string][]string
}

func newAccountRenderer(srv catalog.Server, d *engine.Description, g *access.Graph) accountRenderer {
	a := g.Access()
	r := accountRenderer{srv: srv, d: d, g: g, memberOf: map[catalog.Principal][]catalog.Membership{},
		members: map[catalog.Principal][]catalog.Membership{},
		owns:    map[string][]string{}}
	for _, m := range a.Memberships {
		r.memberOf[m.Member] = append(r.memberOf[m.Member], m)
		r.members[m.Role] = append(r.members[m.Role], m)
	}
	for _, d := range a.Databases {
		if d.Owner != "" {
			r.owns[d.Owner] = append(r.owns[d.Owner], d.Name)
		}
	}
	return r
}

// isRole reports whether others can be put into it. One in a database that signs in nowhere is still none.
func isRole(a catalog.Account) bool {
	return a.Role || a.Database == "" && !a.Login && !a.Locked
}

func (r accountRenderer) account(a catalog.Account) wire.Account {
	kind := "account"
	if isRole(a) {
		kind = "role"
	}
	title := kind
	if known := r.d.PrincipalOf(isRole(a), a.Database != "").Kind; known != "" {
		title = strings.ReplaceAll(known, "_", " ")
	}
	rights := slices.Clone(a.Attributes)
	if a.Super && !a.Global.Empty() {
		rights = append(rights, "ALL PRIVILEGES")
	} else {
		rights = append(rights, a.Global.Names()...)
	}
	if a.GlobalGrant {
		rights = append(rights, "GRANT OPTION")
	}
	out := wire.Account{Address: address(r.srv, a), Name: a.Name, Host: a.Host, Database: a.Database, Kind: kind,
		Title: title,
		Login: a.Login, Super: a.Super, ServerRights: orEmpty(rights),
		Locked: a.Locked, HasPassword: a.Password, Expires: optional(a.Expires), Expired: a.Expired,
		ConnectionLimit: a.ConnectionLimit, Sessions: a.Sessions,
		Method: a.Method, TLS: a.TLS, DefaultRole: a.DefaultRole, Comment: a.Comment, System: a.System,
		Properties: a.Properties, Marks: orEmpty(r.marks(a)),
		Owns: []string{}, Databases: []wire.DatabaseLevel{}}
	if a.Database == "" {
		out.Owns = orEmpty(r.owns[a.Name])
	}
	out.MemberOf = each(r.memberOf[a.Principal], func(m catalog.Membership) wire.RoleLink {
		role := m.Role
		if role.Database == a.Database {
			role.Database = "" // it goes without saying
		}
		return wire.RoleLink{Name: role.String(), Admin: m.Admin, AtOnce: r.g.AtOnce(m.Member, m.Role),
			Grantor: m.Grantor}
	})
	out.Members = each(r.members[a.Principal], func(m catalog.Membership) wire.RoleLink {
		return wire.RoleLink{Name: m.Member.String(), Admin: m.Admin, AtOnce: r.g.AtOnce(m.Member, m.Role),
			Grantor: m.Grantor}
	})
	return out
}

// marks are what deserves a look about an account.
func (r accountRenderer) marks(a catalog.Account) []wire.Mark {
	return each(r.g.Marks(a), func(m access.Mark) wire.Mark { return wire.Mark(m) })
}

func renderObject(o catalog.Object) wire.Object {
	return wire.Object{Scope: string(o.Scope), Database: o.Database, Schema: o.Schema, Name: o.Name, Column: o.Column}
}

func renderLines(g *access.Graph, lines []access.Line) []wire.GrantLine {
	return each(lines, func(l access.Line) wire.GrantLine {
		out := wire.GrantLine{Holder: wire.Principal(l.Holder), Object: renderObject(l.Object), Text: l.Text(),
			Privileges:  orEmpty(l.Privileges.Names()),
			GrantOption: orEmpty(l.Grantable.Names()), Denied: l.Denied.Names(), Grantor: l.Grantor, Count: l.Count,
			Owner: l.Owner, Builtin: l.Builtin, Pattern: l.Pattern}
		if l.Object.Scope == catalog.ScopeServer {
			return out
		}
		opens := 0
		for _, d := range g.Access().Databases {
			if !g.Opens(l, d.Name) {
				continue
			}
			if opens++; l.Pattern {
				out.Opens = append(out.Opens, d.Name)
			}
		}
		out.Leftover = opens == 0
		return out
	})
}

// maxListed bounds what a matrix lists beside its cells.
const maxListed = 200

func renderWide(g *access.Graph) []wire.GrantLine {
	list := g.Wider()
	return each(list[:min(len(list), maxListed)], func(w access.WideGrant) wire.GrantLine {
		l := renderLines(g, []access.Line{w.Line})[0]
		l.Opens = w.Opens
		return l
	})
}

func renderLeftovers(g *access.Graph) []wire.GrantLine {
	list := g.Leftovers()
	return renderLines(g, list[:min(len(list), maxListed)])
}

// renderWhy tells an answer in words, with what to ask for to have what is missing granted.
func renderWhy(srv catalog.Server, g *access.Graph, p catalog.Principal, want privilege.Set,
	o catalog.Object) wire.Why {
	a := g.Why(p, want, o)
	out := wire.Why{Server: srv.Name, Account: change.PrincipalAddress(srv.Name, p).String(),
		Allowed: a.Allowed && len(a.Barred) == 0, Barred: orEmpty(a.Barred), Read: g.Access().Read}
	if a.Account.Name != "" || a.Found && p != catalog.Public {
		out.Account = address(srv, a.Account)
	}
	chain := func(c access.Chain) wire.Chain {
		return wire.Chain{Roles: each(c.Roles, func(r catalog.Principal) string { return r.String() }),
			Via: string(c.Via), Text: c.Text(), GrantOption: c.GrantOption}
	}
	for _, n := range a.Needs {
		need := wire.Need{Privilege: n.Privilege.String(), Object: renderObject(n.Object),
			Text: n.Privilege.String() + " on " + objectWords(n.Object), Met: n.Met(), Known: n.Known,
			Chains: each(n.Chains, chain), More: n.More, Denied: each(n.Denied, chain), Dormant: each(n.Dormant, chain)}
		if !need.Met && n.Known && len(n.Denied) == 0 {
			need.Missing = grantOf(srv, p, n.Privilege, n.Object)
		}
		out.Needs = append(out.Needs, need)
	}
	words := objectWords(o)
	switch {
	case out.Allowed:
		out.Summary = fmt.Sprintf("%s may %s on %s", p, want, words)
	case a.Allowed:
		out.Summary = fmt.Sprintf("%s has %s on %s, but %s", p, want, words, strings.Join(a.Barred, "; "))
	default:
		out.Summary = fmt.Sprintf("%s may not %s on %s", p, want, words)
	}
	return out
}

func objectWords(o catalog.Object) string {
	if o.Scope == catalog.ScopeServer {
		return "the whole server"
	}
	text := access.ObjectText(o)
	if o.Schema != "" {
		text = o.Database + "." + text
	}
	return string(o.Scope) + " " + text
}

// grantOf is the intent that would give a privilege; nil: nothing below the whole server would.
func grantOf(srv catalog.Server, p catalog.Principal, want privilege.Set, o catalog.Object) *wire.Intent {
	if o.Scope == catalog.ScopeServer {
		return nil
	}
	spec := &wire.GrantSpec{Database: o.Database, To: wire.Principal(p), Privileges: want.Names()}
	if o.Scope != catalog.ScopeDatabase {
		spec.On = renderObject(o)
	}
	return &wire.Intent{Kind: string(change.GrantPrivilege), Server: srv.Name, Grant: spec}
}

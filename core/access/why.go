package access

import (
	"cmp"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// way is one way by which somebody comes to privileges on an object.
type way struct {
	path           []int32 // from the account to who holds them
	set, grantable privilege.Set
	via            Via
	text           string
	dormant        bool // only after SET ROLE
	everywhere     bool // on the whole server, where nothing below it is denied
	deny           bool
}

// ways lists all ways by which a node has anything on an object, the shortest
// first; with dormant, also those that need SET ROLE.
func (g *Graph) ways(v int32, o catalog.Object, dormant bool) []way {
	r := g.walk(v, dormant)
	var out []way
	for _, u := range r.list {
		if s := g.rules.Base(u); !s.Empty() {
			w := way{path: r.path(u), set: s, via: ViaServer, everywhere: !g.rules.BaseDenied()}
			if s.Has(privilege.Own) {
				// A member of a superuser is none until it takes the role on.
				w.via, w.dormant = ViaSuperuser, u != v
			}
			if w.dormant && !dormant {
				continue
			}
			out = append(out, w)
		}
	}
	if o.Scope != catalog.ScopeServer {
		for _, h := range g.rules.Object(o, r.list) {
			if _, ok := r.from[h.Node]; ok {
				out = append(out, way{path: r.path(h.Node), set: h.Set, grantable: h.Grantable, via: h.Via,
					text: h.Text, deny: h.Deny})
			}
		}
	}
	for i := range out {
		for j := 1; j < len(out[i].path); j++ {
			if !slices.Contains(g.up[out[i].path[j-1]], out[i].path[j]) {
				out[i].dormant = true
			}
		}
	}
	slices.SortStableFunc(out, func(a, b way) int {
		if a.dormant != b.dormant {
			if a.dormant {
				return 1
			}
			return -1
		}
		return cmp.Compare(len(a.path), len(b.path))
	})
	return out
}

// Chain is one way by which an account has a privilege, told from the account
// to where the privilege is held.
type Chain struct {
	// Roles lead from the account (not among them) to the holder.
	Roles []catalog.Principal
	Via   Via
	// Detail is the pattern, the grantor, the predefined role.
	Detail string
	// GrantOption: the privilege may be granted on.
	GrantOption bool
}

// Need is one thing that it takes, and how it is met.
type Need struct {
	Privilege privilege.Set
	Object    catalog.Object
	// Chains are the ways by which it is met, the shortest first; none: it
	// is missing.
	Chains []Chain
	// More counts the chains beyond those listed.
	More int
	// Denied are the ways by which it is refused, whatever the chains say.
	Denied []Chain
	// Dormant are ways that open only with SET ROLE.
	Dormant []Chain
	// Known is false when the reading does not hold the object.
	Known bool
	// everywhere: it is held on the whole server, where no denial below it counts.
	everywhere bool
}

// Met reports whether the need is met.
func (n Need) Met() bool { return n.everywhere || len(n.Chains) > 0 && len(n.Denied) == 0 }

// Answer says whether an account may use a privilege on an object, and why.
type Answer struct {
	Account catalog.Account
	Found   bool
	Allowed bool
	// Needs are all to be met.
	Needs []Need
	// Barred says what keeps the account out whatever it holds: no login,
	// locked, expired, no connections allowed.
	Barred []string
}

// maxChains is how many ways are told of each need.
const maxChains = 5

// Why answers whether p may use a privilege on an object, and by which chains.
func (g *Graph) Why(p catalog.Principal, want privilege.Set, o catalog.Object) Answer {
	a := Answer{Allowed: true}
	v, ok := g.index[p]
	if a.Account, a.Found = g.Account(p); !ok || !a.Found && p != catalog.Public {
		return Answer{}
	}
	a.Found = true
	for _, n := range g.rules.Needs(want, o) {
		need := Need{Privilege: n.Privilege, Object: n.Object, Known: g.holds(n.Object)}
		for _, w := range g.ways(v, n.Object, true) {
			if !w.set.Has(n.Privilege) {
				continue
			}
			need.everywhere = need.everywhere || w.everywhere && !w.dormant
			c := Chain{Via: w.via, Detail: w.text, GrantOption: w.grantable.Has(n.Privilege)}
			for _, u := range w.path[1:] {
				if u != g.public {
					c.Roles = append(c.Roles, g.nodes[u])
				}
			}
			switch {
			case w.deny && !w.dormant && len(need.Denied) < maxChains:
				need.Denied = append(need.Denied, c)
			case w.deny:
			case w.dormant && len(need.Dormant) < maxChains:
				need.Dormant = append(need.Dormant, c)
			case w.dormant:
			case len(need.Chains) < maxChains:
				need.Chains = append(need.Chains, c)
			default:
				need.More++
			}
		}
		a.Allowed = a.Allowed && need.Met()
		a.Needs = append(a.Needs, need)
	}
	a.Barred = g.barred(a.Account, p, o)
	return a
}

// holds reports whether the reading covers an object.
func (g *Graph) holds(o catalog.Object) bool {
	if o.Scope == catalog.ScopeServer {
		return true
	}
	db, ok := g.database[o.Database]
	return ok && (o.Scope == catalog.ScopeDatabase || g.rules.Holds(db, o))
}

func (g *Graph) barred(a catalog.Account, p catalog.Principal, o catalog.Object) []string {
	var out []string
	if p == catalog.Public {
		return nil
	}
	if !a.Login {
		who := "nobody belongs to it who could"
		if slices.ContainsFunc(g.access.Memberships, func(m catalog.Membership) bool { return m.Role == a.Principal }) {
			who = "those who belong to it can"
		}
		out = append(out, "it cannot sign in by itself; "+who)
	}
	if a.Locked {
		out = append(out, "it is locked")
	}
	if a.Expired {
		out = append(out, "its password has expired")
	}
	if a.ConnectionLimit == 0 && a.Login && !a.Super {
		out = append(out, "its connection limit is 0")
	}
	if db, ok := g.database[o.Database]; ok && g.access.Databases[db].Closed {
		out = append(out, "the database allows no connections")
	}
	return out
}

// Text tells the chain in words: "through role crew, granted by harbourmaster".
func (c Chain) Text() string {
	var words []string
	for _, r := range c.Roles {
		words = append(words, r.String())
	}
	text := ""
	if len(words) > 0 {
		text = "through " + strings.Join(words, " → ") + ", "
	}
	switch c.Via {
	case ViaSuperuser:
		text += "superuser: nothing is refused to it"
	case ViaOwner:
		text += "as the owner"
		if c.Detail != "" {
			text += " (" + c.Detail + ")"
		}
	case ViaPublic:
		text += "granted to everybody (PUBLIC)"
	case ViaBuiltin:
		text += "everybody has it until it is revoked from PUBLIC"
	case ViaServer:
		text += "reaches the whole server"
		if c.Detail != "" {
			text += " (" + c.Detail + ")"
		}
	case ViaPattern:
		text += "granted by the pattern " + c.Detail
	default:
		text += "granted"
		if c.Detail != "" {
			text += " by " + c.Detail
		}
	}
	return text
}

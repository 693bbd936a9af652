// Package access works out who may do what, and why: from a reading of
// accounts, memberships and grants it computes what each account effectively
// has on each database, the chain by which it has it, and what is missing. It
// asks no server. Each engine's rules are in a file of their own.
package access

import (
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// Graph is a reading prepared for questions. It is not altered after New and
// may be used by many goroutines.
type Graph struct {
	access catalog.Access
	nodes  []catalog.Principal
	index  map[catalog.Principal]int32
	// account is the position of a node in access.Accounts; -1 for PUBLIC and
	// for names that no account has.
	account []int32
	// up leads from a node to the roles whose privileges it has at once, and
	// dormant to those that it has to take on with SET ROLE.
	up, dormant [][]int32
	// order has every role before its members; a circle, which no engine
	// makes, sets circular.
	order    []int32
	circular bool
	public   int32
	database map[string]int
	rules    rules
	base     []privilege.Set // what reaches the whole server, by node
}

// rules are what differs between the engines.
type rules interface {
	// gifts lists what holds on one database, by facet: facet 0 is the
	// database itself, the others are what is in it.
	gifts(db int) (facets []catalog.Object, held []gift)
	// base is what a node holds on the whole server, by itself.
	base(node int32) privilege.Set
	// object lists what holds on one object; only what nodes hold is asked for.
	object(o catalog.Object, nodes []int32) []gift
	// needs is what it takes to use a privilege on an object.
	needs(p privilege.Set, o catalog.Object) []need
	// level judges what an account has, by facet.
	level(db int, have []privilege.Set) Cell
}

// gift is what one node holds on one facet, and whence.
type gift struct {
	node, facet    int32
	set, grantable privilege.Set
	via            Via
	// text says what the kind does not: the pattern, the grantor.
	text string
}

// Via is how a privilege comes to somebody.
type Via string

// The ways.
const (
	ViaSuperuser Via = "superuser"
	ViaOwner     Via = "owner"
	ViaGrant     Via = "grant"
	ViaPublic    Via = "public"
	ViaBuiltin   Via = "builtin"
	ViaServer    Via = "server"
	ViaPattern   Via = "pattern"
)

// New prepares a reading.
func New(a catalog.Access) *Graph {
	g := &Graph{access: a, index: make(map[catalog.Principal]int32, len(a.Accounts)+1), database: make(map[string]int, len(a.Databases))}
	g.public = g.node(catalog.Public)
	for i, acc := range a.Accounts {
		g.account[g.node(acc.Principal)] = int32(i)
	}
	for i, d := range a.Databases {
		g.database[d.Name] = i
	}
	if a.Engine == catalog.MariaDB {
		g.rules = newMariaDB(g)
	} else {
		g.rules = newPostgreSQL(g)
	}
	for v := range g.nodes {
		if int32(v) != g.public {
			g.up[v] = append(g.up[v], g.public)
		}
	}
	g.sort()
	g.base = make([]privilege.Set, len(g.nodes))
	for v := range g.nodes {
		g.base[v] = g.rules.base(int32(v))
	}
	if a.Engine == catalog.MariaDB {
		g.spread(g.base, 1)
	} // on PostgreSQL to be a superuser is not inherited
	return g
}

// node numbers a principal.
func (g *Graph) node(p catalog.Principal) int32 {
	if n, ok := g.index[p]; ok {
		return n
	}
	n := int32(len(g.nodes))
	g.index[p] = n
	g.nodes, g.account = append(g.nodes, p), append(g.account, -1)
	g.up, g.dormant = append(g.up, nil), append(g.dormant, nil)
	return n
}

// join makes member have the privileges of role, at once or after SET ROLE.
func (g *Graph) join(member, role int32, atOnce bool) {
	list := &g.dormant[member]
	if atOnce {
		list = &g.up[member]
	}
	if !slices.Contains(*list, role) {
		*list = append(*list, role)
	}
}

// sort puts roles before their members, without recursion: a chain of roles
// may be as long as there are roles.
func (g *Graph) sort() {
	const (
		fresh = iota
		open
		closed
	)
	state := make([]uint8, len(g.nodes))
	g.order = make([]int32, 0, len(g.nodes))
	type frame struct {
		node int32
		next int
	}
	var stack []frame
	for root := range g.nodes {
		if state[root] != fresh {
			continue
		}
		stack = append(stack[:0], frame{int32(root), 0})
		state[root] = open
		for len(stack) > 0 {
			f := &stack[len(stack)-1]
			if f.next == len(g.up[f.node]) {
				state[f.node] = closed
				g.order = append(g.order, f.node)
				stack = stack[:len(stack)-1]
				continue
			}
			to := g.up[f.node][f.next]
			f.next++
			switch state[to] {
			case fresh:
				state[to] = open
				stack = append(stack, frame{to, 0})
			case open:
				g.circular = true
			}
		}
	}
}

// spread hands what roles have down to their members: sets holds width sets for
// each node. One pass does, since roles come first; a circle needs more.
func (g *Graph) spread(sets []privilege.Set, width int) {
	for changed := true; changed; {
		changed = false
		for _, v := range g.order {
			mine := sets[int(v)*width : int(v+1)*width]
			for _, role := range g.up[v] {
				for i, s := range sets[int(role)*width : int(role+1)*width] {
					if s&^mine[i] != 0 {
						mine[i] |= s
						changed = g.circular
					}
				}
			}
		}
	}
}

// Account finds an account or role by its principal.
func (g *Graph) Account(p catalog.Principal) (catalog.Account, bool) {
	n, ok := g.index[p]
	if !ok || g.account[n] < 0 {
		return catalog.Account{}, false
	}
	return g.access.Accounts[g.account[n]], true
}

// Access is the reading that the graph was made from.
func (g *Graph) Access() catalog.Access { return g.access }

// Roles lists the roles that p has, nearest first: at once, and those that it
// would have to take on.
func (g *Graph) Roles(p catalog.Principal) (atOnce, dormant []catalog.Principal) {
	start, ok := g.index[p]
	if !ok {
		return nil, nil
	}
	reached := g.reach(start, false)
	for _, v := range reached.list[1:] {
		if v != g.public {
			atOnce = append(atOnce, g.nodes[v])
		}
	}
	for _, v := range g.reach(start, true).list[1:] {
		if _, has := reached.from[v]; !has && v != g.public {
			dormant = append(dormant, g.nodes[v])
		}
	}
	return atOnce, dormant
}

// reached is what a walk found, nearest first, and the way to each.
type reached struct {
	list []int32
	from map[int32]int32
}

// reach walks from a node to all roles that it has; with dormant, also those
// that it could take on.
func (g *Graph) reach(start int32, dormant bool) reached {
	r := reached{list: []int32{start}, from: map[int32]int32{start: -1}}
	for i := 0; i < len(r.list); i++ {
		v := r.list[i]
		next := g.up[v]
		if dormant {
			next = slices.Concat(next, g.dormant[v])
		}
		for _, to := range next {
			if _, seen := r.from[to]; !seen {
				r.from[to] = v
				r.list = append(r.list, to)
			}
		}
	}
	return r
}

// path is the way from the start of a walk to a node, both included.
func (r reached) path(to int32) []int32 {
	var out []int32
	for v := to; v >= 0; v = r.from[v] {
		out = append(out, v)
	}
	slices.Reverse(out)
	return out
}

// onDatabase computes what every node has on one database: one set for each
// facet of each node. buffer is used again when it is large enough.
func (g *Graph) onDatabase(db int, buffer []privilege.Set) (sets []privilege.Set, width int) {
	facets, held := g.rules.gifts(db)
	width = len(facets)
	need := width * len(g.nodes)
	if cap(buffer) < need {
		buffer = make([]privilege.Set, need)
	}
	sets = buffer[:need]
	clear(sets)
	for _, h := range held {
		sets[int(h.node)*width+int(h.facet)] |= h.set
	}
	g.spread(sets, width)
	for v, base := range g.base {
		for i := range width {
			sets[v*width+i] |= base
		}
	}
	return sets, width
}

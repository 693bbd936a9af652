// Package access works out who may do what, and why: from a reading of
// accounts, memberships and grants it computes what each account effectively
// has on each database, the chain by which it has it, and what is missing. It
// asks no server. The rules are each engine's own.
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
	rules    Rules
	words    int      // of one packed set
	base     []uint64 // what reaches the whole server, by node, packed
	based    []bool   // whether that is anything
}

// Rules are what differs between the engines. They are made for one graph, whose
// nodes they know by number.
type Rules interface {
	// Held lists what holds on one database, by securable: securable 0 is the
	// database itself, the others are what is in it.
	Held(db int) (securables []catalog.Object, held []HeldEntry)
	// Table has the privileges that all sets are of.
	Table() *privilege.Table
	// Base is what a node holds on the whole server, by itself; BaseInherited says
	// whether the members of a role have what it holds there.
	Base(node int32) privilege.Set
	BaseInherited() bool
	// BaseDenied says whether what is denied on a database is denied to those, too, who hold it on
	// the whole server.
	BaseDenied() bool
	// Object lists what holds on one object; only what nodes hold is asked for.
	Object(o catalog.Object, nodes []int32) []HeldEntry
	// Needs is what it takes to use a privilege on an object.
	Needs(p privilege.Set, o catalog.Object) []Requirement
	// Level judges what an account has, by securable.
	Level(db int, have []privilege.Set) Cell
	// Holds reports whether the reading covers an object of one of its databases.
	Holds(db int, o catalog.Object) bool
	// Named is the database that a grant on an object names; or the pattern that it
	// stands on instead, which Fits other databases.
	Named(o catalog.Object) (database string, pattern bool)
	Fits(pattern, database string) bool
	// Marks are what deserves a look about an account.
	Marks(a catalog.Account) []Mark
}

// Mark is something about an account that deserves a look.
type Mark struct {
	Code string // stable: no_password, weak_method, shadowed, …
	Text string
	// Trap: it does other than it seems, and is pointed out before anybody looks for it.
	Trap bool
}

// Powerful is the mark of an account that has all rights, or can give them to itself.
func Powerful(all bool) Mark {
	if all {
		return Mark{Code: "powerful", Text: "it may do everything on the server"}
	}
	return Mark{Code: "powerful", Text: "it may create and alter accounts, and so become anybody"}
}

// HeldEntry is what one node holds on one securable, and whence.
type HeldEntry struct {
	Node, Facet    int32
	Set, Grantable privilege.Set
	Via            Via
	// Deny: the set is refused to the node and its members, whatever else they hold
	// below the whole server.
	Deny bool
	// Text says what the kind does not: the pattern, the grantor.
	Text string
}

// Requirement is one privilege on one object.
type Requirement struct {
	Privilege privilege.Set
	Object    catalog.Object
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

// New prepares a reading; rules makes the rules of its engine for the graph.
func New(a catalog.Access, rules func(*Graph) Rules) *Graph {
	g := &Graph{access: a, index: make(map[catalog.Principal]int32, len(a.Accounts)+1),
		database: make(map[string]int, len(a.Databases))}
	g.public = g.Node(catalog.Public)
	for i, acc := range a.Accounts {
		g.account[g.Node(acc.Principal)] = int32(i)
	}
	for i, d := range a.Databases {
		g.database[d.Name] = i
	}
	g.rules = rules(g)
	for v := range g.nodes {
		if int32(v) != g.public {
			g.up[v] = append(g.up[v], g.public)
		}
	}
	g.sort()
	table := g.rules.Table()
	g.words = table.Words()
	g.base, g.based = make([]uint64, len(g.nodes)*g.words), make([]bool, len(g.nodes))
	for v := range g.nodes {
		if base := g.rules.Base(int32(v)); !base.Empty() {
			table.Pack(g.base[v*g.words:(v+1)*g.words], base)
			g.based[v] = true
		}
	}
	if g.rules.BaseInherited() {
		g.propagate(g.base, g.based, g.words)
	}
	return g
}

// Node numbers a principal, which may be one that no account has. Only the making of
// rules may add one.
func (g *Graph) Node(p catalog.Principal) int32 {
	if n, ok := g.index[p]; ok {
		return n
	}
	n := int32(len(g.nodes))
	g.index[p] = n
	g.nodes, g.account = append(g.nodes, p), append(g.account, -1)
	g.up, g.dormant = append(g.up, nil), append(g.dormant, nil)
	return n
}

// Known is the number of a principal, -1 if the reading does not have it.
func (g *Graph) Known(p catalog.Principal) int32 {
	if n, ok := g.index[p]; ok {
		return n
	}
	return -1
}

// Nodes are the principals by their numbers. Nobody alters the list.
func (g *Graph) Nodes() []catalog.Principal { return g.nodes }

// At is the account of a node; false for everybody, and for names that no account has.
func (g *Graph) At(node int32) (catalog.Account, bool) {
	if i := g.account[node]; i >= 0 {
		return g.access.Accounts[i], true
	}
	return catalog.Account{}, false
}

// Database is the position of a database in the reading.
func (g *Graph) Database(name string) (db int, ok bool) {
	db, ok = g.database[name]
	return db, ok
}

// Rules are those that the graph was made with.
func (g *Graph) Rules() Rules { return g.rules }

// Opens reports whether a line is about a database.
func (g *Graph) Opens(l Line, database string) bool {
	if l.Pattern {
		return g.rules.Fits(l.Object.Database, database)
	}
	return l.Object.Scope != catalog.ScopeServer && l.Object.Database == database
}

// Marks are what deserves a look about an account, by its engine's rules and by those that
// hold everywhere.
func (g *Graph) Marks(a catalog.Account) []Mark {
	out := g.rules.Marks(a)
	if a.Name == "" && a.Login {
		out = append(out, Mark{Code: "anonymous", Trap: true,
			Text: "it has no name: any name that fits no other account at this host signs in as it"})
	}
	if a.Open && a.Login && !a.Locked {
		out = append(out, Mark{Code: "no_password", Trap: true,
			Text: "it has no password: whoever knows its name can sign in"})
	}
	return out
}

// AtOnce reports whether a member has the privileges of a role without taking it on.
func (g *Graph) AtOnce(member, role catalog.Principal) bool {
	v, ok := g.index[member]
	r, also := g.index[role]
	return ok && also && slices.Contains(g.up[v], r)
}

// Join makes member have the privileges of role, at once or after SET ROLE. It is for
// the making of rules.
func (g *Graph) Join(member, role int32, atOnce bool) {
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

// propagate hands what roles have down to their members: sets holds packed sets, width
// words for each node, and some says which nodes have anything. One pass does, since
// roles come first; a circle needs more.
func (g *Graph) propagate(sets []uint64, some []bool, width int) {
	for changed := true; changed; {
		changed = false
		for _, v := range g.order {
			mine := sets[int(v)*width : int(v+1)*width]
			for _, role := range g.up[v] {
				if !some[role] {
					continue
				}
				some[v] = true
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
	reached := g.walk(start, false)
	for _, v := range reached.list[1:] {
		if v != g.public {
			atOnce = append(atOnce, g.nodes[v])
		}
	}
	for _, v := range g.walk(start, true).list[1:] {
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

// walk walks from a node to all roles that it has; with dormant, also those
// that it could take on.
func (g *Graph) walk(start int32, dormant bool) reached {
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

// onDatabase computes what every node has on one database: a packed set for each
// securable of each node, width words together. buffer is used again when it is large enough.
func (g *Graph) onDatabase(db int, buffer []uint64) (sets []uint64, width int) {
	table := g.rules.Table()
	securables, held := g.rules.Held(db)
	width = len(securables) * g.words
	need := width * len(g.nodes)
	if cap(buffer) < need {
		buffer = make([]uint64, need)
	}
	sets = buffer[:need]
	clear(sets)
	some := make([]bool, len(g.nodes))
	var refused []uint64 // where anything is denied
	var someRefused []bool
	for _, h := range held {
		at := int(h.Node)*width + int(h.Facet)*g.words
		if h.Deny {
			if refused == nil {
				refused, someRefused = make([]uint64, need), make([]bool, len(g.nodes))
			}
			someRefused[h.Node] = true
			table.Pack(refused[at:at+g.words], h.Set)
			continue
		}
		some[h.Node] = true
		table.Pack(sets[at:at+g.words], h.Set)
	}
	g.propagate(sets, some, width)
	if g.rules.BaseDenied() {
		g.addBase(sets, width)
	}
	if refused != nil {
		g.propagate(refused, someRefused, width)
		for i, w := range refused {
			sets[i] &^= w
		}
	}
	if !g.rules.BaseDenied() {
		g.addBase(sets, width)
	}
	return sets, width
}

// addBase adds what nodes hold on the whole server to what they have on one database.
func (g *Graph) addBase(sets []uint64, width int) {
	for v := range g.nodes {
		if !g.based[v] {
			continue
		}
		base := g.base[v*g.words : (v+1)*g.words]
		for i := range width {
			sets[v*width+i] |= base[i%g.words]
		}
	}
}

// unpack writes the sets of one node out, by securable.
func (g *Graph) unpack(packed []uint64, into []privilege.Set) []privilege.Set {
	table := g.rules.Table()
	into = into[:0]
	for at := 0; at < len(packed); at += g.words {
		into = append(into, table.Unpack(packed[at:at+g.words]))
	}
	return into
}

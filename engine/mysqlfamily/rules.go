package mysqlfamily

import (
	"cmp"
	"fmt"
	"slices"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// rules are the rules of MariaDB: privileges of wider levels reach down; of
// all grants on databases only one holds for an account on a database, the most
// specific; a role holds when it is the default role.
type rules struct {
	product *product
	g       *access.Graph
	// rows are the grants on databases that can hold for a node, the first
	// that matches wins; exact finds those without wildcards by name.
	rows [][]row
	// below are the grants on single objects of a database, by its name: as
	// gifts of its securable, and as they are.
	below  map[string][]access.HeldEntry
	within map[string][]catalog.Grant
	// denied is what is refused on a database, by its name.
	denied map[string][]access.HeldEntry
	// exact and patterned let one database be looked up without trying all.
	exact     map[string][]int32 // database → nodes that have a row for just that name
	patterned []int32            // nodes that have a row with a wildcard
	byName    map[string][]catalog.Account
}

type row struct {
	pattern string
	host    string
	user    string
	set     privilege.Set
	grant   privilege.Set
	plain   string // the one database it opens; "" for a real pattern
	db      int    // the position of that database; -1 where it is not there
}

// Rules prepares the product's judgement of a reading.
func (e Engine[P]) Rules(g *access.Graph) access.Rules { return e.product().rules(g) }

// graph prepares a reading of a server of the product.
func (p *product) graph(a catalog.Access) *access.Graph {
	return access.New(a, func(g *access.Graph) access.Rules { return p.rules(g) })
}

func graphOf(snap catalog.Snapshot) *access.Graph { return productOf(snap).graph(*snap.Access) }

// rules: Long: the indexes are made in one walk over the grants.
func (p *product) rules(g *access.Graph) *rules {
	a := g.Access()
	for _, m := range a.Memberships {
		member := g.Node(m.Member)
		atOnce := m.Member.Role
		if acc, ok := g.At(member); ok && (m.Inherit || slices.Contains(defaultsOf(acc), m.Role.Name)) {
			atOnce = true
		}
		g.Join(member, g.Node(m.Role), atOnce)
	}
	for _, gr := range a.Grants { // also those of accounts that are gone
		g.Node(gr.Grantee)
	}
	m := &rules{product: p, g: g, byName: map[string][]catalog.Account{}, rows: make([][]row, len(g.Nodes())),
		below: map[string][]access.HeldEntry{}, within: map[string][]catalog.Grant{},
		denied: map[string][]access.HeldEntry{}, exact: map[string][]int32{}}
	for _, acc := range a.Accounts {
		m.byName[acc.Name] = append(m.byName[acc.Name], acc)
	}
	// A grant holds for every account of that name whose clients its host lets
	// in, and one of the anonymous account for everybody.
	byUser := map[string][]int32{}
	for v, p := range g.Nodes() {
		if !p.Role {
			byUser[p.Name] = append(byUser[p.Name], int32(v))
		}
	}
	for _, gr := range a.Grants {
		holders := []int32{g.Known(gr.Grantee)}
		if !gr.Grantee.Role {
			same := byUser[gr.Grantee.Name]
			if gr.Grantee.Name == "" {
				same = nil
				for v, p := range g.Nodes() {
					if !p.Role {
						same = append(same, int32(v))
					}
				}
			}
			holders = holders[:0]
			for _, v := range same {
				if p.hosts.covers(gr.Grantee.Host, g.Nodes()[v].Host) {
					holders = append(holders, v)
				}
			}
		}
		if gr.Scope != catalog.ScopeDatabase {
			m.within[gr.Database] = append(m.within[gr.Database], gr)
			for _, v := range holders {
				m.below[gr.Database] = append(m.below[gr.Database],
					access.HeldEntry{Node: v, Set: privilege.Below, Via: access.ViaGrant, Text: gr.Grantor})
			}
			continue
		}
		r := row{pattern: gr.Database, host: gr.Grantee.Host, user: gr.Grantee.Name, set: gr.Privileges,
			grant: gr.Grantable}
		if !isPattern(gr.Database) {
			r.plain, r.db = plain(gr.Database), -1
			if db, there := g.Database(r.plain); there {
				r.db = db
			}
		}
		for _, v := range holders {
			m.rows[v] = append(m.rows[v], r)
		}
	}
	for _, d := range a.Denials {
		m.denied[d.Database] = append(m.denied[d.Database], access.HeldEntry{Node: g.Known(d.Grantee), Set: d.Denied,
			Deny: true, Via: access.ViaGrant})
	}
	for v := range m.rows {
		slices.SortStableFunc(m.rows[v], p.hosts.compareRows)
		patterned := false
		for _, r := range m.rows[v] {
			if r.plain != "" {
				m.exact[r.plain] = append(m.exact[r.plain], int32(v))
			} else {
				patterned = true
			}
		}
		if patterned {
			m.patterned = append(m.patterned, int32(v))
		}
	}
	return m
}

// compareRows ranks grants on databases as the engine does: by host, then by
// database, then by name, the more specific first. Here a netmask counts as
// much as a plain address.
func (h hosts) compareRows(a, b row) int {
	host := func(text string) rank {
		if _, _, ok := h.netmask(text); ok || !isPattern(text) {
			return rank{length: 1 << 20}
		}
		return rankOf(text)
	}
	return cmp.Or(compareRanks(host(a.host), host(b.host)), compareRanks(rankOf(a.pattern), rankOf(b.pattern)),
		cmp.Compare(min(len(b.user), 1), min(len(a.user), 1)))
}

// Base is what an account holds on *.*.
func (m *rules) Base(v int32) privilege.Set {
	acc, _ := m.g.At(v)
	return acc.Global
}

// Table has the privileges of the engine.
func (*rules) Table() *privilege.Table { return table }

// BaseInherited: the privileges of a role on *.* hold for its members.
func (m *rules) BaseInherited() bool { return true }

// BaseDenied: a partial revoke takes on one database what is held on all.
func (m *rules) BaseDenied() bool { return true }

// winning is the one grant on a database that holds for a node.
func (m *rules) winning(v int32, database string) (row, bool) {
	for _, r := range m.rows[v] {
		if r.plain == database || r.plain == "" && matches(r.pattern, database) {
			return r, true
		}
	}
	return row{}, false
}

// winningOn is the same for a database of the reading, by its position, for when
// all of them are gone through.
func (m *rules) winningOn(v int32, db int, matches func(pattern string) bool) (row, bool) {
	for i := range m.rows[v] {
		r := &m.rows[v][i]
		if r.plain != "" && r.db == db || r.plain == "" && matches(r.pattern) {
			return *r, true
		}
	}
	return row{}, false
}

// Held is the one grant on a database that holds for each account, and what is open
// within it.
func (m *rules) Held(db int) ([]catalog.Object, []access.HeldEntry) {
	name := m.g.Access().Databases[db].Name
	held := slices.Concat(m.below[name], m.denied[name])
	seen := make([]bool, len(m.g.Nodes()))
	known := map[string]bool{} // the same pattern is many accounts'
	matches := func(pattern string) bool {
		fits, ok := known[pattern]
		if !ok {
			fits = matches(pattern, name)
			known[pattern] = fits
		}
		return fits
	}
	for _, list := range [][]int32{m.exact[name], m.patterned} {
		for _, v := range list {
			if seen[v] {
				continue
			}
			seen[v] = true
			if r, ok := m.winningOn(v, db, matches); ok {
				held = append(held, m.gift(v, r))
			}
		}
	}
	return []catalog.Object{{Scope: catalog.ScopeDatabase, Database: name}}, held
}

// gift is what a grant gives a node, with where it comes from if that is not
// the node itself and the name itself.
func (m *rules) gift(v int32, r row) access.HeldEntry {
	out := access.HeldEntry{Node: v, Set: r.set, Grantable: r.grant, Via: access.ViaGrant}
	p := m.g.Nodes()[v]
	switch {
	case p == catalog.Public:
		out.Via = access.ViaPublic
	case r.plain == "" && (r.user != p.Name || r.host != p.Host):
		out.Via, out.Text = access.ViaPattern, r.pattern+" of "+who(r)
	case r.plain == "":
		out.Via, out.Text = access.ViaPattern, r.pattern
	case r.user != p.Name || r.host != p.Host:
		out.Text = who(r)
	}
	return out
}

func who(r row) string { return r.user + "@" + r.host }

// Level is the largest bundle that is held on the database.
func (m *rules) Level(_ int, have []privilege.Set) access.Cell {
	held := have[0].And(m.product.own())
	for i := len(access.Bundles) - 1; i >= 0; i-- {
		b := access.Bundles[i]
		want := m.product.bundles[b]
		if held.Has(want) {
			return access.Cell{Level: b.Level(), More: !want.Has(held)}
		}
	}
	if !held.Empty() || have[0].Has(privilege.Below) {
		return access.Cell{Level: access.Custom}
	}
	return access.Cell{Level: access.None}
}

// Object lists what some nodes hold, each by itself, on one object: what they
// hold on the server and on its database reaches down to it.
func (m *rules) Object(o catalog.Object, nodes []int32) []access.HeldEntry {
	var out []access.HeldEntry
	for _, v := range nodes {
		if o.Database == "" {
			break
		}
		if r, ok := m.winning(v, o.Database); ok {
			out = append(out, m.gift(v, r))
		}
		for _, d := range m.denied[o.Database] {
			if d.Node == v {
				out = append(out, d)
			}
		}
		if o.Scope == catalog.ScopeDatabase {
			continue
		}
		p := m.g.Nodes()[v]
		for _, gr := range m.within[o.Database] {
			if gr.Name != o.Name || !m.holds(gr.Grantee, p) {
				continue
			}
			if gr.Scope == o.Scope && gr.Column == o.Column ||
				o.Scope == catalog.ScopeColumn && gr.Scope == catalog.ScopeTable {
				out = append(out, access.HeldEntry{Node: v, Set: gr.Privileges, Grantable: gr.Grantable,
					Via: access.ViaGrant, Text: gr.Grantor})
			}
		}
	}
	return out
}

// holds reports whether a grant to grantee holds for p.
func (m *rules) holds(grantee, p catalog.Principal) bool {
	if grantee == p {
		return true
	}
	return !grantee.Role && !p.Role && (grantee.Name == p.Name || grantee.Name == "") &&
		m.product.hosts.covers(grantee.Host, p.Host)
}

// Needs is what it takes to use a privilege on an object: on MariaDB that
// privilege alone, on the object or on anything that holds it.
func (m *rules) Needs(p privilege.Set, o catalog.Object) []access.Requirement {
	return []access.Requirement{{Privilege: p, Object: o}}
}

// Holds: grants on what is in a database are all read.
func (m *rules) Holds(int, catalog.Object) bool { return true }

// Named: the database of a grant is a pattern; a grant on something in a database
// names it plainly.
func (m *rules) Named(o catalog.Object) (database string, pattern bool) {
	switch {
	case o.Scope != catalog.ScopeDatabase:
		return o.Database, false
	case isPattern(o.Database):
		return o.Database, true
	}
	return plain(o.Database), false
}

// Fits reports whether a pattern opens a database.
func (m *rules) Fits(pattern, database string) bool { return matches(pattern, database) }

// Marks tells what an account may do on the whole server, and which other one some of
// its clients get instead.
func (m *rules) Marks(a catalog.Account) []access.Mark {
	var out []access.Mark
	add := func(code string, trap bool, format string, args ...any) {
		out = append(out, access.Mark{Code: code, Text: fmt.Sprintf(format, args...), Trap: trap})
	}
	switch {
	case a.Super, a.Global.Has(may.CreateUser):
		out = append(out, access.Powerful(a.Super))
	case !a.Global.Empty():
		add("powerful", false, "it has privileges on the whole server: %s", a.Global)
	}
	if !a.Login {
		return out
	}
	before, after := m.product.hosts.rivals(slices.Concat(m.byName[a.Name], m.byName[""]), a.Principal)
	for _, x := range before {
		if x.Name == "" {
			add("shadowed", true, "clients from %s get the anonymous account there instead of it", x.Host)
			continue
		}
		add("shadowed", true, "clients from %s get %s instead of it", x.Host, x.Principal)
	}
	for _, x := range after {
		add("shadows", false, "clients from %s get it instead of %s", a.Host, x.Principal)
	}
	return out
}

// winningGrant is the grant on databases that holds for p on one of them, of all
// that would fit: the name or pattern that it was given on, and what it gives.
func winningGrant(g *access.Graph, p catalog.Principal, database string) (on string, set privilege.Set) {
	m, ok := g.Rules().(*rules)
	v := g.Known(p)
	if !ok || v < 0 {
		return "", privilege.Set{}
	}
	r, _ := m.winning(v, database)
	return r.pattern, r.set
}

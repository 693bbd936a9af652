package access

import (
	"cmp"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// mariaDB are the rules of MariaDB: privileges of wider levels reach down; of
// all grants on databases only one holds for an account on a database, the most
// specific; a role holds when it is the default role.
type mariaDB struct {
	g *Graph
	// rows are the grants on databases that can hold for a node, the first
	// that matches wins; exact finds those without wildcards by name.
	rows [][]row
	// below are the grants on single objects of a database, by its name: as
	// gifts of its facet, and as they are.
	below  map[string][]gift
	within map[string][]catalog.Grant
	// exact and patterned let one database be looked up without trying all.
	exact     map[string][]int32 // database → nodes that have a row for just that name
	patterned []int32            // nodes that have a row with a wildcard
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

func newMariaDB(g *Graph) rules {
	for _, m := range g.access.Memberships {
		member := g.node(m.Member)
		atOnce := m.Member.Role
		if i := g.account[member]; i >= 0 && g.access.Accounts[i].DefaultRole == m.Role.Name {
			atOnce = true
		}
		g.join(member, g.node(m.Role), atOnce)
	}
	for _, gr := range g.access.Grants { // also those of accounts that are gone
		g.node(gr.Grantee)
	}
	m := &mariaDB{g: g, rows: make([][]row, len(g.nodes)), below: map[string][]gift{}, within: map[string][]catalog.Grant{}, exact: map[string][]int32{}}
	// A grant holds for every account of that name whose clients its host lets
	// in, and one of the nameless account for everybody.
	byUser := map[string][]int32{}
	for v, p := range g.nodes {
		if !p.Role {
			byUser[p.Name] = append(byUser[p.Name], int32(v))
		}
	}
	for _, gr := range g.access.Grants {
		holders := []int32{g.index[gr.Grantee]}
		if !gr.Grantee.Role {
			same := byUser[gr.Grantee.Name]
			if gr.Grantee.Name == "" {
				same = nil
				for v, p := range g.nodes {
					if !p.Role {
						same = append(same, int32(v))
					}
				}
			}
			holders = holders[:0]
			for _, v := range same {
				if HostCovers(gr.Grantee.Host, g.nodes[v].Host) {
					holders = append(holders, v)
				}
			}
		}
		if gr.Scope != catalog.ScopeDatabase {
			m.within[gr.Database] = append(m.within[gr.Database], gr)
			for _, v := range holders {
				m.below[gr.Database] = append(m.below[gr.Database], gift{node: v, set: privilege.Below, via: ViaGrant, text: gr.Grantor})
			}
			continue
		}
		r := row{pattern: gr.Database, host: gr.Grantee.Host, user: gr.Grantee.Name, set: gr.Privileges, grant: gr.Grantable}
		if !IsPattern(gr.Database) {
			r.plain, r.db = Plain(gr.Database), -1
			if db, there := g.database[r.plain]; there {
				r.db = db
			}
		}
		for _, v := range holders {
			m.rows[v] = append(m.rows[v], r)
		}
	}
	for v := range m.rows {
		slices.SortStableFunc(m.rows[v], compareRows)
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
func compareRows(a, b row) int {
	host := func(h string) rank {
		if _, _, ok := netmask(h); ok || !IsPattern(h) {
			return rank{length: 1 << 20}
		}
		return rankOf(h)
	}
	return cmp.Or(compareRanks(host(a.host), host(b.host)), compareRanks(rankOf(a.pattern), rankOf(b.pattern)), cmp.Compare(min(len(b.user), 1), min(len(a.user), 1)))
}

func (m *mariaDB) base(v int32) privilege.Set {
	if i := m.g.account[v]; i >= 0 {
		return m.g.access.Accounts[i].Global
	}
	return 0
}

// winning is the one grant on a database that holds for a node.
func (m *mariaDB) winning(v int32, database string) (row, bool) {
	for _, r := range m.rows[v] {
		if r.plain == database || r.plain == "" && Matches(r.pattern, database) {
			return r, true
		}
	}
	return row{}, false
}

// winningOn is the same for a database of the reading, by its position, for when
// all of them are gone through.
func (m *mariaDB) winningOn(v int32, db int, matches func(pattern string) bool) (row, bool) {
	for i := range m.rows[v] {
		r := &m.rows[v][i]
		if r.plain != "" && r.db == db || r.plain == "" && matches(r.pattern) {
			return *r, true
		}
	}
	return row{}, false
}

func (m *mariaDB) gifts(db int) ([]catalog.Object, []gift) {
	name := m.g.access.Databases[db].Name
	held := slices.Clone(m.below[name])
	seen := make([]bool, len(m.g.nodes))
	known := map[string]bool{} // the same pattern is many accounts'
	matches := func(pattern string) bool {
		fits, ok := known[pattern]
		if !ok {
			fits = Matches(pattern, name)
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
func (m *mariaDB) gift(v int32, r row) gift {
	out := gift{node: v, set: r.set, grantable: r.grant, via: ViaGrant}
	p := m.g.nodes[v]
	switch {
	case p == catalog.Public:
		out.via = ViaPublic
	case r.plain == "" && (r.user != p.Name || r.host != p.Host):
		out.via, out.text = ViaPattern, r.pattern+" of "+who(r)
	case r.plain == "":
		out.via, out.text = ViaPattern, r.pattern
	case r.user != p.Name || r.host != p.Host:
		out.text = who(r)
	}
	return out
}

func who(r row) string { return r.user + "@" + r.host }

// givable are the privileges that can be held on a database.
var givable = mariaBundles[BundleOwn]

func (m *mariaDB) level(_ int, have []privilege.Set) Cell {
	held := have[0] & givable
	for i := len(Bundles) - 1; i >= 0; i-- {
		want := mariaBundles[Bundles[i]]
		if held.Has(want) {
			return Cell{Level: Bundles[i].Level(), More: held&^want != 0}
		}
	}
	if held != 0 || have[0].Has(privilege.Below) {
		return Cell{Level: Custom}
	}
	return Cell{Level: None}
}

// Wider lists the grants that open more databases than they seem to name: an
// unescaped _ or % that fits another database as well.
func Wider(a catalog.Access) []WideGrant {
	var out []WideGrant
	for _, gr := range a.Grants {
		if gr.Scope != catalog.ScopeDatabase || !IsPattern(gr.Database) {
			continue
		}
		w := WideGrant{Grant: gr}
		named := false
		for _, d := range a.Databases {
			switch {
			case strings.EqualFold(d.Name, gr.Database):
				named = true
			case Matches(gr.Database, d.Name):
				w.Opens = append(w.Opens, d.Name)
			}
		}
		// A pattern of which one database bears the very text was meant for
		// that one; any other pattern is what it says.
		w.Mistaken = named && !strings.Contains(gr.Database, "%")
		if w.Mistaken || len(w.Opens) > 0 {
			out = append(out, w)
		}
	}
	return out
}

// WideGrant is a grant by a pattern and what it opens beside the database whose
// name it bears.
type WideGrant struct {
	catalog.Grant
	Opens []string
	// Mistaken: a database bears the pattern's very text, so its _ was
	// probably not meant as a wildcard.
	Mistaken bool
}

// Leftovers lists the grants on databases that do not exist: they come alive
// with a database of that name.
func Leftovers(a catalog.Access) []catalog.Grant {
	have := map[string]bool{}
	for _, d := range a.Databases {
		have[d.Name] = true
	}
	var out []catalog.Grant
	for _, gr := range a.Grants {
		name := gr.Database
		if gr.Scope == catalog.ScopeDatabase {
			if IsPattern(name) && slices.ContainsFunc(a.Databases, func(d catalog.AccessDatabase) bool { return Matches(name, d.Name) }) {
				continue
			}
			if !IsPattern(name) {
				name = Plain(name)
			}
		}
		if gr.Scope != catalog.ScopeServer && !have[name] {
			out = append(out, gr)
		}
	}
	return out
}

// object lists what some nodes hold, each by itself, on one object: what they
// hold on the server and on its database reaches down to it.
func (m *mariaDB) object(o catalog.Object, nodes []int32) []gift {
	var out []gift
	for _, v := range nodes {
		if o.Database == "" {
			break
		}
		if r, ok := m.winning(v, o.Database); ok {
			out = append(out, m.gift(v, r))
		}
		if o.Scope == catalog.ScopeDatabase {
			continue
		}
		p := m.g.nodes[v]
		for _, gr := range m.within[o.Database] {
			if gr.Name != o.Name || !m.holds(gr.Grantee, p) {
				continue
			}
			if gr.Scope == o.Scope && gr.Column == o.Column || o.Scope == catalog.ScopeColumn && gr.Scope == catalog.ScopeTable {
				out = append(out, gift{node: v, set: gr.Privileges, grantable: gr.Grantable, via: ViaGrant, text: gr.Grantor})
			}
		}
	}
	return out
}

// holds reports whether a grant to grantee holds for p.
func (m *mariaDB) holds(grantee, p catalog.Principal) bool {
	if grantee == p {
		return true
	}
	return !grantee.Role && !p.Role && (grantee.Name == p.Name || grantee.Name == "") && HostCovers(grantee.Host, p.Host)
}

// needs is what it takes to use a privilege on an object: on MariaDB that
// privilege alone, on the object or on anything that holds it.
func (m *mariaDB) needs(p privilege.Set, o catalog.Object) []need { return []need{{p, o}} }

// Winning is the grant on databases that holds for p on one of them, of all
// that would fit: the name or pattern that it was given on, and what it gives.
func (g *Graph) Winning(p catalog.Principal, database string) (on string, set privilege.Set) {
	m, ok := g.rules.(*mariaDB)
	v, known := g.index[p]
	if !ok || !known {
		return "", 0
	}
	r, _ := m.winning(v, database)
	return r.pattern, r.set
}

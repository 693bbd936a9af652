package access

import (
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// The roles that PostgreSQL makes, whose privileges stand in no access list.
const (
	readAllData   = "pg_read_all_data"
	writeAllData  = "pg_write_all_data"
	maintainAll   = "pg_maintain"
	databaseOwner = "pg_database_owner" // its member is the owner of the database at hand
)

// postgreSQL are the rules of PostgreSQL: access lists of objects, ownership,
// memberships that are inherited or taken on, superusers.
type postgreSQL struct {
	g *Graph
	// makers and futures are those of each database, by position.
	makers  [][]string
	futures [][]catalog.Future
}

func newPostgreSQL(g *Graph) rules {
	for _, m := range g.access.Memberships {
		member, role := g.node(m.Member), g.node(m.Role)
		switch {
		case m.Inherit:
			g.join(member, role, true)
		case m.Set:
			g.join(member, role, false)
		}
	}
	p := postgreSQL{g: g, makers: make([][]string, len(g.access.Databases)), futures: make([][]catalog.Future, len(g.access.Databases))}
	for i, d := range g.access.Databases {
		if d.Interior != nil {
			p.makers[i] = Makers(d)
			p.futures[i] = withMakers(d.Interior.Futures, p.makers[i])
		}
	}
	return p
}

// withMakers adds, for makers without any default privileges, empty ones: what
// they will make is theirs alone.
func withMakers(list []catalog.Future, makers []string) []catalog.Future {
	out := slices.Clone(list)
	for _, maker := range makers {
		for _, on := range []catalog.Scope{catalog.ScopeTable, catalog.ScopeSequence} {
			if !slices.ContainsFunc(list, func(f catalog.Future) bool { return f.Maker == maker && f.On == on && f.Schema == "" }) {
				out = append(out, catalog.Future{Maker: maker, On: on})
			}
		}
	}
	return out
}

func (p postgreSQL) base(v int32) privilege.Set {
	if i := p.g.account[v]; i >= 0 && p.g.access.Accounts[i].Super {
		return privilege.All | privilege.Own
	}
	return 0
}

func role(name string) catalog.Principal { return catalog.Principal{Name: name} }

// gifts lays out: facet 0 the database, then each class of objects, then each
// kind of objects that a maker will make.
func (p postgreSQL) gifts(db int) ([]catalog.Object, []gift) {
	d := &p.g.access.Databases[db]
	facets := []catalog.Object{{Scope: catalog.ScopeDatabase, Database: d.Name}}
	var held []gift
	add := func(facet int, owner string, entries []catalog.Entry) {
		if owner != "" {
			held = append(held, gift{node: p.g.known(role(owner)), facet: int32(facet), set: privilege.Own, via: ViaOwner})
		}
		for _, e := range entries {
			h := gift{node: p.g.known(e.Grantee), facet: int32(facet), set: e.Privileges, grantable: e.Grantable, via: ViaGrant, text: e.Grantor}
			switch {
			case e.Builtin && e.Grantee == catalog.Public:
				h.via = ViaBuiltin
			case e.Grantee.Name == owner:
				h.via = ViaOwner
			case e.Grantee == catalog.Public:
				h.via = ViaPublic
			}
			held = append(held, h)
		}
	}
	add(0, d.Owner, d.Entries)
	if in := d.Interior; in != nil {
		for _, c := range in.Classes {
			facets = append(facets, c.Object)
			add(len(facets)-1, c.Owner, c.Entries)
			held = append(held, p.predefined(c.Scope, len(facets)-1)...)
		}
		for _, f := range p.futures[db] {
			facets = append(facets, catalog.Object{Scope: catalog.ScopeFuture, Database: d.Name, Schema: f.Schema, Name: string(f.On)})
			add(len(facets)-1, f.Maker, f.Entries)
			held = append(held, p.predefined(f.On, len(facets)-1)...)
		}
	}
	// What pg_database_owner has, the owner of this database has; before version
	// 16 only if it inherits at all.
	owns, _ := p.g.Account(role(d.Owner))
	inherits := owns.Inherit || p.g.access.Number >= 160000
	if owner, dbo := p.g.known(role(d.Owner)), p.g.known(role(databaseOwner)); inherits && owner >= 0 && dbo >= 0 {
		for _, h := range held {
			if h.node == dbo {
				h.node, h.via, h.text = owner, ViaOwner, databaseOwner
				held = append(held, h)
			}
		}
	}
	return facets, slices.DeleteFunc(held, func(h gift) bool { return h.node < 0 })
}

// known is the number of a principal, -1 if the reading does not have it.
func (g *Graph) known(p catalog.Principal) int32 {
	if n, ok := g.index[p]; ok {
		return n
	}
	return -1
}

// predefined is what the roles that reach all data hold on an object. Source:
// the manual's "Predefined Roles", tried on 15 and 18.
func (p postgreSQL) predefined(scope catalog.Scope, facet int) []gift {
	var out []gift
	add := func(name string, set privilege.Set) {
		if v := p.g.known(role(name)); v >= 0 && set != 0 {
			out = append(out, gift{node: v, facet: int32(facet), set: set, via: ViaServer, text: name})
		}
	}
	switch scope {
	case catalog.ScopeSchema:
		add(readAllData, privilege.Usage)
		add(writeAllData, privilege.Usage)
	case catalog.ScopeTable:
		add(readAllData, privilege.Select)
		add(writeAllData, privilege.Insert|privilege.Update|privilege.Delete)
		add(maintainAll, privilege.Maintain)
	case catalog.ScopeSequence:
		add(readAllData, privilege.Select)
		add(writeAllData, privilege.Update)
	}
	return out
}

// level: to own the database, or a way in and the same bundle on every object.
func (p postgreSQL) level(db int, have []privilege.Set) Cell {
	d := &p.g.access.Databases[db]
	if have[0].Has(privilege.Own) {
		return Cell{Level: Own}
	}
	if !have[0].Has(privilege.Connect) || d.Closed {
		return Cell{Level: None}
	}
	if d.Interior == nil {
		return Cell{Level: Unknown}
	}
	objects := have[1 : 1+len(d.Interior.Classes)]
	anything, holdsData := have[0].Has(privilege.Create), false
	for i, s := range objects {
		switch scope := d.Interior.Classes[i].Scope; scope {
		case catalog.ScopeTable, catalog.ScopeSequence:
			anything, holdsData = anything || s&privilege.All != 0, true
		case catalog.ScopeSchema:
			anything = anything || s.Has(privilege.Create)
		}
	}
	futures := have[1+len(objects):]
	for i := len(Bundles) - 2; i >= 0; i-- { // own is more than privileges
		b := Bundles[i]
		if !p.covers(d, objects, b, have[0]) || !holdsData && !p.future(db, futures, b) {
			continue
		}
		return Cell{Level: b.Level(), More: p.exceeds(d, objects, b, have[0]), Gap: b != BundleBuild && !p.future(db, futures, b)}
	}
	if anything {
		return Cell{Level: Custom}
	}
	return Cell{Level: Enter}
}

// covers reports whether every object has at least the bundle.
func (p postgreSQL) covers(d *catalog.AccessDatabase, objects []privilege.Set, b Bundle, database privilege.Set) bool {
	if !database.Has(b.On(catalog.PostgreSQL, catalog.ScopeDatabase)) {
		return false
	}
	for i, s := range objects {
		if !s.Has(privilege.Own) && !s.Has(b.On(catalog.PostgreSQL, d.Interior.Classes[i].Scope)) {
			return false
		}
	}
	return true
}

// exceeds reports whether some object has more than the bundle; what everybody
// has at first (routines, types, temporary tables) does not count.
func (p postgreSQL) exceeds(d *catalog.AccessDatabase, objects []privilege.Set, b Bundle, database privilege.Set) bool {
	if database&^(b.On(catalog.PostgreSQL, catalog.ScopeDatabase)|privilege.Connect|privilege.Temporary) != 0 {
		return true
	}
	for i, s := range objects {
		c := &d.Interior.Classes[i]
		if c.Scope != catalog.ScopeRoutine && s&^b.On(catalog.PostgreSQL, c.Scope) != 0 {
			return true
		}
	}
	return false
}

// future reports whether what every maker will make is covered. Makers are who
// owns something there: the default privileges of all others bear on nothing.
func (p postgreSQL) future(db int, futures []privilege.Set, b Bundle) bool {
	for _, on := range []catalog.Scope{catalog.ScopeTable, catalog.ScopeSequence} {
		for _, maker := range p.makers[db] {
			covered := false
			for i, f := range p.futures[db] {
				if f.Maker == maker && f.On == on && f.Schema == "" && (futures[i].Has(b.On(catalog.PostgreSQL, on)) || futures[i].Has(privilege.Own)) {
					covered = true
				}
			}
			if !covered {
				return false
			}
		}
	}
	return true
}

// Makers lists who makes things in a PostgreSQL database: its owner and
// whoever owns a schema, table or sequence there, or may create in a schema.
// Superusers who only own the schema that came with the database are not named.
func Makers(d catalog.AccessDatabase) []string {
	out := []string{d.Owner}
	add := func(name string) {
		if name != "" && name != databaseOwner && !slices.Contains(out, name) {
			out = append(out, name)
		}
	}
	if d.Interior != nil {
		for _, c := range d.Interior.Classes {
			switch c.Scope {
			case catalog.ScopeTable, catalog.ScopeSequence:
				add(c.Owner)
			case catalog.ScopeSchema:
				if c.Schema != "public" {
					add(c.Owner)
				}
				for _, e := range c.Entries {
					if e.Privileges.Has(privilege.Create) && e.Grantee != catalog.Public && e.Grantee.Name != c.Owner {
						add(e.Grantee.Name)
					}
				}
			}
		}
	}
	return out
}

// object lists what any node holds, by itself, on one object.
func (p postgreSQL) object(o catalog.Object, _ []int32) []gift {
	db, ok := p.g.database[o.Database]
	if !ok {
		return nil
	}
	facets, held := p.gifts(db)
	fits := make([]bool, len(facets))
	for i, f := range facets {
		fits[i] = f.Fits(o) ||
			// Who has a privilege on a table has it on its columns.
			o.Scope == catalog.ScopeColumn && f.Scope == catalog.ScopeTable && f.Schema == o.Schema && f.Name == o.Name
	}
	return slices.DeleteFunc(held, func(h gift) bool { return !fits[h.facet] })
}

// needs is what it takes to use a privilege on an object: the way into the
// database, into the schema, and the privilege itself.
func (p postgreSQL) needs(want privilege.Set, o catalog.Object) []need {
	var out []need
	if o.Scope != catalog.ScopeServer && !(o.Scope == catalog.ScopeDatabase && want == privilege.Connect) {
		out = append(out, need{privilege.Connect, catalog.Object{Scope: catalog.ScopeDatabase, Database: o.Database}})
	}
	if o.Schema != "" && !(o.Scope == catalog.ScopeSchema && want == privilege.Usage) {
		out = append(out, need{privilege.Usage, catalog.Object{Scope: catalog.ScopeSchema, Database: o.Database, Schema: o.Schema}})
	}
	return append(out, need{want, o})
}

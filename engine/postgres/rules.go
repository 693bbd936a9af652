package postgres

import (
	"slices"

	"example.com/genarch/core/access"
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

// rules are the rules of PostgreSQL: access lists of objects, ownership,
// memberships that are inherited or taken on, superusers.
type rules struct {
	g *access.Graph
	// makers and futures are those of each database, by position.
	makers  [][]string
	futures [][]catalog.DefaultPrivilege
}

// Rules prepares PostgreSQL's judgement of a reading.
func (Engine) Rules(g *access.Graph) access.Rules {
	a := g.Access()
	for _, m := range a.Memberships {
		member, role := g.Node(m.Member), g.Node(m.Role)
		switch {
		case m.Inherit:
			g.Join(member, role, true)
		case m.Set:
			g.Join(member, role, false)
		}
	}
	p := rules{g: g, makers: make([][]string, len(a.Databases)),
		futures: make([][]catalog.DefaultPrivilege, len(a.Databases))}
	for i, d := range a.Databases {
		if d.Interior != nil {
			p.makers[i] = makers(d)
			p.futures[i] = withMakers(d.Interior.Futures, p.makers[i])
		}
	}
	return p
}

// withMakers adds, for makers without any default privileges, empty ones: what
// they will make is theirs alone.
func withMakers(list []catalog.DefaultPrivilege, makers []string) []catalog.DefaultPrivilege {
	out := slices.Clone(list)
	for _, maker := range makers {
		for _, on := range []catalog.Scope{catalog.ScopeTable, catalog.ScopeSequence} {
			if !slices.ContainsFunc(list, func(f catalog.DefaultPrivilege) bool {
				return f.Maker == maker && f.On == on &&
					f.Schema == ""
			}) {
				out = append(out, catalog.DefaultPrivilege{Maker: maker, On: on})
			}
		}
	}
	return out
}

// Base: to a superuser nothing is refused.
func (p rules) Base(v int32) privilege.Set {
	if acc, ok := p.g.At(v); ok && acc.Super {
		return table.All().Or(privilege.Own)
	}
	return privilege.Set{}
}

// Table has the privileges of the engine.
func (rules) Table() *privilege.Table { return table }

// BaseInherited: to be a superuser is not inherited.
func (p rules) BaseInherited() bool { return false }

// BaseDenied: nothing is denied.
func (p rules) BaseDenied() bool { return false }

// graph prepares a reading of this engine.
func graph(a catalog.Access) *access.Graph { return access.New(a, Engine{}.Rules) }

// Held lays out: securable 0 the database, then each class of objects, then each
// kind of objects that a maker will make.
//
// Long: each kind of object with its owner and its list.
func (p rules) Held(db int) ([]catalog.Object, []access.HeldEntry) {
	d := &p.g.Access().Databases[db]
	securables := []catalog.Object{{Scope: catalog.ScopeDatabase, Database: d.Name}}
	var held []access.HeldEntry
	add := func(securable int, owner string, entries []catalog.Entry) {
		if owner != "" {
			held = append(
				held,
				access.HeldEntry{Node: p.g.Known(role(owner)), Facet: int32(securable), Set: privilege.Own,
					Via: access.ViaOwner},
			)
		}
		for _, e := range entries {
			h := access.HeldEntry{
				Node:      p.g.Known(e.Grantee),
				Facet:     int32(securable),
				Set:       e.Privileges,
				Grantable: e.Grantable,
				Via:       access.ViaGrant,
				Text:      e.Grantor,
			}
			switch {
			case e.Builtin && e.Grantee == catalog.Public:
				h.Via = access.ViaBuiltin
			case e.Grantee.Name == owner:
				h.Via = access.ViaOwner
			case e.Grantee == catalog.Public:
				h.Via = access.ViaPublic
			}
			held = append(held, h)
		}
	}
	add(0, d.Owner, d.Entries)
	if in := d.Interior; in != nil {
		for _, c := range in.Classes {
			securables = append(securables, c.Object)
			add(len(securables)-1, c.Owner, c.Entries)
			held = append(held, p.predefined(c.Scope, len(securables)-1)...)
		}
		for _, f := range p.futures[db] {
			securables = append(
				securables,
				catalog.Object{Scope: catalog.ScopeFuture, Database: d.Name, Schema: f.Schema,
					Name: string(f.On)},
			)
			add(len(securables)-1, f.Maker, f.Entries)
			held = append(held, p.predefined(f.On, len(securables)-1)...)
		}
	}
	// What pg_database_owner has, the owner of this database has; before version
	// 16 only if it inherits at all.
	owns, _ := p.g.Account(role(d.Owner))
	inherits := owns.Inherit || p.g.Access().Number >= 160000
	if owner, dbo := p.g.Known(role(d.Owner)), p.g.Known(role(databaseOwner)); inherits && owner >= 0 && dbo >= 0 {
		for _, h := range held {
			if h.Node == dbo {
				h.Node, h.Via, h.Text = owner, access.ViaOwner, databaseOwner
				held = append(held, h)
			}
		}
	}
	return securables, slices.DeleteFunc(held, func(h access.HeldEntry) bool { return h.Node < 0 })
}

// predefined is what the roles that reach all data hold on an object. Source:
// the manual's "Predefined Roles", tried on 15 and 18.
func (p rules) predefined(scope catalog.Scope, securable int) []access.HeldEntry {
	var out []access.HeldEntry
	add := func(name string, set privilege.Set) {
		if v := p.g.Known(role(name)); v >= 0 && !set.Empty() {
			out = append(
				out,
				access.HeldEntry{Node: v, Facet: int32(securable), Set: set, Via: access.ViaServer, Text: name},
			)
		}
	}
	switch scope {
	case catalog.ScopeSchema:
		add(readAllData, may.Usage)
		add(writeAllData, may.Usage)
	case catalog.ScopeTable:
		add(readAllData, may.Select)
		add(writeAllData, may.Insert.Or(may.Update, may.Delete))
		add(maintainAll, may.Maintain)
	case catalog.ScopeSequence:
		add(readAllData, may.Select)
		add(writeAllData, may.Update)
	}
	return out
}

// Level: to own the database, or a way in and the same bundle on every object.
func (p rules) Level(db int, have []privilege.Set) access.Cell {
	d := &p.g.Access().Databases[db]
	if have[0].Has(privilege.Own) {
		return access.Cell{Level: access.Own}
	}
	if !have[0].Has(may.Connect) || d.Closed {
		return access.Cell{Level: access.None}
	}
	if d.Interior == nil {
		return access.Cell{Level: access.Unknown}
	}
	objects := have[1 : 1+len(d.Interior.Classes)]
	anything, holdsData := have[0].Has(may.Create), false
	for i, s := range objects {
		switch scope := d.Interior.Classes[i].Scope; scope {
		case catalog.ScopeTable, catalog.ScopeSequence:
			anything, holdsData = anything || s.Any(table.All()), true
		case catalog.ScopeSchema:
			anything = anything || s.Has(may.Create)
		}
	}
	futures := have[1+len(objects):]
	for i := len(access.Bundles) - 2; i >= 0; i-- { // own is more than privileges
		b := access.Bundles[i]
		if !p.covers(d, objects, b, have[0]) || !holdsData && !p.future(db, futures, b) {
			continue
		}
		return access.Cell{Level: b.Level(), More: p.exceeds(d, objects, b, have[0]),
			Gap: b != access.BundleBuild && !p.future(db, futures, b)}
	}
	if anything {
		return access.Cell{Level: access.Custom}
	}
	return access.Cell{Level: access.Connect}
}

// covers reports whether every object has at least the bundle.
func (p rules) covers(d *catalog.AccessDatabase, objects []privilege.Set, b access.Bundle,
	database privilege.Set) bool {
	if !database.Has(bundles[b][catalog.ScopeDatabase]) {
		return false
	}
	for i, s := range objects {
		if !s.Has(privilege.Own) && !s.Has(bundles[b][d.Interior.Classes[i].Scope]) {
			return false
		}
	}
	return true
}

// exceeds reports whether some object has more than the bundle; what everybody
// has at first (routines, types, temporary tables) does not count.
func (p rules) exceeds(d *catalog.AccessDatabase, objects []privilege.Set, b access.Bundle,
	database privilege.Set) bool {
	if !bundles[b][catalog.ScopeDatabase].Or(may.Connect, may.Temporary).Has(database) {
		return true
	}
	for i, s := range objects {
		c := &d.Interior.Classes[i]
		if c.Scope != catalog.ScopeRoutine && !bundles[b][c.Scope].Has(s) {
			return true
		}
	}
	return false
}

// future reports whether what every maker will make is covered. Makers are who
// owns something there: the default privileges of all others bear on nothing.
func (p rules) future(db int, futures []privilege.Set, b access.Bundle) bool {
	for _, on := range []catalog.Scope{catalog.ScopeTable, catalog.ScopeSequence} {
		for _, maker := range p.makers[db] {
			covered := false
			for i, f := range p.futures[db] {
				if f.Maker == maker && f.On == on && f.Schema == "" &&
					(futures[i].Has(bundles[b][on]) || futures[i].Has(privilege.Own)) {
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

// makers lists who makes things in a PostgreSQL database: its owner and
// whoever owns a schema, table or sequence there, or may create in a schema.
// Superusers who only own the schema that came with the database are not named.
func makers(d catalog.AccessDatabase) []string {
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
					if e.Privileges.Has(may.Create) && e.Grantee != catalog.Public && e.Grantee.Name != c.Owner {
						add(e.Grantee.Name)
					}
				}
			}
		}
	}
	return out
}

// Object lists what any node holds, by itself, on one object.
func (p rules) Object(o catalog.Object, _ []int32) []access.HeldEntry {
	db, ok := p.g.Database(o.Database)
	if !ok {
		return nil
	}
	securables, held := p.Held(db)
	fits := make([]bool, len(securables))
	for i, f := range securables {
		fits[i] = f.Fits(o) ||
			// Who has a privilege on a table has it on its columns.
			o.Scope == catalog.ScopeColumn && f.Scope == catalog.ScopeTable && f.Schema == o.Schema && f.Name == o.Name
	}
	return slices.DeleteFunc(held, func(h access.HeldEntry) bool { return !fits[h.Facet] })
}

// Needs is what it takes to use a privilege on an object: the way into the
// database, into the schema, and the privilege itself.
func (p rules) Needs(want privilege.Set, o catalog.Object) []access.Requirement {
	var out []access.Requirement
	if o.Scope != catalog.ScopeServer && !(o.Scope == catalog.ScopeDatabase && want == may.Connect) {
		out = append(out, access.Requirement{Privilege: may.Connect,
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: o.Database}})
	}
	if o.Schema != "" && !(o.Scope == catalog.ScopeSchema && want == may.Usage) {
		out = append(out, access.Requirement{Privilege: may.Usage,
			Object: catalog.Object{Scope: catalog.ScopeSchema, Database: o.Database, Schema: o.Schema}})
	}
	return append(out, access.Requirement{Privilege: want, Object: o})
}

// Holds reports whether a database was looked into, and has such an object.
func (p rules) Holds(db int, o catalog.Object) bool {
	in := p.g.Access().Databases[db].Interior
	return in != nil && slices.ContainsFunc(in.Classes, func(c catalog.Class) bool {
		return c.Schema == o.Schema && (o.Scope == catalog.ScopeSchema || c.Name == o.Name || c.Object.Fits(o))
	})
}

// Named: a grant names what it is on.
func (p rules) Named(o catalog.Object) (database string, pattern bool) { return o.Database, false }

// Fits: there are no patterns.
func (p rules) Fits(string, string) bool { return false }

// Marks tells what is powerful about a role, and weak about its password.
func (p rules) Marks(a catalog.Account) []access.Mark {
	var out []access.Mark
	if a.Super || slices.Contains(a.Attributes, "CREATEROLE") {
		out = append(out, access.Powerful(a.Super))
	}
	if a.Login && !a.Locked && a.Password != nil && !*a.Password {
		out = append(out, access.Mark{Code: "no_password", Trap: true,
			Text: "it has no password: it signs in only where pg_hba.conf asks for none, or by another way"})
	}
	if a.Method == "md5" {
		out = append(out, access.Mark{Code: "weak_method",
			Text: "its password is kept as md5; set it again to have it kept as SCRAM-SHA-256"})
	}
	return out
}

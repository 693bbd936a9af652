package sqlserver

import (
	"slices"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// rules are those of SQL Server: a denial beats every grant, at whatever level and by whatever role it
// comes, but for administrators, the owner of the database, and who owns the object; and a grant on a
// column beats a denial on its table.
type rules struct {
	g *access.Graph
	// inside are the users and roles of each database, by its name; of are the roles that each is in,
	// by whatever way, itself among them.
	inside map[string][]int32
	of     map[int32][]int32
}

func newRules(g *access.Graph) *rules {
	r := &rules{g: g, inside: map[string][]int32{}, of: map[int32][]int32{}}
	a := g.Access()
	roles := map[int32][]int32{}
	mapped := map[[2]string]bool{} // login and database
	for _, m := range a.Memberships {
		member, role := g.Node(m.Member), g.Node(m.Role)
		g.Join(member, role, true)
		if m.Grantor == actsAs {
			mapped[[2]string{m.Member.Name, m.Role.Database}] = true
			continue
		}
		roles[member] = append(roles[member], role)
	}
	for _, x := range a.Accounts {
		v := g.Node(x.Principal)
		if x.Database == "" {
			continue
		}
		r.inside[x.Database] = append(r.inside[x.Database], v)
		if everybody := (catalog.Principal{Name: "public", Database: x.Database, Role: true}); !x.Role {
			g.Join(v, g.Node(everybody), true)
			roles[v] = append(roles[v], g.Node(everybody))
		}
	}
	enters := r.enterAnywhere(a, roles)
	for _, d := range a.Databases {
		guest := catalog.Principal{Name: "guest", Database: d.Name}
		opens := slices.ContainsFunc(d.Entries, func(e catalog.Entry) bool {
			return e.Grantee == guest && e.Privileges.Has(connect)
		})
		for _, x := range a.Accounts {
			if (opens || enters[x.Name]) && x.Database == "" && x.Login && !mapped[[2]string{x.Name, d.Name}] {
				g.Join(g.Node(x.Principal), g.Node(guest), true)
			}
		}
	}
	for _, list := range r.inside {
		for _, v := range list {
			r.of[v] = closure(v, roles)
		}
	}
	return r
}

// enterAnywhere are the logins that need no user to be let into a database: there they act as guest.
func (r *rules) enterAnywhere(a catalog.Access, roles map[int32][]int32) map[string]bool {
	out := map[string]bool{}
	for _, x := range a.Accounts {
		if x.Database != "" || !x.Login {
			continue
		}
		for _, v := range closure(r.g.Node(x.Principal), roles) {
			if y, ok := r.g.At(v); ok && y.Global.Any(table.Of("CONNECT ANY DATABASE", "CONTROL SERVER")) {
				out[x.Name] = true
			}
		}
	}
	return out
}

// closure is a node with all that it is in.
func closure(v int32, roles map[int32][]int32) []int32 {
	out := []int32{v}
	for i := 0; i < len(out); i++ {
		for _, role := range roles[out[i]] {
			if !slices.Contains(out, role) {
				out = append(out, role)
			}
		}
	}
	return out
}

// Table has the privileges of the engine.
func (*rules) Table() *privilege.Table { return table }

// Base is what a node holds on the whole server: administrators everything.
func (r *rules) Base(v int32) privilege.Set {
	a, ok := r.g.At(v)
	switch {
	case !ok || a.Database != "":
		return privilege.Set{}
	case a.Super && !a.Role:
		return table.All().Or(privilege.Own)
	}
	return a.Global
}

// BaseInherited: members of a server role have what it has.
func (*rules) BaseInherited() bool { return true }

// BaseDenied: what administrators may do is denied to them nowhere. What others hold on the whole server
// reaches into a database by entries of its own, which can be denied.
func (*rules) BaseDenied() bool { return false }

// level is what was granted and denied at one level, by node.
type level struct{ granted, denied map[int32]privilege.Set }

func (r *rules) levelOf(entries []catalog.Entry) level {
	l := level{map[int32]privilege.Set{}, map[int32]privilege.Set{}}
	for _, e := range entries {
		if v := r.g.Known(e.Grantee); v >= 0 {
			l.granted[v] = l.granted[v].Or(e.Privileges)
			l.denied[v] = l.denied[v].Or(e.Denied)
		}
	}
	return l
}

// onDatabase is what holds on a database itself, what its fixed roles hold among it.
func (r *rules) onDatabase(d catalog.AccessDatabase) level {
	l := r.levelOf(d.Entries)
	for name, set := range databaseRoles {
		if v := r.g.Known(catalog.Principal{Name: name, Database: d.Name, Role: true}); v >= 0 {
			l.granted[v] = l.granted[v].Or(set)
		}
	}
	for name, set := range deniers {
		if v := r.g.Known(catalog.Principal{Name: name, Database: d.Name, Role: true}); v >= 0 {
			l.denied[v] = l.denied[v].Or(set)
		}
	}
	if v := r.g.Known(dbo(d.Name)); v >= 0 {
		l.granted[v] = l.granted[v].Or(control)
	}
	return l
}

func dbo(database string) catalog.Principal {
	return catalog.Principal{Name: "dbo", Database: database}
}

// owns reports whether a node is in the owner of something.
func (r *rules) owns(v int32, database, owner string) bool {
	return owner != "" && slices.ContainsFunc(r.of[v], func(u int32) bool {
		p := r.g.Nodes()[u]
		return p.Name == owner && p.Database == database
	})
}

// deniedTo is what a level denies to a user, by all that he is in.
func (r *rules) deniedTo(l level, v int32) (out privilege.Set) {
	for _, u := range r.of[v] {
		out = out.Or(l.denied[u])
	}
	return out
}

// Held lists what holds on a database and on each of its schemas.
func (r *rules) Held(db int) ([]catalog.Object, []access.HeldEntry) {
	d := r.g.Access().Databases[db]
	securables := []catalog.Object{{Scope: catalog.ScopeDatabase, Database: d.Name}}
	if d.Interior == nil {
		return securables, nil
	}
	base := r.onDatabase(d)
	levels, owners := []level{base}, []string{""}
	for _, c := range d.Interior.Classes {
		if c.Scope == catalog.ScopeSchema {
			securables = append(securables, c.Object)
			levels, owners = append(levels, r.levelOf(c.Entries)), append(owners, c.Owner)
		}
	}
	var out []access.HeldEntry
	put := func(v int32, facet int, set privilege.Set, deny bool, via access.Via) {
		if !set.Empty() {
			out = append(out, access.HeldEntry{Node: v, Facet: int32(facet), Set: set, Deny: deny, Via: via})
		}
	}
	for _, v := range r.inside[d.Name] {
		owner := r.g.Nodes()[v] == dbo(d.Name)
		on := covered(base.granted[v])
		no := covered(r.deniedTo(base, v))
		for i, l := range levels {
			set, refused := on, no
			if i > 0 {
				set = toSchema(on).Or(coveredIn(l.granted[v], onSchema))
				refused = toSchema(no).Or(coveredIn(r.deniedTo(l, v), onSchema))
				if r.owns(v, d.Name, owners[i]) {
					set, refused = onSchema, privilege.Set{}
				}
			}
			put(v, i, set, false, access.ViaGrant)
			if !owner && !r.g.Nodes()[v].Role {
				put(v, i, refused, true, access.ViaGrant)
			}
		}
	}
	for _, a := range r.g.Access().Accounts {
		set := covered(toDatabase(a.Global))
		if a.Database != "" || set.Empty() {
			continue
		}
		v := r.g.Known(a.Principal)
		put(v, 0, set, false, access.ViaServer)
		for i := 1; i < len(levels); i++ {
			put(v, i, toSchema(set), false, access.ViaServer)
		}
	}
	return securables, out
}

// Object lists what some nodes hold, each by itself, on one object.
//
// Long: the levels stand one after the other, the widest first.
func (r *rules) Object(o catalog.Object, nodes []int32) []access.HeldEntry {
	db, there := r.g.Database(o.Database)
	if !there {
		return nil
	}
	d := r.g.Access().Databases[db]
	if d.Interior == nil {
		return nil
	}
	base := r.onDatabase(d)
	var schema, object, column level
	schemaOwner, objectOwner := "", ""
	for _, c := range d.Interior.Classes {
		switch {
		case c.Scope == catalog.ScopeSchema && c.Schema == o.Schema:
			schema, schemaOwner = r.levelOf(c.Entries), c.Owner
		case o.Scope == catalog.ScopeDatabase || o.Scope == catalog.ScopeSchema:
		case c.Schema != o.Schema || c.Name != o.Name || c.Scope == catalog.ScopeSchema:
		case c.Scope == catalog.ScopeColumn && o.Scope == catalog.ScopeColumn && c.Column == o.Column:
			column = r.levelOf(c.Entries)
			objectOwner = c.Owner
		case c.Scope != catalog.ScopeColumn:
			object, objectOwner = r.levelOf(c.Entries), c.Owner
		}
	}
	reach := func(onDatabase, onItsSchema, onItself, onColumn privilege.Set) privilege.Set {
		set := covered(onDatabase)
		if o.Scope == catalog.ScopeDatabase {
			return set
		}
		set = toSchema(set).Or(coveredIn(onItsSchema, onSchema))
		if o.Scope == catalog.ScopeSchema {
			return set
		}
		return toObject(set).Or(coveredIn(onItself, onObject)).Or(coveredIn(onColumn, onObject))
	}
	var out []access.HeldEntry
	for _, v := range nodes {
		p := r.g.Nodes()[v]
		if p.Database == "" {
			if a, ok := r.g.At(v); ok {
				if set := reach(toDatabase(a.Global), privilege.Set{}, privilege.Set{}, privilege.Set{}); !set.Empty() {
					out = append(out, access.HeldEntry{Node: v, Set: set, Via: access.ViaServer})
				}
			}
			continue
		}
		if p.Database != o.Database {
			continue
		}
		if o.Scope != catalog.ScopeDatabase && (r.owns(v, d.Name, objectOwner) && o.Scope != catalog.ScopeSchema ||
			r.owns(v, d.Name, schemaOwner)) {
			out = append(out, access.HeldEntry{Node: v, Set: onObject.Or(onSchema).Or(privilege.Own),
				Via: access.ViaOwner})
			continue
		}
		set := reach(base.granted[v], schema.granted[v], object.granted[v], column.granted[v])
		if !set.Empty() {
			out = append(out, access.HeldEntry{Node: v, Set: set, Via: access.ViaGrant})
		}
		if p.Role || p == dbo(d.Name) {
			continue
		}
		var onColumn privilege.Set
		for _, u := range r.of[v] {
			onColumn = onColumn.Or(column.granted[u])
		}
		for _, u := range r.of[v] {
			above := reach(base.denied[u], schema.denied[u], privilege.Set{}, privilege.Set{})
			onTable := coveredIn(object.denied[u], onObject).Minus(onColumn)
			no := above.Or(coveredIn(column.denied[u], onObject))
			if o.Scope != catalog.ScopeDatabase && o.Scope != catalog.ScopeSchema {
				no = no.Or(onTable)
			}
			if no.Empty() {
				continue
			}
			e := access.HeldEntry{Node: v, Set: no, Deny: true, Via: access.ViaGrant}
			if u != v {
				e.Text = "the role " + r.g.Nodes()[u].Name
			}
			out = append(out, e)
		}
	}
	return out
}

// Needs is what it takes to use a privilege on an object: that, and to be let into its database.
func (*rules) Needs(p privilege.Set, o catalog.Object) []access.Requirement {
	out := []access.Requirement{{Privilege: p, Object: o}}
	if o.Scope != catalog.ScopeServer && p != connect {
		out = append(out, access.Requirement{Privilege: connect,
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: o.Database}})
	}
	return out
}

// Level judges what an account has on a database: the largest bundle of which it has all, on the
// database or on each of its schemas.
func (*rules) Level(_ int, have []privilege.Set) access.Cell {
	on, schemas := have[0].And(onDatabase), have[1:]
	switch {
	case on.Has(control):
		return access.Cell{Level: access.Own}
	case !on.Has(connect):
		return access.Cell{Level: access.None}
	}
	everywhere := onSchema
	var anywhere privilege.Set
	for _, s := range schemas {
		everywhere, anywhere = everywhere.And(s), anywhere.Or(s.And(onSchema))
	}
	if len(schemas) > 0 {
		on = on.Or(everywhere)
	}
	for i := len(access.Bundles) - 1; i >= 0; i-- {
		b, known := bundles[access.Bundles[i]]
		if known && on.Has(b.onDatabase) && on.Has(b.onSchemas) {
			want := b.onDatabase.Or(toSchema(b.onDatabase)).Or(b.onSchemas)
			return access.Cell{Level: access.Bundles[i].Level(), More: !want.Has(on.Or(anywhere))}
		}
	}
	if on == connect && anywhere.Empty() {
		return access.Cell{Level: access.Connect}
	}
	return access.Cell{Level: access.Custom}
}

// Holds reports whether a database was looked into: what nothing was granted on is as its schema.
func (r *rules) Holds(db int, _ catalog.Object) bool {
	return r.g.Access().Databases[db].Interior != nil
}

// Named is the database that an object lies in.
func (*rules) Named(o catalog.Object) (string, bool) { return o.Database, false }

// Fits: no grant is on a pattern.
func (*rules) Fits(string, string) bool { return false }

// Marks tells what an account may do on the whole server, and which users belong to nobody.
func (r *rules) Marks(a catalog.Account) []access.Mark {
	switch {
	case a.Database != "" && a.Properties.Text("kind") == orphan:
		return []access.Mark{{Code: orphan, Trap: true, Text: "its login is gone, or was made anew: nobody acts as it"}}
	case a.Database != "":
		return nil
	case a.Super:
		return []access.Mark{access.Powerful(true)}
	case a.Global.Has(table.Of("CONTROL SERVER")), a.Global.Has(table.Of("ALTER ANY LOGIN")):
		return []access.Mark{access.Powerful(false)}
	}
	return nil
}

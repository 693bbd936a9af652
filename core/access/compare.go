package access

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
)

// Line is one thing that an account has: on an object, by itself.
type Line struct {
	Object catalog.Object
	// Pattern: the database's name is a pattern and opens more than one.
	Pattern    bool
	Holder     catalog.Principal
	Privileges privilege.Set
	Grantable  privilege.Set
	Denied     privilege.Set
	Grantor    string
	// On is what kind of object a line at ScopeFuture is about.
	On catalog.Scope
	// Count is how many objects of that kind there are together.
	Count int
	// Owner: it owns the object. Builtin: nothing was ever granted there.
	Owner, Builtin bool
}

// Text says in words what the line is about.
func (l Line) Text() string {
	o := l.Object
	switch {
	case o.Scope == catalog.ScopeServer:
		return "the whole server"
	case o.Scope == catalog.ScopeFuture:
		where := o.Database
		if o.Schema != "" {
			where += "." + o.Schema
		}
		return "each " + o.Name + " in " + where + " from now on"
	case l.Pattern:
		return "databases like " + o.Database
	case o.Scope == catalog.ScopeDatabase:
		return "database " + naming.Show(o.Database)
	case l.Count > 1:
		return fmt.Sprintf("%d %ss in %s.%s", l.Count, o.Scope, o.Database, o.Schema)
	case o.Schema != "" && o.Scope == catalog.ScopeSchema:
		return "schema " + o.Database + "." + o.Schema
	case o.Schema != "":
		return string(o.Scope) + " " + o.Database + "." + ObjectText(o)
	}
	return string(o.Scope) + " " + ObjectText(o)
}

// lines walks through everything that anybody was given or owns, in the order of
// the reading.
func (g *Graph) lines(yield func(Line)) {
	for _, a := range g.access.Accounts {
		if !a.Global.Empty() {
			l := Line{Object: catalog.Object{Scope: catalog.ScopeServer}, Holder: a.Principal, Privileges: a.Global,
				Count: 1}
			if a.GlobalGrant {
				l.Grantable = a.Global
			}
			yield(l)
		}
	}
	for _, gr := range g.access.Grants {
		l := Line{Object: gr.Object, Holder: gr.Grantee, Privileges: gr.Privileges, Grantable: gr.Grantable,
			Denied: gr.Denied, Grantor: gr.Grantor, Count: 1}
		l.Object.Database, l.Pattern = g.rules.Named(gr.Object)
		yield(l)
	}
	add := func(o catalog.Object, count int, owner string, entries []catalog.Entry) {
		listed := owner == ""
		for _, e := range entries {
			owns := !listed && e.Grantee == catalog.Principal{Name: owner}
			yield(Line{Object: o, Holder: e.Grantee, Privileges: e.Privileges, Grantable: e.Grantable, Denied: e.Denied,
				Grantor: e.Grantor, Count: count, Owner: owns, Builtin: e.Builtin})
			listed = listed || owns
		}
		if !listed {
			yield(Line{Object: o, Holder: catalog.Principal{Name: owner}, Count: count, Owner: true})
		}
	}
	for _, d := range g.access.Databases {
		add(catalog.Object{Scope: catalog.ScopeDatabase, Database: d.Name}, 1, d.Owner, d.Entries)
		if d.Interior == nil {
			continue
		}
		for _, c := range d.Interior.Classes {
			o := c.Object
			if c.Name == "" && c.Count == 1 {
				o.Name = c.Example
			}
			add(o, c.Count, c.Owner, c.Entries)
		}
		for _, f := range d.Interior.Futures {
			o := catalog.Object{Scope: catalog.ScopeFuture, Database: d.Name, Schema: f.Schema,
				Name: string(f.On) + " made by " + f.Maker}
			for _, e := range f.Entries {
				yield(Line{Object: o, On: f.On, Holder: e.Grantee, Privileges: e.Privileges, Grantable: e.Grantable,
					Grantor: e.Grantor})
			}
		}
	}
}

// Direct lists what was given to p itself, or what it owns.
func (g *Graph) Direct(p catalog.Principal) []Line {
	var out []Line
	g.lines(func(l Line) {
		if l.Holder == p {
			out = append(out, l)
		}
	})
	return out
}

// On lists who was granted anything on a database, or in it, or owns it.
func (g *Graph) On(database string) []Line {
	var out []Line
	g.lines(func(l Line) {
		if g.Opens(l, database) {
			out = append(out, l)
		}
	})
	return out
}

// Difference is one thing in which two accounts are not alike.
type Difference struct {
	// What it is about: a property, a membership, a level on a database.
	What        string
	Left, Right string
}

// Compare lists in what two accounts differ, each on the server of its graph:
// properties, memberships, and what they come to on each database.
func Compare(left *Graph, a catalog.Principal, right *Graph, b catalog.Principal) []Difference {
	x, y := left.traits(a), right.traits(b)
	keys := slices.Sorted(maps.Keys(x))
	for _, k := range slices.Sorted(maps.Keys(y)) {
		if _, ok := x[k]; !ok {
			keys = append(keys, k)
		}
	}
	var out []Difference
	for _, k := range keys {
		if x[k] != y[k] {
			out = append(out, Difference{What: k, Left: x[k], Right: y[k]})
		}
	}
	return out
}

// traits writes everything that makes an account what it is, by name.
//
// Long: a list of what is compared.
func (g *Graph) traits(p catalog.Principal) map[string]string {
	out := map[string]string{}
	a, ok := g.Account(p)
	if !ok {
		return out
	}
	say := func(what string, yes bool) {
		if yes {
			out[what] = "yes"
		}
	}
	say("may sign in", a.Login)
	say("superuser", a.Super)
	say("locked", a.Locked)
	say("password expired", a.Expired)
	say("may pass on server privileges", a.GlobalGrant)
	for _, name := range a.Attributes {
		out["attribute "+name] = "yes"
	}
	for _, name := range a.Global.Names() {
		out["on the whole server: "+name] = "yes"
	}
	if a.ConnectionLimit >= 0 {
		out["connection limit"] = fmt.Sprint(a.ConnectionLimit)
	}
	if a.TLS != "" {
		out["TLS demanded"] = a.TLS
	}
	if a.Login && a.Method != "" {
		out["method"] = a.Method
	}
	atOnce, dormant := g.Roles(p)
	for _, r := range atOnce {
		out["member of "+r.String()] = "yes"
	}
	for _, r := range dormant {
		out["member of "+r.String()] = "after SET ROLE"
	}
	m := g.Matrix(func(other catalog.Account) bool { return other.Principal == p }, nil)
	for i, name := range m.Databases {
		if c := m.At(0, i); c.Level != None {
			out["database "+name] = c.Level.String()
		}
	}
	for _, l := range g.Direct(p) {
		if l.Object.Scope != catalog.ScopeServer && !l.Privileges.Empty() {
			key := string(l.Object.Scope) + " " + ObjectText(l.Object)
			if l.Object.Scope == catalog.ScopeDatabase {
				key = "privileges on database " + l.Object.Database
			}
			text := l.Privileges.String()
			if l.Count > 1 {
				text = fmt.Sprintf("%s (%d objects)", text, l.Count)
			}
			if !l.Grantable.Empty() {
				text += " with the right to pass on"
			}
			if old := out[key]; old != "" {
				text = old + "; " + text
			}
			out[key] = text
		}
	}
	return out
}

// ObjectText writes an object as people do: database, schema.table, its column.
func ObjectText(o catalog.Object) string {
	text := o.Name
	if o.Schema != "" {
		text = o.Schema
		if o.Name != "" {
			text += "." + o.Name + o.Args
		}
	}
	switch {
	case o.Scope == catalog.ScopeServer:
		return "the whole server"
	case text == "":
		text = o.Database
	case o.Schema == "":
		text = o.Database + "." + text
	}
	if o.Column != "" {
		text += "." + o.Column
	}
	return text
}

// WideGrant is a grant by a pattern and what it opens beside the database whose
// name it bears.
type WideGrant struct {
	Line
	Opens []string
}

// Wider lists the grants that open more databases than they seem to name.
func (g *Graph) Wider() []WideGrant {
	var out []WideGrant
	g.lines(func(l Line) {
		if !l.Pattern {
			return
		}
		w := WideGrant{Line: l}
		named := false
		for _, d := range g.access.Databases {
			if strings.EqualFold(d.Name, l.Object.Database) {
				named = true
			} else if g.Opens(l, d.Name) {
				w.Opens = append(w.Opens, d.Name)
			}
		}
		if named || len(w.Opens) > 0 {
			out = append(out, w)
		}
	})
	return out
}

// Leftovers lists the grants on databases that do not exist: where an engine keeps
// them, they take effect again with a database of that name.
func (g *Graph) Leftovers() []Line {
	var out []Line
	g.lines(func(l Line) {
		if l.Object.Scope != catalog.ScopeServer &&
			!slices.ContainsFunc(g.access.Databases,
				func(d catalog.AccessDatabase) bool { return g.Opens(l, d.Name) }) {
			out = append(out, l)
		}
	})
	return out
}

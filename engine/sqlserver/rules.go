package sqlserver

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// rules are those of SQL Server.
type rules struct{ g *access.Graph }

// Table has the privileges of the engine.
func (*rules) Table() *privilege.Table { return table }

// Base is what a node holds on the whole server.
func (r *rules) Base(v int32) privilege.Set {
	a, ok := r.g.At(v)
	if ok && a.Super {
		return table.All()
	}
	return a.Global
}

// BaseInherited: members of a server role have what it has.
func (*rules) BaseInherited() bool { return true }

// BaseDenied: who may do everything on the server is denied nothing.
func (*rules) BaseDenied() bool { return false }

// Held lists what holds on one database.
func (*rules) Held(int) ([]catalog.Object, []access.HeldEntry) { return nil, nil }

// Object lists what holds on one object.
func (*rules) Object(catalog.Object, []int32) []access.HeldEntry { return nil }

// Needs is what it takes to use a privilege on an object.
func (*rules) Needs(p privilege.Set, o catalog.Object) []access.Requirement {
	return []access.Requirement{{Privilege: p, Object: o}}
}

// Level judges what an account has on a database.
func (*rules) Level(_ int, have []privilege.Set) access.Cell {
	if len(have) > 0 && have[0].Has(table.Of("CONTROL")) {
		return access.Cell{Level: access.Own}
	}
	return access.Cell{Level: access.Unknown}
}

// Holds: what is in databases is not read.
func (*rules) Holds(int, catalog.Object) bool { return false }

// Named is the database that an object lies in.
func (*rules) Named(o catalog.Object) (string, bool) { return o.Database, false }

// Fits: no grant is on a pattern.
func (*rules) Fits(string, string) bool { return false }

// Marks tells what an account may do on the whole server.
func (*rules) Marks(a catalog.Account) []access.Mark {
	if a.Super {
		return []access.Mark{access.Powerful(true)}
	}
	return nil
}

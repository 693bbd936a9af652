package invented

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// rules: a permit on a vault holds for its boxes, and what is denied is refused.
type rules struct{ g *access.Graph }

func (r rules) Table() *privilege.Table { return table }

func (r rules) Base(int32) privilege.Set { return privilege.Set{} }

func (r rules) BaseInherited() bool { return false }

// BaseDenied: whoever may everything is refused nothing.
func (r rules) BaseDenied() bool { return false }

func (r rules) Held(db int) ([]catalog.Object, []access.HeldEntry) {
	name := r.g.Access().Databases[db].Name
	return []catalog.Object{{Scope: catalog.ScopeDatabase, Database: name}},
		r.held(catalog.Object{Scope: catalog.ScopeDatabase, Database: name})
}

func (r rules) Object(o catalog.Object, _ []int32) []access.HeldEntry { return r.held(o) }

// held lists what holds on a vault or on a box.
func (r rules) held(o catalog.Object) []access.HeldEntry {
	var out []access.HeldEntry
	for _, g := range r.g.Access().Grants {
		node := r.g.Known(g.Grantee)
		if g.Database != o.Database || g.Scope == catalog.ScopeTable && g.Name != o.Name || node < 0 {
			continue
		}
		for _, set := range []struct {
			privilege.Set
			deny bool
		}{{g.Privileges, false}, {g.Denied, true}} {
			if !set.Empty() {
				out = append(out, access.HeldEntry{Node: node, Set: set.Set, Deny: set.deny, Via: access.ViaGrant})
			}
		}
	}
	return out
}

func (r rules) Needs(p privilege.Set, o catalog.Object) []access.Requirement {
	return []access.Requirement{{Privilege: p, Object: o}}
}

func (r rules) Level(_ int, have []privilege.Set) access.Cell {
	for i := len(access.Bundles) - 1; i >= 0; i-- {
		b := access.Bundles[i]
		if want := table.Of(on[b]...); have[0].Has(want) {
			return access.Cell{Level: b.Level(), More: !want.Has(have[0])}
		}
	}
	if !have[0].Empty() {
		return access.Cell{Level: access.Custom}
	}
	return access.Cell{Level: access.None}
}

func (r rules) Holds(int, catalog.Object) bool { return true }

func (r rules) Named(o catalog.Object) (database string, pattern bool) { return o.Database, false }

func (r rules) Fits(string, string) bool { return false }

func (r rules) Marks(catalog.Account) []access.Mark { return nil }

package postgres

import (
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/planning"
)

// grantObjectText names what a grant is about.
func grantObjectText(spec change.GrantSpec) string {
	o := spec.Object()
	if o.Scope == catalog.ScopeDatabase {
		return naming.Show(o.Database)
	}
	return string(o.Scope) + " " + access.ObjectText(o) + " in " + naming.Show(o.Database)
}

// objectSQL names an object in GRANT and REVOKE: every name quoted, and behind a
// routine's name its argument types as the engine wrote them.
func objectSQL(o catalog.Object) string {
	name := quoteIdent(o.Schema) + "." + quoteIdent(o.Name)
	switch o.Scope {
	case catalog.ScopeDatabase:
		return "DATABASE " + quoteIdent(o.Database)
	case catalog.ScopeSchema:
		return "SCHEMA " + quoteIdent(o.Schema)
	case catalog.ScopeSequence:
		return "SEQUENCE " + name
	case catalog.ScopeRoutine:
		return "ROUTINE " + name + o.Args
	}
	return "TABLE " + name
}

// onColumns writes privileges, with their column where there is one.
func onColumns(set privilege.Set, column string) string {
	if column == "" {
		return set.String()
	}
	var out []string
	for _, name := range set.Names() {
		out = append(out, name+" ("+quoteIdent(column)+")")
	}
	return strings.Join(out, ", ")
}

// findObject finds what a grant names among what was read, and stops where it is
// not there or where the name fits several routines.
func findObject(b *change.Brief, named catalog.Object, d catalog.AccessDatabase) (catalog.Object, bool) {
	if named.Scope == catalog.ScopeDatabase {
		return named, true
	}
	var found []catalog.Object
	var schemas []string
	for _, c := range d.Interior.Classes {
		if c.Scope == catalog.ScopeSchema {
			schemas = append(schemas, c.Schema)
		}
		o := c.Object
		if o.Name == "" && c.Scope != catalog.ScopeSchema {
			continue // several objects, none of them by itself
		}
		if named.Scope == catalog.ScopeColumn && c.Scope == catalog.ScopeTable {
			o.Scope, o.Column = named.Scope, named.Column
		}
		if o.Fits(named) && !slices.Contains(found, o) {
			found = append(found, o)
		}
	}
	switch len(found) {
	case 1:
		return found[0], true
	case 0:
		b.Find(change.Stop, change.ObjectAbsent, "Name it as schema.name; schemas there: "+planning.Shorten(schemas),
			"There is no %s %s in %s.", named.Scope, naming.Show(access.ObjectText(named)), naming.Show(d.Name))
		return named, false
	}
	var all []string
	for _, o := range found {
		all = append(all, naming.Show(access.ObjectText(o)))
	}
	b.Find(change.Stop, change.ObjectAmbiguous, "Name it with its argument types: "+planning.Shorten(all),
		"%s fits several routines in %s.", naming.Show(access.ObjectText(named)), naming.Show(d.Name))
	return named, false
}

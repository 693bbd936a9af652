package mysqlfamily

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// bundlesWith are privileges on the database, which reach everything in it, what is made
// later included; more is what the product has besides for whoever owns it.
func bundlesWith(more privilege.Set) map[access.Bundle]privilege.Set {
	read := may.Select.Or(may.ShowView)
	write := read.Or(may.Insert, may.Update, may.Delete, may.Execute, may.CreateTemporaryTables, may.LockTables)
	build := write.Or(may.Create, may.Alter, may.Index, may.References, may.CreateView, may.CreateRoutine,
		may.AlterRoutine, may.Trigger)
	return map[access.Bundle]privilege.Set{access.BundleRead: read, access.BundleWrite: write,
		access.BundleBuild: build,
		access.BundleOwn:   build.Or(may.Drop, may.Event, more)}
}

// own is the bundle own: everything that can be given on one database. DROP is among them,
// for tables cannot be dropped without it; so its holder could drop the database itself,
// which the brief says.
func (p *product) own() privilege.Set { return p.bundles[access.BundleOwn] }

// onDatabase are the privileges of a bundle, as a description lists them.
func onDatabase(set privilege.Set) map[catalog.Scope][]string {
	return map[catalog.Scope][]string{catalog.ScopeDatabase: set.Names()}
}

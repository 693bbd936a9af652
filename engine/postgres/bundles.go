package postgres

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// bundles are privileges on the database, on every schema of its users, on every table
// (and view) and sequence in them. The same goes for what the owners of things there
// will make: default privileges. Own is no list of privileges but membership in the
// owning role, so its sets are those of build.
var bundles = func() map[access.Bundle]map[catalog.Scope]privilege.Set {
	sel := may.Select
	data := sel.Or(may.Insert, may.Update, may.Delete)
	build := map[catalog.Scope]privilege.Set{
		catalog.ScopeDatabase: may.Connect.Or(may.Temporary, may.Create),
		catalog.ScopeSchema:   may.Usage.Or(may.Create),
		catalog.ScopeTable:    data.Or(may.Truncate, may.References, may.Trigger),
		catalog.ScopeSequence: may.Usage.Or(sel, may.Update),
	}
	return map[access.Bundle]map[catalog.Scope]privilege.Set{
		access.BundleRead: {catalog.ScopeDatabase: may.Connect, catalog.ScopeSchema: may.Usage,
			catalog.ScopeTable: sel, catalog.ScopeSequence: sel},
		access.BundleWrite: {catalog.ScopeDatabase: may.Connect.Or(may.Temporary), catalog.ScopeSchema: may.Usage,
			catalog.ScopeTable: data, catalog.ScopeSequence: may.Usage.Or(sel)},
		access.BundleBuild: build, access.BundleOwn: build,
	}
}()

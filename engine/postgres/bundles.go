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
	const sel = privilege.Select
	data := sel | privilege.Insert | privilege.Update | privilege.Delete
	build := map[catalog.Scope]privilege.Set{
		catalog.ScopeDatabase: privilege.Connect | privilege.Temporary | privilege.Create,
		catalog.ScopeSchema:   privilege.Usage | privilege.Create,
		catalog.ScopeTable:    data | privilege.Truncate | privilege.References | privilege.Trigger,
		catalog.ScopeSequence: privilege.Usage | sel | privilege.Update,
	}
	return map[access.Bundle]map[catalog.Scope]privilege.Set{
		access.BundleRead: {catalog.ScopeDatabase: privilege.Connect, catalog.ScopeSchema: privilege.Usage,
			catalog.ScopeTable: sel, catalog.ScopeSequence: sel},
		access.BundleWrite: {catalog.ScopeDatabase: privilege.Connect | privilege.Temporary, catalog.ScopeSchema: privilege.Usage,
			catalog.ScopeTable: data, catalog.ScopeSequence: privilege.Usage | sel},
		access.BundleBuild: build, access.BundleOwn: build,
	}
}()

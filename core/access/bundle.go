package access

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
)

// Bundle is a named set of privileges on one database.
type Bundle string

// The bundles: each holds what is in those before it.
const (
	BundleRead  Bundle = "read"
	BundleWrite Bundle = "write"
	BundleBuild Bundle = "build"
	BundleOwn   Bundle = "own"
)

// Bundles lists them, the smallest first.
var Bundles = []Bundle{BundleRead, BundleWrite, BundleBuild, BundleOwn}

// Decides is one line on what the holder of a bundle can do.
func (b Bundle) Decides(e catalog.Engine) string {
	switch {
	case b == BundleRead:
		return "read all data, that of later tables included; alter nothing"
	case b == BundleWrite:
		return "read and write all data, that of later tables included; alter no structure"
	case b == BundleBuild && e == catalog.MariaDB:
		return "write, and make and alter tables, views and routines; drop nothing"
	case b == BundleBuild:
		return "write, and make schemas, tables and routines of its own; what others made it cannot alter"
	case e == catalog.MariaDB:
		return "everything that can be given on one database; it could drop it outside Genarch"
	}
	return "act as the owner of the database: alter and drop what belongs to the owner"
}

// Level is the level that a bundle comes to.
func (b Bundle) Level() Level {
	switch b {
	case BundleRead:
		return Read
	case BundleWrite:
		return Write
	case BundleBuild:
		return Build
	}
	return Own
}

// On is what a bundle holds on an object of a scope. On PostgreSQL own is no
// list of privileges but membership in the owning role, so its sets are those
// of build.
func (b Bundle) On(e catalog.Engine, scope catalog.Scope) privilege.Set {
	if e == catalog.MariaDB {
		if scope == catalog.ScopeDatabase {
			return mariaBundles[b]
		}
		return 0
	}
	return postgresBundles[b][scope]
}

// mariaBundles are the bundles on MariaDB: privileges on the database, which
// reach everything in it, what is made later included.
var mariaBundles = func() map[Bundle]privilege.Set {
	read := privilege.Select | privilege.ShowView
	write := read | privilege.Insert | privilege.Update | privilege.Delete | privilege.Execute | privilege.CreateTemporaryTables | privilege.LockTables
	build := write | privilege.Create | privilege.Alter | privilege.Index | privilege.References | privilege.CreateView | privilege.CreateRoutine | privilege.AlterRoutine | privilege.Trigger
	return map[Bundle]privilege.Set{BundleRead: read, BundleWrite: write, BundleBuild: build,
		BundleOwn: build | privilege.Drop | privilege.Event | privilege.DeleteHistory}
}()

// postgresBundles are the bundles on PostgreSQL: on the database, on every
// schema of its users, on every table (and view) and sequence in them. The same
// goes for what the owners of things there will make: default privileges.
var postgresBundles = func() map[Bundle]map[catalog.Scope]privilege.Set {
	const sel = privilege.Select
	data := sel | privilege.Insert | privilege.Update | privilege.Delete
	build := map[catalog.Scope]privilege.Set{
		catalog.ScopeDatabase: privilege.Connect | privilege.Temporary | privilege.Create,
		catalog.ScopeSchema:   privilege.Usage | privilege.Create,
		catalog.ScopeTable:    data | privilege.Truncate | privilege.References | privilege.Trigger,
		catalog.ScopeSequence: privilege.Usage | sel | privilege.Update,
	}
	return map[Bundle]map[catalog.Scope]privilege.Set{
		BundleRead: {catalog.ScopeDatabase: privilege.Connect, catalog.ScopeSchema: privilege.Usage,
			catalog.ScopeTable: sel, catalog.ScopeSequence: sel},
		BundleWrite: {catalog.ScopeDatabase: privilege.Connect | privilege.Temporary, catalog.ScopeSchema: privilege.Usage,
			catalog.ScopeTable: data, catalog.ScopeSequence: privilege.Usage | sel},
		BundleBuild: build, BundleOwn: build,
	}
}()

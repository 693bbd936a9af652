package enginetest

import (
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// BenchMatrix is the whole matrix of a reading, from the reading to the last cell; the
// goal is 100 ms for 5,000 accounts and 500 databases.
func BenchMatrix(b *testing.B, e engine.Engine, a catalog.Access) {
	for b.Loop() {
		access.New(a, e.Rules).Matrix(nil, nil)
	}
}

// BenchWhy is one question on a prepared graph; the goal is 1 ms.
func BenchWhy(b *testing.B, e engine.Engine, a catalog.Access, want privilege.Set) {
	g := access.New(a, e.Rules)
	p := a.Accounts[4321].Principal
	o := catalog.Object{Scope: catalog.ScopeTable, Database: "db_321", Schema: "public", Name: "t"}
	for b.Loop() {
		g.Why(p, want, o)
	}
}

package invented

import (
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
)

func TestInvented(t *testing.T) {
	_, running := Start(t)
	enginetest.Run(t, Engine{}, running, enginetest.AllNames)
}

// TestDenied: a denial takes away what is held otherwise, and why says so.
func TestDenied(t *testing.T) {
	who := catalog.Principal{Name: "ines", Database: "berths"}
	grant := func(scope catalog.Scope, box string, may, denied privilege.Set) catalog.Grant {
		return catalog.Grant{Object: catalog.Object{Scope: scope, Database: "berths", Name: box},
			Entry: catalog.Entry{Grantee: who, Privileges: may, Denied: denied}}
	}
	a := catalog.Access{Accounts: []catalog.Account{{Principal: who, Login: true, ConnectionLimit: -1}},
		Databases: []catalog.AccessDatabase{{Name: "berths"}, {Name: "fares"}},
		Grants: []catalog.Grant{grant(catalog.ScopeDatabase, "", table.Of("OPEN", "STORE", "DISCARD"), privilege.Set{}),
			grant(catalog.ScopeTable, "till", privilege.Set{}, table.Of("OPEN"))}}
	g := access.New(a, Engine{}.Rules)
	if c := g.Level(who, "berths"); c.Level != access.Build || c.More {
		t.Errorf("on the vault it is %+v", c)
	}
	till := catalog.Object{Scope: catalog.ScopeTable, Database: "berths", Name: "till"}
	if have := g.Effective(who, till); have.String() != "STORE, DISCARD" {
		t.Errorf("with the till it may %s", have)
	}
	why := g.Why(who, table.Of("OPEN"), till)
	if why.Allowed || len(why.Needs) != 1 || len(why.Needs[0].Chains) != 1 || len(why.Needs[0].Denied) != 1 ||
		why.Needs[0].Met() {
		t.Errorf("opening the till: %+v", why)
	}
	if why := g.Why(who, table.Of("OPEN"),
		catalog.Object{Scope: catalog.ScopeTable, Database: "berths", Name: "shelf"}); !why.Allowed {
		t.Errorf("opening the shelf: %+v", why)
	}
	// Denied on the vault itself, in the matrix.
	a.Grants[0].Denied = table.Of("DISCARD")
	g = access.New(a, Engine{}.Rules)
	if m := g.Matrix(nil, nil); m.At(0, 0).Level != access.Write || m.At(0, 1).Level != access.None {
		t.Errorf("with a denial the matrix has %+v", m.Cells)
	}
}

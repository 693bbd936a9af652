package postgres

import (
	"fmt"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
)

func acc(name string, more ...func(*catalog.Account)) catalog.Account {
	a := catalog.Account{Principal: catalog.Principal{Name: name}, Login: true, Inherit: true, ConnectionLimit: -1}
	for _, f := range more {
		f(&a)
	}
	return a
}

func belongs(member, to string) catalog.Membership {
	return catalog.Membership{Role: role(to), Member: role(member), Inherit: true, Set: true}
}

func entry(to string, set privilege.Set) catalog.Entry {
	return catalog.Entry{Grantee: role(to), Grantor: "owner", Privileges: set}
}

// rota is a small PostgreSQL server: one database, one table, three roles.
func rota() catalog.Access {
	data := may.Select.Or(may.Insert, may.Update, may.Delete)
	db := catalog.Object{Scope: catalog.ScopeSchema, Database: "rota", Schema: "public"}
	table := catalog.Object{Scope: catalog.ScopeTable, Database: "rota", Schema: "public", Name: "shifts"}
	return catalog.Access{Number: 160000,
		Accounts: []catalog.Account{acc("owner"), acc("admin", func(a *catalog.Account) { a.Super = true }),
			acc("desk"), acc("officers"), acc("ines"), acc("tomas"),
			acc("locked", func(a *catalog.Account) { a.Login = false }), acc("nobody")},
		Memberships: []catalog.Membership{belongs("officers", "desk"), belongs("ines", "officers"),
			{Role: role("officers"), Member: role("tomas"), Set: true}, belongs("nobody", "admin")},
		Databases: []catalog.AccessDatabase{{Name: "rota", Owner: "owner",
			Entries: []catalog.Entry{entry("owner", may.Connect.Or(may.Create, may.Temporary)),
				entry("desk", may.Connect), entry("officers", may.Temporary), entry("locked", may.Connect)},
			Interior: &catalog.ObjectGrants{
				Classes: []catalog.Class{{Object: db, Count: 1, Owner: "owner",
					Entries: []catalog.Entry{entry("desk", may.Usage)}},
					{Object: table, Count: 1, Owner: "owner",
						Entries: []catalog.Entry{entry("desk", may.Select), entry("officers", data)}}},
				Futures: []catalog.DefaultPrivilege{{Maker: "owner", On: catalog.ScopeTable,
					Entries: []catalog.Entry{entry("desk", may.Select)}},
					{Maker: "owner", On: catalog.ScopeSequence, Entries: []catalog.Entry{entry("desk", may.Select)}}},
			}}}}
}

func TestLevels(t *testing.T) {
	g := graph(rota())
	for name, want := range map[string]access.Cell{
		"owner": {Level: access.Own}, "admin": {Level: access.Own}, "desk": {Level: access.Read},
		"ines": {Level: access.Write, Gap: true}, "tomas": {Level: access.None}, "nobody": {Level: access.None},
		"locked": {Level: access.Connect},
	} {
		if got := g.Level(role(name), "rota"); got != want {
			t.Errorf("%s: %v; want %v", name, got, want)
		}
	}
	if got := g.Level(role("desk"), "no such"); got.Level != access.None {
		t.Errorf("on no database: %v", got)
	}
	a := rota()
	a.Databases[0].Interior = nil
	if got := graph(a).Level(role("desk"), "rota"); got.Level != access.Unknown {
		t.Errorf("a database that was not looked into shows %v: unknown is not none", got.Level)
	}
	a.Databases[0].Closed = true
	if got := graph(a).Level(role("desk"), "rota"); got.Level != access.None {
		t.Errorf("on a closed database: %v", got.Level)
	}
}

func TestWhy(t *testing.T) {
	g := graph(rota())
	shifts := catalog.Object{Scope: catalog.ScopeTable, Database: "rota", Schema: "public", Name: "shifts"}
	a := g.Why(role("ines"), may.Update, shifts)
	if !a.Allowed || len(a.Needs) != 3 || a.Needs[0].Privilege != may.Connect || a.Needs[1].Privilege != may.Usage {
		t.Fatalf("ines: %+v", a)
	}
	if c := a.Needs[2].Chains[0]; len(c.Roles) != 1 || c.Roles[0].Name != "officers" ||
		!strings.Contains(c.Text(), "through officers") {
		t.Errorf("her chain: %s", c.Text())
	}
	if c := a.Needs[0].Chains[0]; len(c.Roles) != 2 || c.Text() != "through officers → desk, granted by owner" {
		t.Errorf("her way in: %s", c.Text())
	}
	if a := g.Why(role("tomas"), may.Update, shifts); a.Allowed || len(a.Needs[2].Dormant) != 1 {
		t.Errorf("tomas could only after SET ROLE: %+v", a.Needs[2])
	}
	if a := g.Why(role("nobody"), may.Delete, shifts); a.Allowed || len(a.Needs[2].Dormant) != 1 ||
		a.Needs[2].Dormant[0].Via != access.ViaSuperuser {
		t.Errorf("a member of a superuser is none: %+v", a.Needs[2])
	}
	if a := g.Why(role("locked"), may.Connect,
		catalog.Object{Scope: catalog.ScopeDatabase, Database: "rota"}); !a.Allowed || len(a.Barred) == 0 {
		t.Errorf("a locked account is not barred: %+v", a)
	}
	if a := g.Why(role("nobody such"), may.Select, shifts); a.Found || a.Allowed {
		t.Errorf("an account that is not there: %+v", a)
	}
	other := shifts
	other.Name = "no_such"
	if a := g.Why(role("ines"), may.Select, other); a.Allowed || a.Needs[2].Known {
		t.Errorf("a table that is not there passes for known: %+v", a.Needs[2])
	}
}

// TestCircle: no engine lets roles go in a circle, but a reading in the middle of
// an alteration might; it must end, and everybody has what anybody in it has.
func TestCircle(t *testing.T) {
	a := rota()
	a.Memberships = append(a.Memberships, belongs("desk", "ines"), belongs("desk", "desk"))
	g := graph(a)
	for _, name := range []string{"desk", "officers", "ines"} {
		if got := g.Level(role(name), "rota").Level; got != access.Write {
			t.Errorf("%s in the circle: %v", name, got)
		}
	}
	if roles, _ := g.Roles(role("desk")); len(roles) != 2 {
		t.Errorf("desk has %v", roles)
	}
}

func TestCompare(t *testing.T) {
	g := graph(rota())
	d := access.Compare(g, role("desk"), g, role("ines"))
	text := fmt.Sprint(d)
	for _, want := range []string{"{database rota read write}", "{member of officers  yes}"} {
		if !strings.Contains(text, want) {
			t.Errorf("the comparison lacks %s: %s", want, text)
		}
	}
	if d := access.Compare(g, role("ines"), g, role("ines")); len(d) != 0 {
		t.Errorf("an account differs from itself: %v", d)
	}
}

// large is a server of 5,000 accounts and 500 databases with what is usual on
// them: some grants each, roles in roles, public ones too.
func large() catalog.Access {
	a := catalog.Access{Number: 160000}
	who := func(i int) catalog.Principal { return role(fmt.Sprintf("acc_%04d", i)) }
	for i := range 5000 {
		a.Accounts = append(a.Accounts,
			catalog.Account{Principal: who(i), Login: i >= 300, Inherit: true, ConnectionLimit: -1})
	}
	for i := range 20000 {
		m := catalog.Membership{Role: who(i % 300), Member: who(300 + i%4700), Inherit: true, Set: true}
		if i < 280 {
			m.Member = who(i + 1)
		}
		a.Memberships = append(a.Memberships, m)
	}
	for d := range 500 {
		db := catalog.AccessDatabase{Name: fmt.Sprintf("db_%03d", d), Owner: who(d % 300).Name}
		in := &catalog.ObjectGrants{}
		for _, scope := range []catalog.Scope{catalog.ScopeSchema, catalog.ScopeTable, catalog.ScopeSequence} {
			c := catalog.Class{Object: catalog.Object{Scope: scope, Database: db.Name, Schema: "public"}, Count: 40,
				Owner: db.Owner}
			for i := range 25 {
				set := bundles[access.BundleRead][scope]
				if i%3 == 0 {
					set = bundles[access.BundleWrite][scope]
				}
				c.Entries = append(c.Entries, catalog.Entry{Grantee: who((d*37 + i*191) % 5000), Privileges: set})
			}
			in.Classes = append(in.Classes, c)
		}
		for i := range 25 {
			db.Entries = append(db.Entries, catalog.Entry{Grantee: who((d*37 + i*191) % 5000), Privileges: may.Connect})
		}
		in.Futures = []catalog.DefaultPrivilege{{Maker: db.Owner, On: catalog.ScopeTable},
			{Maker: db.Owner, On: catalog.ScopeSequence}}
		db.Interior = in
		a.Databases = append(a.Databases, db)
	}
	return a
}

func BenchmarkMatrix(b *testing.B) { enginetest.BenchMatrix(b, Engine{}, large()) }

func BenchmarkWhy(b *testing.B) { enginetest.BenchWhy(b, Engine{}, large(), may.Select) }

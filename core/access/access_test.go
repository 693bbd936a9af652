package access_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/postgres"
)

// at is an account of an engine with hosts.
func at(name, host string) catalog.Principal { return catalog.Principal{Name: name, Host: host} }

// bundle is what an engine's bundle of that name gives on a database.
func bundle(e engine.Engine, name string) []string {
	for _, b := range e.Describe().Bundles {
		if string(b.Name) == name {
			return b.On[catalog.ScopeDatabase]
		}
	}
	return nil
}

func set(e engine.Engine, names ...string) privilege.Set { return e.Describe().Table.Of(names...) }

// harbour is a server on which accounts have what they have in every way that there is.
func harbour() *access.Graph {
	e := mariadb.Engine{}
	yes := true
	on := func(p catalog.Principal, database string, names ...string) catalog.Grant {
		return catalog.Grant{Entry: catalog.Entry{Grantee: p, Privileges: set(e, names...)},
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: database}}
	}
	login := func(p catalog.Principal) catalog.Account {
		return catalog.Account{Principal: p, Login: true, Password: &yes, ConnectionLimit: -1}
	}
	root := login(at("root", "localhost"))
	root.Super, root.System, root.Bootstrap, root.Global = true, true, true, e.Describe().Table.All()
	nobody := login(at("", "pier2"))
	open := login(at("kiosk", "%"))
	open.Open = true
	crew := catalog.Principal{Name: "crew", Role: true}
	return access.New(catalog.Access{
		Accounts: []catalog.Account{root, nobody, open, login(at("tickets_app", "10.%")), login(at("report", "%")),
			{Principal: crew}},
		Memberships: []catalog.Membership{{Role: crew, Member: at("report", "%"), Set: true}},
		Databases: []catalog.AccessDatabase{{Name: "dues_prod"}, {Name: "dues-prod"}, {Name: "tickets_prod"},
			{Name: "mysql", System: true}},
		Grants: []catalog.Grant{
			on(at("tickets_app", "10.%"), `tickets\_prod`, bundle(e, "write")...),
			on(at("report", "%"), "dues_prod", bundle(e, "read")...),
			on(crew, `tickets\_prod`, "SELECT"),
			on(at("tickets_app", "10.%"), `gone\_prod`, "SELECT"),
			{Entry: catalog.Entry{Grantee: at("kiosk", "%"), Privileges: set(e, "SELECT")},
				Object: catalog.Object{Scope: catalog.ScopeTable, Database: "tickets_prod", Name: "fares"}},
		},
	}, e.Rules)
}

// What an account comes to, by every way, and the same in the matrix.
func TestLevels(t *testing.T) {
	g := harbour()
	for _, tt := range []struct {
		who      catalog.Principal
		database string
		want     string
	}{
		{at("root", "localhost"), "tickets_prod", "own"},
		{at("tickets_app", "10.%"), "tickets_prod", "write"},
		{at("tickets_app", "10.%"), "dues_prod", "none"},
		{at("report", "%"), "dues_prod", "read"},
		{at("report", "%"), "dues-prod", "read"},    // _ stands for any character
		{at("report", "%"), "tickets_prod", "none"}, // the role holds only after SET ROLE
		{at("kiosk", "%"), "tickets_prod", "custom"},
	} {
		if cell := g.Level(tt.who, tt.database); cell.Level.String() != tt.want {
			t.Errorf("%s on %s comes to %s, not %s", tt.who, tt.database, cell.Level, tt.want)
		}
	}
	m := g.Matrix(func(a catalog.Account) bool { return !a.System },
		func(d catalog.AccessDatabase) bool { return !d.System })
	for i, who := range m.Accounts {
		for j, d := range m.Databases {
			if one := g.Level(who, d); m.At(i, j) != one {
				t.Errorf("%s on %s is %v alone and %v in the matrix", who, d, one, m.At(i, j))
			}
		}
	}
	atOnce, dormant := g.Roles(at("report", "%"))
	if len(atOnce) != 0 || len(dormant) != 1 {
		t.Errorf("the roles of report: %v at once, %v after SET ROLE", atOnce, dormant)
	}
	if _, ok := access.LevelNamed("write"); !ok {
		t.Error("there is no level write")
	}
	if _, ok := access.LevelNamed("enter"); ok {
		t.Error("there is a level enter")
	}
}

// Why somebody may do something, or may not.
func TestWhy(t *testing.T) {
	g, e := harbour(), mariadb.Engine{}
	table := catalog.Object{Scope: catalog.ScopeTable, Database: "tickets_prod", Name: "bookings"}
	a := g.Why(at("tickets_app", "10.%"), set(e, "INSERT"), table)
	if !a.Allowed || len(a.Needs) == 0 || len(a.Needs[0].Chains) == 0 {
		t.Errorf("tickets_app may insert: %+v", a)
	}
	if text := a.Needs[0].Chains[0].Text(); !strings.Contains(text, "granted") {
		t.Errorf("the chain says %q", text)
	}
	a = g.Why(at("report", "%"), set(e, "SELECT"), table)
	if a.Allowed || len(a.Needs) == 0 || len(a.Needs[0].Dormant) != 1 {
		t.Errorf("report may not, but after SET ROLE: %+v", a)
	}
	a = g.Why(at("nobody", "%"), set(e, "SELECT"), table)
	if a.Allowed || a.Found {
		t.Errorf("whom there is not: %+v", a)
	}
	if have := g.Effective(at("tickets_app", "10.%"), table); !have.Has(set(e, "DELETE")) || have.Has(set(e, "DROP")) {
		t.Errorf("what tickets_app has on the table: %s", have)
	}
}

// Traps are told in whole sentences, each once.
func TestTraps(t *testing.T) {
	var texts []string
	for _, trap := range harbour().Traps() {
		texts = append(texts, trap.Code+" "+trap.Text)
		if !strings.HasSuffix(trap.Text, ".") {
			t.Errorf("no sentence: %q", trap.Text)
		}
	}
	for _, want := range []string{
		"anonymous @pier2: it has no name",
		"no_password kiosk@%: it has no password: whoever knows its name can sign in.",
		"grant.wide The grant of report@% on dues_prod opens dues-prod too.",
		"grant.leftover The grant of tickets_app@10.%",
	} {
		if n := len(slices.DeleteFunc(slices.Clone(texts),
			func(text string) bool { return !strings.HasPrefix(text, want) })); n != 1 {
			t.Errorf("%q is told %d times: %q", want, n, texts)
		}
	}
	if len(harbour().Leftovers()) != 1 || len(harbour().Wider()) != 1 {
		t.Errorf("left over %d, wider %d", len(harbour().Leftovers()), len(harbour().Wider()))
	}
}

// In what two accounts differ: levels, grants, roles and what they are.
func TestCompare(t *testing.T) {
	g := harbour()
	var lines []string
	for _, d := range access.Compare(g, at("tickets_app", "10.%"), g, at("report", "%")) {
		lines = append(lines, fmt.Sprintf("%s: %s | %s", d.What, d.Left, d.Right))
	}
	text := strings.Join(lines, "\n")
	for _, want := range []string{"database tickets_prod: write | ", "dues_prod: ", "crew"} {
		if !strings.Contains(text, want) {
			t.Errorf("the differences lack %q:\n%s", want, text)
		}
	}
	if d := access.Compare(g, at("report", "%"), g, at("report", "%")); len(d) != 0 {
		t.Errorf("an account differs from itself: %+v", d)
	}
	if n := len(g.Direct(at("tickets_app", "10.%"))); n != 2 {
		t.Errorf("tickets_app was given %d things", n)
	}
	if n := len(g.On("tickets_prod")); n != 3 {
		t.Errorf("on tickets_prod %d things were given", n)
	}
}

// Where roles are inherited and databases have schemas, the ways are others and the answers
// as clear.
func TestInheritedRoles(t *testing.T) {
	e := postgres.Engine{}
	role := func(name string) catalog.Principal { return catalog.Principal{Name: name} }
	entry := func(to, by string, names ...string) catalog.Entry {
		return catalog.Entry{Grantee: role(to), Grantor: by, Privileges: set(e, names...)}
	}
	g := access.New(catalog.Access{
		Accounts: []catalog.Account{
			{Principal: role("owner"), Inherit: true, Login: true, ConnectionLimit: -1},
			{Principal: role("readers"), Inherit: true},
			{Principal: role("app"), Login: true, Inherit: true, ConnectionLimit: -1},
			{Principal: role("loner"), Login: true, ConnectionLimit: -1},
		},
		Memberships: []catalog.Membership{{Role: role("readers"), Member: role("app"), Inherit: true, Set: true},
			{Role: role("readers"), Member: role("loner"), Set: true}},
		Databases: []catalog.AccessDatabase{{Name: "tickets", Owner: "owner",
			Entries: []catalog.Entry{
				entry("readers", "owner", "CONNECT"),
				entry("owner", "owner", "CONNECT", "CREATE"),
			},
			Interior: &catalog.ObjectGrants{Classes: []catalog.Class{
				{Object: catalog.Object{Scope: catalog.ScopeSchema, Database: "tickets", Schema: "public"}, Count: 1,
					Owner: "owner", Entries: []catalog.Entry{entry("readers", "owner", "USAGE"),
						entry("owner", "owner", "USAGE", "CREATE")}},
				{
					Object: catalog.Object{
						Scope:    catalog.ScopeTable,
						Database: "tickets",
						Schema:   "public",
						Name:     "fares",
					},
					Count: 1,
					Owner: "owner",
					Entries: []catalog.Entry{entry("readers", "owner", "SELECT"),
						entry("owner", "owner", "DELETE")},
				},
			}}}},
	}, e.Rules)
	if !g.AtOnce(role("app"), role("readers")) || g.AtOnce(role("loner"), role("readers")) {
		t.Error("who has what a role has at once")
	}
	if level := g.Level(role("app"), "tickets").Level.String(); level != "read" {
		t.Errorf("app comes to %s", level)
	}
	table := catalog.Object{Scope: catalog.ScopeTable, Database: "tickets", Schema: "public", Name: "fares"}
	if a := g.Why(role("app"), set(e, "SELECT"), table); !a.Allowed || len(a.Needs) < 2 {
		t.Errorf("app may read: %+v", a)
	}
	if a := g.Why(role("app"), set(e, "DELETE"), table); a.Allowed {
		t.Errorf("app may not delete: %+v", a)
	}
	if a := g.Why(role("owner"), set(e, "DELETE"), table); !a.Allowed {
		t.Errorf("the owner may: %+v", a)
	}
	if text := access.ObjectText(table); !strings.Contains(text, "public.fares") {
		t.Errorf("the table is written %q", text)
	}
	if len(g.Traps()) != 0 {
		t.Errorf("traps where there are none: %+v", g.Traps())
	}
}

package access

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
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
	data := privilege.Select | privilege.Insert | privilege.Update | privilege.Delete
	db := catalog.Object{Scope: catalog.ScopeSchema, Database: "rota", Schema: "public"}
	table := catalog.Object{Scope: catalog.ScopeTable, Database: "rota", Schema: "public", Name: "shifts"}
	return catalog.Access{Engine: catalog.PostgreSQL, Number: 160000,
		Accounts: []catalog.Account{acc("owner"), acc("admin", func(a *catalog.Account) { a.Super = true }), acc("desk"), acc("officers"), acc("ines"), acc("tomas"),
			acc("locked", func(a *catalog.Account) { a.Login = false }), acc("nobody")},
		Memberships: []catalog.Membership{belongs("officers", "desk"), belongs("ines", "officers"), {Role: role("officers"), Member: role("tomas"), Set: true}, belongs("nobody", "admin")},
		Databases: []catalog.AccessDatabase{{Name: "rota", Owner: "owner", Entries: []catalog.Entry{entry("owner", privilege.Connect|privilege.Create|privilege.Temporary), entry("desk", privilege.Connect), entry("officers", privilege.Temporary), entry("locked", privilege.Connect)},
			Interior: &catalog.Interior{
				Classes: []catalog.Class{{Object: db, Count: 1, Owner: "owner", Entries: []catalog.Entry{entry("desk", privilege.Usage)}},
					{Object: table, Count: 1, Owner: "owner", Entries: []catalog.Entry{entry("desk", privilege.Select), entry("officers", data)}}},
				Futures: []catalog.Future{{Maker: "owner", On: catalog.ScopeTable, Entries: []catalog.Entry{entry("desk", privilege.Select)}}, {Maker: "owner", On: catalog.ScopeSequence, Entries: []catalog.Entry{entry("desk", privilege.Select)}}},
			}}}}
}

func TestLevels(t *testing.T) {
	g := New(rota())
	for name, want := range map[string]Cell{
		"owner": {Level: Own}, "admin": {Level: Own}, "desk": {Level: Read}, "ines": {Level: Write, Gap: true}, "tomas": {Level: None}, "nobody": {Level: None}, "locked": {Level: Enter},
	} {
		if got := g.Level(role(name), "rota"); got != want {
			t.Errorf("%s: %v; want %v", name, got, want)
		}
	}
	if got := g.Level(role("desk"), "no such"); got.Level != None {
		t.Errorf("on no database: %v", got)
	}
	a := rota()
	a.Databases[0].Interior = nil
	if got := New(a).Level(role("desk"), "rota"); got.Level != Unknown {
		t.Errorf("a database that was not looked into shows %v: unknown is not none", got.Level)
	}
	a.Databases[0].Closed = true
	if got := New(a).Level(role("desk"), "rota"); got.Level != None {
		t.Errorf("on a closed database: %v", got.Level)
	}
}

func TestWhy(t *testing.T) {
	g := New(rota())
	shifts := catalog.Object{Scope: catalog.ScopeTable, Database: "rota", Schema: "public", Name: "shifts"}
	a := g.Why(role("ines"), privilege.Update, shifts)
	if !a.Allowed || len(a.Needs) != 3 || a.Needs[0].Privilege != privilege.Connect || a.Needs[1].Privilege != privilege.Usage {
		t.Fatalf("ines: %+v", a)
	}
	if c := a.Needs[2].Chains[0]; len(c.Roles) != 1 || c.Roles[0].Name != "officers" || !strings.Contains(c.Text(), "through officers") {
		t.Errorf("her chain: %s", c.Text())
	}
	if c := a.Needs[0].Chains[0]; len(c.Roles) != 2 || c.Text() != "through officers → desk, granted by owner" {
		t.Errorf("her way in: %s", c.Text())
	}
	if a := g.Why(role("tomas"), privilege.Update, shifts); a.Allowed || len(a.Needs[2].Dormant) != 1 {
		t.Errorf("tomas could only after SET ROLE: %+v", a.Needs[2])
	}
	if a := g.Why(role("nobody"), privilege.Delete, shifts); a.Allowed || len(a.Needs[2].Dormant) != 1 || a.Needs[2].Dormant[0].Via != ViaSuperuser {
		t.Errorf("a member of a superuser is none: %+v", a.Needs[2])
	}
	if a := g.Why(role("locked"), privilege.Connect, catalog.Object{Scope: catalog.ScopeDatabase, Database: "rota"}); !a.Allowed || len(a.Barred) == 0 {
		t.Errorf("a locked account is not barred: %+v", a)
	}
	if a := g.Why(role("nobody such"), privilege.Select, shifts); a.Found || a.Allowed {
		t.Errorf("an account that is not there: %+v", a)
	}
	other := shifts
	other.Name = "no_such"
	if a := g.Why(role("ines"), privilege.Select, other); a.Allowed || a.Needs[2].Known {
		t.Errorf("a table that is not there passes for known: %+v", a.Needs[2])
	}
}

// TestCircle: no engine lets roles go in a circle, but a reading in the middle of
// an alteration might; it must end, and everybody has what anybody in it has.
func TestCircle(t *testing.T) {
	a := rota()
	a.Memberships = append(a.Memberships, belongs("desk", "ines"), belongs("desk", "desk"))
	g := New(a)
	for _, name := range []string{"desk", "officers", "ines"} {
		if got := g.Level(role(name), "rota").Level; got != Write {
			t.Errorf("%s in the circle: %v", name, got)
		}
	}
	if roles, _ := g.Roles(role("desk")); len(roles) != 2 {
		t.Errorf("desk has %v", roles)
	}
}

func TestMatches(t *testing.T) {
	for _, tt := range []struct {
		pattern, name string
		want          bool
	}{
		{"a_b", "axb", true}, {`a\_b`, "axb", false}, {`a\_b`, "a_b", true}, {"a%", "a", true}, {"a%b", "axxb", true}, {"a%b", "axx", false}, {"%", "", true},
		{"%b%", "abc", true}, {"_", "", false}, {`a\`, `a\`, true}, {`\%`, "%", true}, {`\%`, "x", false}, {"日_", "日本", true}, {"%_%_%", "a", false},
		{strings.Repeat("%a", 30), strings.Repeat("a", 29), false},
	} {
		if got := Matches(tt.pattern, tt.name); got != tt.want {
			t.Errorf("Matches(%q, %q) = %v", tt.pattern, tt.name, got)
		}
	}
	for _, name := range []string{"a_b", `a\b`, "100%", "plain", `\_%`} {
		if p := Escaped(name); IsPattern(p) || Plain(p) != name || !Matches(p, name) {
			t.Errorf("%q escaped is %q, which stands for %q", name, p, Plain(p))
		}
	}
}

func TestHosts(t *testing.T) {
	for _, tt := range []struct {
		pattern, host string
		want          bool
	}{
		{"%", "10.0.0.7", true}, {"10.0.%", "10.0.3.%", true}, {"10.0.3.%", "10.0.%", false}, {"10.0.0.0/255.0.0.0", "10.1.2.3", true}, {"10.0.0.0/255.0.0.0", "11.1.2.3", false},
		{"10.0.0.0/255.0.0.0", "10.1.0.0/255.255.0.0", true}, {"10.1.0.0/255.255.0.0", "10.0.0.0/255.0.0.0", false}, {"App.Example", "app.example", true},
		{"10.%", "10.0.0.0/255.0.0.0", true}, {"10.0.%", "10.0.0.0/255.0.0.0", false}, {"%", "10.0.0.0/255.0.0.0", true},
	} {
		if got := HostCovers(tt.pattern, tt.host); got != tt.want {
			t.Errorf("HostCovers(%q, %q) = %v", tt.pattern, tt.host, got)
		}
	}
	for _, good := range []string{"%", "10.0.3.7", "10.0.3.%", "app1.ossavik.example", "10.0.0.0/255.255.255.0", "::1"} {
		if why := CheckHost(good); why != "" {
			t.Errorf("%q is refused: %s", good, why)
		}
	}
	for _, bad := range []string{"", "a@b", "10.0.0.0/24", "o'brien", "two words", strings.Repeat("h", 256), "x/255.0.0.0", "é.example"} {
		if CheckHost(bad) == "" {
			t.Errorf("%q passes for a host", bad)
		}
	}
	at := func(name, host string) catalog.Account {
		return catalog.Account{Principal: catalog.Principal{Name: name, Host: host}, Login: true}
	}
	list := []catalog.Account{at("bob", "%"), at("", "127.0.0.1"), at("bob", "10.0.%"), at("bob", "10.0.0.0/255.255.255.0"), at("bob", "10.0.0.7")}
	for client, want := range map[string]string{"127.0.0.1": "@127.0.0.1", "10.0.0.7": "bob@10.0.0.7", "10.0.0.8": "bob@10.0.0.0/255.255.255.0", "10.0.9.1": "bob@10.0.%", "9.9.9.9": "bob@%"} {
		if got, ok := SignsInAs(list, "bob", client); !ok || got.Principal.String() != want {
			t.Errorf("bob from %s signs in as %s; want %s", client, got.Principal, want)
		}
	}
	before, after := Rivals(list, catalog.Principal{Name: "bob", Host: "10.0.%"})
	if len(before) != 2 || len(after) != 1 || after[0].Host != "%" {
		t.Errorf("rivals of bob@10.0.%%: %v before, %v after", before, after)
	}
}

// freight is a small MariaDB server with the traps of the trade.
func freight() catalog.Access {
	sel, ins := privilege.Select, privilege.Insert
	p := func(name, host string) catalog.Principal {
		return catalog.Principal{Name: name, Host: host, Role: host == ""}
	}
	grant := func(to catalog.Principal, db string, set privilege.Set) catalog.Grant {
		return catalog.Grant{Entry: catalog.Entry{Grantee: to, Privileges: set}, Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: db}}
	}
	account := func(name, host string) catalog.Account {
		return catalog.Account{Principal: p(name, host), Login: host != "", ConnectionLimit: -1}
	}
	gate := account("gate", "10.%")
	gate.DefaultRole = "crew"
	own := BundleOwn.On(catalog.MariaDB, catalog.ScopeDatabase)
	return catalog.Access{Engine: catalog.MariaDB, Number: 101119,
		Accounts:    []catalog.Account{account("app", "%"), account("app", "127.0.0.1"), gate, account("lead", "10.%"), account("crew", "")},
		Memberships: []catalog.Membership{{Role: p("crew", ""), Member: p("gate", "10.%")}, {Role: p("crew", ""), Member: p("lead", "10.%")}},
		Databases:   []catalog.AccessDatabase{{Name: "a_b"}, {Name: "axb"}, {Name: "cargo"}},
		Grants: []catalog.Grant{grant(p("app", "%"), "a_b", sel), grant(p("app", "%"), "cargo", own), grant(p("app", "127.0.0.1"), "carg%", ins),
			grant(p("crew", ""), "cargo", mariaBundles[BundleRead]), grant(p("gate", "10.%"), `gone\_db`, sel), grant(catalog.Public, "axb", sel)}}
}

func TestMariaDB(t *testing.T) {
	g := New(freight())
	at := func(name, host string) catalog.Principal { return catalog.Principal{Name: name, Host: host} }
	for _, tt := range []struct {
		who  catalog.Principal
		db   string
		want Level
	}{
		{at("app", "%"), "a_b", Custom}, {at("app", "%"), "axb", Custom}, {at("app", "%"), "cargo", Own},
		// The grant of the more specific host holds alone, and takes away what the wider one gave.
		{at("app", "127.0.0.1"), "cargo", Custom}, {at("app", "127.0.0.1"), "a_b", Custom},
		{at("gate", "10.%"), "cargo", Read}, {at("lead", "10.%"), "cargo", None}, {at("lead", "10.%"), "axb", Custom},
	} {
		if got := g.Level(tt.who, tt.db).Level; got != tt.want {
			t.Errorf("%s on %s: %s; want %s", tt.who, tt.db, got, tt.want)
		}
	}
	a := g.Why(at("app", "%"), privilege.Select, catalog.Object{Scope: catalog.ScopeDatabase, Database: "axb"})
	if !a.Allowed || a.Needs[0].Chains[0].Via != ViaPattern && a.Needs[0].Chains[1].Via != ViaPattern {
		t.Errorf("the pattern is not told: %+v", a.Needs)
	}
	if on, set := g.Winning(at("app", "127.0.0.1"), "cargo"); on != "carg%" || set != privilege.Insert {
		t.Errorf("the winning grant is %q %s", on, set)
	}
	if l := Leftovers(freight()); len(l) != 1 || l[0].Database != `gone\_db` {
		t.Errorf("leftovers %v", l)
	}
	w := Wider(freight())
	if !slices.ContainsFunc(w, func(w WideGrant) bool {
		return w.Database == "a_b" && w.Mistaken && slices.Equal(w.Opens, []string{"axb"})
	}) {
		t.Errorf("the grant on a_b, which opens axb too, is not found: %+v", w)
	}
	if on := g.On("axb"); len(on) != 2 {
		t.Errorf("who has anything on axb: %v", on)
	}
}

func TestCompare(t *testing.T) {
	g := New(rota())
	d := Compare(g, role("desk"), g, role("ines"))
	text := fmt.Sprint(d)
	for _, want := range []string{"{database rota read write}", "{member of officers  yes}"} {
		if !strings.Contains(text, want) {
			t.Errorf("the comparison lacks %s: %s", want, text)
		}
	}
	if d := Compare(g, role("ines"), g, role("ines")); len(d) != 0 {
		t.Errorf("an account differs from itself: %v", d)
	}
}

func TestBundlesGrow(t *testing.T) {
	for _, e := range []catalog.Engine{catalog.PostgreSQL, catalog.MariaDB} {
		for i := 1; i < len(Bundles); i++ {
			for _, scope := range []catalog.Scope{catalog.ScopeDatabase, catalog.ScopeSchema, catalog.ScopeTable, catalog.ScopeSequence} {
				if small, large := Bundles[i-1].On(e, scope), Bundles[i].On(e, scope); !large.Has(small) {
					t.Errorf("%s on %s: %s lacks %s of %s", e, scope, Bundles[i], small&^large, Bundles[i-1])
				}
			}
			if Bundles[i].Decides(e) == "" {
				t.Errorf("%s says not what it decides", Bundles[i])
			}
		}
	}
}

// large is a server of 5,000 accounts and 500 databases with what is usual on
// them: some grants each, roles in roles, public ones too.
func large(e catalog.Engine) catalog.Access {
	a := catalog.Access{Engine: e, Number: 160000}
	who := func(i int) catalog.Principal {
		p := catalog.Principal{Name: fmt.Sprintf("acc_%04d", i)}
		if e == catalog.MariaDB {
			if p.Host = "%"; i < 300 {
				p.Host, p.Role = "", true
			}
		}
		return p
	}
	for i := range 5000 {
		x := catalog.Account{Principal: who(i), Login: i >= 300, Inherit: true, ConnectionLimit: -1}
		if e == catalog.MariaDB && i >= 300 {
			x.DefaultRole = who(i % 300).Name
		}
		a.Accounts = append(a.Accounts, x)
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
		if e == catalog.PostgreSQL {
			in := &catalog.Interior{}
			for _, scope := range []catalog.Scope{catalog.ScopeSchema, catalog.ScopeTable, catalog.ScopeSequence} {
				c := catalog.Class{Object: catalog.Object{Scope: scope, Database: db.Name, Schema: "public"}, Count: 40, Owner: db.Owner}
				for i := range 25 {
					set := BundleRead.On(e, scope)
					if i%3 == 0 {
						set = BundleWrite.On(e, scope)
					}
					c.Entries = append(c.Entries, catalog.Entry{Grantee: who((d*37 + i*191) % 5000), Privileges: set})
				}
				in.Classes = append(in.Classes, c)
			}
			for i := range 25 {
				db.Entries = append(db.Entries, catalog.Entry{Grantee: who((d*37 + i*191) % 5000), Privileges: privilege.Connect})
			}
			in.Futures = []catalog.Future{{Maker: db.Owner, On: catalog.ScopeTable}, {Maker: db.Owner, On: catalog.ScopeSequence}}
			db.Interior = in
		} else {
			for i := range 100 {
				name := Escaped(db.Name)
				if i%50 == 0 {
					name = fmt.Sprintf("db\\_%d%%", d%10)
				}
				a.Grants = append(a.Grants, catalog.Grant{Entry: catalog.Entry{Grantee: who((d*37 + i*191) % 5000), Privileges: mariaBundles[Bundles[i%3]]}, Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: name}})
			}
		}
		a.Databases = append(a.Databases, db)
	}
	return a
}

// BenchmarkMatrix is the whole matrix of 5,000 accounts and 500 databases, from
// the reading to the last cell; the goal is 300 ms.
func BenchmarkMatrix(b *testing.B) {
	for _, e := range []catalog.Engine{catalog.PostgreSQL, catalog.MariaDB} {
		a := large(e)
		b.Run(string(e), func(b *testing.B) {
			for b.Loop() {
				New(a).Matrix(nil, nil)
			}
		})
	}
}

// BenchmarkWhy is one question on a prepared graph; the goal is 1 ms.
func BenchmarkWhy(b *testing.B) {
	for _, e := range []catalog.Engine{catalog.PostgreSQL, catalog.MariaDB} {
		a := large(e)
		g := New(a)
		p := a.Accounts[4321].Principal
		o := catalog.Object{Scope: catalog.ScopeTable, Database: "db_321", Schema: "public", Name: "t"}
		b.Run(string(e), func(b *testing.B) {
			for b.Loop() {
				g.Why(p, privilege.Select, o)
			}
		})
	}
}

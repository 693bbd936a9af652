package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
)

func TestMatches(t *testing.T) {
	for _, tt := range []struct {
		pattern, name string
		want          bool
	}{
		{"a_b", "axb", true}, {`a\_b`, "axb", false}, {`a\_b`, "a_b", true}, {"a%", "a", true}, {"a%b", "axxb", true},
		{"a%b", "axx", false}, {"%", "", true},
		{"%b%", "abc", true}, {"_", "", false}, {`a\`, `a\`, true}, {`\%`, "%", true}, {`\%`, "x", false},
		{"日_", "日本", true}, {"%_%_%", "a", false},
		{strings.Repeat("%a", 30), strings.Repeat("a", 29), false},
	} {
		if got := matches(tt.pattern, tt.name); got != tt.want {
			t.Errorf("Matches(%q, %q) = %v", tt.pattern, tt.name, got)
		}
	}
	for _, name := range []string{"a_b", `a\b`, "100%", "plain", `\_%`} {
		if p := escaped(name); isPattern(p) || plain(p) != name || !matches(p, name) {
			t.Errorf("%q escaped is %q, which stands for %q", name, p, plain(p))
		}
	}
}

func TestHosts(t *testing.T) {
	for _, tt := range []struct {
		pattern, host string
		want          bool
	}{
		{"%", "10.0.0.7", true}, {"10.0.%", "10.0.3.%", true}, {"10.0.3.%", "10.0.%", false},
		{"10.0.0.0/255.0.0.0", "10.1.2.3", true}, {"10.0.0.0/255.0.0.0", "11.1.2.3", false},
		{"10.0.0.0/255.0.0.0", "10.1.0.0/255.255.0.0", true}, {"10.1.0.0/255.255.0.0", "10.0.0.0/255.0.0.0", false},
		{"App.Example", "app.example", true},
		{"10.%", "10.0.0.0/255.0.0.0", true}, {"10.0.%", "10.0.0.0/255.0.0.0", false},
		{"%", "10.0.0.0/255.0.0.0", true},
	} {
		if got := (hosts{}).covers(tt.pattern, tt.host); got != tt.want {
			t.Errorf("HostCovers(%q, %q) = %v", tt.pattern, tt.host, got)
		}
	}
	for _, good := range []string{"%", "10.0.3.7", "10.0.3.%", "app1.ossavik.example", "10.0.0.0/255.255.255.0",
		"::1"} {
		if why := (hosts{}).check(good); why != "" {
			t.Errorf("%q is refused: %s", good, why)
		}
	}
	for _, bad := range []string{"", "a@b", "10.0.0.0/24", "o'brien", "two words", strings.Repeat("h", 256),
		"x/255.0.0.0", "é.example"} {
		if (hosts{}).check(bad) == "" {
			t.Errorf("%q passes for a host", bad)
		}
	}
	at := func(name, host string) catalog.Account {
		return catalog.Account{Principal: catalog.Principal{Name: name, Host: host}, Login: true}
	}
	list := []catalog.Account{at("bob", "%"), at("", "127.0.0.1"), at("bob", "10.0.%"),
		at("bob", "10.0.0.0/255.255.255.0"), at("bob", "10.0.0.7")}
	for client, want := range map[string]string{"127.0.0.1": "@127.0.0.1", "10.0.0.7": "bob@10.0.0.7",
		"10.0.0.8": "bob@10.0.0.0/255.255.255.0", "10.0.9.1": "bob@10.0.%", "9.9.9.9": "bob@%"} {
		if got, ok := (hosts{}).signsInAs(list, "bob", client); !ok || got.Principal.String() != want {
			t.Errorf("bob from %s signs in as %s; want %s", client, got.Principal, want)
		}
	}
	before, after := hosts{}.rivals(list, catalog.Principal{Name: "bob", Host: "10.0.%"})
	if len(before) != 2 || len(after) != 1 || after[0].Host != "%" {
		t.Errorf("rivals of bob@10.0.%%: %v before, %v after", before, after)
	}
	// MySQL takes a length behind the slash, and tries such a range before one by its netmask.
	by := mySQL.hosts
	list = append(list, at("bob", "10.0.0.0/24"), at("bob", "10.0.0.0/28"))
	for client, want := range map[string]string{"10.0.0.8": "bob@10.0.0.0/28", "10.0.0.80": "bob@10.0.0.0/24",
		"10.0.0.7": "bob@10.0.0.7", "10.0.9.1": "bob@10.0.%"} {
		if got, ok := by.signsInAs(list, "bob", client); !ok || got.Principal.String() != want {
			t.Errorf("bob from %s signs in as %s; want %s", client, got.Principal, want)
		}
	}
	for host, good := range map[string]bool{"10.0.0.0/24": true, "10.0.0.0/0": true, "10.0.0.0/33": false,
		"10.0.0.0/": false, "10.0.0.0/255.0.0.0": true, "x/24": false, "10.0.0.0/-1": false} {
		if (by.check(host) == "") != good {
			t.Errorf("%s: %s", host, by.check(host))
		}
	}
	if !by.covers("10.0.0.0/8", "10.1.0.0/16") || by.covers("10.1.0.0/16", "10.0.0.0/8") ||
		(hosts{}).covers("10.0.0.0/8", "10.1.2.3") {
		t.Error("what a range of addresses covers")
	}
}

// freight is a small MariaDB server with the traps of the trade.
func freight() catalog.Access {
	sel, ins := may.Select, may.Insert
	p := func(name, host string) catalog.Principal {
		return catalog.Principal{Name: name, Host: host, Role: host == ""}
	}
	grant := func(to catalog.Principal, db string, set privilege.Set) catalog.Grant {
		return catalog.Grant{Entry: catalog.Entry{Grantee: to, Privileges: set},
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: db}}
	}
	account := func(name, host string) catalog.Account {
		return catalog.Account{Principal: p(name, host), Login: host != "", ConnectionLimit: -1}
	}
	gate := account("gate", "10.%")
	gate.DefaultRole = "crew"
	own := mariaDB.own()
	return catalog.Access{Number: 101119,
		Accounts: []catalog.Account{account("app", "%"), account("app", "127.0.0.1"), gate, account("lead", "10.%"),
			account("crew", "")},
		Memberships: []catalog.Membership{{Role: p("crew", ""), Member: p("gate", "10.%")},
			{Role: p("crew", ""), Member: p("lead", "10.%")}},
		Databases: []catalog.AccessDatabase{{Name: "a_b"}, {Name: "axb"}, {Name: "cargo"}},
		Grants: []catalog.Grant{grant(p("app", "%"), "a_b", sel), grant(p("app", "%"), "cargo", own),
			grant(p("app", "127.0.0.1"), "carg%", ins),
			grant(p("crew", ""), "cargo", mariaBundles[access.BundleRead]), grant(p("gate", "10.%"), `gone\_db`, sel),
			grant(catalog.Public, "axb", sel)}}
}

func TestRules(t *testing.T) {
	g := mariaDB.graph(freight())
	at := func(name, host string) catalog.Principal { return catalog.Principal{Name: name, Host: host} }
	for _, tt := range []struct {
		who  catalog.Principal
		db   string
		want access.Level
	}{
		{at("app", "%"), "a_b", access.Custom}, {at("app", "%"), "axb", access.Custom},
		{at("app", "%"), "cargo", access.Own},
		// The grant of the more specific host holds alone, and takes away what the wider one gave.
		{at("app", "127.0.0.1"), "cargo", access.Custom}, {at("app", "127.0.0.1"), "a_b", access.Custom},
		{at("gate", "10.%"), "cargo", access.Read}, {at("lead", "10.%"), "cargo", access.None},
		{at("lead", "10.%"), "axb", access.Custom},
	} {
		if got := g.Level(tt.who, tt.db).Level; got != tt.want {
			t.Errorf("%s on %s: %s; want %s", tt.who, tt.db, got, tt.want)
		}
	}
	a := g.Why(at("app", "%"), may.Select, catalog.Object{Scope: catalog.ScopeDatabase, Database: "axb"})
	if !a.Allowed || a.Needs[0].Chains[0].Via != access.ViaPattern && a.Needs[0].Chains[1].Via != access.ViaPattern {
		t.Errorf("the pattern is not told: %+v", a.Needs)
	}
	if on, set := winningGrant(g, at("app", "127.0.0.1"), "cargo"); on != "carg%" || set != may.Insert {
		t.Errorf("the winning grant is %q %s", on, set)
	}
	if l := g.Leftovers(); len(l) != 1 || l[0].Object.Database != "gone_db" {
		t.Errorf("leftovers %v", l)
	}
	w := g.Wider()
	if !slices.ContainsFunc(w, func(w access.WideGrant) bool {
		return w.Object.Database == "a_b" && slices.Equal(w.Opens, []string{"axb"})
	}) {
		t.Errorf("the grant on a_b, which opens axb too, is not found: %+v", w)
	}
	if on := g.On("axb"); len(on) != 2 {
		t.Errorf("who has anything on axb: %v", on)
	}
}

// large is a server of 5,000 accounts and 500 databases with what is usual on
// them: some grants each, roles in roles, public ones too.
func large() catalog.Access {
	a := catalog.Access{}
	who := func(i int) catalog.Principal {
		if i < 300 {
			return catalog.Principal{Name: fmt.Sprintf("acc_%04d", i), Role: true}
		}
		return catalog.Principal{Name: fmt.Sprintf("acc_%04d", i), Host: "%"}
	}
	for i := range 5000 {
		x := catalog.Account{Principal: who(i), Login: i >= 300, ConnectionLimit: -1}
		if i >= 300 {
			x.DefaultRole = who(i % 300).Name
		}
		a.Accounts = append(a.Accounts, x)
	}
	for i := range 20000 {
		m := catalog.Membership{Role: who(i % 300), Member: who(300 + i%4700), Set: true}
		if i < 280 {
			m.Member = who(i + 1)
		}
		a.Memberships = append(a.Memberships, m)
	}
	for d := range 500 {
		db := catalog.AccessDatabase{Name: fmt.Sprintf("db_%03d", d), Owner: who(d % 300).Name}
		for i := range 100 {
			name := escaped(db.Name)
			if i%50 == 0 {
				name = fmt.Sprintf("db\\_%d%%", d%10)
			}
			a.Grants = append(a.Grants, catalog.Grant{Entry: catalog.Entry{Grantee: who((d*37 + i*191) % 5000),
				Privileges: mariaBundles[access.Bundles[i%3]]},
				Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: name}})
		}
		a.Databases = append(a.Databases, db)
	}
	return a
}

func BenchmarkMatrix(b *testing.B) { enginetest.BenchMatrix(b, maria{}, large()) }

func BenchmarkWhy(b *testing.B) { enginetest.BenchWhy(b, maria{}, large(), may.Select) }

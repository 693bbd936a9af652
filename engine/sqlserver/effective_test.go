package sqlserver

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

// TestEffective makes random users, roles, owners, grants and denials at all levels, signs in as each
// login, and compares what is worked out with what the server answers itself.
func TestEffective(t *testing.T) {
	t.Parallel()
	rig := rigs.Of(Engine{}, testutil.SQLServer(t, "16.0.4125.3"))
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, rig.Running, "suite"))
	admin, err := enginetest.Client(t.Context(), rig, "master", "")
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	random := rand.New(rand.NewPCG(7, 14))
	ran, failed := 0, 0
	try := func(database, format string, args ...any) {
		text := fmt.Sprintf(format, args...)
		if database != "" {
			text = "EXEC " + quoteIdent(database) + ".sys.sp_executesql " + quoteText(text)
		}
		ran++
		if _, err := admin.ExecContext(t.Context(), text); err != nil {
			failed++
			t.Logf("%s: %v", text, err)
		}
	}
	pick := func(list ...string) string { return list[random.IntN(len(list))] }
	databases, logins := []string{"cargo", "fu]el"}, []string{"mate", "crew", "clerk", "guide"}
	word := rig.Running.Password.Reveal()
	for _, l := range logins {
		try("", "CREATE LOGIN %s WITH PASSWORD = N'%s', CHECK_POLICY = OFF", l, word)
	}
	for _, d := range databases {
		try("", "CREATE DATABASE %s", quoteIdent(d))
		try(d, "CREATE SCHEMA desk")
		for _, object := range []string{"dbo.t", "desk.t", "desk.u"} {
			try(d, "CREATE TABLE %s (a int, b int)", object)
		}
		for _, l := range logins[:3] {
			try(d, "CREATE USER %s_u FOR LOGIN %s", l, l)
		}
		for _, r := range []string{"r0", "r1", "r2"} {
			try(d, "CREATE ROLE %s", r)
		}
		try(d, "ALTER ROLE r0 ADD MEMBER r1")
	}
	try("", "ALTER AUTHORIZATION ON DATABASE::[fu]]el] TO guide")
	words := map[catalog.Scope][]string{
		catalog.ScopeDatabase: {"SELECT", "INSERT", "UPDATE", "EXECUTE", "ALTER", "CONTROL", "CREATE TABLE", "CONNECT",
			"ALTER ANY SCHEMA", "VIEW DEFINITION"},
		catalog.ScopeSchema: {"SELECT", "INSERT", "ALTER", "CONTROL", "REFERENCES"},
		catalog.ScopeTable:  {"SELECT", "INSERT", "UPDATE", "ALTER", "CONTROL"},
	}
	objects := []catalog.Object{{Scope: catalog.ScopeDatabase}, {Scope: catalog.ScopeSchema, Schema: "desk"},
		{Scope: catalog.ScopeSchema, Schema: "dbo"}, {Scope: catalog.ScopeTable, Schema: "dbo", Name: "t"},
		{Scope: catalog.ScopeTable, Schema: "desk", Name: "t"}, {Scope: catalog.ScopeTable, Schema: "desk", Name: "u"}}
	on := func(o catalog.Object) string {
		switch o.Scope {
		case catalog.ScopeDatabase:
			return ""
		case catalog.ScopeSchema:
			return " ON SCHEMA::" + o.Schema
		}
		return " ON OBJECT::" + o.Schema + "." + o.Name
	}
	bad := 0
	for range 25 {
		for range 4 {
			d, o := pick(databases...), objects[random.IntN(len(objects))]
			who := pick("mate_u", "crew_u", "clerk_u", "r0", "r1", "r2", "public")
			switch random.IntN(9) {
			case 0, 1, 2:
				try(d, "GRANT %s%s TO %s", pick(words[o.Scope]...), on(o), who)
			case 3:
				try(d, "DENY %s%s TO %s CASCADE", pick(words[o.Scope]...), on(o), who)
			case 4:
				try(d, "REVOKE %s%s FROM %s CASCADE", pick(words[o.Scope]...), on(o), who)
			case 5:
				try(d, "ALTER ROLE %s ADD MEMBER "+
					"%s", pick("r0", "r1", "r2", "db_datareader", "db_denydatawriter", "db_owner",
					"db_ddladmin"), pick("mate_u", "crew_u", "clerk_u"))
			case 6:
				try(d, "ALTER ROLE %s DROP MEMBER %s", pick("r0", "r1", "r2", "db_owner"), pick("mate_u", "crew_u"))
			case 7:
				try(d, "ALTER AUTHORIZATION ON SCHEMA::desk TO %s", pick("mate_u", "r2", "dbo"))
			case 8:
				try("", "%s %s TO %s", pick("GRANT", "REVOKE"), pick("VIEW ANY DEFINITION", "CONNECT ANY DATABASE",
					"SELECT ALL USER SECURABLES"), pick(logins...))
			}
		}
		a, err := s.Access(t.Context(), catalog.AccessQuery{})
		if err != nil {
			t.Fatal(err)
		}
		g := access.New(a, Engine{}.Rules)
		for _, d := range databases {
			for _, l := range logins {
				bad += compare(t, rig, g, d, l, objects, words)
			}
		}
		if bad > 0 {
			t.Fatalf("%d differences", bad)
		}
	}
	t.Logf("%d statements, %d failed", ran, failed)
	if failed > ran/3 {
		t.Errorf("%d of %d statements failed", failed, ran)
	}
}

// compare signs in as a login, and counts where the server answers otherwise than was worked out.
func compare(t *testing.T, rig enginetest.Rig, g *access.Graph, d, login string, objects []catalog.Object,
	words map[catalog.Scope][]string) (bad int) {
	t.Helper()
	who := catalog.Principal{Name: login}
	whole := catalog.Object{Scope: catalog.ScopeDatabase, Database: d}
	conn, err := enginetest.Client(t.Context(), rig, d, login)
	if may := g.Effective(who, whole).Has(connect); may != (err == nil) {
		t.Errorf("%s may enter %s: worked out %v, but %v", login, d, may, err)
		return 1
	}
	if err != nil {
		return 0
	}
	defer conn.Close()
	for _, o := range objects {
		o.Database = d
		securable, class := quoteIdent(d), "DATABASE"
		switch o.Scope {
		case catalog.ScopeSchema:
			securable, class = quoteIdent(o.Schema), "SCHEMA"
		case catalog.ScopeTable:
			securable, class = quoteIdent(o.Schema)+"."+quoteIdent(o.Name), "OBJECT"
		}
		for _, word := range words[o.Scope] {
			var says bool
			err := conn.QueryRowContext(t.Context(), "SELECT COALESCE(HAS_PERMS_BY_NAME("+quoteText(securable)+", "+
				quoteText(class)+", "+quoteText(word)+"), 0)").Scan(&says)
			if err != nil {
				t.Fatal(err)
			}
			if found := g.Effective(who, o).Has(table.Of(word)); found != says {
				t.Errorf("%s %s on %s of %s: worked out %v, the server says "+
					"%v", login, word, access.ObjectText(o), d, found,
					says)
				bad++
			}
		}
	}
	return bad
}

// TestShared: a login's user, a user whose login is gone, one without a login, and an owner.
func TestShared(t *testing.T) {
	t.Parallel()
	rig := rigs.Of(Engine{}, testutil.SQLServer(t, "16.0.4125.3"))
	l := life{T: t, s: enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, rig.Running, "suite")), rig: rig}
	l.admin = l.client("master")
	in := func(text string) string { return "EXEC cargo.sys.sp_executesql " + quoteText(text) }
	l.exec("CREATE DATABASE cargo", "CREATE LOGIN mate WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF",
		"CREATE LOGIN lost WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF",
		"CREATE LOGIN boss WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF",
		"ALTER SERVER ROLE sysadmin ADD MEMBER boss", "ALTER AUTHORIZATION ON DATABASE::cargo TO boss",
		in("CREATE USER mate FOR LOGIN mate"), in("CREATE USER lost FOR LOGIN lost"), in("CREATE USER nobody WITHOUT "+
			"LOGIN"),
		in("ALTER ROLE db_datareader ADD MEMBER mate"), in("DENY SELECT TO mate"), "DROP LOGIN lost")
	a, err := l.s.Access(t.Context(), catalog.AccessQuery{})
	if err != nil {
		t.Fatal(err)
	}
	g := access.New(a, Engine{}.Rules)
	find := func(p catalog.Principal) catalog.Account {
		t.Helper()
		x, ok := g.Account(p)
		if !ok {
			t.Fatalf("%s is not read", p)
		}
		return x
	}
	marks := func(p catalog.Principal) (out []string) {
		for _, m := range g.Marks(find(p)) {
			out = append(out, m.Code)
		}
		return out
	}
	user := func(name string) catalog.Principal { return catalog.Principal{Name: name, Database: "cargo"} }
	if !find(catalog.Principal{Name: "boss"}).Super || find(catalog.Principal{Name: "mate"}).Super {
		t.Error("who is an administrator")
	}
	if got := find(user("mate")).Properties.Text("login"); got != "mate" {
		t.Errorf("the login of mate: %q", got)
	}
	if !slices.Contains(marks(user("lost")), orphan) || len(marks(user("nobody"))) > 0 {
		t.Errorf("lost: %v, nobody: %v", marks(user("lost")), marks(user("nobody")))
	}
	on := catalog.Object{Scope: catalog.ScopeDatabase, Database: "cargo"}
	why := g.Why(catalog.Principal{Name: "mate"}, table.Of("SELECT"), on)
	if why.Allowed || len(why.Needs[0].Denied) == 0 || len(why.Needs[0].Chains) == 0 {
		t.Errorf("why not: %+v", why)
	}
	for name, want := range map[string]string{"lost": "nobody belongs to it who could", "mate": "those who belong to " +
		"it can"} {
		if w := g.Why(user(name), table.Of("SELECT"), on); !slices.Contains(w.Barred,
			"it cannot sign in by itself; "+want) {
			t.Errorf("what keeps the user %s out: %v", name, w.Barred)
		}
	}
	if cell := g.Level(catalog.Principal{Name: "boss"}, "cargo"); cell.Level != access.Own {
		t.Errorf("the owner has %v", cell)
	}
	if cell := g.Level(catalog.Principal{Name: "mate"}, "cargo"); cell.Level != access.Connect {
		t.Errorf("who is denied has %v", cell)
	}
	l.exec(in("REVOKE SELECT FROM mate"))
	if a, err = l.s.Access(t.Context(), catalog.AccessQuery{}); err != nil {
		t.Fatal(err)
	}
	if cell := access.New(a, Engine{}.Rules).Level(catalog.Principal{Name: "mate"},
		"cargo"); cell.Level != access.Read {
		t.Errorf("a reader has %v", cell)
	}
}

package postgres

import (
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
)

// everything is a server where each thing that a tenant can name has a name: what
// somebody else than its owner gave on routines, tables and columns too.
func everything() catalog.Snapshot {
	snap := doomed()
	snap.Server.NameRule = naming.Rule{Free: true}
	d := &snap.Access.Databases[0]
	by := func(set privilege.Set) []catalog.Entry {
		return []catalog.Entry{{Grantee: role("mate"), Grantor: "tickets_app", Privileges: set, Grantable: set}}
	}
	at := func(o catalog.Object) catalog.Object {
		o.Database, o.Schema = "tickets_prod", "desk"
		return o
	}
	d.Entries = append(d.Entries, catalog.Entry{Grantee: role("mate"), Grantor: "tickets_app", Privileges: may.Connect})
	d.Interior.Classes = append(d.Interior.Classes,
		catalog.Class{Object: at(catalog.Object{Scope: catalog.ScopeSchema}), Count: 1, Owner: "tickets_owner",
			Entries: by(may.Usage)},
		catalog.Class{Object: at(catalog.Object{Scope: catalog.ScopeRoutine, Name: "fare",
			Args: `(integer, "desk"."odd;type")`}), Example: "fare", Count: 1, Owner: "tickets_owner",
			Entries: by(may.Execute)},
		catalog.Class{Object: at(catalog.Object{Scope: catalog.ScopeTable}), Example: "seats", Count: 1,
			Owner: "tickets_owner", Entries: by(may.Select)},
		catalog.Class{Object: at(catalog.Object{Scope: catalog.ScopeColumn, Name: "seats", Column: "price"}),
			Example: "seats", Count: 1, Owner: "tickets_owner", Entries: by(may.Update)},
		catalog.Class{Object: at(catalog.Object{Scope: catalog.ScopeSequence, Name: "numbers"}), Example: "numbers",
			Count: 1, Owner: "tickets_app", Entries: by(may.Usage)})
	d.Interior.Futures = []catalog.DefaultPrivilege{{Maker: "tickets_owner", On: catalog.ScopeTable, Schema: "desk",
		Entries: by(may.Select)}, {Maker: "tickets_owner", On: catalog.ScopeTable, Entries: by(may.Select)}}
	snap.Access.Memberships = append(snap.Access.Memberships,
		catalog.Membership{Role: role("tickets_owner"), Member: role("mate"), Grantor: "keeper", Inherit: true,
			Set: true})
	more(&snap).Belongings = []belonging{{Owned: 1, Kinds: "1 in pg_database", Databases: []string{"tickets_prod"}},
		{Database: "tickets_prod", Owned: 2, Granted: 3, Policies: 1, Kinds: "2 in pg_class"}}
	snap.Connected = []catalog.Session{connected(7, nil)}
	return snap
}

// named are the names in everything that a tenant could have chosen.
var named = []string{"tickets_prod", "tickets_owner", "tickets_app", "mate", "crew", "desk", "fare", "seats", "price",
	"numbers", "fast", "lounges_prod", "berths_prod", "auditors", "remark", "template1", "keeper"}

func TestEachStatementIsOneCommand(t *testing.T) {
	remark, yes, no := "remark", true, false
	single := func(o catalog.Object, words ...string) change.GrantSpec {
		return change.GrantSpec{Database: "tickets_prod", To: role("mate"), Privileges: words, On: o}
	}
	in := func(o catalog.Object) catalog.Object { o.Schema = "desk"; return o }
	intents := map[string]change.Intent{
		"create": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "lounges_prod",
				Options: catalog.Values{"owner": "crew", "tablespace": "fast", "comment": "remark",
					"template": "template1", "is_template": yes, "allow_connections": no}}},
		"create, private": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "lounges_prod",
				Options: catalog.Values{"private": true, "allow": []string{"mate", "crew"}}}},
		"create, team": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "lounges_prod", Team: &change.TeamSpec{Name: "lounges"}}},
		"alter": taking(change.AlterDatabase,
			change.DatabaseSpec{Options: catalog.Values{"owner": "crew", "comment": "remark",
				"connection_limit": int64(5),
				"is_template":      true, "settings": []catalog.Values{{"name": "search_path", "value": "desk"},
					{"name": "fare", "value": "remark"}, {"name": "price"}}}}, nil),
		"alter, move": taking(change.AlterDatabase,
			change.DatabaseSpec{Options: catalog.Values{"tablespace": "fast", "owner": "crew"}}, nil),
		"drop":      taking(change.DropDatabase, change.DatabaseSpec{}, nil),
		"set aside": taking(change.SetAside, change.DatabaseSpec{}, nil),
		"rename":    taking(change.RenameDatabase, change.DatabaseSpec{NewName: "berths_prod"}, nil),
		"account": accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "auditors", Password: change.Generated,
				Options: catalog.Values{"comment": remark}}),
		"account, alter": accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "tickets_app", Options: catalog.Values{"comment": remark, "locked": yes}}),
		"account, rename": accountIntent(change.RenameAccount,
			change.AccountSpec{Name: "tickets_app", NewName: "auditors"}),
		"password": accountIntent(change.SetPassword,
			change.AccountSpec{Name: "tickets_app", Password: change.Generated}),
		"account, drop": accountIntent(change.DropAccount,
			change.AccountSpec{Name: "tickets_app", Options: catalog.Values{"reassign_to": "crew"}}),
		"set aside account": accountIntent(change.SetAsideAccount, change.AccountSpec{Name: "tickets_app"}),

		"member":      {Kind: change.GrantRole, Member: &change.MemberSpec{Role: "crew", To: role("tickets_app")}},
		"member, end": {Kind: change.RevokeRole, Member: &change.MemberSpec{Role: "crew", To: role("mate")}},
		"build": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("crew"), Bundle: access.BundleBuild}),
		"own": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("crew"), Bundle: access.BundleOwn}),
		"take all": grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate")}),
		"take to read": grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: access.BundleRead}),
		"take connect": grantIntent(change.RevokePrivilege, single(catalog.Object{}, "CONNECT")),
		"take routine": grantIntent(change.RevokePrivilege,
			single(in(catalog.Object{Scope: catalog.ScopeRoutine, Name: "fare"}), "EXECUTE")),
		"column": grantIntent(change.GrantPrivilege,
			single(in(catalog.Object{Scope: catalog.ScopeColumn, Name: "seats", Column: "price"}), "SELECT")),
		"schema": grantIntent(change.GrantPrivilege,
			single(in(catalog.Object{Scope: catalog.ScopeSchema}), "CREATE")),
		"sequence": grantIntent(change.GrantPrivilege,
			single(in(catalog.Object{Scope: catalog.ScopeSequence, Name: "numbers"}), "SELECT")),
	}
	for title, in := range intents {
		in.Server = "harbour"
		intents[title] = in
	}
	intents["fill"] = withScript(nil)
	full := everything()
	sent(t, &full, "VACUUM; CREATE TABLE fares (a int);")
	enginetest.EachKnown(t, Engine{}, steps, full, intents)
	aside := everything()
	wait(&aside)
	holdings := map[string]change.Intent{"bring back": waits(change.BringBack, change.HoldingSpec{}),
		"bring back as": waits(change.BringBack, change.HoldingSpec{NewName: "berths_prod"}),
		"discard":       waits(change.Discard, change.HoldingSpec{}),
		"keep":          waits(change.KeepHolding, change.HoldingSpec{Hold: "remark"}),
		"an account":    heldAccount(change.BringBack), "an account, discarded": heldAccount(change.Discard)}
	mateAside(&aside)
	detailsOf(aside.Details).Belongings = nil
	for title, in := range holdings {
		in.Server = "harbour"
		holdings[title] = in
	}
	enginetest.EachKnown(t, Engine{}, steps, aside, holdings)
	if n := enginetest.OneCommand(t, Engine{}, dialect.Commands, append(named, waiting), aside, holdings); n < 100 {
		t.Errorf("only %d statements about holdings were looked at", n)
	}
	if n := enginetest.OneCommand(t, Engine{}, dialect.Commands, named, full, intents); n < 1500 {
		t.Errorf("only %d statements were looked at", n)
	}
}

// A revoke takes, as another grantor, only what was asked for.
func TestRevokeTakesOnlyWhatWasAsked(t *testing.T) {
	ask := func(spec change.GrantSpec) []string {
		spec.Database, spec.To = "tickets_prod", role("mate")
		b := ask(t, grantIntent(change.RevokePrivilege, spec), everything())
		var out []string
		for _, text := range enginetest.Sent(b) {
			if len(text) > 6 && text[:6] == "REVOKE" {
				out = append(out, text)
			}
		}
		return out
	}
	if got := ask(change.GrantSpec{Privileges: []string{"CONNECT"}}); len(got) != 2 || got[0] != got[1] {
		t.Errorf("taking CONNECT takes %q", got)
	}
	if got := ask(change.GrantSpec{Privileges: []string{"EXECUTE"},
		On: catalog.Object{Scope: catalog.ScopeRoutine, Schema: "desk", Name: "fare"}}); len(got) != 2 ||
		got[0] != `REVOKE EXECUTE ON ROUTINE "desk"."fare"(integer, "desk"."odd;type") FROM "mate"` {
		t.Errorf("taking EXECUTE takes %q", got)
	}
}

func TestCommandsOfPostgreSQL(t *testing.T) {
	for text, want := range map[string]int{
		"":                                       0,
		" -- nothing; here\n /* ; /* ; */ ; */ ": 0,
		"SELECT 1":                               1,
		"SELECT 1;":                              1,
		"SELECT 1; SELECT 2":                     2,
		`SELECT ';'';', ";"";", 1`:               1,
		`SELECT '\'; SELECT 2`:                   2, // no escape without E
		`SELECT E'\'; SELECT 2'`:                 1,
		`SELECT e'\\'; SELECT 2`:                 2,
		`SELECT note'\'; SELECT 2`:               2, // the e is the end of a word
		"SELECT $$;$$, $a$;$$;$a$":               1,
		"SELECT $1; SELECT 2":                    2,
		"SELECT x$a$; SELECT 2; SELECT 3":        3, // a dollar within a name opens nothing
		"SELECT 1 --;\n; SELECT 2":               2,
		"SELECT U&\"d;\"\";\", 1":                1,
	} {
		if n, err := dialect.Commands(text); n != want || err != nil {
			t.Errorf("commands(%q) = %d, %v; want %d", text, n, err, want)
		}
	}
	for _, text := range []string{"SELECT '", `SELECT "x`, "SELECT /* /* */", "SELECT $a$ $b$", `SELECT E'\'`} {
		if _, err := dialect.Commands(text); err == nil {
			t.Errorf("commands(%q) finds nothing wrong", text)
		}
	}
}

func FuzzQuoting(f *testing.F) {
	for _, s := range enginetest.Hostile {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		enginetest.QuotedWhole(t, dialect.Commands, quoteIdent(s))
		enginetest.QuotedWhole(t, dialect.Commands, quoteText(s))
	})
}

func FuzzCommands(f *testing.F) {
	for _, s := range enginetest.Hostile {
		f.Add("SELECT " + s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		n, err := dialect.Commands(s)
		if err == nil && n > len(s) || n < 0 {
			t.Errorf("%d dialect.Commands in %q", n, s)
		}
	})
}

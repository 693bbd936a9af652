package mysqlfamily

import (
	"slices"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine/enginetest"
)

// everything is a server where each thing that a tenant can name has a name.
func everything() catalog.Snapshot {
	snap := doomed()
	snap.Server.NameRule = naming.Rule{Free: true}
	impact(&snap).Events = []scheduled{{"nightly", "mate@10.%"}}
	snap.Target.Comment = "remark"
	snap.OwnerFound = []string{"gate@10.%"}
	snap.Access.Accounts = append(snap.Access.Accounts,
		catalog.Account{Principal: at("report", "%"), Login: true, Global: may.Select})
	grant := func(p catalog.Principal, set privilege.Set, o catalog.Object) {
		o.Database = "cargo_prod"
		snap.Access.Grants = append(snap.Access.Grants,
			catalog.Grant{Entry: catalog.Entry{Grantee: p, Privileges: set, Grantable: set, Grantor: "report@%"},
				Object: o})
	}
	grant(at("gate", "10.%"), may.Execute, catalog.Object{Scope: catalog.ScopeRoutine, Name: "weigh"})
	grant(at("crew", ""), may.Select, catalog.Object{Scope: catalog.ScopeTable, Name: "trailers"})
	grant(at("crew", ""), may.Select.Or(may.Insert), catalog.Object{Scope: catalog.ScopeDatabase})
	return snap
}

// named are the names in everything that a tenant could have chosen.
var named = []string{"cargo_prod", "cargo_app", "gate", "crew", "desk", "report", "weigh", "trailers", "axles",
	"nightly", "remark", "lounges_prod", "gone_prod", "auditors", "hands", "10.%", "10.0.0.%"}

func TestEachStatementIsOneCommand(t *testing.T) {
	yes := true
	single := func(p catalog.Principal, o catalog.Object, words ...string) change.GrantSpec {
		return change.GrantSpec{Database: "cargo_prod", To: p, Privileges: words, On: o}
	}
	intents := map[string]change.Intent{
		"create": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "lounges_prod", Options: catalog.Values{"comment": "remark"}}},
		"alter": {Kind: change.AlterDatabase,
			Database: &change.DatabaseSpec{Name: "cargo_prod", Options: catalog.Values{"comment": "remarks",
				"collation": "latin1_swedish_ci", "encoding": "latin1", "owner": "gate@10.%"}}},
		"drop": dropping(change.DatabaseSpec{}, nil),
		"drop, hold": dropping(change.DatabaseSpec{Options: catalog.Values{"clear_leftovers": true}},
			&change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}}),
		"account": accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "auditors", Host: "10.0.9.%", Password: change.Generated}),
		"role": accountIntent(change.CreateAccount, change.AccountSpec{Name: "auditors", Role: true}),
		"account, alter": accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "gate", Options: catalog.Values{"locked": yes, "default_role": "none"}}),
		"account, rename": accountIntent(change.RenameAccount, change.AccountSpec{Name: "gate", NewName: "hands"}),
		"password": accountIntent(change.SetPassword,
			change.AccountSpec{Name: "gate", Password: change.Generated}),
		"account, drop": accountIntent(change.DropAccount, change.AccountSpec{Name: "gate"}),
		"member": {Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "desk", To: at("cargo_app", "10.0.0.%")}},
		"member, end": {Kind: change.RevokeRole, Member: &change.MemberSpec{Role: "crew", To: at("gate", "10.%")}},
		"write": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("gate", "10.%"), Bundle: access.BundleWrite}),
		"column": grantIntent(change.GrantPrivilege,
			single(at("gate", "10.%"), catalog.Object{Scope: catalog.ScopeColumn, Name: "trailers", Column: "axles"},
				"SELECT")),
		"routine": grantIntent(change.RevokePrivilege,
			single(at("gate", "10.%"), catalog.Object{Scope: catalog.ScopeRoutine, Name: "weigh"}, "EXECUTE")),
		"take all": grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("crew", "")}),
	}
	intents["set aside"] = asideOf("cargo_prod")
	for title, in := range intents {
		in.Server = "quay"
		intents[title] = in
	}
	intents["fill"] = withScript(catalog.Values{runAs: "gate"})
	full := filled()
	sent(t, &full, "CREATE TABLE crates (a int); CREATE VIEW v AS SELECT 1;")
	enginetest.EachKnown(t, maria{}, steps, full, intents)
	aside := filled()
	wait(&aside)
	holdings := map[string]change.Intent{"bring back": asked(change.BringBack, change.HoldingSpec{}),
		"bring back as": asked(change.BringBack, change.HoldingSpec{NewName: "berths_prod"}),
		"discard":       asked(change.Discard, change.HoldingSpec{}),
		"keep":          asked(change.KeepHolding, change.HoldingSpec{Hold: "remark"})}
	for title, in := range holdings {
		in.Server = "quay"
		holdings[title] = in
	}
	enginetest.EachKnown(t, maria{}, steps, aside, holdings)
	more := append(slices.Clone(named), waiting, "heavy", "weighed", "berths_prod")
	if n := enginetest.OneCommand(t, maria{}, dialect.Commands, more, aside, holdings); n < 200 {
		t.Errorf("only %d statements about holdings were looked at", n)
	}
	if n := enginetest.OneCommand(t, maria{}, dialect.Commands, more, full, intents); n < 900 {
		t.Errorf("only %d statements were looked at", n)
	}
}

func TestCommandsOfMariaDB(t *testing.T) {
	for text, want := range map[string]int{
		"":                                   0,
		"# nothing; here\n-- nor;\n/* ; */":  0,
		"SELECT 1":                           1,
		"SELECT 1;":                          1,
		"SELECT 1; SELECT 2":                 2,
		"SELECT ';\\';', \";\"\";\", `;``;`": 1,
		`SELECT '\\'; SELECT 2`:              2,
		"SELECT `\\`; SELECT 2":              2, // no escapes in a name
		"SELECT 1--1; SELECT 2":              2, // no comment without a blank
		"SELECT 1 -- ;\n; SELECT 2":          2,
		"SELECT /* /* ; */ 1; SELECT 2":      2, // they do not nest
	} {
		if n, err := dialect.Commands(text); n != want || err != nil {
			t.Errorf("commands(%q) = %d, %v; want %d", text, n, err, want)
		}
	}
	for _, text := range []string{"SELECT '", `SELECT '\'`, "SELECT `x", "SELECT /* ",
		"SELECT 1 /*!50000 ; DROP USER x */", "SELECT /*M! 1 */"} {
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
		if s != "" { // nothing noted: nothing is written
			enginetest.QuotedWhole(t, dialect.Commands, quoteWord(s))
		}
		enginetest.QuotedWhole(t, dialect.Commands, quoteAccount(s, s))
	})
}

func FuzzCommands(f *testing.F) {
	for _, s := range enginetest.Hostile {
		f.Add("SELECT " + s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if n, err := dialect.Commands(s); err == nil && n > len(s) || n < 0 {
			t.Errorf("%d dialect.Commands in %q", n, s)
		}
	})
}

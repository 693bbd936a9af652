package sqlserver

import (
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/enginetest"
)

func login(name string) catalog.Principal { return catalog.Principal{Name: name} }
func user(name string) catalog.Principal  { return catalog.Principal{Name: name, Database: "cargo"} }
func role(name string) catalog.Principal {
	return catalog.Principal{Name: name, Database: "cargo", Role: true}
}

// peopled is the server with people: mate is a user of cargo with a grant, a denial and a role, deck owns a
// database and is no user, lost is a user without a login.
func peopled() catalog.Snapshot {
	snap := berthed()
	detailsOf(snap.Details).Alters, detailsOf(snap.Details).Controls = true, true
	account := func(p catalog.Principal, more catalog.Values) catalog.Account {
		a := catalog.Account{Principal: p, Key: "key of " + p.Name, Login: p.Database == "" && !p.Role,
			Properties: more}
		if a.Login {
			a.Method = "password"
		}
		return a
	}
	class := catalog.Class{Object: catalog.Object{Scope: catalog.ScopeTable, Database: "cargo", Schema: "hold",
		Name: "crates"}, Count: 1, Entries: []catalog.Entry{
		{Grantee: user("mate"), Grantor: "dbo", Privileges: table.Of("SELECT"), Grantable: table.Of("SELECT")},
		{Grantee: user("mate"), Grantor: "dbo", Denied: table.Of("DELETE")}}}
	snap.Access = &catalog.Access{
		Accounts: []catalog.Account{account(login("mate"), catalog.Values{"default_database": "master"}),
			account(login("deck"), nil), account(login("genarch"), nil),
			{Principal: catalog.Principal{Name: "sysadmin", Role: true}, Super: true, System: true},
			account(catalog.Principal{Name: "watch", Role: true}, nil),
			account(user("mate"), catalog.Values{"login": "mate", "default_schema": "dbo"}),
			account(user("lost"), catalog.Values{"kind": orphan}), account(role("stewards"), nil),
			account(role(owners), nil)},
		Memberships: []catalog.Membership{
			{Role: user("mate"), Member: login("mate"), Inherit: true, Grantor: actsAs},
			{Role: role("stewards"), Member: user("mate"), Inherit: true},
			{Role: catalog.Principal{Name: "watch", Role: true}, Member: login("mate"), Inherit: true}},
		Databases: []catalog.AccessDatabase{
			{Name: "cargo", Owner: "cargo_owner", Interior: &catalog.ObjectGrants{Classes: []catalog.Class{class,
				{Object: catalog.Object{Scope: catalog.ScopeSchema, Database: "cargo", Schema: "hold"}, Owner: "dbo"}}},
				Entries: []catalog.Entry{{Grantee: user("mate"), Grantor: "dbo", Privileges: table.Of("CONNECT")}}},
			{Name: "quays", Owner: "deck", Interior: &catalog.ObjectGrants{}},
			{Name: "shut", Closed: true}, {Name: "master", System: true, Interior: &catalog.ObjectGrants{}}}}
	return snap
}

func about(k change.Kind, p catalog.Principal, spec change.AccountSpec) change.Intent {
	spec.Name, spec.Database, spec.Role = p.Name, p.Database, p.Role
	return change.Intent{Kind: k, Server: "customs", Account: &spec}
}

func granting1(k change.Kind, to catalog.Principal, spec change.GrantSpec) change.Intent {
	spec.To = to
	if spec.Database == "" {
		spec.Database = "cargo"
	}
	return change.Intent{Kind: k, Server: "customs", Grant: &spec}
}

// accountIntents are one of each way of going.
func accountIntents() map[string]change.Intent {
	crates := catalog.Object{Scope: catalog.ScopeTable, Schema: "hold", Name: "crates"}
	note := catalog.Object{Scope: catalog.ScopeColumn, Schema: "hold", Name: "crates", Column: "remark"}
	member := func(k change.Kind, role string, to catalog.Principal) change.Intent {
		return change.Intent{Kind: k, Server: "customs", Member: &change.MemberSpec{Role: role, To: to}}
	}
	made := change.AccountSpec{Password: change.Generated}
	withMore := made
	withMore.Options = catalog.Values{"default_database": "cargo", "locked": true,
		"sid": "0x00112233445566778899aabbccddeeff"}
	return map[string]change.Intent{
		"team": {Kind: change.CreateDatabase, Server: "customs", Database: &change.DatabaseSpec{Name: "lounges",
			Team: &change.TeamSpec{Name: "crews"}}},
		"login":       about(change.CreateAccount, login("bosun"), made),
		"login_whole": about(change.CreateAccount, login("bosun"), withMore),
		"server_role": about(change.CreateAccount, catalog.Principal{Name: "bosun", Role: true}, change.AccountSpec{}),
		"user": about(change.CreateAccount, user("bosun"), change.AccountSpec{Options: catalog.Values{"login": "deck",
			"default_schema": "hold"}}),
		"user_alone": about(change.CreateAccount, user("bosun"),
			change.AccountSpec{Options: catalog.Values{"without_login": true}}),
		"role": about(change.CreateAccount, role("bosun"), change.AccountSpec{}),
		"lock_login": about(change.AlterAccount, login("mate"),
			change.AccountSpec{Options: catalog.Values{"locked": true}}),
		"begins_in": about(change.AlterAccount, login("mate"),
			change.AccountSpec{Options: catalog.Values{"default_database": "cargo"}}),
		"mend_user": about(change.AlterAccount, user("lost"),
			change.AccountSpec{Options: catalog.Values{"login": "deck"}}),
		"user_schema": about(change.AlterAccount, user("mate"),
			change.AccountSpec{Options: catalog.Values{"default_schema": "hold"}}),
		"rename_login": about(change.RenameAccount, login("mate"), change.AccountSpec{NewName: "bosun"}),
		"rename_user":  about(change.RenameAccount, user("mate"), change.AccountSpec{NewName: "bosun"}),
		"password":     about(change.SetPassword, login("mate"), made),
		"drop_login":   about(change.DropAccount, login("mate"), change.AccountSpec{}),
		"drop_owner": about(change.DropAccount, login("deck"),
			change.AccountSpec{Options: catalog.Values{"reassign_to": "mate"}}),
		"drop_user":     about(change.DropAccount, user("mate"), change.AccountSpec{}),
		"drop_role":     about(change.DropAccount, role("stewards"), change.AccountSpec{}),
		"member":        member(change.GrantRole, "stewards", user("lost")),
		"member_ends":   member(change.RevokeRole, "stewards", user("mate")),
		"server_member": member(change.GrantRole, "watch", login("deck")),
		"grant_bundle":  granting1(change.GrantPrivilege, login("deck"), change.GrantSpec{Bundle: access.BundleBuild}),
		"grant_own":     granting1(change.GrantPrivilege, login("mate"), change.GrantSpec{Bundle: access.BundleOwn}),
		"grant_one": granting1(change.GrantPrivilege, login("mate"),
			change.GrantSpec{Privileges: []string{"UPDATE"}, On: note, GrantOption: true}),
		"grant_over_denial": granting1(change.GrantPrivilege, login("mate"),
			change.GrantSpec{Privileges: []string{"DELETE"}, On: crates}),
		"deny": granting1(change.GrantPrivilege, login("mate"), change.GrantSpec{Privileges: []string{"SELECT"},
			On:      crates,
			Options: catalog.Values{"deny": true}}),
		"deny_everybody": granting1(change.GrantPrivilege, catalog.Public,
			change.GrantSpec{Privileges: []string{"EXECUTE"},
				Options: catalog.Values{"deny": true}}),
		"revoke_all": granting1(change.RevokePrivilege, login("mate"), change.GrantSpec{}),
		"revoke_one": granting1(change.RevokePrivilege, user("mate"),
			change.GrantSpec{Privileges: []string{"SELECT"}, On: crates}),
	}
}

func TestAccountStatements(t *testing.T) {
	for name, in := range accountIntents() {
		snap := peopled()
		if name == "drop_owner" {
			detailsOf(snap.Details).Owns = []string{"quays"}
		}
		t.Run(name, func(t *testing.T) { enginetest.Golden(t, *update, "account_"+name, planned(t, in, snap)) })
	}
}

// TestEachAccountStatementIsOneCommand: whatever the names of people, databases and tables are.
func TestEachAccountStatementIsOneCommand(t *testing.T) {
	snap := peopled()
	snap.Server.NameRule = naming.Rule{Free: true}
	names := []string{"bosun", "mate", "deck", "lost", "stewards", "watch", "cargo", "quays", "hold", "crates",
		"remark", "lounges", "crews"}
	if n := enginetest.OneCommand(t, Engine{}, dialect.Commands, names, snap, accountIntents()); n < 500 {
		t.Errorf("only %d statements were looked at", n)
	}
	enginetest.EachKnown(t, Engine{}, steps, snap, accountIntents())
	// What runs in a database is one command inside one command.
	for _, end := range enginetest.Hostile {
		inner := onPrincipal("ALTER", role("x"+end), "")
		plain := "ALTER ROLE " + quoteIdent("x"+end)
		_, quoted, _ := strings.Cut(inner, ".sys.sp_executesql ")
		enginetest.QuotedWhole(t, dialect.Commands, quoted)
		if text := strings.ReplaceAll(strings.TrimSuffix(strings.TrimPrefix(quoted, "N'"), "'"), "''",
			"'"); text != plain {
			t.Errorf("%q became %q", plain, text)
		}
	}
}

// TestAccountFindings: what speaks against an intent, and what is said beside it.
func TestAccountFindings(t *testing.T) {
	all := accountIntents()
	for _, tt := range []struct {
		title string
		in    change.Intent
		alter func(*catalog.Snapshot)
		want  string
	}{
		{"there " +
			"already", about(change.CreateAccount, login("MATE"), change.AccountSpec{Password: change.Generated}), nil,
			"stop:account.exists"},
		{"no " +
			"password", about(change.CreateAccount, login("bosun"), change.AccountSpec{Password: change.NoPassword}),
			nil,
			"stop:password.missing"},
		{"a password for a user", about(change.CreateAccount, user("bosun"),
			change.AccountSpec{Password: change.Given, Bits: 99}), nil, "stop:password.method"},
		{"no such login", about(change.CreateAccount, user("bosun"), change.AccountSpec{}), nil, "stop:option.absent"},
		{"the login's second user", about(change.CreateAccount, user("bosun"),
			change.AccountSpec{Options: catalog.Values{"login": "mate"}}), nil, "stop:option.unusable"},
		{"in a closed database", about(change.CreateAccount, catalog.Principal{Name: "mate", Database: "shut"},
			change.AccountSpec{}), nil, "stop:database.closed"},
		{"in a database of the server", about(change.CreateAccount, catalog.Principal{Name: "mate", Database: "master"},
			change.AccountSpec{}), nil, "stop:grant.invalid"},
		{"a number that is " +
			"taken", about(change.CreateAccount, login("bosun"), change.AccountSpec{Password: change.Generated,
			Options: catalog.Values{"sid": "0x00112233445566778899AABBCCDDEEFF"}}), func(s *catalog.Snapshot) {
			s.Access.Accounts[0].Key = "00112233445566778899AABBCCDDEEFF"
		}, "stop:option.unusable"},
		{"no number", about(change.CreateAccount, login("bosun"), change.AccountSpec{Password: change.Generated,
			Options: catalog.Values{"sid": "0x01, CHECK"}}), nil, "stop:option.invalid"},
		{"no such database", about(change.AlterAccount, login("mate"),
			change.AccountSpec{Options: catalog.Values{"default_database": "nowhere"}}), nil, "stop:option.absent"},
		{"a user's " +
			"password", about(change.SetPassword, user("mate"), change.AccountSpec{Password: change.Generated}), nil,
			"stop:password.method"},
		{"an administrator's " +
			"password", all["password"], func(s *catalog.Snapshot) { s.Access.Accounts[0].Super = true },
			"caution:server.taken_over"},
		{"Genarch's " +
			"own", about(change.DropAccount, login("genarch"), change.AccountSpec{}), nil, "stop:account.own_login"},
		{"an owner", about(change.DropAccount, login("deck"), change.AccountSpec{}), func(s *catalog.Snapshot) {
			detailsOf(s.Details).Owns = []string{"quays"}
		}, "stop:account.owns"},
		{"an owner of jobs", all["drop_login"], func(s *catalog.Snapshot) {
			detailsOf(s.Details).Belongings = []belonging{{Who: login("mate"), What: "jobs",
				Names: []string{"nightly"}}}
		}, "stop:account.owns"},
		{"an owner of what was set aside", all["drop_owner"], func(s *catalog.Snapshot) {
			detailsOf(s.Details).Owns = []string{heldName(*s.Target)}
			s.Names = append(s.Names, heldName(*s.Target))
		}, "stop:account.owns"},
		{"an owner of a schema", all["drop_user"], func(s *catalog.Snapshot) {
			s.Access.Databases[0].Interior.Classes[1].Owner = "mate"
		}, "stop:account.owns"},
		{"who granted to others", all["drop_user"], func(s *catalog.Snapshot) {
			s.Access.Databases[0].Entries[0].Grantor = "mate"
		}, "stop:grant.other_grantor"},
		{"a role with members", all["drop_role"], nil, "caution:account.members"},
		{"administrators", change.Intent{Kind: change.GrantRole, Member: &change.MemberSpec{Role: "sysadmin",
			To: login("mate")}}, nil, "caution:server.taken_over"},
		{"an admin option", change.Intent{Kind: change.GrantRole, Member: &change.MemberSpec{Role: "watch",
			To: login("deck"), Admin: true}}, nil, "stop:option.unsupported"},
		{"a user of that name, who is not it", granting1(change.GrantPrivilege, login("lost"),
			change.GrantSpec{Bundle: access.BundleRead}), func(s *catalog.Snapshot) {
			s.Access.Accounts = append(s.Access.Accounts, catalog.Account{Principal: login("lost"), Login: true})
		}, "stop:account.exists"},
		{"granted, and denied to a role", granting1(change.GrantPrivilege, login("mate"),
			change.GrantSpec{Bundle: access.BundleRead}), func(s *catalog.Snapshot) {
			e := s.Access.Databases[0].Entries
			s.Access.Databases[0].Entries = append(e, catalog.Entry{Grantee: user("mate"), Grantor: "dbo",
				Privileges: table.Of("SELECT")}, catalog.Entry{Grantee: role("stewards"), Grantor: "dbo",
				Denied: table.Of("SELECT")})
		}, "note:grant.held"},
		{"a bundle over a denial", granting1(change.GrantPrivilege, login("mate"),
			change.GrantSpec{Bundle: access.BundleRead}), func(s *catalog.Snapshot) {
			s.Access.Databases[0].Entries = append(s.Access.Databases[0].Entries, catalog.Entry{Grantee: user("mate"),
				Grantor: "dbo", Denied: table.Of("SELECT")})
		}, "caution:grant.narrows"},
		{"the owner", granting1(change.GrantPrivilege, login("deck"), change.GrantSpec{Bundle: access.BundleRead}),
			func(s *catalog.Snapshot) {
				s.Access.Memberships = append(s.Access.Memberships, catalog.Membership{Role: dbo("cargo"),
					Member: login("deck"), Grantor: actsAs})
			}, "stop:grant.invalid"},
		{"not for Genarch to grant", all["revoke_one"], func(s *catalog.Snapshot) {
			detailsOf(s.Details).Controls = false
		}, "stop:rights.missing"},
		{"not for Genarch to " +
			"alter", all["mend_user"], func(s *catalog.Snapshot) { detailsOf(s.Details).Alters = false },
			"stop:rights.missing"},
		{"a team's database given away", change.Intent{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{
			Name: "lounges", Team: &change.TeamSpec{Name: "crews"}, Options: catalog.Values{"owner": "mate"}}},
			func(s *catalog.Snapshot) { s.Instance.Login.Superuser = false }, "stop:option.invalid"},
		{"triggers", all["grant_bundle"], func(s *catalog.Snapshot) {
			detailsOf(s.Details).Triggers = []string{"cargo: watch"}
		}, "caution:database.triggers"},
		{"a denied bundle", granting1(change.GrantPrivilege, login("mate"), change.GrantSpec{Bundle: access.BundleRead,
			Options: catalog.Values{"deny": true}}), nil, "stop:option.invalid"},
		{"over a denial", all["grant_over_denial"], nil, "caution:grant.narrows"},
		{"in another database", granting1(change.GrantPrivilege, user("mate"), change.GrantSpec{Database: "quays",
			Bundle: access.BundleRead}), nil, "stop:grant.invalid"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := peopled()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := planned(t, tt.in, snap)
			var have []string
			for _, f := range b.Findings {
				have = append(have, string(f.Level)+":"+f.Code)
			}
			if !slices.Contains(have, tt.want) {
				t.Errorf("%s is not among %v", tt.want, have)
			}
		})
	}
}

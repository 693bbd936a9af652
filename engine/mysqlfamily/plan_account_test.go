package mysqlfamily

import (
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
)

func at(name, host string) catalog.Principal {
	return catalog.Principal{Name: name, Host: host, Role: host == ""}
}

// staffed is the small server with people on it.
func staffed() catalog.Snapshot {
	snap := snapshot()
	snap.Instance.Login.Abilities = append(snap.Instance.Login.Abilities,
		catalog.Ability{Code: "manage_accounts", Allowed: true},
		catalog.Ability{Code: "see_sessions", Allowed: true}, catalog.Ability{Code: "end_sessions", Allowed: true})
	snap.Self, snap.Details = at("keeper",
		"%"), &details{Client: "10.0.0.9", Methods: []string{methodNative, methodEd25519}}
	account := func(p catalog.Principal) catalog.Account {
		return catalog.Account{Principal: p, Login: !p.Role, ConnectionLimit: -1, Method: methodNative}
	}
	keeper := account(at("keeper", "%"))
	keeper.Super, keeper.Global, keeper.GlobalGrant = true, table.All(), true
	gate := account(at("gate", "10.%"))
	gate.DefaultRole = "crew"
	snap.Access = &catalog.Access{
		Accounts: []catalog.Account{keeper, account(at("cargo_app", "10.0.0.%")), gate, account(at("crew", "")),
			account(at("desk", ""))},
		Memberships: []catalog.Membership{{Role: at("crew", ""), Member: at("keeper", "%"), Admin: true},
			{Role: at("crew", ""), Member: at("gate", "10.%")},
			{Role: at("desk", ""), Member: at("keeper", "%"), Admin: true}},
		Databases: []catalog.AccessDatabase{{Name: "cargo_prod"}, {Name: "cargo2prod"}},
		Grants: []catalog.Grant{
			{Entry: catalog.Entry{Grantee: at("cargo_app", "10.0.0.%"), Privileges: may.Select.Or(may.Insert)},
				Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: "cargo_prod"}},
			{Entry: catalog.Entry{Grantee: at("gate", "10.%"), Privileges: may.Select, Grantable: may.Select},
				Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: `gone\_prod`}},
			{Entry: catalog.Entry{Grantee: at("gate", "10.%"), Privileges: may.Update},
				Object: catalog.Object{Scope: catalog.ScopeColumn, Database: "cargo_prod", Name: "trailers",
					Column: "axles"}}}}
	return snap
}

func accountIntent(k change.Kind, spec change.AccountSpec) change.Intent {
	return change.Intent{Kind: k, Account: &spec}
}

func grantIntent(k change.Kind, spec change.GrantSpec) change.Intent {
	return change.Intent{Kind: k, Grant: &spec}
}

// accountIntents are intents for accounts, roles and grants, each with its own way of going.
func accountIntents() map[string]change.Intent {
	five := 5
	return map[string]change.Intent{
		"account": accountIntent(change.CreateAccount,
			change.AccountSpec{Name: `o'dd\app`, Host: "10.0.0.%", Password: change.Generated,
				Options: catalog.Values{"connection_limit": int64(five), "expires": "90d"}}),
		"account_none": accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "later_app", Host: "10.0.0.7", Password: change.NoPassword,
				Options: catalog.Values{"locked": true}}),
		"account_role": accountIntent(change.CreateAccount, change.AccountSpec{Name: "audit`ors", Role: true}),
		"account_alter": accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "gate",
				Options: catalog.Values{"connection_limit": int64(five), "locked": true, "expires": "now",
					"default_role": "none"}}),
		"account_rename": accountIntent(change.RenameAccount, change.AccountSpec{Name: "gate", NewHost: "10.20.%"}),
		"account_word": accountIntent(change.SetPassword,
			change.AccountSpec{Name: "gate", Password: change.Generated,
				Options: catalog.Values{"method": methodEd25519}}),
		"account_drop": accountIntent(change.DropAccount, change.AccountSpec{Name: "gate"}),
		"role_drop":    accountIntent(change.DropAccount, change.AccountSpec{Name: "crew", Role: true}),
		"member": {Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "desk", To: at("cargo_app", "10.0.0.%")}},
		"member_revoke": {Kind: change.RevokeRole, Member: &change.MemberSpec{Role: "crew", To: at("gate", "10.%")}},
		"grant_write": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("gate", "10.%"), Bundle: access.BundleWrite}),
		"grant_column": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("gate", "10.%"), Privileges: []string{"UPDATE", "SELECT"},
				On: catalog.Object{Scope: catalog.ScopeColumn, Name: "trailers", Column: "axles"}, GrantOption: true}),
		"grant_revoke": grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("cargo_app", "10.0.0.%")}),
		"grant_pattern": grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "gone_prod", To: at("gate", "10.%"),
				Options: catalog.Values{"pattern": `gone\_prod`}}),
		"database_team": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "lounges_prod",
				Team: &change.TeamSpec{Name: "lounges", Host: "10.0.0.%"}}},
		"database_clear": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "gone_prod", Options: catalog.Values{"clear_leftovers": true}}},
	}
}

func TestPlanAccountStatements(t *testing.T) {
	for name, in := range accountIntents() {
		t.Run(name, func(t *testing.T) { enginetest.Golden(t, *update, name, plan(t, in, staffed())) })
	}
}

func TestPlanAccountFindings(t *testing.T) {

	for _, tt := range []struct {
		title string
		in    change.Intent
		alter func(*catalog.Snapshot)
		want  string
	}{
		{"exists", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "gate", Host: "10.%", Password: change.Generated}), nil, "stop:account.exists"},
		{"a role of that name", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "crew", Host: "%", Password: change.Generated}), nil, "stop:account.exists"},
		{"everywhere", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Password: change.Generated}), nil, "caution:host.wide"},
		{"an underscore in a host", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "db_1.example", Password: change.Generated}), nil,
			"caution:host.wide"},
		{"a prefix length", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "10.0.0.0/8", Password: change.Generated}), nil,
			"stop:host.invalid"},
		{"another host", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "gate", Host: "10.0.0.7", Password: change.Generated}), nil,
			"caution:account.other_host"},
		{"behind another host", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "gate", Host: "%", Password: change.Generated}), nil,
			"caution:account.other_host"},
		{"nameless", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "10.%", Password: change.Generated}), func(s *catalog.Snapshot) {
			s.Access.Accounts = append(s.Access.Accounts, catalog.Account{Principal: at("", "10.0.0.9"), Login: true})
		}, "caution:account.anonymous"},
		{"revives", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "10.%", Password: change.Generated}),
			func(s *catalog.Snapshot) { more(s).Definers = []string{"view a.b"} }, "caution:account.revives"},
		{"quoted", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "'x'", Host: "10.%", Password: change.Generated}), nil, "stop:name.characters"},
		{"an emoji", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "x🚢", Host: "10.%", Password: change.Generated}), nil, "stop:name.characters"},
		{"strict", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "10.%", Password: change.Generated}),
			func(s *catalog.Snapshot) { more(s).Strict = "simple_password_check" }, "stop:option.unsupported"},
		{"no such method", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "10.%", Password: change.Generated,
				Options: catalog.Values{"method": "pam"}}), nil, "stop:option.invalid"},
		{"method not there", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "10.%", Password: change.Generated,
				Options: catalog.Values{"method": methodEd25519}}),
			func(s *catalog.Snapshot) { more(s).Methods = []string{methodNative} }, "stop:option.unsupported"},
		{"untried", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "192.168.%", Password: change.Generated}), nil,
			"note:login.untried"},
		{"TLS without TLS", accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "gate", Options: catalog.Values{"tls": true}}), nil, "stop:tls.missing"},
		{"a bad expiry", accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "gate", Options: catalog.Values{"expires": "2027-01-31"}}), nil,
			"stop:option.invalid"},
		{"a default role it lacks", accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "gate", Options: catalog.Values{"default_role": "desk"}}), nil, "stop:role.held"},
		{"which one", accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "gate", Options: catalog.Values{"locked": true}}), func(s *catalog.Snapshot) {
			s.Access.Accounts = append(s.Access.Accounts, catalog.Account{Principal: at("gate", "%"), Login: true})
		}, "stop:account.ambiguous"},
		{"definers and a rename", accountIntent(change.RenameAccount,
			change.AccountSpec{Name: "gate", NewName: "crane"}),
			func(s *catalog.Snapshot) { more(s).Definers = []string{"view a.b"} }, "stop:account.defines"},
		{"renaming a role", accountIntent(change.RenameAccount,
			change.AccountSpec{Name: "crew", Role: true, NewName: "hands"}), nil, "stop:option.unsupported"},
		{"definers and a drop", accountIntent(change.DropAccount, change.AccountSpec{Name: "gate"}),
			func(s *catalog.Snapshot) { more(s).Definers = []string{"view a.b"} }, "stop:account.defines"},
		{"the last administrator", accountIntent(change.DropAccount, change.AccountSpec{Name: "keeper"}),
			func(s *catalog.Snapshot) { s.Self = at("other", "%") }, "stop:account.last_administrator"},
		{"own login", accountIntent(change.DropAccount, change.AccountSpec{Name: "keeper", Host: "%"}), nil,
			"stop:account.own_login"},
		{"a role with members", accountIntent(change.DropAccount, change.AccountSpec{Name: "crew", Role: true}), nil,
			"caution:account.members"},
		{"not its role to give", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "desk", To: at("gate", "10.%")}},
			func(s *catalog.Snapshot) { s.Access.Memberships = s.Access.Memberships[:2] }, "stop:rights.missing"},
		{"a second role", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "desk", To: at("gate", "10.%")}}, nil, "caution:role.dormant"},
		{"not as default", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "desk", To: at("cargo_app", "10.0.0.%"),
				Options: catalog.Values{"no_default": true}}}, nil, "note:role.dormant"},
		{"to itself", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "desk", To: at("desk", "")}}, nil, "stop:role.circle"},
		{"narrows", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("cargo_app", "10.0.0.%"), Privileges: []string{"SELECT"}}),
			nil, "caution:grant.narrows"},
		{"on no database", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "nowhere", To: at("gate", "10.%"), Bundle: "read"}), nil,
			"stop:database.absent"},
		{"on no table", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("gate", "10.%"), Privileges: []string{"SELECT"},
				On: catalog.Object{Scope: catalog.ScopeTable, Name: "x"}}),
			func(s *catalog.Snapshot) { more(s).ObjectAbsent = true }, "stop:object.absent"},
		{"of another level", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("gate", "10.%"), Privileges: []string{"RELOAD"}}), nil,
			"stop:grant.invalid"},
		{"to a role nobody has on", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("crew", ""), Bundle: "read"}),
			func(s *catalog.Snapshot) { s.Access.Accounts[2].DefaultRole = "" }, "note:role.dormant"},
		{"a pattern opens others", grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "cargo_prod", To: at("cargo_app", "10.0.0.%")}), nil, "caution:grant.wide"},
		{"nothing to take", grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "cargo2prod", To: at("gate", "10.%")}), nil, "note:grant.held"},
		{"a team from everywhere", change.Intent{Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "x_prod", Team: &change.TeamSpec{Name: "spas"}}}, nil,
			"caution:host.wide"},
		{"a team with an owner", change.Intent{Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "x_prod", Team: &change.TeamSpec{Name: "spas", Host: "10.%"},
				Options: catalog.Values{"owner": "gate"}}}, nil, "stop:option.invalid"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := staffed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := plan(t, tt.in, snap)
			var got []string
			for _, f := range b.Findings {
				got = append(got, string(f.Level)+":"+f.Code)
				if f.Level == change.Stop && f.Next == "" {
					t.Errorf("the stop %s says not what to do next", f.Code)
				}
			}
			if !slices.Contains(got, tt.want) {
				t.Errorf("findings %v; want %s", got, tt.want)
			}
			if strings.HasPrefix(tt.want, "stop") != b.Stopped() {
				t.Errorf("stopped is %v: %v", b.Stopped(), got)
			}
		})
	}
}

func TestAccountFrom(t *testing.T) {
	now := time.Date(2026, 11, 23, 0, 0, 0, 0, time.UTC)
	for text, want := range map[string]func(catalog.Account) bool{
		`{"access":18446744073709551615}`: func(a catalog.Account) bool {
			return a.Super && a.GlobalGrant &&
				!*a.Password && a.Open
		},
		`{"access":549755812863,"plugin":"mysql_native_password","authentication_string":"*X"}`:              func(a catalog.Account) bool { return !a.Super && !a.GlobalGrant && *a.Password },
		`{"access":0,"plugin":"ed25519","authentication_string":"x","account_locked":true,"ssl_type":1}`:     func(a catalog.Account) bool { return a.Locked && a.TLS == "ANY" && a.Method == "ed25519" },
		`{"access":0,"plugin":"mysql_native_password","authentication_string":"invalid"}`:                    func(a catalog.Account) bool { return !*a.Password && !a.Open },
		`{"access":0,"plugin":"unix_socket","password_last_changed":0}`:                                      func(a catalog.Account) bool { return a.Password == nil && a.Expired },
		`{"access":0,"max_user_connections":-1}`:                                                             func(a catalog.Account) bool { return a.ConnectionLimit == 0 },
		`{"access":0,"max_user_connections":7,"default_role":"crew"}`:                                        func(a catalog.Account) bool { return a.ConnectionLimit == 7 && a.DefaultRole == "crew" },
		`{"access":0,"password_last_changed":1700000000,"password_lifetime":30,"authentication_string":"x"}`: func(a catalog.Account) bool { return a.Expired && a.Expires.Year() == 2023 },
		`{"access":0,"is_role":true}`:                                                                        func(a catalog.Account) bool { return a.Role && !a.Login },
	} {
		if a, _, err := accountFrom("x", "%", text, now); err != nil || !want(a) {
			t.Errorf("%s: %+v, %v", text, a, err)
		}
	}
	if _, _, err := accountFrom("x", "%", "{", now); err == nil {
		t.Error("a broken entry passes")
	}
}

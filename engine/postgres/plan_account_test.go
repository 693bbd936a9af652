package postgres

import (
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/planning"
)

// staffed is the small server with people on it.
func staffed() catalog.Snapshot {
	snap := snapshot()
	login := func(name string) catalog.Account {
		return catalog.Account{Principal: role(name), Login: true, Inherit: true, ConnectionLimit: -1}
	}
	group := login("crew")
	group.Login = false
	owner := login("tickets_owner")
	owner.Login = false
	keeper := login("keeper")
	keeper.Super = true
	snap.Instance.Login.Superuser = true
	snap.Instance.Login.Abilities = append(snap.Instance.Login.Abilities,
		catalog.Ability{Code: "manage_accounts", Allowed: true},
		catalog.Ability{Code: "see_sessions", Allowed: true}, catalog.Ability{Code: "end_sessions", Allowed: true})
	snap.Self = role("keeper")
	bound := catalog.Object{Database: "tickets_prod", Schema: "public"}
	on := func(scope catalog.Scope) catalog.Object {
		o := bound
		o.Scope = scope
		return o
	}
	own := []catalog.Entry{{Grantee: role("tickets_owner"), Grantor: "tickets_owner",
		Privileges: may.Select.Or(may.Insert, may.Update, may.Delete)}}
	snap.Access = &catalog.Access{Number: 180004,
		Accounts: []catalog.Account{keeper, group, owner, login("tickets_app"), login("mate"),
			{Principal: role("postgres"), Login: true, Super: true, System: true}},
		Memberships: []catalog.Membership{{Role: role("crew"), Member: role("mate"), Grantor: "keeper", Inherit: true,
			Set: true}},
		Databases: []catalog.AccessDatabase{{Name: "tickets_prod", Owner: "tickets_owner",
			Entries: []catalog.Entry{{Grantee: catalog.Public, Grantor: "tickets_owner",
				Privileges: may.Connect.Or(may.Temporary), Builtin: true},
				{Grantee: role("tickets_app"), Grantor: "tickets_owner", Privileges: may.Connect}},
			Interior: &catalog.ObjectGrants{Classes: []catalog.Class{{Object: on(catalog.ScopeSchema), Count: 1,
				Owner: "tickets_owner"}, {Object: on(catalog.ScopeTable), Example: "fares", Count: 3,
				Owner: "tickets_owner", Entries: own},
				{Object: catalog.Object{Scope: catalog.ScopeTable, Database: "tickets_prod", Schema: "public",
					Name: "fares"}, Example: "fares", Count: 1, Owner: "tickets_owner", Entries: own}}}},
			{Name: "postgres", Owner: "postgres", System: true, Interior: &catalog.ObjectGrants{}},
			{Name: "shut", Owner: "crew", Closed: true}}}
	return snap
}

func ask(t *testing.T, in change.Intent, snap catalog.Snapshot) change.Brief {
	t.Helper()
	in.Server = "harbour"
	b, err := Engine{}.Plan(in, snap)
	if err != nil {
		t.Fatal(err)
	}
	return b
}

func accountIntent(k change.Kind, spec change.AccountSpec) change.Intent {
	return change.Intent{Kind: k, Account: &spec}
}

// mateWaits is the name under which mate waits.
const mateWaits = "genarch_held_account_7_mate"

// mateAside sets mate aside.
func mateAside(s *catalog.Snapshot) {
	a := &s.Access.Accounts[4]
	a.Held = &catalog.Holding{Name: a.Name, Since: day(2026, 11, 27), Until: day(2199, 12, 27), Open: true,
		Comment: a.Comment}
	a.Name, a.Login, a.Comment = mateWaits, false, planning.WriteNote(*a.Held)
}

func heldAccount(k change.Kind) change.Intent {
	return change.Intent{Kind: k, Holding: &change.HoldingSpec{ID: mateWaits, Account: true}}
}

func grantIntent(k change.Kind, spec change.GrantSpec) change.Intent {
	return change.Intent{Kind: k, Grant: &spec}
}

func TestPlanAccountStatements(t *testing.T) {
	five, yes, remark := 5, true, `it's "so" \`
	for name, in := range map[string]change.Intent{
		"account": accountIntent(change.CreateAccount,
			change.AccountSpec{Name: `o"dd'app`, Password: change.Generated,
				Options: catalog.Values{"connection_limit": int64(five), "expires": "2027-01-31", "comment": remark}}),
		"account_role": accountIntent(change.CreateAccount, change.AccountSpec{Name: "auditors", Role: true}),
		"account_alter": accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "tickets_app",
				Options: catalog.Values{"connection_limit": int64(five), "expires": "never", "locked": yes,
					"comment": remark}}),
		"account_rename": accountIntent(change.RenameAccount,
			change.AccountSpec{Name: "tickets_app", NewName: "fares_app"}),
		"account_word": accountIntent(change.SetPassword,
			change.AccountSpec{Name: "tickets_app", Password: change.Generated}),
		"account_drop": accountIntent(change.DropAccount,
			change.AccountSpec{Name: "tickets_app", Options: catalog.Values{"reassign_to": "tickets_owner"}}),
		"account_aside": accountIntent(change.SetAsideAccount,
			change.AccountSpec{Name: "tickets_app", KeepDays: 5}),
		"member": {Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "crew", To: role("tickets_app"), Admin: true}},
		"member_revoke": {Kind: change.RevokeRole, Member: &change.MemberSpec{Role: "crew", To: role("mate")}},
		"grant_read": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: access.BundleRead}),
		"grant_build": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: access.BundleBuild,
				GrantOption: true}),
		"grant_own": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: access.BundleOwn}),
		"grant_column": grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Privileges: []string{"select", "UPDATE"},
				On: catalog.Object{Scope: catalog.ScopeColumn, Schema: "public", Name: "fares", Column: `pri"ce`}}),
		"grant_revoke": grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("tickets_app")}),
		"database_team": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "lounges_prod", Team: &change.TeamSpec{Name: "lounges"}}},
		"database_closed": {Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "lounges_prod",
				Options: catalog.Values{"private": true, "allow": []string{"mate"}}}},
	} {
		t.Run(name, func(t *testing.T) {
			snap := staffed()
			if in.Kind == change.DropAccount {
				more(&snap).Belongings = []belonging{{Owned: 1, Kinds: "1 in pg_database", Databases: []string{"x"}},
					{Database: "tickets_prod", Owned: 2, Granted: 3, Kinds: "2 in pg_class"}}
			}
			enginetest.Golden(t, *update, name, ask(t, in, snap))
		})
	}
}

func TestPlanAccountFindings(t *testing.T) {
	yes, turned := true, "for \u202eeman"
	small := func(s *catalog.Snapshot) {
		s.Instance.Login.Superuser, s.Instance.Login.Abilities = false, []catalog.Ability{{Code: "create_database",
			Allowed: true}, {Code: "manage_accounts", Remedy: "ALTER ROLE keeper CREATEROLE"}}
		s.Access.Accounts[0].Super = false
	}
	for _, tt := range []struct {
		title string
		in    change.Intent
		alter func(*catalog.Snapshot)
		want  string
	}{
		{"exists", accountIntent(change.CreateAccount, change.AccountSpec{Name: "crew", Password: change.Generated}),
			nil, "stop:account.exists"},
		{"looks like", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "t1ckets_app", Password: change.Generated}), nil, "caution:account.lookalike"},
		{"by case", accountIntent(change.CreateAccount, change.AccountSpec{Name: "Crew", Password: change.Generated}),
			nil, "caution:account.lookalike"},
		{"odd name", accountIntent(change.CreateAccount, change.AccountSpec{Name: "a b", Password: change.Generated}),
			nil, "caution:name.characters"},
		{"kept name", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "pg_mine", Password: change.Generated}), nil, "stop:name.reserved"},
		{"too long", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: strings.Repeat("x", 64), Password: change.Generated}), nil, "stop:name.length"},
		{"weak", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Password: change.Given, Bits: 20}), nil, "stop:password.weak"},
		{"weak elsewhere", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Password: change.Given, Bits: 20}),
			func(s *catalog.Snapshot) { s.Server.Environment = catalog.Development }, "caution:password.weak"},
		{"none", accountIntent(change.CreateAccount, change.AccountSpec{Name: "new_app", Password: change.NoPassword}),
			nil, "caution:password.missing"},
		{"a host", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Host: "%", Password: change.Generated}), nil,
			"stop:option.unsupported"},
		{"a bad expiry", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Password: change.Generated,
				Options: catalog.Values{"expires": "soon'; --"}}), nil, "stop:option.invalid"},
		{"no right", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Password: change.Generated}), small, "stop:rights.missing"},
		{"absent", accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "ticket_app", Options: catalog.Values{"locked": yes}}), nil,
			"stop:account.absent"},
		{"own login", accountIntent(change.DropAccount, change.AccountSpec{Name: "keeper"}), nil,
			"stop:account.own_login"},
		{"of the server", accountIntent(change.DropAccount, change.AccountSpec{Name: "postgres"}), nil,
			"stop:account.system"},
		{"connected", accountIntent(change.DropAccount, change.AccountSpec{Name: "mate"}), func(s *catalog.Snapshot) {
			s.Connected = []catalog.Session{{ID: catalog.SessionID{Number: 7, Mark: "a"}, Kind: catalog.ClientSession,
				Account: role("mate"), Written: true}}
		}, "caution:work.lost"},
		{"locked while connected", accountIntent(change.AlterAccount,
			change.AccountSpec{Name: "mate", Options: catalog.Values{"locked": yes}}),
			func(s *catalog.Snapshot) { s.Sessions = []string{"session 7"} }, "caution:account.sessions"},
		{"owns", accountIntent(change.DropAccount, change.AccountSpec{Name: "mate"}),
			func(s *catalog.Snapshot) { more(s).Belongings = []belonging{{Database: "tickets_prod", Owned: 1}} },
			"stop:account.owns"},
		{"owns where nobody gets in", accountIntent(change.DropAccount,
			change.AccountSpec{Name: "mate", Options: catalog.Values{"reassign_to": "crew"}}),
			func(s *catalog.Snapshot) {
				more(s).Belongings = []belonging{{Database: "shut", Closed: true, Owned: 1}}
			}, "stop:database.closed"},
		{"given to itself", accountIntent(change.DropAccount,
			change.AccountSpec{Name: "mate", Options: catalog.Values{"reassign_to": "mate"}}), nil,
			"stop:option.invalid"},
		{"loses what it was given", accountIntent(change.DropAccount, change.AccountSpec{Name: "tickets_app"}), nil,
			"note:account.grants"},
		{"was never seen", accountIntent(change.DropAccount, change.AccountSpec{Name: "mate"}), nil,
			"note:account.last_seen"},
		{"a password", accountIntent(change.SetPassword, change.AccountSpec{Name: "mate", Password: change.Generated}),
			nil, "note:password.method"},
		{"may take members in", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "crew", To: role("tickets_app"), Admin: true}}, nil,
			"caution:role.admin_option"},
		{"makes what others do not see",
			grantIntent(change.GrantPrivilege,
				change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: "build"}), nil,
			"note:grant.uncovered"},
		{"what does not show", accountIntent(change.CreateAccount,
			change.AccountSpec{Name: "new_app", Password: change.Generated,
				Options: catalog.Values{"comment": turned}}), nil, "caution:name.hidden"},
		{"has members", accountIntent(change.DropAccount, change.AccountSpec{Name: "crew"}), nil,
			"caution:account.members"},
		{"set aside", accountIntent(change.SetAsideAccount, change.AccountSpec{Name: "mate"}), nil,
			"note:holding.kept"},
		{"set aside with members", accountIntent(change.SetAsideAccount, change.AccountSpec{Name: "crew"}), nil,
			"caution:account.members"},
		{"set aside, an owner", accountIntent(change.SetAsideAccount, change.AccountSpec{Name: "mate"}),
			func(s *catalog.Snapshot) { more(s).Belongings = []belonging{{Owned: 2}} }, "note:account.owns"},
		{"set aside, Genarch's own", accountIntent(change.SetAsideAccount, change.AccountSpec{Name: "keeper"}), nil,
			"stop:account.own_login"},
		{"set aside, not there", accountIntent(change.SetAsideAccount, change.AccountSpec{Name: "nobody"}), nil,
			"stop:account.absent"},
		{"set aside twice", accountIntent(change.SetAsideAccount, change.AccountSpec{Name: mateWaits}), mateAside,
			"stop:account.held"},
		{"granted to what waits", grantIntent(change.GrantPrivilege, change.GrantSpec{Database: "tickets_prod",
			To: role(mateWaits), Bundle: access.BundleRead}), mateAside, "stop:account.held"},
		{"brought back", heldAccount(change.BringBack), mateAside, "note:holding.back"},
		{"brought back, not there", heldAccount(change.BringBack), nil, "stop:holding.absent"},
		{"brought back, let in meanwhile", heldAccount(change.BringBack), func(s *catalog.Snapshot) {
			mateAside(s)
			a := &s.Access.Accounts[4]
			a.Login, a.Held.Opened = true, true
		}, "caution:holding.opened"},
		{"discarded", heldAccount(change.Discard), mateAside, "caution:holding.early"},
		{"discarded, an owner", heldAccount(change.Discard), func(s *catalog.Snapshot) {
			mateAside(s)
			more(s).Belongings = []belonging{{Database: "tickets_prod", Owned: 1}}
		}, "stop:account.owns"},
		{"md5 and a rename", accountIntent(change.RenameAccount, change.AccountSpec{Name: "mate", NewName: "bosun"}),
			func(s *catalog.Snapshot) { s.Access.Accounts[4].Method = "md5" }, "caution:password.cleared"},
		{"no such role", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "crw", To: role("mate")}}, nil, "stop:role.absent"},
		{"a circle", change.Intent{Kind: change.GrantRole, Member: &change.MemberSpec{Role: "mate", To: role("crew")}},
			nil, "stop:role.circle"},
		{"itself", change.Intent{Kind: change.GrantRole, Member: &change.MemberSpec{Role: "mate", To: role("mate")}},
			nil, "stop:role.circle"},
		{"of a superuser", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "keeper", To: role("mate")}}, nil, "caution:account.superuser"},
		{"held", change.Intent{Kind: change.GrantRole, Member: &change.MemberSpec{Role: "crew", To: role("mate")}}, nil,
			"note:role.held"},
		{"options of later versions", change.Intent{Kind: change.GrantRole,
			Member: &change.MemberSpec{Role: "crew", To: role("tickets_app"), Options: catalog.Values{"inherit": yes}}},
			func(s *catalog.Snapshot) { s.Instance.Number = 150018 }, "stop:option.unsupported"},
		{"no database", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "nowhere", To: role("mate"), Bundle: "read"}), nil, "stop:database.absent"},
		{"a closed database", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "shut", To: role("mate"), Bundle: "read"}), nil, "stop:database.closed"},
		{"owned by a superuser", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "postgres", To: role("mate"), Bundle: "own"}), nil, "stop:owner.denied"},
		{"unseen", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: "read"}),
			func(s *catalog.Snapshot) { s.Access.Databases[0].Interior = nil }, "stop:catalogue.hidden"},
		{"not its to give", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: "read"}), small,
			"stop:rights.missing"},
		{"passed on", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: "read", GrantOption: true}), nil,
			"caution:privilege.grant_option"},
		{"no such privilege there", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Privileges: []string{"SELECT"}}), nil,
			"stop:grant.invalid"},
		{"no such table", grantIntent(change.GrantPrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate"), Privileges: []string{"SELECT"},
				On: catalog.Object{Scope: catalog.ScopeTable, Schema: "public", Name: "fare"}}), nil,
			"stop:object.absent"},
		{"nothing to take", grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("mate")}), nil, "note:grant.held"},
		{"kept another way", grantIntent(change.RevokePrivilege,
			change.GrantSpec{Database: "tickets_prod", To: role("tickets_app")}), nil, "note:grant.remains"},
		{"a team's name", change.Intent{Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "x_prod", Team: &change.TeamSpec{Name: "No!"}}}, nil,
			"stop:team.name"},
		{"a team that exists", change.Intent{Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "x_prod", Team: &change.TeamSpec{Name: "tickets"}}}, nil,
			"stop:account.exists"},
		{"a team with a host", change.Intent{Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "x_prod", Team: &change.TeamSpec{Name: "spas", Host: "%"}}}, nil,
			"stop:option.unsupported"},
		{"open to everybody", change.Intent{Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "x_prod"}}, nil, "note:public.access"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := staffed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := ask(t, tt.in, snap)
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
			if again := ask(t, tt.in, snap); again.Fingerprint != b.Fingerprint {
				t.Error("the same question has another fingerprint")
			}
		})
	}
}

// TestPassingSessions: who is connected just now is told, and does not make the
// brief outdated as soon as a pool reconnects.
func TestPassingSessions(t *testing.T) {
	yes := true
	for _, in := range []change.Intent{grantIntent(change.GrantPrivilege,
		change.GrantSpec{Database: "tickets_prod", To: role("mate"), Bundle: access.BundleRead}),
		accountIntent(change.AlterAccount, change.AccountSpec{Name: "mate", Options: catalog.Values{"locked": yes}})} {
		one, two := staffed(), staffed()
		one.Sessions, two.Sessions = []string{"session 7"}, []string{"session 8", "session 9"}
		x, y := ask(t, in, one), ask(t, in, two)
		if x.Fingerprint != y.Fingerprint || len(change.Compare(x, y)) > 0 {
			t.Errorf("%s: other sessions make another brief: %v", in.Kind, change.Compare(x, y))
		}
		if !strings.Contains(x.Findings[len(x.Findings)-1].Text+x.Findings[0].Text, "session 7") {
			t.Errorf("%s does not tell who is connected: %+v", in.Kind, x.Findings)
		}
	}
}

func TestScram(t *testing.T) {
	// The example of RFC 7677.
	const want = "SCRAM-SHA-256$4096:W22ZaJ0SNY7soEsUEjb6gQ==$WG5d8oPm3OtcPnkdi4Uo7BkeZkBFzpcXkuLmtbsT4qY=:wfPLwcE6nTWhTAmQ7tl2KeoiWGPlZqQxSrmfPwDl2dU="
	if !scramMatches(want, "pencil") || scramMatches(want, "pencils") {
		t.Error("the example of RFC 7677 is not what pencil makes")
	}
	for _, bad := range []string{"", "md5abc", "SCRAM-SHA-256$", "SCRAM-SHA-256$x:y$z:w",
		"SCRAM-SHA-256$99999999:W22ZaJ0SNY7soEsUEjb6gQ==$a:b"} {
		if scramMatches(bad, "pencil") {
			t.Errorf("%q passes for a verifier of pencil", bad)
		}
	}
	// SASLprep: a non-breaking space is a space, a ligature its letters.
	salt := []byte("0123456789abcdef")
	a, _ := scramVerifier("o\u00a0ffice", salt, 4096)
	b, _ := scramVerifier("o \ufb03ce", salt, 4096)
	c, _ := scramVerifier("o ffice", salt, 4096)
	if a != c || b != c {
		t.Errorf("prepared differently: %s %s %s", a, b, c)
	}
}

func TestParseACL(t *testing.T) {
	got := parseACL([]string{"=Tc/postgres", "crew=r*w/\"o\"\"dd\"", `"na me=/x"=U/postgres`, "nonsense"}, false)
	want := []catalog.Entry{{Grantee: catalog.Public, Grantor: "postgres", Privileges: may.Connect.Or(may.Temporary)},
		{Grantee: role("crew"), Grantor: `o"dd`, Privileges: may.Select.Or(may.Update), Grantable: may.Select},
		{Grantee: role("na me=/x"), Grantor: "postgres", Privileges: may.Usage}}
	if !slices.Equal(got, want) {
		t.Errorf("parseACL = %+v", got)
	}
}

package mysqlfamily

import (
	"maps"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
)

// asMySQL is a snapshot as one of MySQL would be: its roles have a host, and who may grant
// them is told by a right.
func asMySQL(snap catalog.Snapshot) catalog.Snapshot {
	role := func(p catalog.Principal) catalog.Principal {
		if p.Role && p != catalog.Public {
			p.Host = "%"
		}
		return p
	}
	snap.Instance.Login.Abilities = append(slices.Clone(snap.Instance.Login.Abilities),
		catalog.Ability{Code: "grant_roles", Allowed: true})
	detailsOf(snap.Details).Methods = []string{methodSHA2}
	if snap.Access == nil {
		return snap
	}
	a := *snap.Access
	a.Accounts, a.Memberships, a.Grants = slices.Clone(a.Accounts), slices.Clone(a.Memberships), slices.Clone(a.Grants)
	for i := range a.Accounts {
		a.Accounts[i].Principal = role(a.Accounts[i].Principal)
	}
	for i := range a.Memberships {
		a.Memberships[i].Role, a.Memberships[i].Member = role(a.Memberships[i].Role), role(a.Memberships[i].Member)
	}
	for i := range a.Grants {
		a.Grants[i].Grantee = role(a.Grants[i].Grantee)
	}
	snap.Access = &a
	return snap
}

// mysqlIntents are those that both have, without the options that MySQL has not.
func mysqlIntents() map[string]change.Intent {
	out := accountIntents()
	out["account_word"] = accountIntent(change.SetPassword, change.AccountSpec{Name: "gate",
		Password: change.Generated})
	out["plain"] = change.Intent{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: "lounges_prod"}}
	out["owner"] = change.Intent{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: "lounges_prod",
		Options: catalog.Values{"owner": "gate@10.%"}}}
	for name, in := range out {
		in.Server = "jetty"
		out[name] = in
	}
	return out
}

// briefOf plans on MySQL.
func briefOf(t *testing.T, in change.Intent, snap catalog.Snapshot) change.Brief {
	t.Helper()
	in.Server = "jetty"
	b, err := mysql8{}.Plan(in, asMySQL(snap))
	if err != nil {
		t.Fatal(err)
	}
	return b
}

// TestMySQLStatements: package grammar parses these files by MySQL's own grammar.
func TestMySQLStatements(t *testing.T) {
	for name, in := range mysqlIntents() {
		t.Run(name, func(t *testing.T) {
			snap := staffed()
			snap.OwnerFound = []string{"gate@10.%"}
			enginetest.Golden(t, *update, "mysql_"+name, briefOf(t, in, snap))
		})
	}
	for name, in := range map[string]change.Intent{"drop": dropping(change.DatabaseSpec{}, nil),
		"drop_hold": dropping(change.DatabaseSpec{Options: catalog.Values{"clear_leftovers": true}},
			&change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}}),
		"mark": {Kind: change.MarkServer, Mark: "222d11d3-fc39-48bf-8c14-a8d0f59f9d52"}} {
		t.Run(name, func(t *testing.T) { enginetest.Golden(t, *update, "mysql_"+name, briefOf(t, in, doomed())) })
	}
}

// TestEachStatementOfMySQLIsOneCommand: whatever a tenant's names are.
func TestEachStatementOfMySQLIsOneCommand(t *testing.T) {
	intents := mysqlIntents()
	// Their names stand in no snapshot of everything.
	maps.DeleteFunc(intents, func(name string, _ change.Intent) bool {
		return slices.Contains([]string{"grant_pattern", "database_clear", "role_drop", "account",
			"database_team"}, name)
	})
	intents["drop"] = dropping(change.DatabaseSpec{}, nil)
	intents["drop, hold"] = dropping(change.DatabaseSpec{Options: catalog.Values{"clear_leftovers": true}},
		&change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}})
	for name, in := range intents {
		in.Server = "jetty"
		intents[name] = in
	}
	full := asMySQL(everything())
	enginetest.EachKnown(t, mysql8{}, steps, full, intents)
	if n := enginetest.OneCommand(t, mysql8{}, dialect.Commands, named, full, intents); n < 500 {
		t.Errorf("only %d statements were looked at", n)
	}
}

// TestAdministrators: who has SYSTEM_USER is altered only by who has it too, and not locked
// meanwhile by others.
func TestAdministrators(t *testing.T) {
	snap := doomed()
	boss := catalog.Account{Principal: at("boss", "%"), Login: true, Global: may.Select, ConnectionLimit: -1,
		Attributes: []string{"SYSTEM_USER"}}
	snap.Access.Accounts = append(snap.Access.Accounts, boss)
	for name, in := range map[string]change.Intent{
		"lock": accountIntent(change.AlterAccount, change.AccountSpec{Name: "boss",
			Options: catalog.Values{"locked": true}}),
		"password": accountIntent(change.SetPassword, change.AccountSpec{Name: "boss", Password: change.Generated}),
		"rename":   accountIntent(change.RenameAccount, change.AccountSpec{Name: "boss", NewName: "chief"}),
		"drop":     accountIntent(change.DropAccount, change.AccountSpec{Name: "boss"})} {
		if b := briefOf(t, in, snap); !slices.Contains(b.Codes(change.Stop), change.RightsMissing) {
			t.Errorf("%s: %+v", name, b.Findings)
		}
		as := snap
		as.Instance.Login.Superuser = true
		if b := briefOf(t, in, as); slices.Contains(b.Codes(change.Stop), change.RightsMissing) {
			t.Errorf("%s, by another: %+v", name, b.Findings)
		}
	}
	drop := dropping(change.DatabaseSpec{}, &change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}})
	for _, s := range briefOf(t, drop, snap).Steps {
		if s.Kind == stepGate && strings.Contains(s.Statement, "boss") {
			t.Errorf("locked: %s", s.Statement)
		}
	}
}

// TestReadOnly: what is read only is altered and filled only once it is writable, and made so for
// its drop: last, or first where events have to be switched off.
func TestReadOnly(t *testing.T) {
	locked := func(snap catalog.Snapshot) catalog.Snapshot {
		d := *snap.Target
		d.Properties = catalog.Values{readOnly: true}
		snap.Target = &d
		return snap
	}
	altering := func(options catalog.Values) change.Intent {
		return change.Intent{Kind: change.AlterDatabase, Database: &change.DatabaseSpec{Name: "cargo_prod",
			Options: options}}
	}
	drop := dropping(change.DatabaseSpec{}, nil)
	kinds := func(b change.Brief) (out []string) {
		for _, s := range b.Steps {
			out = append(out, s.Kind)
		}
		return out
	}
	b := briefOf(t, drop, locked(doomed()))
	enginetest.Golden(t, *update, "mysql_drop_read_only", b)
	if i := slices.Index(kinds(b), stepDrop); i < 1 || b.Steps[i-1].Kind != stepAlter {
		t.Errorf("writable right before the drop: %v", kinds(b))
	}
	snap := doomed()
	impact(&snap).Events = []scheduled{{Name: "nightly", Definer: "gate@10.%"}}
	if b = briefOf(t, drop, locked(snap)); b.Steps[0].Kind != stepAlter {
		t.Errorf("writable before its events: %v", kinds(b))
	}
	enginetest.Golden(t, *update, "mysql_read_only", briefOf(t, altering(catalog.Values{readOnly: true}), doomed()))
	for name, in := range map[string]change.Intent{"alter": altering(catalog.Values{"encoding": "latin1"}),
		"aside": {Kind: change.SetAside, Database: &change.DatabaseSpec{Name: "cargo_prod"}}} {
		if b := briefOf(t, in, locked(doomed())); !slices.Contains(b.Codes(change.Stop), change.DatabaseReadOnly) {
			t.Errorf("%s: %+v", name, b.Findings)
		}
	}
	b = briefOf(t, altering(catalog.Values{"encoding": "latin1", readOnly: false}), locked(doomed()))
	if b.Stopped() || len(b.Steps) != 3 || b.Steps[0].Args[readOnly] != "no" {
		t.Errorf("writable, and altered: %v %+v", kinds(b), b.Findings)
	}
	if b = briefOf(t, altering(catalog.Values{readOnly: true}), locked(doomed())); b.Outcome != change.Nothing {
		t.Errorf("it is so already: %+v", b)
	}
}

// TestMySQLNames: with partial revokes, a name that would be a pattern elsewhere is not granted on.
func TestMySQLNames(t *testing.T) {
	snap := staffed()
	in := grantIntent(change.GrantPrivilege, change.GrantSpec{Database: "cargo_prod", To: at("gate", "10.%"),
		Bundle: access.BundleRead})
	if b := briefOf(t, in, snap); b.Stopped() {
		t.Fatalf("%+v", b.Findings)
	}
	detailsOf(snap.Details).PlainNames = true
	if b := briefOf(t, in, snap); !slices.Contains(b.Codes(change.Stop), change.GrantInvalid) {
		t.Errorf("%+v", b.Findings)
	}
}

// TestMySQLRestrictions: what is taken on one database from who holds it on all, and roles that
// are active from the sign-in on.
func TestMySQLRestrictions(t *testing.T) {
	all := at("report", "%")
	role := catalog.Principal{Name: "desk", Host: "%", Role: true}
	a := catalog.Access{Accounts: []catalog.Account{{Principal: all, Login: true, Global: may.Select.Or(may.Insert)},
		{Principal: at("gate", "10.%"), Login: true}, {Principal: role}},
		Databases:   []catalog.AccessDatabase{{Name: "cargo"}, {Name: "dues"}},
		Memberships: []catalog.Membership{{Role: role, Member: at("gate", "10.%"), Set: true}},
		Grants: []catalog.Grant{{Entry: catalog.Entry{Grantee: role, Privileges: may.Select},
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: "dues"}}},
		Denials: []catalog.Grant{{Entry: catalog.Entry{Grantee: all, Denied: may.Select},
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: "cargo"}}}}
	may := func(who catalog.Principal, p, database string) bool {
		t.Helper()
		on := catalog.Object{Scope: catalog.ScopeDatabase, Database: database}
		return mySQL.graph(a).Why(who, table.Of(p), on).Allowed
	}
	if may(all, "SELECT", "cargo") || !may(all, "INSERT", "cargo") || !may(all, "SELECT", "dues") {
		t.Error("a partial revoke is not counted as one")
	}
	if may(at("gate", "10.%"), "SELECT", "dues") {
		t.Error("a role that is not active counts")
	}
	a.Memberships[0].Inherit = true
	if !may(at("gate", "10.%"), "SELECT", "dues") {
		t.Error("a role that is active from the sign-in on does not count")
	}
}

package api

import (
	"reflect"
	"testing"

	"example.com/genarch/api/wire"
)

// What was asked for is told so that it can be asked for again.
func TestIntentThereAndBack(t *testing.T) {
	for _, in := range []wire.Intent{
		{Kind: "database.create", Server: "harbour", Database: &wire.DatabaseSpec{Name: "a/b", IfNotExists: true,
			Team: &wire.TeamSpec{Name: "tickets", Host: "10.%"}, Options: map[string]any{"private": true}},
			Clearing: &wire.ClearingSpec{}},
		{Kind: "database.drop", Server: "quay", Database: &wire.DatabaseSpec{Name: "x", IfExists: true},
			Clearing: &wire.ClearingSpec{Grace: 5, AcceptLoss: true, Options: map[string]any{"lock_accounts": true}}},
		{Kind: "session.end", Server: "quay", Sessions: &wire.SessionsSpec{IDs: []string{"4711-hw2k9x3f1z0"},
			StatementOnly: true}},
		{Kind: "session.end", Server: "quay", Sessions: &wire.SessionsSpec{Database: "x", Account: "y@%",
			Application: "z", Client: "10.0.0.1", Class: "idle", IdleLonger: 1, Older: 2}},
		{Kind: "account.create", Server: "quay", Account: &wire.AccountSpec{Name: "n", Host: "%", IfNotExists: true,
			PasswordFrom: "none", Options: map[string]any{"comment": "c"}}},
		{Kind: "account.rename", Server: "quay", Account: &wire.AccountSpec{Name: "n", Host: "%", NewName: "m",
			NewHost: "h"}},
		{Kind: "role.grant", Server: "quay", Member: &wire.MemberSpec{Role: "r", Admin: true,
			To: wire.Principal{Name: "n", Host: "%"}}},
		{Kind: "privilege.grant", Server: "harbour", Grant: &wire.GrantSpec{Database: "d", GrantOption: true,
			To: wire.Principal{Name: "n", Role: true}, Privileges: []string{"SELECT"},
			On: wire.Object{Scope: "column", Schema: "s", Name: "t", Column: "c"}}},
	} {
		asked, _, err := intentOf(in)
		if err != nil {
			t.Errorf("%s: %v", in.Kind, err)
			continue
		}
		if back := renderIntent(asked); !reflect.DeepEqual(back, in) {
			t.Errorf("%s came back as\n%+v, was\n%+v", in.Kind, back, in)
		}
	}
}

package postgres

import (
	"slices"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
)

// granted is a server whose template has grants to all kinds of grantees.
func granted() catalog.Snapshot {
	snap := doomed()
	snap.Server.NameRule = naming.Rule{Free: true}
	snap.Target = nil
	snap.Choices = catalog.Choices{"templates": {{Name: "tickets_prod", Properties: template1(&snap).Properties}}}
	access := *snap.Access
	snap.Access = &access
	access.Databases = slices.Clone(access.Databases)
	access.Databases[0].Entries = []catalog.Entry{
		{Grantee: role("tickets_owner"), Privileges: may.Connect.Or(may.Create, may.Temporary)},
		{Grantee: role("mate"), Privileges: may.Connect.Or(may.Create), Grantable: may.Connect},
		{Grantee: catalog.Public, Privileges: may.Temporary}}
	return snap
}

func likeTickets() change.Intent {
	return change.Intent{Kind: change.CreateDatabase, Server: "harbour", Database: &change.DatabaseSpec{
		Name: "lounges_prod", Options: catalog.Values{"template": "tickets_prod", copyGrants: true}}}
}

func TestPlanCopyGrants(t *testing.T) {
	b := ask(t, likeTickets(), granted())
	i := slices.IndexFunc(b.Steps, func(s change.Step) bool { return s.Kind == stepAccess })
	if i < 0 {
		t.Fatalf("no step grants: %v, %v", b.Kinds(), b.Codes(change.Stop))
	}
	want := []string{`REVOKE CONNECT, TEMPORARY ON DATABASE "lounges_prod" FROM PUBLIC`,
		`GRANT CREATE, CONNECT ON DATABASE "lounges_prod" TO "mate"`,
		`GRANT CONNECT ON DATABASE "lounges_prod" TO "mate" WITH GRANT OPTION`,
		`GRANT TEMPORARY ON DATABASE "lounges_prod" TO PUBLIC`}
	if got := engine.DecodeList(b.Steps[i].Args["statements"]); !slices.Equal(got, want) {
		t.Errorf("%q\nwant %q", got, want)
	}
	intents := map[string]change.Intent{"copy": likeTickets()}
	enginetest.EachKnown(t, Engine{}, steps, granted(), intents)
	enginetest.OneCommand(t, Engine{}, dialect.Commands, []string{"tickets_prod", "mate", "lounges_prod"}, granted(),
		intents)
	plain := granted()
	for i := range plain.Access.Databases[0].Entries {
		plain.Access.Databases[0].Entries[i].Builtin = true
	}
	if slices.Contains(ask(t, likeTickets(), plain).Kinds(), stepAccess) {
		t.Error("grants are copied where there are none")
	}
}

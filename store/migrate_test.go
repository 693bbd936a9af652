package store

import (
	"reflect"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/secret"
)

// TestEarlierRecords takes registrations and changes back to the tables of an earlier
// version and forward again: nothing of them is lost.
func TestEarlierRecords(t *testing.T) {
	s, _ := openStore(t)
	for name, options := range map[string]catalog.Values{"harbour": {"database": "postgres", "weak_sign_in": true},
		"slipway": {"database": "home"}, "quay": {}} {
		srv := catalog.Server{Name: name, Engine: "postgresql", Host: "127.0.0.1", Port: 5432, Admin: "keeper",
			Environment: catalog.Staging, TLS: catalog.TLSOff, Options: options}
		if _, err := s.AddServer(t.Context(), srv, secret.New("hush"), entry); err != nil {
			t.Fatal(err)
		}
	}
	for _, key := range []string{"4711", ""} {
		err := s.db.Exec("INSERT INTO changes (kind, server, target, state, operator, run_by, intent, brief, accepted, result, object_key, created_at) " +
			"VALUES ('database.create', 'harbour', 'harbour/x', 'done', 'keeper', '', '{}', '{}', '[]', '', '" + key +
			"', NOW())").Error
		if err != nil {
			t.Fatal(err)
		}
	}
	read := func() (servers []catalog.Server, keys []string) {
		servers, err := s.Servers(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		for i := range servers {
			servers[i].Updated = servers[i].Created
		}
		if err := s.db.Raw("SELECT object_key FROM changes ORDER BY id").Scan(&keys).Error; err != nil {
			t.Fatal(err)
		}
		return servers, keys
	}
	if err := s.db.Exec(`UPDATE changes SET kind = 'privilege.grant', intent = '{"kind":"privilege.grant","grant":{"grant_option":true,"note":"say \\"pass_on\\": no"}}' WHERE id = 1`).Error; err != nil {
		t.Fatal(err)
	}
	const brief = `{"affected":[{"session":{"Activity":"idle_in_transaction"},"class":"written"}],"findings":[{"code":"gate.incomplete","text":"a \\"class\\":\\"hidden\\""}],"steps":[{"kind":"restore_grants","irreversible":true,"repair":"x"}]}`
	if err := s.db.Exec("UPDATE changes SET brief = '" + brief + "', accepted = '[\"gate.incomplete\"]' WHERE id = 1").
		Error; err != nil {
		t.Fatal(err)
	}
	if err := s.db.Exec(`INSERT INTO operators (name, password_hash, program, disabled, permissions, created_at) VALUES ('purser', '', FALSE, FALSE, '["view","request","admin"]', NOW())`).Error; err != nil {
		t.Fatal(err)
	}
	words := func() string {
		var intent, permissions string
		if err := s.db.Raw("SELECT CONCAT(kind, ' ', intent, brief, accepted) FROM changes WHERE id = 1").Scan(&intent).
			Error; err != nil {
			t.Fatal(err)
		}
		if err := s.db.Raw("SELECT permissions FROM operators WHERE name = 'purser'").Scan(&permissions).
			Error; err != nil {
			t.Fatal(err)
		}
		return intent + " " + permissions
	}
	servers, keys := read()
	before := words()
	p, err := s.migrations()
	if err != nil {
		t.Fatal(err)
	}
	if _, err := p.DownTo(t.Context(), 10); err != nil {
		t.Fatal(err)
	}
	var weak int
	if err := s.db.Raw("SELECT COUNT(*) FROM servers WHERE weak_sign_in AND database_name = 'postgres'").Scan(&weak).
		Error; err != nil || weak != 1 {
		t.Errorf("as the earlier version has it: %d, %v", weak, err)
	}
	var old int
	if err := s.db.Raw(`SELECT COUNT(*) FROM changes JOIN operators ON operators.name = 'purser' AND remits = '["see","ask","govern"]'
		WHERE kind = 'grant.give' AND JSON_VALUE(intent, '$.kind') = 'grant.give' AND JSON_VALUE(intent, '$.grant.pass_on')
		AND JSON_VALUE(brief, '$.affected[0].class') = 'written work'
		AND JSON_VALUE(brief, '$.affected[0].session.Activity') = 'idle in transaction'
		AND JSON_VALUE(brief, '$.steps[0].stays') AND JSON_VALUE(brief, '$.steps[0].mend') = 'x'
		AND JSON_VALUE(brief, '$.steps[0].kind') = 'settle_grants'
		AND JSON_VALUE(brief, '$.findings[0].code') = 'gate.leaky'
		AND JSON_VALUE(brief, '$.findings[0].text') = 'a "class":"hidden"'
		AND JSON_VALUE(accepted, '$[0]') = 'gate.leaky'`).Scan(&old).Error; err != nil || old != 1 {
		t.Errorf("as the earlier version has it: %d, %v", old, err)
	}
	if err := s.migrate(t.Context()); err != nil {
		t.Fatal(err)
	}
	if again, kept := read(); !reflect.DeepEqual(again, servers) || !reflect.DeepEqual(kept, keys) ||
		len(servers) != 3 || len(keys) != 2 {
		t.Errorf("before: %+v %v\nafter: %+v %v", servers, keys, again, kept)
	}
	if after := words(); strings.Join(strings.Fields(after), "") != strings.Join(strings.Fields(before), "") {
		t.Errorf("before: %s\nafter: %s", before, after)
	}
}

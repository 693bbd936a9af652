package postgres

import (
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/localdb"
)

// testAlter alters everything that can be altered on a real server, takes it back,
// and does it again.
func testAlter(t *testing.T, running *localdb.Server, run func(string)) {
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
	const odd = `od"d\'; --_dev`
	run(`CREATE ROLE alter_owner NOLOGIN`)
	run(`CREATE DATABASE ` + quoteIdent(odd) + ` CONNECTION LIMIT 3`)
	run(`COMMENT ON DATABASE ` + quoteIdent(odd) + ` IS 'was'`)
	run(`ALTER DATABASE ` + quoteIdent(odd) + ` SET work_mem = '4MB'`)
	run(`ALTER DATABASE ` + quoteIdent(odd) + ` SET search_path = "a, b", public`)
	before := enginetest.ValuesOf(t, s, odd)
	if got := catalog.WriteValue(before["settings"]); got != `name search_path, value "a, b", public; name work_mem, value 4MB` {
		t.Errorf("the settings are read as %s", got)
	}
	enginetest.Altered(t, Engine{}, s, odd,
		catalog.Values{"comment": `it's "so" \ now`, "connection_limit": int64(9), "is_template": true,
			"owner": "alter_owner",
			"settings": rows(catalog.Values{"name": "work_mem"},
				catalog.Values{"name": "search_path", "value": `"$user", "it's; x"`},
				catalog.Values{"name": "desk.mode", "value": `it's \ "odd"`},
				catalog.Values{"name": "lock_timeout", "value": "5s"})})
	enginetest.Altered(t, Engine{}, s, odd,
		catalog.Values{"allow_connections": false, "connection_limit": "none", "comment": "", "is_template": false})
	var path string
	run(`ALTER DATABASE ` + quoteIdent(odd) + ` ALLOW_CONNECTIONS true`)
	config, err := pgx.ParseConfig(running.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	config.Database = odd
	conn, err := pgx.ConnectConfig(t.Context(), config)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if err := conn.QueryRow(t.Context(), "SELECT current_setting('search_path')").Scan(&path); err != nil ||
		path != `"$user", "it's; x"` {
		t.Errorf("new sessions begin with the search_path %s, %v", path, err)
	}
	for name, value := range map[string]string{"work_mem": "lots", "no_such_setting": "1", "shared_buffers": "1GB",
		"default_transaction_isolation": "moody", "bad\nname": "x"} {
		b := enginetest.BriefOf(t, Engine{}, s,
			change.Intent{Kind: change.AlterDatabase, Database: &change.DatabaseSpec{Name: odd,
				Options: catalog.Values{"settings": rows(catalog.Values{"name": name, "value": value})}}})
		if len(b.Codes(change.Stop)) != 1 || b.Codes(change.Stop)[0] != change.SettingRefused ||
			!strings.Contains(b.Findings[0].Text, "The server refuses") {
			t.Errorf("%s = %s: %+v", name, value, b.Findings)
		}
	}
}

// testAlteredMeanwhile: what is planned for one database touches no other of that name.
func testAlteredMeanwhile(t *testing.T, running *localdb.Server, run func(string)) {
	s := enginetest.Open(t, Engine{}, enginetest.Target(Engine{}, running, "harbour"))
	run("CREATE DATABASE swapped_dev")
	in := change.Intent{Kind: change.AlterDatabase,
		Database: &change.DatabaseSpec{Name: "swapped_dev", Options: catalog.Values{"connection_limit": int64(4)}}}
	b := enginetest.BriefOf(t, Engine{}, s, in)
	run("ALTER DATABASE swapped_dev RENAME TO swapped_away")
	run("CREATE DATABASE swapped_dev")
	if _, err := s.Do(t.Context(), b.Steps[0]); err == nil ||
		!strings.Contains(err.Error(), "it is called swapped_away by now") {
		t.Errorf("altered under another name: %v", err)
	}
	if took, err := s.Probe(t.Context(), b.Steps[0]); took || err != nil {
		t.Errorf("another database is taken for the one that was altered: %v, %v", took, err)
	}
	if _, err := s.Undo(t.Context(), b.Steps[0]); err == nil {
		t.Error("another database was altered back")
	}
	run("DROP DATABASE swapped_away")
	if _, err := s.Do(t.Context(), b.Steps[0]); err == nil || !strings.Contains(err.Error(), "is gone") {
		t.Errorf("altered another database: %v", err)
	}
	if got := enginetest.ValuesOf(t, s, "swapped_dev")["connection_limit"]; got != "none" {
		t.Errorf("the database that came after has the limit %v", got)
	}
}

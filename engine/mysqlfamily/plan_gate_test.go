package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
)

// doomed is the small server as the planner sees it for dropping cargo_prod.
func doomed() catalog.Snapshot {
	snap := staffed()
	rows := int64(4300)
	snap.Instance.Login.Abilities = append(snap.Instance.Login.Abilities,
		catalog.Ability{Code: "set_definers", Allowed: true},
		catalog.Ability{Code: "drop_database", Allowed: true}, catalog.Ability{Code: "see_databases", Allowed: true})
	snap.Target = &catalog.Database{Name: "cargo_prod", Encoding: "utf8mb4", Collation: "utf8mb4_bin",
		Comment: "it's \\ cargo", Owner: "cargo_app@10.0.0.%"}
	snap.DropImpact = &catalog.DropImpact{Objects: []catalog.Count{{What: "tables", N: 2}, {What: "events", N: 1}},
		Rows:    &rows,
		MayDrop: true}
	return snap
}

func dropping(spec change.DatabaseSpec, c *change.ClearingSpec) change.Intent {
	if spec.Name == "" {
		spec.Name = "cargo_prod"
	}
	return change.Intent{Kind: change.DropDatabase, Database: &spec, Clearing: c}
}

func TestPlanDropFindings(t *testing.T) {
	reporter := catalog.Account{Principal: at("report", "%"), Login: true, Global: may.Select}
	session := func(who catalog.Principal, alter func(*catalog.Session)) catalog.Session {
		s := catalog.Session{ID: catalog.SessionID{Number: 7, Mark: "m"}, Kind: catalog.ClientSession,
			Database: "cargo_prod", Account: who}
		if alter != nil {
			alter(&s)
		}
		return s
	}
	for _, tt := range []struct {
		title  string
		in     change.Intent
		alter  func(*catalog.Snapshot)
		want   string
		remedy string
	}{
		{"quiet", dropping(change.DatabaseSpec{}, nil), nil,
			"note:sessions.none note:drop.loses note:drop.final note:grants.leftover", ""},
		{"events of others", dropping(change.DatabaseSpec{}, nil), func(s *catalog.Snapshot) {
			impact(s).Events = []scheduled{{"nightly", "mate@10.%"}}
			s.Instance.Login.Abilities = slices.DeleteFunc(s.Instance.Login.Abilities,
				func(a catalog.Ability) bool { return a.Code == "set_definers" })
		}, "stop:rights.missing", ""},
		{"who could come back", dropping(change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.Access.Accounts = append(s.Access.Accounts, reporter) },
			"note:gate.incomplete",
			""},
		{"who could come back, and is there", dropping(change.DatabaseSpec{}, nil), func(s *catalog.Snapshot) {
			s.Access.Accounts = append(s.Access.Accounts, reporter)
			s.Connected = []catalog.Session{session(reporter.Principal, nil)}
		}, "caution:gate.incomplete", "lock_accounts=yes"},
		{"they are held", dropping(change.DatabaseSpec{},
			&change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}}),
			func(s *catalog.Snapshot) { s.Access.Accounts = append(s.Access.Accounts, reporter) },
			"caution:gate.effect", ""},
		{"who is never held, and is there",
			dropping(change.DatabaseSpec{}, &change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}}),
			func(s *catalog.Snapshot) {
				root := catalog.Account{Principal: at("root", "localhost"), Login: true, Super: true,
					Global: may.Select}
				s.Access.Accounts = append(s.Access.Accounts, root)
				s.Connected = []catalog.Session{session(root.Principal, nil)}
			}, "caution:gate.incomplete", "never locked"},
		{"keys from outside", dropping(change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { impact(s).OutsideKeys = []string{"a.b to cargo_prod.trailers"} },
			"stop:keys.outside", "drop those keys"},
		{"prepared", dropping(change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.DropImpact.Prepared = []catalog.Prepared{{Name: "'g1'"}} },
			"stop:prepared.waiting", "XA ROLLBACK"},
		{"detached", dropping(change.DatabaseSpec{}, nil), func(s *catalog.Snapshot) { impact(s).Detached = 1 },
			"stop:prepared.waiting", "INNODB STATUS"},
		{"a backup of all", dropping(change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.DropImpact.Backup = "session 9 holds a lock of a backup" },
			"stop:backup.running",
			"finish"},
		{"a cluster", dropping(change.DatabaseSpec{}, nil), func(s *catalog.Snapshot) { impact(s).Cluster = true },
			"stop:option.unsupported", "cluster"},
		{"the records", dropping(change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.DropImpact.Own = "it holds the records of a Genarch" }, "stop:database.kept",
			""},
		{"needed elsewhere", dropping(change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.DropImpact.Dependents = []string{"view a.b"} }, "caution:drop.breaks",
			"alter or drop"},
		{"may not drop", dropping(change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.DropImpact.MayDrop, s.DropImpact.Remedy = false, "GRANT DROP ON *.*" },
			"stop:database.denied", "GRANT DROP"},
		{"absent or unseen", dropping(change.DatabaseSpec{Name: "hidden"}, nil), func(s *catalog.Snapshot) {
			s.Target = nil
			s.Instance.Login.Abilities = []catalog.Ability{{Code: "see_databases", Remedy: "GRANT SHOW DATABASES"}}
		}, "stop:database.absent", "GRANT SHOW DATABASES"},
		{"a dump", dropping(change.DatabaseSpec{}, nil), func(s *catalog.Snapshot) {
			s.Connected = []catalog.Session{session(at("keeper", "%"),
				func(s *catalog.Session) { s.Kind = catalog.BackupSession })}
		}, "stop:backup.running", "finish"},
		{"no rename", change.Intent{Kind: change.RenameDatabase,
			Database: &change.DatabaseSpec{Name: "cargo_prod", NewName: "b"}}, nil, "stop:kind.unsupported",
			"RENAME TABLE"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := doomed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := plan(t, tt.in, snap)
			var got []string
			remedied := tt.remedy == ""
			for _, f := range b.Findings {
				got = append(got, string(f.Level)+":"+f.Code)
				advice := strings.ToLower(fmt.Sprint(f.Next, f.Actions))
				remedied = remedied || strings.Contains(advice, strings.ToLower(tt.remedy))
			}
			for _, w := range strings.Fields(tt.want) {
				if !slices.Contains(got, w) {
					t.Errorf("findings %v; want %s", got, w)
				}
			}
			if !remedied || b.Stopped() != strings.Contains(tt.want, "stop:") {
				t.Errorf("stopped is %v, remedy %q: %+v", b.Stopped(), tt.remedy, b.Findings)
			}
		})
	}
}

func TestPlanDropStatements(t *testing.T) {
	for name, tt := range map[string]struct {
		in    change.Intent
		alter func(*catalog.Snapshot)
	}{
		"drop": {dropping(change.DatabaseSpec{}, &change.ClearingSpec{Grace: 30}),
			func(s *catalog.Snapshot) { impact(s).Events = []scheduled{{"night`ly", "ma'te@10.%"}} }},
		"drop_leftovers": {dropping(change.DatabaseSpec{Options: catalog.Values{"clear_leftovers": true}}, nil), nil},
		"drop_held": {dropping(change.DatabaseSpec{},
			&change.ClearingSpec{Options: catalog.Values{"lock_accounts": true}}),
			func(s *catalog.Snapshot) { s.Access.Accounts[1].Global = may.Select }},
	} {
		t.Run(name, func(t *testing.T) {
			snap := doomed()
			// One has the database by a pattern, one by a pattern and by its name.
			for _, p := range []catalog.Principal{at("gate", "10.%"), at("crew", "")} {
				snap.Access.Grants = append(snap.Access.Grants,
					catalog.Grant{Entry: catalog.Entry{Grantee: p, Privileges: may.Select},
						Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: `cargo%`}})
			}
			snap.Access.Grants = append(snap.Access.Grants,
				catalog.Grant{Entry: catalog.Entry{Grantee: at("crew", ""), Privileges: may.Insert.Or(may.Update),
					Grantable: may.Insert}, Object: catalog.Object{Scope: catalog.ScopeDatabase,
					Database: `cargo\_prod`}})
			if tt.alter != nil {
				tt.alter(&snap)
			}
			enginetest.Golden(t, *update, name, plan(t, tt.in, snap))
		})
	}
}

// TestGateIsSymmetric: whatever the gate takes has its way back at the same place,
// and the login of Genarch keeps its own rights.
func TestGateIsSymmetric(t *testing.T) {
	snap := doomed()
	snap.Access.Grants = append(snap.Access.Grants,
		catalog.Grant{Entry: catalog.Entry{Grantee: snap.Self, Privileges: may.Select},
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: `cargo\_prod`}})
	g := planGate("cargo_prod", snap, false)
	if len(g.do) == 0 || len(g.do) != len(g.undo) {
		t.Fatalf("%d statements, %d ways back", len(g.do), len(g.undo))
	}
	for i := range g.do {
		do, undo := strings.Fields(g.do[i]), strings.Fields(g.undo[i])
		if !(do[0] == "REVOKE" && undo[0] == "GRANT" || do[0] == "GRANT" && undo[0] == "REVOKE") ||
			do[len(do)-1] != undo[len(undo)-1] && !strings.Contains(g.undo[i], "OPTION") {
			t.Errorf("%q is rolled back by %q", g.do[i], g.undo[i])
		}
		if strings.Contains(g.do[i], "keeper") {
			t.Errorf("Genarch's own login loses its rights: %s", g.do[i])
		}
	}
	step := gateStep(g, "cargo_prod", snap.Self)
	if back := engine.DecodeList(step.Args["undo"]); back[0] != g.undo[len(g.undo)-1] || step.Repair == "" ||
		step.Undo != step.Repair {
		t.Error("the gate is not opened in the reverse order, or not after a try that failed")
	}
}

// TestShownClient: the server writes the port behind an address of colons as it
// is, so only here can the two be told apart.
func TestShownClient(t *testing.T) {
	for client, want := range map[string]string{"10.0.0.3:4711": "10.0.0.3:4711", "::1:4711": "[::1]:4711",
		"fe80::1:2:4711": "[fe80::1:2]:4711", "localhost": "localhost", "": ""} {
		if got := shownClient(client); got != want {
			t.Errorf("shownClient(%q) = %q, want %q", client, got, want)
		}
	}
}

// TestKindOf: what a thread is there for, by what the server shows of it.
func TestKindOf(t *testing.T) {
	for _, tt := range []struct {
		user, command, statement string
		held                     []metadataLock
		own                      bool
		want                     catalog.SessionKind
	}{
		{"loyalty_app", "Query", "SELECT 1", nil, false, catalog.ClientSession},
		{"loyalty_app", "Query", "SELECT SQL_NO_CACHE * FROM points", nil, false, catalog.ClientSession},
		{"loyalty_app", "Query", "SELECT /*!40001 SQL_NO_CACHE */ `p` FROM `points`", nil, false,
			catalog.BackupSession},
		{"keeper", "Sleep", "", []metadataLock{{mode: "MDL_BACKUP_FTWRL2"}}, false, catalog.BackupSession},
		{"keeper", "Query", "CREATE TABLE a (b INT)", []metadataLock{{mode: "MDL_BACKUP_DDL"}}, false,
			catalog.ClientSession},
		{"copier", "Binlog Dump", "", nil, false, catalog.ReplicationSession},
		{"system user", "Slave_SQL", "", nil, false, catalog.ReplicationSession},
		{"event_scheduler", "Daemon", "", nil, false, catalog.EngineSession},
		{"genarch", "Sleep", "", nil, true, catalog.OwnSession},
	} {
		if got := mariaDB.kindOf(tt.user, tt.command, tt.statement, tt.held, tt.own); got != tt.want {
			t.Errorf("kindOf(%s, %s, %s) = %s, want %s", tt.user, tt.command, tt.statement, got, tt.want)
		}
	}
}

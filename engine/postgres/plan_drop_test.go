package postgres

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/engine/enginetest"
)

// doomed is the small server as the planner sees it for taking tickets_prod away.
func doomed() catalog.Snapshot {
	snap := staffed()
	rows, size := int64(9400), int64(9<<20)
	snap.Target = &catalog.Database{Name: "tickets_prod", Owner: "tickets_owner", Key: "16384", Size: &size,
		Comment: "bookings",
		Properties: catalog.Values{"tablespace": "pg_default", "connection_limit": "none", "allow_connections": true,
			"is_template": false}}
	snap.DropImpact = &catalog.DropImpact{Objects: []catalog.Count{{What: "tables", N: 3}, {What: "views", N: 0}},
		Rows:    &rows,
		MayDrop: true, ExclusiveAccounts: []string{"tickets_app"}}
	return snap
}

// connected is a session in tickets_prod.
func connected(n int64, alter func(*catalog.Session)) catalog.Session {
	s := catalog.Session{ID: catalog.SessionID{Number: n, Mark: "m"}, Kind: catalog.ClientSession,
		Database: "tickets_prod", Account: role("tickets_app"), Application: "booking-desk",
		Activity: catalog.SessionIdle}
	if alter != nil {
		alter(&s)
	}
	return s
}

func taking(k change.Kind, spec change.DatabaseSpec, c *change.ClearingSpec) change.Intent {
	if spec.Name == "" {
		spec.Name = "tickets_prod"
	}
	return change.Intent{Kind: k, Database: &spec, Clearing: c}
}

func TestPlanClearingFindings(t *testing.T) {
	drop := taking(change.DropDatabase, change.DatabaseSpec{}, nil)
	rename := taking(change.RenameDatabase, change.DatabaseSpec{NewName: "fares_prod"}, nil)
	move := taking(change.AlterDatabase, change.DatabaseSpec{Options: catalog.Values{"tablespace": "fast"}}, nil)
	with := func(alter func(*catalog.Session)) func(*catalog.Snapshot) {
		return func(s *catalog.Snapshot) { s.Connected = []catalog.Session{connected(7, alter)} }
	}
	little := func(s *catalog.Snapshot) {
		s.Instance.Login.Superuser, s.Instance.Login.Abilities = false, []catalog.Ability{{Code: "see_sessions",
			Remedy: "GRANT pg_monitor TO keeper"}, {Code: "end_sessions", Remedy: "GRANT pg_signal_backend TO keeper"}}
		s.Connected = []catalog.Session{connected(7, nil)}
	}
	for _, tt := range []struct {
		title  string
		in     change.Intent
		alter  func(*catalog.Snapshot)
		want   string // level:code … that must be among the findings
		remedy string
	}{
		{"quiet", drop, nil, "note:sessions.none note:drop.loses note:drop.final note:drop.orphans note:drop.last_use note:gate.effect", ""},
		{"a pool", drop, with(nil), "note:sessions.ended", ""},
		{"absent", taking(change.DropDatabase, change.DatabaseSpec{Name: "tickts_prod"}, nil),
			func(s *catalog.Snapshot) { s.Target = nil }, "stop:database.absent", "list them"},
		{"not its owner", drop, func(s *catalog.Snapshot) {
			s.DropImpact.MayDrop, s.DropImpact.Remedy = false, "GRANT tickets_owner TO keeper"
		}, "stop:database.denied", "GRANT tickets_owner"},
		{"of the engine", drop, func(s *catalog.Snapshot) { s.Target.System = true }, "stop:database.kept", ""},
		{"of the login", drop, func(s *catalog.Snapshot) { s.DropImpact.Own = "Genarch's own login signs in to it" },
			"stop:database.kept", ""},
		{"a template", drop, func(s *catalog.Snapshot) { s.Target.Properties["is_template"] = true },
			"stop:database.template", "IS_TEMPLATE false"},
		{"written work", drop, with(func(s *catalog.Session) { s.Written = true }), "caution:work.lost", "grace"},
		{"written work, accepted", taking(change.DropDatabase, change.DatabaseSpec{},
			&change.ClearingSpec{AcceptLoss: true}), with(func(s *catalog.Session) { s.Written = true }),
			"note:work.lost", ""},
		{"written work is waited for",
			taking(change.DropDatabase, change.DatabaseSpec{}, &change.ClearingSpec{WhenEmpty: 60}),
			with(func(s *catalog.Session) { s.Written = true }), "note:sessions.waited_for", ""},
		{"replication", drop, with(func(s *catalog.Session) { s.Kind = catalog.ReplicationSession }),
			"stop:replication.running", "drop the subscription"},
		{"a backup", drop, with(func(s *catalog.Session) { s.Kind = catalog.BackupSession }), "stop:backup.running",
			"clearing.when_empty"},
		{"a worker", drop, with(func(s *catalog.Session) { s.Kind = catalog.WorkerSession }), "stop:worker.running",
			"switch it off"},
		{"a base backup", drop, func(s *catalog.Snapshot) { s.DropImpact.Backup = "a base backup runs" },
			"caution:backup.running", "wait"},
		{"prepared", drop, func(s *catalog.Snapshot) {
			s.DropImpact.Prepared = []catalog.Prepared{{Name: "g1", Owner: "tickets_app", Since: time.Unix(0, 0)}}
		}, "stop:prepared.waiting", "ROLLBACK PREPARED"},
		{"an active slot", drop, func(s *catalog.Snapshot) { impact(s).Slots = []slot{{Name: "s1", Active: true}} },
			"stop:replication.running", "stop the receiver"},
		{"a slot", drop, func(s *catalog.Snapshot) { impact(s).Slots = []slot{{Name: "s1"}} }, "caution:drop.breaks",
			"consumer"},
		{"a subscription", drop, func(s *catalog.Snapshot) { impact(s).Subscriptions = []string{"sub"} },
			"stop:replication.running", "DROP SUBSCRIPTION"},
		{"may see nothing", drop, little, "stop:sessions.hidden stop:sessions.denied", "GRANT pg_monitor"},
		{"a superuser's session", drop, func(s *catalog.Snapshot) {
			s.Instance.Login.Superuser = false
			s.Connected = []catalog.Session{connected(7, func(s *catalog.Session) { s.Super = true })}
		}, "stop:sessions.denied", "administrator"},
		{"not all is seen", drop, func(s *catalog.Snapshot) { s.SessionsUnseen = []string{"sessions of other logins"} },
			"note:sessions.unseen", ""},
		{"rename", rename, nil, "caution:drop.breaks note:gate.effect", "tell the teams"},
		{"rename to a taken name", taking(change.RenameDatabase, change.DatabaseSpec{NewName: "Crew_prod"}, nil), nil,
			"stop:name.taken", ""},
		{"rename by case", taking(change.RenameDatabase, change.DatabaseSpec{NewName: "crew_prod"}, nil), nil,
			"stop:name.taken", ""},
		{"rename to a bad name", taking(change.RenameDatabase, change.DatabaseSpec{NewName: "no suffix"}, nil), nil,
			"stop:name.suffix", ""},
		{"rename a leftover", rename, func(s *catalog.Snapshot) { s.Target.Broken = true }, "stop:database.broken",
			"database.drop"},
		{"move", move, nil, "note:gate.effect", ""},
		{"move nowhere", taking(change.AlterDatabase,
			change.DatabaseSpec{Options: catalog.Values{"tablespace": "attic"}}, nil), nil, "stop:option.absent",
			"server.choices harbour tablespaces"},
		{"move to where it is", taking(change.AlterDatabase,
			change.DatabaseSpec{Options: catalog.Values{"tablespace": "pg_default"}}, nil), nil,
			"note:database.as_asked", ""},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := doomed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			b := ask(t, tt.in, snap)
			var got []string
			remedied := tt.remedy == ""
			for _, f := range b.Findings {
				got = append(got, string(f.Level)+":"+f.Code)
				advice := strings.ToLower(fmt.Sprint(f.Next, f.Actions))
				remedied = remedied || strings.Contains(advice, strings.ToLower(tt.remedy))
				if f.Level == change.Stop && f.Next == "" {
					t.Errorf("the stop %s says not what to do next", f.Code)
				}
			}
			for _, w := range strings.Fields(tt.want) {
				if !slices.Contains(got, w) {
					t.Errorf("findings %v; want %s", got, w)
				}
			}
			if !remedied {
				t.Errorf("no remedy has %q: %+v", tt.remedy, b.Findings)
			}
			if b.Stopped() != strings.Contains(tt.want, "stop:") || b.Stopped() && len(b.Steps) > 0 {
				t.Errorf("stopped is %v with %d steps: %v", b.Stopped(), len(b.Steps), got)
			}
		})
	}
	b := ask(t, taking(change.DropDatabase, change.DatabaseSpec{IfExists: true}, nil),
		func() catalog.Snapshot { s := doomed(); s.Target = nil; return s }())
	if b.Outcome != change.Nothing || b.Stopped() || !slices.Contains(b.Codes(change.Note), change.DatabaseGone) {
		t.Errorf("dropping what is not there, only if present: %+v", b)
	}
}

func TestPlanClearingStatements(t *testing.T) {
	odd := `ti"ck;ets`
	for name, tt := range map[string]struct {
		in    change.Intent
		alter func(*catalog.Snapshot)
	}{
		"drop": {taking(change.DropDatabase, change.DatabaseSpec{}, &change.ClearingSpec{Grace: 30}), nil},
		"drop_odd": {taking(change.DropDatabase, change.DatabaseSpec{Name: odd}, nil),
			func(s *catalog.Snapshot) { s.Target.Name = odd }},
		"drop_closed": {taking(change.DropDatabase, change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.Target.Closed = true }},
		"drop_broken": {taking(change.DropDatabase, change.DatabaseSpec{}, nil),
			func(s *catalog.Snapshot) { s.Target.Broken = true }},
		"rename": {taking(change.RenameDatabase, change.DatabaseSpec{NewName: "fares_prod"},
			&change.ClearingSpec{WhenEmpty: 600}), nil},
		"move": {taking(change.AlterDatabase, change.DatabaseSpec{Options: catalog.Values{"tablespace": "fast"}},
			nil), nil},
		"set_aside": {taking(change.SetAside, change.DatabaseSpec{}, &change.ClearingSpec{Grace: 30}), nil},
		"set_aside_odd": {taking(change.SetAside, change.DatabaseSpec{Name: odd, KeepDays: 90}, nil),
			func(s *catalog.Snapshot) { s.Target.Name, s.Target.Closed = odd, true }},
		"bring_back": {waits(change.BringBack, change.HoldingSpec{}), wait},
		"bring_back_as": {waits(change.BringBack,
			change.HoldingSpec{NewName: "fares_prod"}), func(s *catalog.Snapshot) {
			wait(s)
			s.Target.Closed = false // somebody opened it
		}},
		"discard": {waits(change.Discard, change.HoldingSpec{}), wait},
		"keep": {waits(change.KeepHolding,
			change.HoldingSpec{Until: "2027-01-31", Hold: "it's for the audit"}), wait},
		"lock": {change.Intent{Kind: change.AlterAccount,
			Account:  &change.AccountSpec{Name: "tickets_app", Options: catalog.Values{"locked": true}},
			Clearing: &change.ClearingSpec{}}, nil},
		"copy_in_use": {change.Intent{Kind: change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "a_prod", Options: catalog.Values{"template": "template1"}},
			Clearing: &change.ClearingSpec{}}, func(s *catalog.Snapshot) {
			s.Target, s.Source, more(s).SourceMine = nil, &catalog.Database{Name: "template1", Key: "1"}, true
			template1(s).Properties["sessions"] = int64(1)
			s.Connected = []catalog.Session{connected(7, func(s *catalog.Session) { s.Database = "template1" })}
		}},
	} {
		t.Run(name, func(t *testing.T) {
			snap := doomed()
			if tt.alter != nil {
				tt.alter(&snap)
			}
			enginetest.Golden(t, *update, name, ask(t, tt.in, snap))
		})
	}
}

// TestPlanEndSessions: whom a brief shows is whom its step ends, and nobody that
// must not be ended implicitly.
func TestPlanEndSessions(t *testing.T) {
	busy := func(s *catalog.Session) { s.Activity, s.Statement = catalog.SessionActive, "SELECT 1" }
	all := []catalog.Session{connected(1, nil), connected(2, busy),
		connected(3, func(s *catalog.Session) { s.Written = true }),
		connected(4, func(s *catalog.Session) { s.Kind = catalog.OwnSession }),
		connected(5, func(s *catalog.Session) { s.Kind = catalog.BackupSession }),
		connected(6, func(s *catalog.Session) { s.Account = role("mate") })}
	id := func(n int64) []catalog.SessionID { return []catalog.SessionID{{Number: n, Mark: "m"}} }
	for _, tt := range []struct {
		title string
		spec  change.SessionsSpec
		want  string // numbers that the step ends
		codes string
	}{
		{"one", change.SessionsSpec{IDs: id(1)}, "1", "note:sessions.ended"},
		{"by account", change.SessionsSpec{Filter: clearing.Filter{Account: "tickets_app"}}, "1 2 3",
			"caution:work.lost"},
		{"by class", change.SessionsSpec{Filter: clearing.Filter{Class: clearing.Busy}}, "2", "note:sessions.ended"},
		{"a statement", change.SessionsSpec{Filter: clearing.Filter{Database: "tickets_prod"}, StatementOnly: true},
			"2", "note:sessions.ended"},
		{"its number is another's", change.SessionsSpec{IDs: []catalog.SessionID{{Number: 1, Mark: "old"}}}, "",
			"note:session.gone"},
		{"one of two is there", change.SessionsSpec{IDs: append(id(1), id(99)...)}, "1", "note:session.gone"},
		{"Genarch's own", change.SessionsSpec{IDs: id(4)}, "", "stop:session.kept"},
		{"a backup by its identity", change.SessionsSpec{IDs: id(5)}, "5", "caution:backup.running"},
		{"nobody fits", change.SessionsSpec{Filter: clearing.Filter{Account: "nobody"}}, "", "note:session.gone"},
	} {
		t.Run(tt.title, func(t *testing.T) {
			snap := staffed()
			snap.Connected = all
			b := ask(t, change.Intent{Kind: change.EndSessions, Sessions: &tt.spec}, snap)
			var got, codes []string
			for _, s := range b.Steps {
				for _, id := range s.Clear.Target.IDs {
					got = append(got, strings.TrimSuffix(id.String(), "-m"))
				}
			}
			for _, f := range b.Findings {
				codes = append(codes, string(f.Level)+":"+f.Code)
			}
			if strings.Join(got, " ") != tt.want || !slices.Contains(codes, tt.codes) {
				t.Errorf("ends %v with %v; want %q with %s", got, codes, tt.want, tt.codes)
			}
			if b.AffectedCount != len(got) {
				t.Errorf("shows %d sessions, ends %d", b.AffectedCount, len(got))
			}
		})
	}
}

package planning_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"
	"unicode"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest/invented"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/postgres"
)

var engines = []engine.Engine{postgres.Engine{}, mariadb.Engine{}, invented.Engine{}}

// account is one of the company's, with a host where the engine has them.
func account(e engine.Engine, name string) catalog.Principal {
	p := catalog.Principal{Name: name}
	if e.Describe().HasHosts() {
		p.Host = "%"
	}
	return p
}

// abilities are all that planners ask for, had or not.
func abilities(had bool) []catalog.Ability {
	var out []catalog.Ability
	for _, code := range []string{"create_database", "see_databases", "see_sessions", "end_sessions", "manage_accounts",
		"read_grants", "give_bundles", "drop_database", "alter_database"} {
		a := catalog.Ability{Code: code, Allowed: had}
		if !had {
			a.Remedy = "GRANT " + code
		}
		out = append(out, a)
	}
	return out
}

// server is a small one as a planner sees it, with a database, accounts and sessions.
func server(e engine.Engine) catalog.Snapshot {
	size, tables := int64(9<<20), 3
	login := func(name string) catalog.Account {
		return catalog.Account{Principal: account(e, name), Login: true, Inherit: true, ConnectionLimit: -1}
	}
	self := login("keeper")
	self.Super = true
	session := func(n int64, alter func(*catalog.Session)) catalog.Session {
		s := catalog.Session{ID: catalog.SessionID{Number: n, Mark: "a"}, Kind: catalog.ClientSession,
			Database: "tickets_prod", Account: account(e, "tickets_app"), Application: "booking-desk",
			Client: "10.0.0.7:4711", Activity: catalog.SessionIdle, Started: time.Unix(100, 0), StateSince: time.Unix(200, 0)}
		if alter != nil {
			alter(&s)
		}
		return s
	}
	target := catalog.Database{Name: "tickets_prod", Key: "7", Owner: "tickets_owner", Size: &size, Tables: &tables}
	return catalog.Snapshot{
		Server: catalog.Server{Name: "harbour", Environment: catalog.Production,
			NameRule: naming.Rule{Suffix: "_prod"}},
		Instance: catalog.Instance{Engine: e.Describe().ID, Version: "18.4", Number: 180004,
			Identity: catalog.Identity{Key: "system identifier 7"}, Read: time.Unix(300, 0),
			Login: catalog.Login{Name: "keeper", Superuser: true, Abilities: abilities(true)}},
		Names:  []string{"tickets_prod", "Crew_prod"},
		Target: &target, Source: &target, OwnerAllowed: true, Self: self.Principal,
		Choices: catalog.Choices{"owners": {{Name: "tickets_owner"}}, "encodings": {{Name: "UTF8", Default: true}},
			"templates": {{Name: "template1", Default: true, Properties: catalog.Values{"encoding": "UTF8",
				"collation": "C.UTF-8", "ctype": "C.UTF-8", "provider": "libc", "tablespace": "pg_default"}}}},
		Access: &catalog.Access{Accounts: []catalog.Account{self, login("tickets_app"), login("report")},
			Databases: []catalog.AccessDatabase{{Name: "tickets_prod", Owner: "tickets_owner"}}},
		Connected: []catalog.Session{
			session(1, nil),
			session(2, func(s *catalog.Session) { s.Activity = catalog.SessionActive }),
			session(3, func(s *catalog.Session) { s.Written, s.Activity = true, catalog.SessionInTransaction }),
		},
		Sessions: []string{"session 1 in tickets_prod"},
		DropImpact: &catalog.DropImpact{
			MayDrop:           true,
			Objects:           []catalog.Count{{What: "tables", N: 3}},
			ExclusiveAccounts: []string{"tickets_app"},
		},
		Use: catalog.Use{Since: time.Unix(1, 0)},
	}
}

// troubles are what can be the matter with a server.
var troubles = map[string]func(*catalog.Snapshot){
	"as it should be": func(*catalog.Snapshot) {},
	"nothing there":   func(s *catalog.Snapshot) { s.Target, s.Names, s.Connected = nil, nil, nil },
	"read only":       func(s *catalog.Snapshot) { s.Instance.ReadOnly = "it is a standby" },
	"a login that may little": func(s *catalog.Snapshot) {
		s.Instance.Login = catalog.Login{Name: "keeper", Abilities: abilities(false)}
	},
	"closed": func(s *catalog.Snapshot) { d := *s.Target; d.Closed = true; s.Target = &d },
	"broken": func(s *catalog.Snapshot) { d := *s.Target; d.Broken = true; s.Target = &d },
	"the engine's own": func(s *catalog.Snapshot) {
		d := *s.Target
		d.System = true
		s.Target = &d
	},
	"replication, a backup and a worker": func(s *catalog.Snapshot) {
		kinds := []catalog.SessionKind{catalog.ReplicationSession, catalog.BackupSession, catalog.WorkerSession}
		for i, kind := range kinds {
			x := s.Connected[0]
			x.ID.Number, x.Kind = int64(10+i), kind
			s.Connected = append(s.Connected, x)
		}
	},
	"what is not shown": func(s *catalog.Snapshot) {
		s.SessionsUnseen = []string{"Sessions of other logins are not shown."}
		s.Connected[0].Hidden = true
	},
	"much that depends on it": func(s *catalog.Snapshot) {
		d := *s.DropImpact
		d.Dependents, d.PossibleDependents = []string{"view a.b", "foreign key c"}, []string{"routine d"}
		d.Prepared = []catalog.Prepared{{Name: "gid", Database: "tickets_prod"}}
		s.DropImpact = &d
	},
}

// intents are some of every kind.
func intents(e engine.Engine) []change.Intent {
	who := account(e, "tickets_app")
	spec := func(name string) *change.AccountSpec {
		p := account(e, name)
		return &change.AccountSpec{Name: p.Name, Host: p.Host, Password: change.Generated}
	}
	out := []change.Intent{
		{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: "fares_prod"}},
		{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: "tickets_prod"}},
		{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: "tickets_prod", IfNotExists: true}},
		{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: "t1ckets_prod"}},
		{Kind: change.CreateDatabase, Database: &change.DatabaseSpec{Name: "A b"}, Clearing: &change.ClearingSpec{}},
		{
			Kind:     change.CreateDatabase,
			Database: &change.DatabaseSpec{Name: "dues_prod", Team: &change.TeamSpec{Name: "dues"}},
		},
		{Kind: change.AlterDatabase, Database: &change.DatabaseSpec{Name: "tickets_prod",
			Options: catalog.Values{"comment": "x"}}},
		{Kind: change.DropDatabase, Database: &change.DatabaseSpec{Name: "tickets_prod"}},
		{Kind: change.DropDatabase, Database: &change.DatabaseSpec{Name: "tickets_prod", IfExists: true},
			Clearing: &change.ClearingSpec{AcceptLoss: true, Grace: 10}},
		{Kind: change.DropDatabase, Database: &change.DatabaseSpec{Name: "tickets_prod"},
			Clearing: &change.ClearingSpec{WhenEmpty: 600}},
		{Kind: change.RenameDatabase, Database: &change.DatabaseSpec{Name: "tickets_prod", NewName: "fares_prod"}},
		{Kind: change.EndSessions, Sessions: &change.SessionsSpec{IDs: []catalog.SessionID{{Number: 1, Mark: "a"},
			{Number: 9, Mark: "z"}}}},
		{Kind: change.EndSessions, Sessions: &change.SessionsSpec{IDs: []catalog.SessionID{{Number: 2, Mark: "a"}},
			StatementOnly: true}},
		{Kind: change.CreateAccount, Account: spec("purser")}, {Kind: change.CreateAccount, Account: spec("report")},
		{Kind: change.AlterAccount, Account: &change.AccountSpec{Name: who.Name, Host: who.Host,
			Options: catalog.Values{"locked": true}}, Clearing: &change.ClearingSpec{}},
		{Kind: change.AlterAccount, Account: &change.AccountSpec{Name: "nobody", Host: who.Host,
			Options: catalog.Values{"locked": true}}},
		{Kind: change.SetPassword, Account: spec("report")},
		{
			Kind:    change.RenameAccount,
			Account: &change.AccountSpec{Name: who.Name, Host: who.Host, NewName: "tickets_web"},
		},
		{Kind: change.DropAccount, Account: &change.AccountSpec{Name: who.Name, Host: who.Host}},
		{Kind: change.DropAccount, Account: &change.AccountSpec{Name: "nobody", IfExists: true}},
		{
			Kind:  change.GrantPrivilege,
			Grant: &change.GrantSpec{Database: "tickets_prod", To: who, Bundle: access.BundleRead},
		},
		{
			Kind:  change.GrantPrivilege,
			Grant: &change.GrantSpec{Database: "nowhere", To: who, Bundle: access.BundleRead},
		},
		{Kind: change.RevokePrivilege, Grant: &change.GrantSpec{Database: "tickets_prod", To: who}},
		{Kind: change.GrantRole, Member: &change.MemberSpec{Role: "report", To: who}},
		{Kind: change.GrantRole, Member: &change.MemberSpec{Role: who.Name, To: who}},
		{Kind: change.MarkServer, Mark: "1-2-3"},
	}
	for i := range out {
		out[i].Server = "harbour"
	}
	return out
}

// Whatever is asked of whichever server, a brief holds to what people and the runner rely on.
func TestEveryBrief(t *testing.T) {
	for _, e := range engines {
		for _, in := range intents(e) {
			for name, trouble := range troubles {
				where := fmt.Sprintf("%s, %s %s", e.Describe().ID, in.Kind, name)
				plan := func() (b change.Brief, err error) {
					snap := server(e)
					trouble(&snap)
					if d := in.Database; d != nil && in.Kind == change.CreateDatabase && d.Name != "tickets_prod" {
						snap.Target = nil
					}
					if snap.Target == nil && slices.Contains([]string{"closed", "broken", "the engine's own"}, name) {
						return change.Brief{}, change.ErrIntent
					}
					return e.Plan(in, snap)
				}
				if snap := server(e); snap.Target == nil {
					t.Fatal("the server has no database")
				}
				b, err := plan()
				if err != nil {
					continue // what cannot be understood has no brief
				}
				checkBrief(t, where, b)
				if again, err := plan(); err != nil || again.Fingerprint != b.Fingerprint {
					t.Errorf("%s: planned again it has another fingerprint (%v)", where, err)
				}
			}
		}
	}
}

func checkBrief(t *testing.T, where string, b change.Brief) {
	t.Helper()
	if b.Summary == "" || b.Target == "" || b.Fingerprint == "" {
		t.Errorf("%s: the brief says %q of %q, fingerprint %q", where, b.Summary, b.Target, b.Fingerprint)
	}
	for _, f := range b.Findings {
		first, _ := firstAndLast(f.Text)
		if f.Code == "" || f.Text == "" || !strings.HasSuffix(f.Text, ".") && !strings.HasSuffix(f.Text, "?") ||
			unicode.IsLower(first) && !namesFirst(f.Text) {
			t.Errorf("%s: %s says what is no sentence: %q", where, f.Code, f.Text)
		}
		if f.Level == change.Stop && f.Next == "" {
			t.Errorf("%s: the stop %s says no way on", where, f.Code)
		}
		if strings.Contains(f.Text+f.Next, "genarch ") || strings.Contains(f.Next, " --") {
			t.Errorf("%s: %s names a command in its words: %q %q", where, f.Code, f.Text, f.Next)
		}
		for _, a := range f.Actions {
			if a.Do == "" && a.Option == "" {
				t.Errorf("%s: %s has an action that does nothing", where, f.Code)
			}
		}
	}
	if b.Outcome == change.Nothing && len(b.Steps) > 0 {
		t.Errorf("%s: there is nothing to do, in %d steps", where, len(b.Steps))
	}
	for i, s := range b.Steps {
		switch {
		case s.Kind == "" || s.Title == "":
			t.Errorf("%s: step %d is %q %q", where, i+1, s.Kind, s.Title)
		case s.ReadOnly && (s.Undo != "" || s.Repair != ""):
			t.Errorf("%s: step %d only reads, and is rolled back", where, i+1)
		}
	}
	// What was done is looked at: at the end, or by the clearing itself.
	looks := func(s change.Step) bool { return s.ReadOnly || s.Kind == change.ClearSessions }
	if n := len(b.Steps); n > 0 && !b.Stopped() && !looks(b.Steps[n-1]) {
		t.Errorf("%s: the last step is %s", where, b.Steps[n-1].Kind)
	}
}

func firstAndLast(text string) (first, last rune) {
	runes := []rune(text)
	if len(runes) == 0 {
		return 0, 0
	}
	return runes[0], runes[len(runes)-1]
}

// namesFirst: a sentence may begin with the name of what it is about.
func namesFirst(text string) bool {
	word, _, _ := strings.Cut(text, " ")
	for _, name := range []string{"tickets", "harbour", "fares", "dues", "report", "purser", "keeper", "nobody", "crew",
		"booking-desk", "session", "quay", "public", "template"} {
		if strings.HasPrefix(word, name) {
			return true
		}
	}
	return false
}

package enginetest

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/secret"
	"example.com/genarch/engine"
	"example.com/genarch/localdb"
)

// Ask reads the server and plans any intent.
func Ask(tb testing.TB, e engine.Engine, s engine.Server, in change.Intent) change.Brief {
	tb.Helper()
	in.Server = "suite"
	snap, err := s.Snapshot(tb.Context(), in)
	if err != nil {
		tb.Fatalf("Snapshot of %s: %v", in.Kind, err)
	}
	b, err := e.Plan(in, snap)
	if err != nil {
		tb.Fatalf("Plan of %s: %v", in.Kind, err)
	}
	return b
}

// With fills the passwords that a brief's steps need.
func With(b change.Brief, passwords map[string]secret.Text) change.Brief {
	b.Steps = slices.Clone(b.Steps)
	for i := range b.Steps {
		if len(b.Steps[i].SecretsNeeded()) > 0 {
			b.Steps[i].Secrets = passwords
		}
	}
	return b
}

// Act asks for an intent and carries it out.
func Act(tb testing.TB, e engine.Engine, s engine.Server, in change.Intent, passwords ...string) change.Brief {
	tb.Helper()
	b := Ask(tb, e, s, in)
	if b.Stopped() {
		tb.Fatalf("%s stops: %+v", b.Summary, b.Findings)
	}
	kept := map[string]secret.Text{}
	for i, need := range in.Secrets() {
		kept[need.Account.Name] = secret.New(passwords[min(i, len(passwords)-1)])
	}
	if _, err := Carry(tb, s, With(b, kept)); err != nil {
		tb.Fatalf("%s: %v", b.Summary, err)
	}
	return b
}

func account(k change.Kind, spec change.AccountSpec) change.Intent {
	return change.Intent{Kind: k, Account: &spec}
}

// Host is where the accounts of the suite come from; engines without hosts have none.
func host(e engine.Engine) string {
	if e.Describe().HasHosts() {
		return "127.0.0.1"
	}
	return ""
}

// RunAccounts puts an engine's accounts, roles and grants through the suite.
func RunAccounts(t *testing.T, e engine.Engine, running *localdb.Server, names Names) {
	target := Target(e, running, "suite")
	s := Open(t, e, target)
	t.Run("a life of an account", func(t *testing.T) { testAccountLife(t, e, s) })
	t.Run("hostile accounts", func(t *testing.T) { testHostileAccounts(t, e, s, names) })
	t.Run("roles", func(t *testing.T) { testRoles(t, e, s) })
	t.Run("bundles", func(t *testing.T) { testBundles(t, e, s) })
	t.Run("single privileges", func(t *testing.T) { testSingle(t, e, s) })
	if e.Describe().Team.Why == "" {
		t.Run("a team", func(t *testing.T) { testTeam(t, e, s) })
	}
	t.Run("own login", func(t *testing.T) { testOwnLogin(t, e, s, running) })
	t.Run("cut line at an account", func(t *testing.T) { testCutAccount(t, e, target, running.Dir) })
}

// find reads one account anew.
func find(t *testing.T, s engine.Server, name string) (catalog.Account, catalog.Access, bool) {
	t.Helper()
	a, err := s.Access(t.Context(), catalog.AccessQuery{})
	if err != nil {
		t.Fatal(err)
	}
	i := slices.IndexFunc(a.Accounts, func(x catalog.Account) bool { return x.Name == name })
	if i < 0 {
		return catalog.Account{}, a, false
	}
	return a.Accounts[i], a, true
}

// testAccountLife: Long: one life is told from beginning to end, each step on the one before.
func testAccountLife(t *testing.T, e engine.Engine, s engine.Server) {
	spec := change.AccountSpec{Name: "kiosk_app", Host: host(e)}
	make := spec
	make.Password = change.Generated
	limits, limit := e.Describe().Option(change.PartAccount, "connection_limit")
	limit = limit && slices.Contains(limits.In, change.CreateAccount)
	if limit {
		make.Options = catalog.Values{"connection_limit": int64(7)}
	}
	b := Act(t, e, s, account(change.CreateAccount, make), "first Passw0rd of 24")
	for _, text := range append(b.Statements(), fmt.Sprint(b)) {
		if strings.Contains(text, "first Passw0rd") {
			t.Errorf("the password stands in the brief: %s", text)
		}
	}
	a, _, ok := find(t, s, "kiosk_app")
	if !ok || !a.Login || limit && a.ConnectionLimit != 7 || a.Password != nil && !*a.Password {
		t.Fatalf("read back as %+v", a)
	}
	again := make
	again.IfNotExists = true
	if b := Ask(t, e, s, account(change.CreateAccount, again)); b.Outcome != change.Nothing || len(b.Differences) > 0 {
		t.Errorf("the second run: %s %+v", b.Outcome, b.Differences)
	}
	if b := Ask(t, e, s, account(change.CreateAccount, make)); !slices.Contains(b.Codes(change.Stop),
		change.AccountExists) {
		t.Errorf("a second account of that name: %v", b.Findings)
	}
	alter := spec
	alter.Options = catalog.Values{"locked": true}
	if limit {
		alter.Options["connection_limit"] = "none"
	}
	Act(t, e, s, account(change.AlterAccount, alter))
	if a, _, _ := find(t, s, "kiosk_app"); !a.Locked && a.Login || a.ConnectionLimit != -1 {
		t.Errorf("after locking: %+v", a)
	}
	alter.Options = catalog.Values{"locked": false}
	Act(t, e, s, account(change.AlterAccount, alter))
	word := spec
	word.Password, word.Bits = change.Given, 99
	Act(t, e, s, account(change.SetPassword, word), "second Passw0rd of 24")
	// The old password is refused: the proof of a step that still has it fails.
	wrong := With(b, map[string]secret.Text{"kiosk_app": secret.New("first Passw0rd of 24")})
	_, err := s.Do(t.Context(), wrong.Steps[len(wrong.Steps)-1])
	if ee, ok := errors.AsType[*engine.Error](err); !ok || ee.Kind != engine.Differs {
		t.Errorf("signing in with the old password gave %v", err)
	}
	rename := spec
	rename.NewName = "kiosk_new"
	Act(t, e, s, account(change.RenameAccount, rename))
	if _, _, there := find(t, s, "kiosk_app"); there {
		t.Error("the old name is still there")
	}
	spec.Name = "kiosk_new"
	b = Act(t, e, s, account(change.DropAccount, spec))
	if b.Confirm == "" {
		t.Error("a drop asks for no confirmation")
	}
	if _, _, there := find(t, s, "kiosk_new"); there {
		t.Error("it was dropped and is still there")
	}
	if b := Ask(t, e, s, account(change.DropAccount, spec)); !slices.Contains(b.Codes(change.Stop),
		change.AccountAbsent) {
		t.Errorf("dropping it again: %+v", b.Findings)
	}
	spec.IfExists = true
	if b := Ask(t, e, s, account(change.DropAccount, spec)); b.Outcome != change.Nothing {
		t.Errorf("dropping it if present: %+v", b.Findings)
	}
}

// testHostileAccounts makes accounts with awkward names and passwords, signs in
// as each, and drops them; what the server would alter is refused before.
func testHostileAccounts(t *testing.T, e engine.Engine, s engine.Server, few Names) {
	var printable strings.Builder
	for c := rune(0x20); c < 0x7f; c++ {
		printable.WriteRune(c)
	}
	passwords := []string{printable.String(), `'; DROP ROLE x; --`, `back\slash\\`, `"quoted"`, "Grüße aus Ålesund 日本",
		"••••••", "'••••••'"}
	names := append(slices.Clone(hostile), "a@b", "it's", `per%cent_`, "••••••", `'••••••'`, strings.Repeat("n", 60))
	for i, name := range few.of(names) {
		spec := change.AccountSpec{Name: name, Host: host(e), Password: change.Given, Bits: 99}
		b := Ask(t, e, s, account(change.CreateAccount, spec))
		if b.Stopped() {
			if !strings.HasPrefix(b.Findings[0].Code, "name.") {
				t.Errorf("%q: %+v", name, b.Findings[0])
			}
			continue
		}
		password := passwords[i%len(passwords)]
		if _, err := Carry(t, s, With(b, map[string]secret.Text{name: secret.New(password)})); err != nil {
			t.Errorf("%q with %q: %v", name, password, err)
			continue
		}
		if _, _, ok := find(t, s, name); !ok {
			t.Errorf("%q is not there under its name", name)
		}
		Act(t, e, s, account(change.DropAccount, change.AccountSpec{Name: name, Host: host(e)}))
	}
	kind, _ := e.Describe().Principal(false)
	for _, name := range append([]string{"", strings.Repeat("x", 200), "nul\x00", " edge"}, kind.Names.Reserved...) {
		if b := Ask(t, e, s, account(change.CreateAccount,
			change.AccountSpec{Name: name, Host: host(e), Password: change.Generated})); !b.Stopped() {
			t.Errorf("%q is not refused", name)
		}
	}
}

func testRoles(t *testing.T, e engine.Engine, s engine.Server) {
	role, admin := e.Describe().SeparateRoles(), e.Describe().Granting.Admin
	for _, name := range []string{"deck", "officers"} {
		Act(t, e, s, account(change.CreateAccount, change.AccountSpec{Name: name, Role: true}))
	}
	Act(t, e, s, account(change.CreateAccount,
		change.AccountSpec{Name: "mate", Host: host(e), Password: change.Generated}), "mate's Passw0rd 24")
	give := func(k change.Kind, of string, to catalog.Principal, admin bool) change.Intent {
		return change.Intent{Kind: k, Member: &change.MemberSpec{Role: of, To: to, Admin: admin}}
	}
	officers, mate := catalog.Principal{Name: "officers", Role: role}, catalog.Principal{Name: "mate", Host: host(e)}
	Act(t, e, s, give(change.GrantRole, "deck", officers, false))
	Act(t, e, s, give(change.GrantRole, "officers", mate, admin))
	if b := Ask(t, e, s, give(change.GrantRole, "officers", mate, admin)); b.Outcome != change.Nothing {
		t.Errorf("given twice: %+v", b.Findings)
	}
	if b := Ask(t, e, s, give(change.GrantRole, "officers", catalog.Principal{Name: "deck", Role: role},
		false)); !slices.Contains(b.Codes(change.Stop), change.RoleCircle) {
		t.Errorf("a circle of roles: %+v", b.Findings)
	}
	_, a, _ := find(t, s, "mate")
	if roles, _ := access.New(a, e.Rules).Roles(mate); len(roles) != 2 {
		t.Errorf("mate has the roles %v; want officers and deck", roles)
	}
	Act(t, e, s, give(change.RevokeRole, "officers", mate, false))
	_, a, _ = find(t, s, "mate")
	if roles, dormant := access.New(a, e.Rules).Roles(mate); len(roles)+len(dormant) != 0 {
		t.Errorf("mate still has %v %v", roles, dormant)
	}
	if b := Ask(t, e, s, give(change.RevokeRole, "officers", mate, false)); b.Outcome != change.Nothing {
		t.Errorf("taken twice: %+v", b.Findings)
	}
	Act(t, e, s, account(change.DropAccount, change.AccountSpec{Name: "officers", Role: role}))
}

// testBundles gives and takes every bundle, and compares what it comes to.
//
// Long: one life is told from beginning to end, each step on the one before.
func testBundles(t *testing.T, e engine.Engine, s engine.Server) {
	Act(t, e, s, account(change.CreateAccount, change.AccountSpec{Name: "db_owner", Role: true}))
	spec := change.DatabaseSpec{Name: "bund_les"}
	if _, private := e.Describe().Option(change.PartDatabase, "private"); private {
		spec.Options = catalog.Values{"owner": "db_owner", "private": true}
	}
	Act(t, e, s, change.Intent{Kind: change.CreateDatabase, Database: &spec})
	who := catalog.Principal{Name: "bundled", Host: host(e)}
	Act(t, e, s, account(change.CreateAccount,
		change.AccountSpec{Name: who.Name, Host: who.Host, Password: change.Generated}), "bundled Passw0rd 24")
	level := func() access.Cell {
		a, err := s.Access(t.Context(), catalog.AccessQuery{Inside: []string{"bund_les"}})
		if err != nil {
			t.Fatal(err)
		}
		return access.New(a, e.Rules).Level(who, "bund_les")
	}
	for _, bundle := range access.Bundles {
		give := change.Intent{Kind: change.GrantPrivilege,
			Grant: &change.GrantSpec{Database: "bund_les", To: who, Bundle: bundle}}
		before, _, err := grantsOf(t, e, s, who)
		if err != nil {
			t.Fatal(err)
		}
		b := Ask(t, e, s, give)
		steps, err := Carry(t, s, b)
		if err != nil {
			t.Fatalf("give %s: %v", bundle, err)
		}
		if c := level(); c.Level != bundle.Level() || c.More {
			t.Errorf("after giving %s it has %s, more %v", bundle, c.Level, c.More)
		}
		if b := Ask(t, e, s, give); b.Outcome != change.Nothing {
			t.Errorf("%s given twice acts: %v", bundle, b.Statements())
		}
		// Undone, everything is as it was, whatever was there before.
		for i := len(steps) - 1; i >= 0; i-- {
			if steps[i].Undo != "" {
				if _, err := s.Undo(t.Context(), steps[i]); err != nil {
					t.Fatalf("undo %s: %v", steps[i].Title, err)
				}
			}
		}
		if after, _, _ := grantsOf(t, e, s, who); !slices.Equal(before, after) {
			t.Errorf("after undoing %s it has\n%v\nbefore\n%v", bundle, after, before)
		}
		Act(t, e, s, give)
		if bundle == access.BundleWrite {
			Act(t, e, s, change.Intent{Kind: change.RevokePrivilege,
				Grant: &change.GrantSpec{Database: "bund_les", To: who, Bundle: access.BundleRead}})
			if c := level(); c.Level != access.Read {
				t.Errorf("write, taken down to read, is %s", c.Level)
			}
			Act(t, e, s, give)
		}
	}
	Act(t, e, s, change.Intent{Kind: change.RevokePrivilege, Grant: &change.GrantSpec{Database: "bund_les", To: who}})
	if c := level(); c.Level != access.None {
		t.Errorf("after taking everything it has %s", c.Level)
	}
	if b := Ask(t, e, s, change.Intent{Kind: change.RevokePrivilege,
		Grant: &change.GrantSpec{Database: "bund_les", To: who}}); b.Outcome != change.Nothing {
		t.Errorf("taken twice acts: %v", b.Statements())
	}
}

// grantsOf lists what somebody was given, in words.
func grantsOf(t *testing.T, e engine.Engine, s engine.Server, p catalog.Principal) ([]string, *access.Graph, error) {
	t.Helper()
	a, err := s.Access(t.Context(), catalog.AccessQuery{Inside: []string{"bund_les"}})
	if err != nil {
		return nil, nil, err
	}
	g := access.New(a, e.Rules)
	var out []string
	for _, l := range g.Direct(p) {
		out = append(out, fmt.Sprint(l.Object, l.Privileges, l.Grantable))
	}
	roles, dormant := g.Roles(p)
	out = append(out, fmt.Sprint(roles, dormant))
	slices.Sort(out)
	return out, g, nil
}

func testSingle(t *testing.T, e engine.Engine, s engine.Server) {
	who := catalog.Principal{Name: "bundled", Host: host(e)}
	give := func(k change.Kind, grantOption bool, o catalog.Object, privileges ...string) change.Intent {
		return change.Intent{Kind: k, Grant: &change.GrantSpec{Database: "bund_les", To: who, Privileges: privileges,
			On: o, GrantOption: grantOption}}
	}
	create, word := catalog.Object{Scope: catalog.ScopeDatabase}, "CREATE"
	if _, known := e.Describe().Table.Named(word); !known {
		word = "CREATE TABLE"
	}
	b := Act(t, e, s, give(change.GrantPrivilege, true, create, word))
	if !slices.Contains(b.Codes(change.Caution), change.PrivilegeGrantOption) {
		t.Errorf("the right to pass on is no caution: %+v", b.Findings)
	}
	Act(t, e, s, give(change.RevokePrivilege, false, create, word))
	// One that there is, and databases do not have.
	other := slices.IndexFunc(e.Describe().Privileges,
		func(p engine.Privilege) bool { return !slices.Contains(p.On, catalog.ScopeDatabase) })
	if b := Ask(t, e, s, give(change.GrantPrivilege, false, create, word,
		e.Describe().Privileges[other].Name)); !slices.Contains(b.Codes(change.Stop), change.GrantInvalid) {
		t.Errorf("a privilege that databases do not have: %+v", b.Findings)
	}
	nowhere := catalog.Object{Scope: catalog.ScopeTable,
		Schema: map[bool]string{true: "", false: "public"}[e.Describe().HasHosts()], Name: "no_such"}
	if b := Ask(t, e, s, give(change.GrantPrivilege, false, nowhere, "SELECT")); !slices.Contains(b.Codes(change.Stop),
		change.ObjectAbsent) {
		t.Errorf("a table that is not there: %+v", b.Findings)
	}
	missing := give(change.GrantPrivilege, false, create, word)
	missing.Grant.Database = "no_such"
	if b := Ask(t, e, s, missing); !slices.Contains(b.Codes(change.Stop), change.DatabaseAbsent) {
		t.Errorf("a database that is not there: %+v", b.Findings)
	}
	nobody := give(change.GrantPrivilege, false, create, word)
	nobody.Grant.To.Name = "nobody_such"
	if b := Ask(t, e, s, nobody); !slices.Contains(b.Codes(change.Stop), change.AccountAbsent) {
		t.Errorf("an account that is not there: %+v", b.Findings)
	}
}

// testTeam makes a database with all that a team needs, then once more with a
// server that refuses in the middle: everything is rolled back.
func testTeam(t *testing.T, e engine.Engine, s engine.Server) {
	in := change.Intent{Kind: change.CreateDatabase,
		Database: &change.DatabaseSpec{Name: "lounges_prod", Team: &change.TeamSpec{Name: "lounges", Host: host(e)}}}
	b := Act(t, e, s, in, "first Passw0rd of 24", "other Passw0rd of 24")
	if last := b.Steps[len(b.Steps)-1]; last.Kind != engine.StepProve {
		t.Errorf("the last step is %s, not the proof", last.Kind)
	}
	a, err := s.Access(t.Context(), catalog.AccessQuery{Inside: []string{"lounges_prod"}})
	if err != nil {
		t.Fatal(err)
	}
	g := access.New(a, e.Rules)
	for name, want := range map[string]access.Level{"lounges_app": access.Write, "lounges_read": access.Read,
		"bundled": access.None} {
		if c := g.Level(catalog.Principal{Name: name, Host: host(e)}, "lounges_prod"); c.Level != want || c.Gap {
			t.Errorf("%s has %s (gap %v); want %s", name, c.Level, c.Gap, want)
		}
	}
	// A password that is not the account's makes the proof fail, at the end.
	other := change.Intent{Kind: change.CreateDatabase,
		Database: &change.DatabaseSpec{Name: "spas_prod", Team: &change.TeamSpec{Name: "spas", Host: host(e)}}}
	b = With(Ask(t, e, s, other), map[string]secret.Text{"spas_app": secret.New("first Passw0rd of 24"),
		"spas_read": secret.New("other Passw0rd of 24")})
	last := &b.Steps[len(b.Steps)-1]
	last.Secrets = maps.Clone(last.Secrets)
	last.Secrets["spas_read"] = secret.New("not that one")
	steps, err := Carry(t, s, b)
	if ee, ok := errors.AsType[*engine.Error](err); !ok || ee.Kind != engine.Differs {
		t.Fatalf("a proof with a wrong password gave %v", err)
	}
	for i := len(steps) - 1; i >= 0; i-- {
		if steps[i].Undo != "" {
			if _, err := s.Undo(t.Context(), steps[i]); err != nil {
				t.Fatalf("undo of %s: %v", steps[i].Title, err)
			}
		}
	}
	for _, name := range []string{"spas_owner", "spas_app", "spas_read"} {
		if _, _, there := find(t, s, name); there {
			t.Errorf("%s is left", name)
		}
	}
	if _, err := s.Database(t.Context(), "spas_prod"); !errors.Is(err, engine.ErrNotFound) {
		t.Errorf("the database is left: %v", err)
	}
	again := Ask(t, e, s, in)
	if stops := again.Codes(change.Stop); !slices.Contains(stops, change.AccountExists) ||
		!slices.Contains(stops, change.NameTaken) {
		t.Errorf("the same team again: %v", stops)
	}
}

func testOwnLogin(t *testing.T, e engine.Engine, s engine.Server, running *localdb.Server) {
	locked := true
	for k, spec := range map[change.Kind]change.AccountSpec{change.DropAccount: {},
		change.AlterAccount: {Options: catalog.Values{"locked": locked}}, change.RenameAccount: {NewName: "other"},
		change.SetPassword: {Password: change.Generated}} {
		spec.Name, spec.Host = running.Admin, host(e)
		if b := Ask(t, e, s, account(k, spec)); !slices.Contains(b.Codes(change.Stop), change.AccountOwn) {
			t.Errorf("%s of Genarch's own login: %v", k, b.Codes(change.Stop))
		}
	}
}

// testCutAccount cuts the line right after the account was made: the probe finds
// out, and the password is what tells that it is ours.
func testCutAccount(t *testing.T, e engine.Engine, target engine.Target, dir string) {
	direct := Open(t, e, target)
	through, cutAfter := cutting(t, e, target, dir)
	b := With(Ask(t, e, through, account(change.CreateAccount,
		change.AccountSpec{Name: "cut_app", Host: host(e), Password: change.Generated})),
		map[string]secret.Text{"cut_app": secret.New("a Passw0rd that was cut")})
	cutAfter("CREATE ")
	_, err := through.Do(t.Context(), b.Steps[0])
	if ee, ok := errors.AsType[*engine.Error](err); !ok || ee.Kind != engine.Unknown {
		t.Fatalf("a line cut after the statement was sent gave %v; want kind unknown", err)
	}
	if took, err := direct.Probe(t.Context(), b.Steps[0]); !took || err != nil {
		t.Errorf("Probe = %v, %v; the server had carried the statement out", took, err)
	}
	for _, step := range b.Steps[1:] {
		if _, err := direct.Do(t.Context(), step); err != nil {
			t.Errorf("going on with %s: %v", step.Title, err)
		}
	}
	stranger := b.Steps[0]
	stranger.Secrets = map[string]secret.Text{"cut_app": secret.New("another one's Passw0rd")}
	if _, err := direct.Undo(t.Context(), stranger); err == nil {
		t.Error("an account with another password was rolled back as ours")
	}
	if _, err := direct.Undo(t.Context(), b.Steps[0]); err != nil {
		t.Errorf("rolling back what was made without an answer: %v", err)
	}
	if _, _, there := find(t, direct, "cut_app"); there {
		t.Error("it is still there")
	}
}

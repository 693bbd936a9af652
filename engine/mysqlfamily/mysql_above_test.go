package mysqlfamily

import (
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// TestMySQLGate: with partial revokes, the gate keeps those out too that hold privileges on all
// databases, and what cannot be told or taken stays as it is.
func TestMySQLGate(t *testing.T) {
	cargo := func(clears bool, more ...catalog.Grant) change.Brief {
		snap := doomed()
		detailsOf(snap.Details).PlainNames = true
		d := *snap.Target
		d.Name = "cargo"
		snap.Target, snap.Names = &d, append(snap.Names, d.Name)
		a := *snap.Access
		a.Grants = append(slices.Clone(a.Grants), more...)
		a.Accounts = append(slices.Clone(a.Accounts),
			catalog.Account{Principal: at("report", "%"), Login: true, ConnectionLimit: -1,
				Global: may.Select.Or(may.Insert).Or(may.Process)},
			catalog.Account{Principal: catalog.Principal{Name: "lookers", Role: true}, Global: may.Select},
			catalog.Account{Principal: at("boss", "%"), Login: true, Global: may.Select, ConnectionLimit: -1},
			catalog.Account{Principal: catalog.Principal{Name: "bosses", Role: true},
				Attributes: []string{"SYSTEM_USER"}})
		a.Memberships = append(slices.Clone(a.Memberships), catalog.Membership{Member: at("boss", "%"),
			Role: catalog.Principal{Name: "bosses", Role: true}})
		a.Denials = []catalog.Grant{{Entry: catalog.Entry{Grantee: at("report", "%"), Denied: may.Insert},
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: "cargo"}}}
		snap.Access = &a
		in := dropping(change.DatabaseSpec{Name: "cargo", Options: catalog.Values{"clear_leftovers": clears}}, nil)
		return briefOf(t, in, snap)
	}
	on := func(who catalog.Principal, database string) catalog.Grant {
		return catalog.Grant{Entry: catalog.Entry{Grantee: who, Privileges: may.Select},
			Object: catalog.Object{Scope: catalog.ScopeDatabase, Database: database}}
	}
	enginetest.Golden(t, *update, "mysql_drop_restricted", cargo(false))
	for name, g := range map[string]catalog.Grant{"an administrator": on(at("boss", "%"), "cargo"),
		"a pattern that is none": on(at("gate", "10.%"), "carg_")} {
		b := cargo(false, g)
		if b.Stopped() || !slices.ContainsFunc(b.Findings, func(f change.Finding) bool {
			return f.Code == change.GateIncomplete && strings.Contains(f.Text, g.Grantee.String())
		}) {
			t.Errorf("%s: %+v", name, b.Findings)
		}
		if s := step(t, b, stepGate).Statement; strings.Contains(s, "'"+g.Grantee.Name+"'@") {
			t.Errorf("%s: %s", name, s)
		}
		if b := cargo(true, g); !slices.Contains(b.Codes(change.Stop), change.RightsMissing) {
			t.Errorf("%s, for good: %+v", name, b.Findings)
		}
	}
}

// TestMySQLAbove: mandatory roles and partial revokes, on a server that has them.
func TestMySQLAbove(t *testing.T) {
	t.Parallel()
	running := testutil.MySQL(t, "8.4.3")
	db, err := sql.Open("mysql", strings.Replace(running.DSN(""), running.Admin+":", "root:", 1))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	exec := func(format string, args ...any) {
		t.Helper()
		if _, err := db.ExecContext(t.Context(), fmt.Sprintf(format, args...)); err != nil {
			t.Fatalf("%s: %v", format, err)
		}
	}
	as := func(text string) error {
		own, err := sql.Open("mysql", strings.Replace(running.DSN(""), running.Admin+":", "report:", 1))
		if err != nil {
			t.Fatal(err)
		}
		defer own.Close()
		_, err = own.ExecContext(t.Context(), text)
		return err
	}
	exec("CREATE DATABASE freight")
	exec("CREATE TABLE freight.t (id INT)")
	exec("CREATE USER 'report'@'127.0.0.1' IDENTIFIED WITH caching_sha2_password AS '%s'",
		sha2Verifier(running.Password.Reveal()))
	exec("CREATE ROLE `ev,ery``body`@'%%'")
	exec("GRANT SELECT ON freight.* TO `ev,ery``body`@'%%'")
	s := enginetest.Open(t, mysql8{}, enginetest.Target(mysql8{}, running, "jetty"))
	report := at("report", "127.0.0.1")
	holds := func() bool {
		t.Helper()
		a, err := s.Access(t.Context(), catalog.AccessQuery{})
		if err != nil {
			t.Fatal(err)
		}
		counted := mySQL.graph(a).Why(report, may.Select,
			catalog.Object{Scope: catalog.ScopeDatabase, Database: "freight"}).Allowed
		if err := as("SELECT * FROM freight.t"); counted != (err == nil) {
			t.Errorf("it may read: %v; the server says: %v", counted, err)
		}
		return counted
	}
	if holds() {
		t.Error("it may read what nobody granted it")
	}
	exec("SET GLOBAL mandatory_roles = '`ev,ery``body`@`%%`'")
	if holds() {
		t.Error("a mandatory role that is not active counts")
	}
	for name, in := range map[string]change.Intent{
		"revoke": {Kind: change.RevokeRole, Member: &change.MemberSpec{Role: "ev,ery`body", To: report}},
		"drop":   accountIntent(change.DropAccount, change.AccountSpec{Name: "ev,ery`body", Role: true})} {
		b := enginetest.BriefOf(t, mysql8{}, s, in)
		if !slices.Contains(b.Codes(change.Stop), change.RoleHeld) {
			t.Errorf("%s: %+v", name, b.Findings)
		}
	}
	exec("SET GLOBAL activate_all_roles_on_login = ON")
	if !holds() {
		t.Error("a mandatory role that is active does not count")
	}
	exec("SET GLOBAL mandatory_roles = ''")
	if holds() {
		t.Error("a role that is mandatory no longer counts")
	}
	// The gate, closed and opened again, and the drop.
	exec("SET GLOBAL partial_revokes = ON")
	exec("GRANT SELECT, PROCESS ON *.* TO 'report'@'127.0.0.1'")
	drop := dropping(change.DatabaseSpec{Name: "freight"}, nil)
	b := enginetest.BriefOf(t, mysql8{}, s, drop)
	gate := step(t, b, stepGate)
	if _, err := s.Do(t.Context(), gate); err != nil {
		t.Fatal(err)
	}
	if took, err := s.Probe(t.Context(), gate); err != nil || !took {
		t.Errorf("closed: %v, %v", took, err)
	}
	if holds() || as("USE freight") == nil {
		t.Error("the gate does not keep it out")
	}
	if _, err := s.Undo(t.Context(), gate); err != nil {
		t.Fatal(err)
	}
	if !holds() {
		t.Error("it has not got back what it had")
	}
	enginetest.Act(t, mysql8{}, s, drop)
	var left int
	if err := db.QueryRow(`SELECT COUNT(*) FROM mysql.user
		WHERE JSON_EXTRACT(User_attributes, '$.Restrictions') IS NOT NULL`).Scan(&left); err != nil || left != 0 {
		t.Errorf("partial revokes are left: %d, %v", left, err)
	}
}

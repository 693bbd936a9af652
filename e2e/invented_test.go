package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"example.com/genarch/engine/enginetest/invented"
	"example.com/genarch/testutil"
)

// TestInvented takes an engine that there is not through the CLI, the API and the
// console of a service that was built with it: nothing outside its folder knows it, and
// the commands are those of the product, which has never heard of it.
func TestInvented(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, withInvented())
	_, running := invented.Start(t)
	r := s.cli(running.Password.Reveal(), "server", "add", "cellar", "--engine", "invented", "--host", running.Host,
		"--port", itoa(running.Port), "--admin", running.Admin,
		"--environment", "staging", "--secret-file", "-")
	has(t, "what registering asks for", r.err, "a registration of Invented needs hall: which of the halls")
	s.add("cellar", "invented", "staging", running, "--set", "hall=main")
	t.Run("description", func(t *testing.T) {
		has(t, "the engine", s.run(0, "engine", "show", "invented").out, "vault", "clerk", "region", "retention",
			"There are no roles.", "deny", "There is no gate.")
		has(t, "the check", s.run(0, "server", "check", "cellar").out, "hall", "main", "may admit clerks")
	})
	t.Run("databases", func(t *testing.T) {
		r := s.run(0, "database", "create", "cellar/fares", "--set", "region=south", "--set", "retention=30", "--set",
			"labels=a", "--set", "labels=b, c", "--comment", "till", "--yes")
		has(t, "made in stages", r.err, "reserve the vault fares", "build it", "it is ready", "read back")
		has(t, "what it is", s.run(0, "database", "show", "cellar/fares").out, "south", "30", "a, b, c", "till")
		has(t, "the list", s.run(0, "database", "list", "cellar").out, "REGION", "south")
		has(t, "what it has not", s.run(2, "database", "create", "cellar/x", "--owner", "ines", "--yes").err,
			"Invented has no option owner")
		has(t, "what cannot be chosen", s.run(1, "database", "create", "cellar/y", "--set", "region=moon", "--yes").err,
			"nobody works there yet")
		has(t, "what it has not yet", s.run(1, "database", "create", "cellar/y", "--set", "mirror=yes", "--yes").err,
			"Invented 2.1 has no mirror")
		has(t, "an alteration", s.run(0, "database", "alter", "cellar/fares", "--set", "sealed=yes", "--set",
			"retention=forever", "--yes").err, "no → yes", "30 → forever", "read back")
		has(t, "what it cannot", s.run(1, "database", "rename", "cellar/fares", "--to", "tolls", "--yes").err,
			"[kind.unsupported]", "A vault keeps its name.", "make a new one")
		has(t, "a team", s.run(1, "database", "create", "cellar/z", "--for-team", "z", "--yes").err, "there are none")
	})
	t.Run("accounts", func(t *testing.T) {
		has(t, "one of no vault", s.run(2, "account", "create", "cellar/account:ines", "--yes").err,
			"SERVER/DATABASE/account:NAME")
		has(t, "made", s.run(0, "account", "create", "cellar/fares/account:ines", "--set", "badge=blue", "--yes").err,
			"admit ines", "done")
		has(t, "another vault's", s.run(1, "account", "create", "cellar/tolls/account:ines", "--yes").err,
			"There is no vault tolls")
		has(t, "one of a real server",
			s.run(1, "account", "alter", "cellar/fares/account:ines", "--set", "badge=red", "--yes").err, "cannot",
			"admit one anew")
		has(t, "no roles", s.run(2, "role", "create", "cellar/role:crew", "--yes").err, "Invented has no roles")
		has(t, "the list", s.run(0, "account", "list", "cellar").out, "fares", "ines")
		has(t, "one of them", s.run(0, "account", "show", "cellar/fares/account:ines").out, "badge", "blue")
		s.run(0, "privilege", "grant", "cellar/fares", "--to", "ines", "--bundle", "write", "--yes")
		s.run(0, "privilege", "grant", "cellar/fares", "--to", "ines", "--privilege", "OPEN", "--table", "till",
			"--set", "deny=yes", "--yes")
		has(t, "the matrix", s.run(0, "privilege", "matrix", "cellar").out, "fares/ines", "write")
		has(t, "the grants", s.run(0, "privilege", "list", "cellar/fares/account:ines").out, "OPEN, STORE",
			"denied: OPEN")
		has(t, "why not", s.run(0, "privilege", "why", "cellar/fares/account:ines", "OPEN", "fares/till").out, "no",
			"denied:")
		has(t, "why", s.run(0, "privilege", "why", "cellar/fares/account:ines", "STORE", "fares/till").out, "yes")
		has(t, "what there is not", s.run(2, "privilege", "why", "cellar/fares/account:ines", "SELECT", "fares").err,
			"no privilege", "genarch engine show invented")
		_, found, _ := s.call("GET", "/api/v1/search?q=cellar/fares/account:ines", s.token, "")
		if text := fmt.Sprint(found["found"]); !strings.Contains(text, "database:fares") ||
			!strings.Contains(text, "name:ines") {
			t.Errorf("found by its address: %s", text)
		}
		status, one, _ := s.call("GET", "/api/v1/servers/cellar/accounts/ines?within=fares", s.token, "")
		if status != 200 || one["address"] != "cellar/fares/account:ines" || one["database"] != "fares" {
			t.Errorf("%d %v", status, one)
		}
	})
	t.Run("sessions", func(t *testing.T) {
		visitor := invented.Visit(t, running, "", running.Admin, running.Password.Reveal())
		list := s.run(0, "session", "list", "cellar", "-o", "json").out
		var read struct {
			Sessions []struct{ Address, Application string }
		}
		if err := json.Unmarshal([]byte(list), &read); err != nil {
			t.Fatal(err)
		}
		address := ""
		for _, x := range read.Sessions {
			if x.Application == "desk" {
				address = x.Address
			}
		}
		has(t, "no stopping", s.cli("", "session", "end", address, "--statement-only", "--yes").err,
			"cannot be stopped alone")
		if !visitor.Inside() {
			t.Fatal("the visitor was shown out")
		}
		s.run(0, "session", "end", address, "--yes")
		if visitor.Inside() {
			t.Error("the visitor is still inside")
		}
	})
	t.Run("script", func(t *testing.T) {
		var all struct{ Changes []struct{ ID uint64 } }
		if err := json.Unmarshal([]byte(s.run(0, "change", "list", "-o", "json").out), &all); err != nil ||
			len(all.Changes) == 0 {
			t.Fatalf("%d changes, %v", len(all.Changes), err)
		}
		has(t, "a script", s.run(0, "change", "script", itoa(int(all.Changes[len(all.Changes)-1].ID))).out,
			"# Genarch change", "\n"+`{"do":"reserve","vault":"fares","settings"`)
	})
	t.Run("console", func(t *testing.T) { testInventedConsole(t, s) })
	t.Run("dropping", func(t *testing.T) {
		visitor := invented.Visit(t, running, "", running.Admin, running.Password.Reveal())
		visitor.Enter("fares")
		s.run(2, "database", "drop", "cellar/fares", "--keep-days", "3")
		r := s.run(0, "database", "drop", "cellar/fares", "--confirm", "fares", "--grace", "0s", "--set", "shred=yes",
			"--yes")
		has(t, "a drop", r.err, "A vault cannot be set aside. It would be dropped for good.",
			`"settings":{"shred":true}`, "end the sessions of fares", "empty it", "gone")
		if visitor.Inside() {
			t.Error("the visitor is still inside")
		}
		has(t, "after it", s.run(4, "database", "show", "cellar/fares").err, "no database fares")
		has(t, "its clerks", s.run(4, "account", "show", "cellar/fares/account:ines").err, "fares/ines")
	})
}

func testInventedConsole(t *testing.T, s *service) {
	p := testutil.NewBrowser(t).Page(t, s.url)
	p.SignIn("keeper", password)
	p.Open("/servers/cellar")
	p.Open("/servers/cellar/sessions")
	p.WaitText("Each shows its brief first")
	if p.Eval("[...document.querySelectorAll('button')].some((b) => b.innerText.startsWith('Stop the statements'))") {
		t.Error("stopping statements is offered, and none can be stopped")
	}
	p.Open("/servers/cellar/databases/fares/drop")
	p.WaitText("There is no gate.")
	p.WaitText("whether what was in it is shredded")
	p.Open("/servers/cellar")
	for _, text := range []string{"Vault", "Region", "Boxes", "Visits", "south"} {
		p.WaitText(text)
	}
	p.Click("a[href$='/new-database']")
	p.Type("input[name=name]", "tolls")
	p.WaitText("where its boxes are kept")
	p.WaitText(`{"do":"reserve","vault":"tolls"`)
	if p.Has("input[name=team]") {
		t.Error("a team is offered, and there can be none")
	}
	p.Axe("a new vault")
	p.Type("input[name=retention]", "0")
	p.WaitText("0 is out of bounds")
	p.Type("input[name=retention]", "7")
	p.WaitText(`"retention":7`)
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.Click("main form button.btn-primary")
	p.WaitText("Done, and read back as asked")
	// An account lies in a vault, and there are no roles to choose.
	p.Open("/servers/cellar/new-account")
	p.Type("input[name=database]", "tolls")
	p.Type("input[name=name]", "tomas")
	p.WaitText(`{"do":"admit","vault":"tolls","clerk":"tomas"}`)
	if p.Eval("!!document.querySelector('input[value=role]')") {
		t.Error("a role is offered, and there are none")
	}
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.Click("main form button.btn-primary")
	p.WaitText("Done, and read back as asked")
	// Its page has an address of its own within the vault.
	p.Open("/servers/cellar/access")
	p.Click("a[href='/servers/cellar/databases/fares/accounts/ines']")
	p.WaitText("blue")
	p.WaitText("denied: OPEN")
	p.Type("input[name=privilege]", "OPEN")
	p.Type("input[name=object]", "fares/till")
	p.Click("form button")
	p.WaitText("✕ No.")
	p.Axe("a clerk")
	p.Click("a[href='/servers/cellar/new-grant?database=fares&who=ines']")
	p.WaitText("Open and fill every box.")
	p.WaitText("whether the privileges are refused")
	has(t, "what the console made", s.run(0, "account", "show", "cellar/tolls/account:tomas").out, "tomas")
	s.run(0, "database", "drop", "--for-good", "cellar/tolls", "--confirm", "tolls", "--yes")
}

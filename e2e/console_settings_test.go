package e2e

import (
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

// TestConsoleAdministration does in the console what had to be done in a terminal: a server
// is registered, checked and altered, operators and tokens are made, accounts compared and
// altered; and a list is found again as it was left.
func TestConsoleAdministration(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg := testutil.Postgres(t)
	b := testutil.NewBrowser(t)
	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	p.WaitText("No servers are registered yet")
	p.Click("a.link-plain[href='/new-server']")
	p.Type("input[name=name]", "harbour")
	p.Select("select[name=engine]", "postgresql")
	p.Type("input[name=host]", pg.Host)
	p.Type("input[name=port]", itoa(pg.Port))
	p.Type("input[name=admin]", pg.Admin)
	p.Type("input[name=secret]", "wrong-password")
	p.Type("input[name=suffix]", "_prod")
	p.Click("form button.btn-primary")
	p.WaitText("Check the login and its password")
	p.Axe("a registration that is refused")
	if errs := p.Errors(); len(errs) != 1 || !strings.Contains(errs[0], "502") {
		t.Errorf("the browser complains of more than the refusal: %q", errs)
	}
	p.Type("input[name=secret]", pg.Password.Reveal())
	p.Click("form button.btn-primary")
	p.Wait("its settings", "location.pathname === '/servers/harbour/settings'")
	p.Wait("what the login may do", "document.querySelectorAll('[data-allowed=true]').length > 3")

	t.Run("settings", func(t *testing.T) {
		p.Type("input[name=suffix]", "_live")
		p.Type("input[name=days]", "14")
		p.Click("input[name=discard]")
		p.Click("form:has(input[name=suffix]) button")
		p.WaitText("They hold from now on")
		has(t, "what is set aside", s.run(0, "server", "show", "harbour").out, "for 14 days, then discarded")
		has(t, "the rule", s.run(1, "database", "create", "harbour/wrong_prod", "--yes").err, "_live")
		p.Select("select[name=environment]", "staging")
		p.Click("form:has(input[name=host]) button.btn-primary")
		p.WaitText("The registration is altered")
		p.Wait("the new environment", "document.querySelector('.band-staging')")
		p.Type("input[name=host]", "127.0.0.2")
		p.Click("form:has(input[name=host]) button.btn-primary")
		p.WaitText("Give the password of the login too")
	})

	t.Run("operators and tokens", func(t *testing.T) {
		p.Open("/operators")
		p.WaitText("Add an operator")
		p.Type("input[name=operator]", "robot")
		p.Click("input[name=program]")
		p.Click("form:has(input[name=operator]) button.btn-primary")
		p.Wait("the program", "document.querySelector('tr[data-operator=robot]')")
		p.Click("input[aria-label='robot may request']")
		p.WaitText("robot may view, request from now on")
		p.Select("select[name=token_operator]", "robot")
		p.Type("input[name=token_title]", "nightly")
		p.Click("form:has(input[name=token_title]) button")
		p.WaitText("It is shown once")
		secret := p.EvalText("document.querySelector('[data-secret]').innerText.trim()")
		if status, _, _ := s.call("GET", "/api/v1/servers", secret, ""); status != 200 {
			t.Errorf("the token that was shown is answered with %d", status)
		}
		p.Click("p[data-token] button")
		p.WaitText("is revoked")
		if status, _, _ := s.call("GET", "/api/v1/servers", secret, ""); status != 401 {
			t.Errorf("the token that was revoked is answered with %d", status)
		}
		p.Click("tr[data-operator=robot] button")
		p.WaitText("robot may not sign in any more")
	})

	t.Run("accounts", func(t *testing.T) {
		for _, name := range []string{"tickets_app", "fares_app"} {
			s.run(
				0,
				"account",
				"create",
				"harbour/account:"+name,
				"--no-password",
				"--yes",
				"--accept",
				"password.missing",
			)
		}
		p.Open("/servers/harbour/accounts/tickets_app")
		p.WaitText("May it, and why?")
		p.Click("a[href$='/accounts/tickets_app/alter']")
		p.Type("input[name=connection_limit]", "7")
		p.WaitText("CONNECTION LIMIT 7")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("form button.btn-primary")
		p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
		p.Open("/servers/harbour/accounts/tickets_app")
		p.Click("a[href^='/compare']")
		p.Wait("the first", "document.querySelector('input[name=left]')?.value === 'harbour/account:tickets_app'")
		p.Type("input[name=right]", "fares")
		p.Wait("what fits", "document.querySelector(\"[data-value='harbour/account:fares_app']\")")
		p.Axe("comparing, with the list open")
		p.Click("[data-value='harbour/account:fares_app']")
		p.Click("form button.btn-primary")
		p.WaitText("connection limit")
		p.Wait("the address to hold both", "location.search.includes('fares_app')")
	})

	t.Run("a list as it was left", func(t *testing.T) {
		for _, name := range []string{"sailings_live", "crossings_live", "tickets_live"} {
			s.run(0, "database", "create", "harbour/"+name, "--yes")
		}
		p.Open("/servers/harbour")
		p.WaitText("tickets_live")
		p.Type("input[type=search]", "ings_live")
		p.Click("thead th:first-child button") // turned round
		first := "document.querySelector('tr[data-database]')?.dataset.database"
		p.Wait("the order", first+" === 'sailings_live'")
		p.Wait(
			"the address to follow",
			"location.search.includes('find=ings_live') && location.search.includes('down=yes')",
		)
		p.Click("tr[data-database=crossings_live] a")
		p.WaitText("Over time")
		p.Eval("(history.back(), true)")
		p.Wait("the list as it was", "document.querySelector('input[type=search]')?.value === 'ings_live' && "+
			"document.querySelectorAll('tr[data-database]').length === 2 && "+first+" === 'sailings_live'")
		p.Open("/changes?kind=account.alter")
		p.Wait("the changes of one kind", "document.querySelectorAll('tr[data-change]').length === 1")
		p.Open("/journal?action=operator")
		p.Wait("the entries of one kind", "document.querySelectorAll('[data-entry]').length > 2")
		if p.Eval("[...document.querySelectorAll('[data-entry]')].some((e) => !e.innerText.includes('operator.'))") {
			t.Error("other entries are among those of operators")
		}
		p.Open("/journal")
		p.WaitText("entries of its steps")
	})

	t.Run("next steps", func(t *testing.T) {
		// A stop names an option; its button asks once more with it.
		s.run(0, "account", "create", "harbour/account:owner_app", "--no-password", "--yes", "--accept",
			"password.missing")
		s.run(0, "database", "alter", "harbour/tickets_live", "--owner", "owner_app", "--yes")
		p.Open("/servers/harbour/accounts/owner_app/drop")
		p.Click("input[name=way][value='for good']")
		p.Wait("the stop", "document.querySelector('[data-code=\"account.owns\"]')")
		p.Click("[data-code='account.owns'] button")
		p.Wait("the focus on the field", "document.activeElement.name === 'reassign_to'")
		p.Open("/servers/harbour/new-account")
		p.WaitText("Nothing runs yet")
		p.Open("/")
		p.WaitText("1 of 1 servers answered")
		p.Wait("what needs a look", "document.querySelector('[data-look=\"accounts.traps\"]')")
		p.Click("[data-look='accounts.traps'] summary")
		p.WaitText("it has no password")
		p.Axe("the fleet with what needs a look")
	})
	t.Run("forget", func(t *testing.T) {
		p.Open("/servers/harbour/settings")
		p.Type("input[name=forget]", "harbour")
		p.Click("form:has(input[name=forget]) button.btn-error")
		p.WaitText("No servers are registered yet")
		if strings.Contains(s.run(0, "server", "list", "--registered").out, "harbour") {
			t.Error("it is registered still")
		}
	})
}

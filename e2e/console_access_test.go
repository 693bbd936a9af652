package e2e

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/testutil"
)

// TestConsoleAccess makes a team's database, gives and takes, and asks who may do
// what, with real clicks.
func TestConsoleAccess(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "production", maria)
	b := testutil.NewBrowser(t)
	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	t.Run("team and handover on PostgreSQL", func(t *testing.T) {
		p.Open("/servers/harbour/new-database")
		p.Type("input[name=name]", "lounges_prod")
		p.Type("input[name=team]", "lounges")
		p.WaitText("CREATE ROLE \"lounges_owner\" NOLOGIN")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("form button.btn-primary")
		p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
		p.WaitText("lounges_read is refused to make a table")
		p.WaitText("Show the passwords once")
		p.Click("[role=status] button.btn-primary")
		p.Wait("the password", "document.querySelector('[data-password=lounges_app]')")
		p.Axe("handover with passwords")
		secret := p.EvalText("document.querySelector('[data-password=lounges_app]').textContent")
		conn, err := pgx.Connect(t.Context(),
			fmt.Sprintf("host=%s port=%d dbname=lounges_prod user=lounges_app password=%s", pg.Host, pg.Port, secret))
		if err != nil {
			t.Fatalf("signing in with the password that was shown: %v", err)
		}
		conn.Close(t.Context())
		p.Open("/servers/harbour/databases/lounges_prod/handover")
		p.WaitText("jdbc:postgresql://")
		if p.Has("[data-password]") {
			t.Error("the sheet shows passwords again")
		}
	})
	t.Run("team on MariaDB", func(t *testing.T) {
		p.Open("/servers/quay/new-database")
		p.Type("input[name=name]", "lounges_prod")
		p.Type("input[name=team]", "lounges")
		p.Wait("the caution", "document.querySelector('[data-code=\"host.wide\"]')")
		p.Type("input[name=team_host]", "127.0.0.1")
		p.Wait("no caution", "!document.querySelector('[data-code=\"host.wide\"]') && document.body.innerText.includes('GRANT SELECT')")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("form button.btn-primary")
		p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
		p.WaitText("lounges_read@127.0.0.1 is refused to insert")
		p.Click("[role=status] button.btn-primary")
		p.Wait("the password", "document.querySelector('[data-password=lounges_read]')")
	})
	t.Run("account, grant, why", func(t *testing.T) {
		p.Open("/servers/harbour/new-account")
		p.Type("input[name=name]", "fares_report")
		p.WaitText("CREATE ROLE \"fares_report\" LOGIN PASSWORD '••••••'")
		p.Axe("new account")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("form button.btn-primary")
		p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
		p.Open("/servers/harbour/new-grant?database=lounges_prod&who=fares_report")
		p.WaitText("GRANT SELECT ON ALL TABLES")
		p.Axe("new grant")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("form button.btn-primary")
		p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
		p.Open("/servers/harbour/accounts/fares_report")
		p.WaitText("lounges_prod")
		p.Type("input[name=privilege]", "CREATE")
		p.Type("input[name=object]", "lounges_prod")
		p.Click("form button.btn-sm")
		p.WaitText("No.")
		p.WaitText("Show the brief for granting CREATE")
		p.Type("input[name=privilege]", "CONNECT")
		p.Click("form button.btn-sm")
		p.WaitText("Yes.")
	})
	t.Run("list", func(t *testing.T) {
		rows := "[...document.querySelectorAll('tr[data-account]')].map((r) => r.dataset.account).join(' ')"
		p.Open("/servers/harbour/accounts?show=marked&find=genarch")
		p.Wait("what was found, by the address of the page", rows+" === 'genarch'")
		p.Select("select[name=show]", "role")
		p.WaitText("No account fits.")
		p.Click("main button.link")
		p.Wait("all of them", rows+".includes('lounges_app')")
		p.Wait("an address without a filter", "!location.search.includes('find')")
		p.Click("nav[aria-label^=Views] a[href='/servers/harbour/access']")
		p.WaitText("Access on harbour")
		p.Click("nav[aria-label^=Views] a[href='/servers/harbour/accounts']")
		p.Click("tr[data-account=lounges_app] a")
		p.WaitText("May it, and why?")
	})
	t.Run("matrix", func(t *testing.T) {
		p.Open("/servers/harbour/access")
		p.Wait("the matrix", "document.querySelector('[data-level=write]')")
		p.Click("[data-level=read]")
		p.Wait("the chain", "document.querySelector('[data-allowed=true]')")
		// By keys alone: into the grid, two down, one across, and why.
		p.Eval("document.querySelector('[role=grid]').focus() || true")
		for _, key := range []string{"ArrowDown", "ArrowDown", "ArrowRight", "ArrowLeft", "Home"} {
			p.Eval("document.activeElement.dispatchEvent(new KeyboardEvent('keydown', {key: '" + key +
				"', bubbles: true})) || true")
		}
		p.Wait("the third cell to be the active one",
			"document.getElementById(document.querySelector('[role=grid]').getAttribute('aria-activedescendant'))?.parentElement.getAttribute('aria-rowindex') === '4'")
		p.Eval("(window.before = document.querySelector('[aria-label=Why]').innerText, document.activeElement.dispatchEvent(new KeyboardEvent('keydown', {key: 'Enter', bubbles: true})), true)")
		p.Wait("why of the active cell",
			"document.querySelector('[aria-label=Why]')?.innerText !== window.before && document.querySelector('[data-allowed]')")
		p.Type("input[type=search]", "fares")
		p.Wait("the rows that fit", "document.querySelectorAll('[role=rowheader]').length === 1")
		p.Type("input[type=search]", "nothing like it")
		p.WaitText("Nothing fits")
		p.Click("button.link") // show all
		p.Click("input[type=checkbox]")
		p.Wait("databases as rows", "document.querySelector('[role=rowheader]')?.innerText.includes('_prod')")
		// What another operator alters shows without a refresh.
		s.run(0, "account", "create", "harbour/account:latecomer", "--yes")
		p.WaitText("latecomer")
	})
	t.Run("drop asks for the name", func(t *testing.T) {
		p.Open("/servers/harbour/accounts/latecomer")
		p.WaitText("Drop latecomer")
		p.Click("a[href$='/accounts/latecomer/drop']")
		p.WaitText("Set it aside.")
		p.WaitText("COMMENT ON ROLE")
		p.Axe("asking for an account to be set aside")
		p.Click("input[name=way][value='for good']")
		p.WaitText("As long as it owns something")
		p.WaitText("DROP ROLE \"latecomer\"")
		p.Axe("asking for the drop of an account")
		p.Click("form button.btn-primary")
		p.WaitText("This is final")
		if p.Eval("!document.querySelector('form button.btn-error').disabled") {
			t.Error("a drop can be run without its name")
		}
		p.Axe("a brief that is final")
		p.Type("input[name=confirm]", "latecomer")
		p.Click("form button.btn-error")
		p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
	})
	t.Run("a pattern is told", func(t *testing.T) {
		db, err := sql.Open("mysql", maria.DSN("")+"?multiStatements=true")
		if err != nil {
			t.Fatal(err)
		}
		defer db.Close()
		if _, err := db.Exec("CREATE DATABASE wide_one; CREATE DATABASE wide2one; CREATE USER careless@'10.%' IDENTIFIED BY 'x'; GRANT SELECT ON wide_one.* TO careless@'10.%'"); err != nil {
			t.Fatal(err)
		}
		p.Open("/servers/quay/accounts/careless@10.%25")
		p.WaitText("opens wide2one, wide_one")
		p.Open("/servers/quay/access")
		p.WaitText("opens more than it says")
	})
	t.Run("asking without running", func(t *testing.T) { testConsoleWaiting(t, s, b, p) })
	t.Run("accessible and narrow", func(t *testing.T) {
		pages := map[string]string{"/servers/harbour/access": "lounges_prod",
			"/servers/quay/accounts/lounges_app@127.0.0.1": "write", "/servers/quay/roles/lounges_owner": "own",
			"/servers/harbour/databases/lounges_prod":          "lounges_read",
			"/servers/harbour/databases/lounges_prod/handover": "PGHOST",
			"/servers/quay/new-account":                        "Host it comes from",
			"/servers/quay/accounts/nobody":                    "no account or role",
			"/servers/quay/new-grant":                          "What to do"}
		for path, ready := range pages {
			p.Open(path)
			p.WaitText(ready)
			judge(t, p, path)
		}
	})
	t.Run("large", func(t *testing.T) { testLargeMatrix(t, p, maria.DSN("")) })
}

// testConsoleWaiting: a lead asks, the keeper is told and lets it run, and the
// passwords are the lead's.
func testConsoleWaiting(t *testing.T, s *service, b *testutil.Browser, keeper *testutil.Page) {
	if r := s.cli("gull-harpoon-quadrant-3", "operator", "add", "lead", "--permissions", "view,request",
		"--password-file", "-"); r.code != 0 {
		t.Fatal(r)
	}
	lead := testutil.NewBrowser(t).Page(t, s.url) // a browser of its own: another session
	lead.SignIn("lead", "gull-harpoon-quadrant-3")
	lead.Open("/servers/harbour/new-database")
	lead.Type("input[name=name]", "galley_prod")
	lead.Type("input[name=team]", "galley")
	lead.WaitText("ALTER DEFAULT PRIVILEGES")
	lead.Click("form button.btn-primary")
	lead.WaitText("somebody with the permission run lets it run")
	lead.Eval("[...document.querySelectorAll('button')].find((b) => b.innerText === 'Ask for it').click() ?? true")
	lead.Wait("the change to wait", "document.querySelector('#change-state')?.dataset.state === 'waiting'")
	keeper.Open("/changes")
	keeper.WaitText("waiting")
	keeper.Open(strings.TrimPrefix(lead.EvalText("location.pathname"), s.url))
	keeper.WaitText("Or decline it")
	keeper.Click("form button.btn-primary")
	keeper.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
	keeper.WaitText("Its passwords are for lead")
	lead.Wait("the end, without a refresh", "document.querySelector('#change-state')?.dataset.state === 'done'")
	lead.WaitText("Show the passwords once")
}

// testLargeMatrix: hundreds of accounts and databases, of which only those in
// sight are in the page.
func testLargeMatrix(t *testing.T, p *testutil.Page, dsn string) {
	db, err := sql.Open("mysql", dsn+"?multiStatements=true")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var b strings.Builder
	for i := range 150 {
		fmt.Fprintf(&b, "CREATE DATABASE many_%03d;", i)
	}
	for i := range 800 {
		fmt.Fprintf(&b, "CREATE USER acc_%04d@'127.0.0.1' IDENTIFIED VIA mysql_native_password USING 'invalid'; GRANT SELECT, SHOW VIEW ON `many\\_%03d`.* TO acc_%04d@'127.0.0.1';", i, i%150, i)
	}
	if _, err := db.Exec(b.String()); err != nil {
		t.Fatal(err)
	}
	p.Open("/servers/quay/access")
	p.WaitText("acc_0000")
	if n := p.EvalText("String(document.querySelectorAll('[role=gridcell]').length)"); len(n) > 3 {
		t.Errorf("%s cells are in the page", n)
	}
	p.Eval("(document.querySelector('[role=grid]').scrollTo(9000, 20000), true)")
	p.Wait("what was out of sight",
		"[...document.querySelectorAll('[role=rowheader]')].some((e) => e.innerText.includes('acc_05'))")
	p.Type("input[type=search]", "acc_0777 many_027")
	p.Wait("the one cell", "document.querySelectorAll('[role=gridcell]').length === 1 && document.querySelector('[data-level=read]')")
}

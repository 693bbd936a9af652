package e2e

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	_ "github.com/go-sql-driver/mysql"

	"example.com/genarch/testutil"
)

// TestConsole works in the console with real clicks, in two browsers side by side.
func TestConsole(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	maria := testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", testutil.Postgres(t), "--name-suffix", "_prod")
	s.add("quay", "mariadb", "staging", maria)
	s.run(0, "database", "create", "harbour/tickets_prod", "--yes")
	b := testutil.NewBrowser(t)
	t.Run("sign in", func(t *testing.T) { testSignIn(t, s, b) })
	t.Run("create", func(t *testing.T) { testConsoleCreate(t, s, b) })
	t.Run("stops and cautions", func(t *testing.T) { testConsoleFindings(t, s, b, maria.DSN("")) })
	t.Run("many databases", func(t *testing.T) { testMany(t, s, b, maria.DSN("")) })
	t.Run("accessible", func(t *testing.T) { testAccessible(t, s, b) })
	t.Run("places", func(t *testing.T) { testPlaces(t, s, b) })
	t.Run("one's own account", func(t *testing.T) { testYou(t, s, b) })
	t.Run("by the keyboard alone", func(t *testing.T) { testKeyboard(t, s, b) })
}

func testSignIn(t *testing.T, s *service, b *testutil.Browser) {
	p := b.Page(t, s.url)
	p.Open("/servers/harbour")
	p.Type("input[name=name]", "keeper")
	p.Type("input[name=password]", "wrong")
	p.Click("main form button")
	p.WaitText("Name or password is wrong")
	p.Axe("sign-in")
	p.Type("input[name=password]", password)
	p.Click("main form button")
	p.WaitText("tickets_prod") // the page that was asked for, after signing in
	p.Click("button[aria-label^='Sign out']")
	p.Wait("the sign-in", "document.querySelector('input[name=password]')")
	p.Open("/nowhere/at/all")
	p.SignIn("keeper", password)
	p.WaitText("2 of 2 servers answered")
}

// testPlaces: where one is shows before a server answers, the focus goes with the
// page, and the search finds what is on every server.
func testPlaces(t *testing.T, s *service, b *testutil.Browser) {
	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	p.WaitText("2 of 2 servers answered")
	// From here on no server answers: what is registered has to do.
	p.Eval("(window.asked = window.fetch, window.fetch = (r, o) => /servers\\/[^?]/.test(r.url ?? r) ? new Promise(() => {}) : window.asked(r, o), true)")
	p.Click("tr[data-server=quay] a")
	p.Wait("environment and name, without an answer",
		"document.querySelector('.band-staging')?.innerText.includes('quay')")
	p.Wait("the focus on the page", "document.activeElement.id === 'main'")
	p.Eval("(window.fetch = window.asked, true)")
	// The sections stay, and say where one is; a database has its own below them.
	current := "[...document.querySelectorAll('nav[aria-label^=Sections] [aria-current=page]')].map((a) => a.innerText).join(' ')"
	p.Open("/servers/harbour")
	for _, step := range [][2]string{
		{"a[href='/servers/harbour/changes']", "Changes"}, {"a[href='/servers/harbour/sessions']", "Sessions"},
		{"a[href='/servers/harbour/accounts']", "Accounts"}, {"nav a[href='/servers/harbour']", "Databases"},
		{"tr[data-database=tickets_prod] a", "Databases Overview"},
		{"a[href='/servers/harbour/databases/tickets_prod/changes']", "Databases Changes"},
	} {
		p.Click(step[0])
		p.Wait(step[1]+" as where one is", current+" === '"+step[1]+"'")
	}
	p.WaitText("Changes of harbour/tickets_prod")
	if p.Has("a[href='/changes/']") ||
		p.Eval("[...document.querySelectorAll('tr[data-change] td:nth-child(3) a')]"+
			".some((c) => c.title !== 'harbour/tickets_prod')") {
		t.Error("the changes of a database are mixed with others")
	}
	p.Open("/changes")
	p.WaitText("tickets_prod")
	p.Eval("(document.querySelector('button[aria-label^=\"Go to\"]').click(), true)")
	p.Type("dialog input", "tickets harb")
	p.Wait("the database", "document.querySelector('dialog [role=option]')?.innerText.includes('harbour/tickets_prod')")
	p.Type("dialog input", "staging")
	p.Wait("the servers of an environment",
		"document.querySelector('dialog [role=option]')?.innerText.includes('quay')")
	p.Type("dialog input", "no such thing anywhere")
	p.WaitText("Nothing fits")
}

// testYou: a person sets their own password, and is told what others did to it.
func testYou(t *testing.T, s *service, b *testutil.Browser) {
	const first, second = "capstan-ledger-orbit-2", "fathom-hinge-violet-8"
	s.run(0, "operator", "add", "bosun", "--permissions", "view", "--password-file", secretFile(t, password))
	s.run(0, "operator", "edit", "bosun", "--password-file", secretFile(t, first))
	p := b.Page(t, s.url)
	p.SignIn("bosun", first)
	p.WaitText("keeper")
	p.Wait("what was done to the account", "document.querySelector('[role=alert]')?.innerText.includes('password')")
	p.Click("[role=alert] button")
	p.Wait("it to be gone", "!document.querySelector('[role=alert]')")
	p.Open("/you")
	p.WaitText("Where you are signed in")
	p.Type("input[name=old]", "wrong")
	p.Type("input[name=new]", second)
	p.Type("input[name=again]", "another")
	p.WaitText("It differs from the one above")
	p.Type("input[name=again]", second)
	p.Axe("one's own account")
	p.Click("form button.btn-primary")
	p.WaitText("The present password is another one")
	p.Type("input[name=old]", first)
	p.Click("form button.btn-primary")
	p.WaitText("Your password is another one.")
	p.Wait("the session to go on", "document.querySelectorAll('table tbody tr').length === 1")
	if status, _, _ := s.signIn("bosun", first); status != 401 {
		t.Errorf("the old password: %d", status)
	}
}

func testConsoleCreate(t *testing.T, s *service, b *testutil.Browser) {
	watcher := b.Page(t, s.url)
	watcher.SignIn("keeper", password)
	watcher.Open("/servers/harbour")
	watcher.WaitText("tickets_prod")

	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	p.WaitText("2 of 2 servers answered")
	p.Click("tr[data-server=harbour] a")
	p.WaitText("New database on harbour")
	p.Click("a.btn-primary")
	p.Wait("the form", "document.querySelector('input[name=name]')")
	p.Type("input[name=name]", "tickets")
	p.Wait("the rule to be named", "document.querySelector('[data-code=\"name.suffix\"]')")
	p.Type("input[name=name]", "tickets_prod")
	p.Wait("the name to be taken", "document.querySelector('[data-code=\"name.taken\"]')")
	p.Click("[data-code='name.taken'] button") // the suggestion
	p.WaitText("tickets_2_prod is free on harbour")
	p.Type("input[name=comment]", "made in a browser")
	p.WaitText("COMMENT ON DATABASE")
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.WaitText("CREATE DATABASE \"tickets_2_prod\"")
	if strings.Contains(s.run(0, "database", "list", "harbour").out, "tickets_2_prod") {
		t.Error("the brief alone made the database")
	}
	p.Axe("brief")
	p.Click("form button.btn-primary")
	p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
	p.WaitText("read back as asked")
	for i := 1; i <= 3; i++ {
		if !p.Has(fmt.Sprintf("li[data-status=done]:nth-child(%d)", i)) {
			t.Errorf("step %d is not shown as done", i)
		}
	}
	// The other browser sees it come, marked, without a refresh.
	watcher.Wait("the new row, marked", "document.querySelector('tr.fresh[data-database=tickets_2_prod]')")
	p.Click("div[role=status] a") // look at it
	p.WaitText("made in a browser")
	p.WaitText("by keeper")
	p.Open("/changes")
	p.WaitText("harbour/tickets_2_prod")
	p.Open("/journal")
	p.WaitText("change.done")
	p.Click("main button")
	p.WaitText("Valid: all")
	// Anything is reached by the keyboard.
	p.Eval("(document.activeElement.blur(), document.dispatchEvent(new KeyboardEvent('keydown', {key: '/', bubbles: true})), true)")
	p.Wait("the search", "document.querySelector('dialog[open]')")
	p.Type("dialog input", "tickets_2")
	p.Wait("the match", "document.querySelector('#palette-0')?.innerText.includes('harbour/tickets_2_prod')")
	p.Type("dialog input", "tickets_2_prod\r")
	p.Wait("the page", "location.pathname === '/servers/harbour/databases/tickets_2_prod'")
	// And one made elsewhere comes too.
	s.run(0, "database", "create", "harbour/by_cli_prod", "--yes")
	watcher.Wait("the row made by the CLI", "document.querySelector('tr.fresh[data-database=by_cli_prod]')")
}

func testConsoleFindings(t *testing.T, s *service, b *testutil.Browser, dsn string) {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	for _, statement := range []string{"CREATE USER old_app@'127.0.0.1' IDENTIFIED BY 'pw'",
		"GRANT SELECT ON `parking`.* TO old_app@'127.0.0.1'"} {
		if _, err := db.Exec(statement); err != nil {
			t.Fatal(err)
		}
	}
	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	p.Open("/servers/quay/new-database")
	p.Type("input[name=name]", "parking")
	p.Wait("the character sets", "document.querySelector('select[name=encoding] option[value=latin1]')")
	p.Select("select[name=encoding]", "latin1")
	p.Type("input[name=collation]", "utf8mb4_bin")
	p.Wait("the mismatch", "document.querySelector('[data-code=\"collation.mismatch\"]')")
	p.Click("[data-code='collation.mismatch'] button")
	p.Wait("the suggestion taken", "document.querySelector('input[name=collation]').value === 'latin1_swedish_ci'")
	p.Wait("the caution", "document.querySelector('[data-code=\"grants.leftover\"]')")
	p.WaitText("old_app@127.0.0.1 on the database")
	p.Wait("that no stop stands in the way", "!document.querySelector('form button.btn-primary').disabled")
	p.Click("form button.btn-primary")
	p.WaitText("Accept each caution first.")
	if !p.Eval("document.querySelector('main form button.btn-primary').disabled") {
		t.Error("it could be run without accepting the caution")
	}
	// Meanwhile somebody else makes it: nothing runs, the new brief is offered.
	s.run(0, "database", "create", "quay/parking", "--yes", "--accept", "grants.leftover")
	p.Click("main form input[type=checkbox]")
	p.Click("main form button.btn-primary")
	p.WaitText("The server is not as it was"[len("The "):])
	p.Click("main button.btn-primary")
	p.Wait("the new brief", "document.querySelector('[data-code=\"name.taken\"]')")
	p.Click("main details summary") // notes are folded beside a stop
	p.WaitText("was created by keeper with change")
}

// testMany lists ten thousand databases: only what is seen is drawn.
func testMany(t *testing.T, s *service, b *testutil.Browser, dsn string) {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	const many = 3000
	for i := range many {
		if _, err := db.Exec(fmt.Sprintf("CREATE DATABASE many_%05d", i)); err != nil {
			t.Fatal(err)
		}
	}
	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	p.Open("/servers/quay")
	p.Wait("the list", "document.querySelector('tr[data-database]')")
	p.WaitText("3\u202f001 shown")
	rows := "document.querySelectorAll('tr[data-database]').length"
	if !p.Eval(rows + " < 120") {
		t.Errorf("%s rows are in the page", p.EvalText("String("+rows+")"))
	}
	p.Type("input[type=search]", "many_02987")
	p.Wait("the search", "document.querySelector('tr[data-database=many_02987]') && "+rows+" === 1")
	p.Type("input[type=search]", "many_")
	p.Click("thead th:first-child button")
	p.Wait("the order turned round", "document.querySelector('tr[data-database]').dataset.database === 'many_02999'")
	p.Eval("(document.querySelector('[role=region]').scrollTo(0, 1e9), true)")
	p.Wait("the end of the list", "document.querySelector('tr[data-database=many_00000]')")
}

// consolePages are all pages of the console, and what shows that one is complete.
var consolePages = map[string]string{
	"/": "2 of 2 servers answered", "/changes": "database.create", "/changes/1": "What happened",
	"/journal": "sign_in", "/operators": "Add an operator", "/new-server": "Names of new databases", "/you": "Sign out",
	"/compare?left=harbour/account:genarch&right=harbour/account:genarch": "They do not differ",
	"/servers/harbour": "tickets_prod", "/servers/harbour/access": "Access on harbour",
	"/servers/harbour/accounts": "accounts and roles · read",
	"/servers/harbour/sessions": "Sessions", "/servers/harbour/changes": "Changes of harbour",
	"/servers/harbour/settings": "What Genarch's login may do", "/servers/nowhere": "No server nowhere",
	"/servers/harbour/new-database": "Nothing runs yet", "/servers/harbour/new-account": "Nothing runs yet",
	"/servers/harbour/new-grant": "Nothing runs yet", "/servers/harbour/accounts/genarch": "May it, and why?",
	"/servers/harbour/accounts/genarch/alter":            "Connection limit",
	"/servers/harbour/accounts/genarch/drop":             "What to know",
	"/servers/harbour/databases/tickets_prod":            "Over time",
	"/servers/harbour/databases/tickets_prod/access":     "what each comes to",
	"/servers/harbour/databases/tickets_prod/sessions":   "Sessions",
	"/servers/harbour/databases/tickets_prod/changes":    "Changes of harbour/tickets_prod",
	"/servers/harbour/databases/tickets_prod/properties": "Properties of",
	"/servers/harbour/databases/tickets_prod/alter":      "Nothing runs yet",
	"/servers/harbour/databases/tickets_prod/rename":     "Nothing runs yet",
	"/servers/harbour/databases/tickets_prod/drop":       "What to know",
	"/servers/harbour/databases/tickets_prod/handover":   "Handover",
}

func testAccessible(t *testing.T, s *service, b *testutil.Browser) {
	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	for path, ready := range consolePages {
		p.Open(path)
		p.WaitText(ready)
		judge(t, p, path)
	}
}

// judge looks whether a page can be used by everybody: in light and dark, and on a narrow
// screen.
func judge(t *testing.T, p *testutil.Page, path string) {
	t.Helper()
	p.Axe(path)
	p.Dark(true)
	p.AxeColours(path + ", dark")
	p.Dark(false)
	for _, width := range []int64{390, 1280} {
		p.Size(width, 800)
		if !p.Eval("document.documentElement.scrollWidth <= innerWidth") {
			t.Errorf("%s scrolls sideways at %d px: %s", path, width,
				p.EvalText("String(document.documentElement.scrollWidth)"))
		}
	}
}

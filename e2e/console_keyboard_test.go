package e2e

import (
	"testing"

	"github.com/chromedp/chromedp/kb"

	"example.com/genarch/testutil"
)

// testKeyboard does a DBA's round and a whole change without a mouse: every page is reached,
// the focus follows, and what is on the way can be worked.
func testKeyboard(t *testing.T, s *service, b *testutil.Browser) {
	p := b.Page(t, s.url)
	p.Open("/")
	p.TabTo("input[name=name]")
	p.Press("keeper")
	p.TabTo("input[name=password]")
	p.Press(password + kb.Enter)
	p.WaitText("2 of 2 servers answered")
	follow := func(css, path, text string) {
		t.Helper()
		p.TabTo(css)
		p.Press(kb.Enter)
		p.Wait("the page "+path, "location.pathname === '"+path+"'")
		p.WaitText(text)
		p.Wait("the focus on the page", "document.activeElement.closest('main') !== null")
	}
	// From the skip link on, everything of the frame.
	for _, place := range [][3]string{
		{"header nav a[href='/changes']", "/changes", "Changes"},
		{"header nav a[href='/journal']", "/journal", "sign_in"},
		{"header nav a[href='/operators']", "/operators", "Add an operator"},
		{"header a[href='/you']", "/you", "Your password"}, {"header nav a[href='/']", "/", "servers answered"},
		{"a[href='/new-server']", "/new-server", "Register a server"},
		{"header nav a[href='/']", "/", "servers answered"},
		{"a[href='/servers/harbour']", "/servers/harbour", "tickets_prod"},
		{"nav a[href='/servers/harbour/accounts']", "/servers/harbour/accounts", "Accounts on harbour"},
		{"nav a[href='/servers/harbour/access']", "/servers/harbour/access", "Access on harbour"},
		{"main a[href='/servers/harbour/new-account']", "/servers/harbour/new-account", "Nothing runs yet"},
		{"nav a[href='/servers/harbour/sessions']", "/servers/harbour/sessions", "Sessions"},
		{"nav a[href='/servers/harbour/changes']", "/servers/harbour/changes", "Changes of harbour"},
		{"nav a[href='/servers/harbour/settings']", "/servers/harbour/settings", "What Genarch's login may do"},
		{"nav a[href='/servers/harbour']", "/servers/harbour", "tickets_prod"},
	} {
		follow(place[0], place[1], place[2])
	}
	// In a list the arrows go from row to row, and Enter opens one.
	p.Wait("the list", "document.querySelectorAll('tr[data-database]').length > 1")
	p.TabTo("tr[data-line]")
	for range 60 {
		if p.Eval("document.activeElement.dataset.database === 'tickets_prod'") {
			break
		}
		before := p.EvalText("document.activeElement.dataset.line ?? ''")
		p.Press(kb.ArrowDown)
		p.Wait("the next row", "document.activeElement.dataset.line !== '"+before+"'")
	}
	p.Press(kb.Enter)
	database := "/servers/harbour/databases/tickets_prod"
	p.Wait("the database", "location.pathname === '"+database+"'")
	for _, section := range [][2]string{{"access", "what each comes to"}, {"sessions", "Sessions"},
		{"changes", "Changes of harbour/tickets_prod"}, {"properties", "Properties of"}} {
		follow("nav a[href='"+database+"/"+section[0]+"']", database+"/"+section[0], section[1])
	}
	follow("a[href='"+database+"/alter']", database+"/alter", "Nothing runs yet")
	follow("nav a[href='"+database+"']", database, "Over time")
	follow("a[href='"+database+"/rename']", database+"/rename", "Nothing runs yet")
	follow("nav a[href='"+database+"']", database, "Over time")
	// A plot is read with the arrows too.
	p.TabTo("svg[role=slider]")
	p.Press(kb.ArrowDown) // not a key of it: nothing happens
	// A whole change, from the list to its end.
	follow("nav a[href='/servers/harbour']", "/servers/harbour", "tickets_prod")
	follow("a[href='/servers/harbour/new-database']", "/servers/harbour/new-database", "Nothing runs yet")
	p.TabTo("input[name=name]")
	p.Press("by_keyboard_prod")
	p.WaitText("by_keyboard_prod is free on harbour")
	p.TabTo("form button.btn-primary")
	p.Press(kb.Enter)
	p.WaitText("What will happen")
	p.TabTo("form button.btn-primary")
	p.Press(" ")
	p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
	follow("main a[href='/servers/harbour/databases/by_keyboard_prod']", "/servers/harbour/databases/by_keyboard_prod",
		"Over time")
	// And its drop, confirmed by its name.
	follow("a[href='/servers/harbour/databases/by_keyboard_prod/drop']",
		"/servers/harbour/databases/by_keyboard_prod/drop", "Set it aside.")
	p.Wait("the brief", "!document.querySelector('form button.btn-primary')?.disabled")
	p.TabTo("form button.btn-primary")
	p.Press(kb.Enter)
	p.TabTo("input[name=confirm]")
	p.Press("by_keyboard_prod")
	p.TabTo("form button.btn-primary")
	p.Press(kb.Enter)
	p.Wait("the end", "document.querySelector('#change-state')?.dataset.state === 'done'")
}

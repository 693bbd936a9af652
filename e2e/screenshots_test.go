package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/testutil"
)

// TestScreenshots takes the pictures of docs/screenshots from a running demo:
// make screenshots. It is a tool, not a check, and runs only when asked.
func TestScreenshots(t *testing.T) {
	dir, demo := os.Getenv("GENARCH_SHOTS"), os.Getenv("GENARCH_DEMO_DATA")
	if dir == "" {
		t.Skip("set GENARCH_SHOTS to a folder, with the demo running")
	}
	password, err := os.ReadFile(filepath.Join(demo, "password"))
	if err != nil {
		t.Fatal(err)
	}
	b := testutil.NewBrowser(t)
	p := b.Page(t, os.Getenv("GENARCH_URL"))
	shot := func(name string) { p.Shot(filepath.Join(dir, name+".png")) }
	p.SignIn("dispatcher", strings.TrimSpace(string(password)))
	p.WaitText("6 of 6 servers answered")
	shot("fleet")
	p.Open("/servers/harbour")
	p.WaitText("tickets_prod")
	shot("server")
	p.Open("/servers/harbour/new-database")
	p.Type("input[name=name]", "lounge_bookings_prod")
	p.Wait("the owners", "document.querySelector('select[name=owner] option[value=tickets_owner]')")
	p.Select("select[name=owner]", "tickets_owner")
	p.Select("select[name=template]", "ferry_base")
	p.Type("input[name=comment]", "seats and meals in the lounges")
	p.WaitText("is free on")
	p.WaitText("COMMENT ON DATABASE")
	p.Eval("document.activeElement.blur(), scrollTo(0, 0), true")
	shot("new-database")
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	shot("brief")
	p.Click("form button.btn-primary")
	p.Wait("the end", "document.querySelector('#change-state').dataset.state === 'done'")
	p.Open("/servers/harbour/databases/tickets_prod")
	p.Wait("who may do what", "document.querySelector('a[href$=\"/accounts/genarch\"]')")
	p.Wait("the plots", "document.querySelectorAll('main svg[role=slider]').length >= 2")
	shot("database")
	p.Open("/servers/harbour/new-database")
	p.Type("input[name=name]", "lounges_prod")
	p.Type("input[name=team]", "lounges")
	p.WaitText("ALTER DEFAULT PRIVILEGES")
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.Click("form button.btn-primary")
	p.Wait("the end", "document.querySelector('#change-state').dataset.state === 'done'")
	p.WaitText("Show the passwords once")
	p.Click("[role=status] button.btn-primary")
	p.WaitText("Shown once")
	shot("handover")
	p.Open("/servers/harbour/access")
	p.Wait("the matrix", "document.querySelector('[data-level=write]')")
	shot("access")
	p.Open("/servers/harbour/accounts/mate_ines")
	p.WaitText("duty_officers")
	p.Type("input[name=privilege]", "UPDATE")
	p.Type("input[name=object]", "crew_rota_prod/public.shifts")
	p.Click("form:has(input[name=object]) button")
	p.WaitText("Yes.")
	shot("account-why")
	p.Open("/blueprints/team_staging")
	p.WaitText("It can be used")
	shot("blueprint")
	p.Open("/journal")
	p.WaitText("entries of its steps")
	shot("journal")
	p.Dark(true)
	p.Open("/holdings")
	p.WaitText("fares_draft_staging")
	shot("holding")
	p.Dark(false)
	p.Open("/servers/harbour/sessions")
	p.WaitText("blocks 1")
	p.WaitText("10 min ago") // some samples are there
	shot("sessions")
	p.Open("/servers/harbour/databases/crew_rota_prod/fill")
	p.WaitText("Drop a file of statements here")
	p.Eval(`(() => {
		let text = 'CREATE TABLE gangways (id int PRIMARY KEY, pier text NOT NULL, width_cm int);\n';
		for (let i = 0; i < 4000; i++) text += "INSERT INTO gangways VALUES (" + i + ", 'pier " +
			"" + (i % 40) + "', 240);\n";
		text += 'SELECT pg_sleep(4);\n' + '-- the rest of the season\n'.repeat(3000) + 'ANALYZE gangways;\n';
		const given = new DataTransfer();
		given.items.add(new File([text], 'gangways.sql'));
		const field = document.querySelector('input[name=script]');
		field.files = given.files;
		return field.dispatchEvent(new Event('change', { bubbles: true }));
	})()`)
	p.WaitText("NOLOGIN IN ROLE")
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.Click("main form button.btn-primary")
	p.WaitText("SELECT: ")
	shot("fill")
	p.Wait("the end", "document.querySelector('#change-state').dataset.state === 'done'")
	p.Open("/servers/harbour/databases/tickets_prod/drop")
	p.WaitText("Set it aside.")
	p.Click("input[name=way][value='for good']")
	p.WaitText("DROP DATABASE")
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	shot("drop-brief")
	p.Type("input[name=confirm]", "tickets_prod")
	p.Click("main form button.btn-error")
	p.Wait("the clearing", "document.querySelector('[role=timer]') && parseInt(document.querySelector('[role=timer]').innerText) < 6")
	shot("clearing")
	p.Wait("the end", "document.querySelector('#change-state').dataset.state === 'done'")
}

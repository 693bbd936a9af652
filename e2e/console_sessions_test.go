package e2e

import (
	"context"
	"strings"
	"testing"

	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/postgres"
	"example.com/genarch/testutil"
	"example.com/genarch/testutil/rigs"
)

// TestConsoleSessions looks at sessions, ends some, and drops databases, with
// real clicks: what is shown, asked and refused, while it runs and afterwards.
func TestConsoleSessions(t *testing.T) {
	t.Parallel()
	s := newServiceOf(t, commands)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t, "plugin-load-add=metadata_lock_info")
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "production", maria)
	h, q := shore{t, s, "harbour", postgres.Engine{}, pg}, shore{t, s, "quay", mariadb.Engine{}, maria}
	h.furnished("sailings_prod", "tickets_prod")
	q.furnished("cargo_prod")
	b := testutil.NewBrowser(t)
	p := b.Page(t, s.url)
	p.SignIn("keeper", password)
	state := func(want string) string {
		return "document.querySelector('#change-state')?.dataset.state === '" + want + "'"
	}

	t.Run("sessions", func(t *testing.T) {
		h.t = t
		idle := h.client("sailings_prod")
		writer := h.client("sailings_prod", "BEGIN", "UPDATE crossings SET n = 7 WHERE id = 1")
		waits := h.client("sailings_prod")
		released := make(chan struct{})
		go func() {
			_, _ = waits.ExecContext(context.Background(), "UPDATE crossings SET n = 8 WHERE id = 1")
			close(released)
		}()
		p.Open("/servers/harbour/sessions")
		p.WaitText("Who blocks whom")
		p.WaitText("blocks 1")
		p.Wait("the group", "document.querySelector('[data-group=\"suite-client\"]')?.innerText.includes('3:')")
		p.Axe("sessions")
		p.Click("[aria-label='Who blocks whom'] button")
		p.WaitText("what its transaction has written")
		p.Axe("a session")
		p.Dark(true)
		p.Wait("the dark", "document.documentElement.dataset.theme === 'night'")
		p.Axe("sessions in the dark")
		p.Dark(false)
		p.Select("select[name=class]", "idle")
		p.Wait("only the idle one", "document.querySelectorAll('tr[data-session]').length === 1")
		p.Click("tr[data-session] input[type=checkbox]")
		p.WaitText("End 1 session")
		p.Click("main section button.btn-sm:nth-of-type(2)")
		p.WaitText("What will happen")
		p.WaitText("would lose nothing but its connection")
		p.Axe("the brief of an end")
		p.Click("main form button.btn-primary")
		p.Wait("the end", state("done"))
		if there(idle) || !there(writer) {
			t.Error("the wrong one was ended")
		}
		// Written work: a caution that is accepted first.
		p.Open("/servers/harbour/databases/sailings_prod/sessions")
		p.Wait("the writer", "document.querySelector('tr[data-session] [data-class=\"written\"]')")
		p.Click("tr[data-group] input[type=checkbox]")
		p.WaitText("End 2 sessions")
		p.Click("main section button.btn-sm:nth-of-type(2)")
		p.Wait("the caution", "document.querySelector('[data-code=\"work.lost\"]')")
		if !p.Eval("document.querySelector('main form button.btn-primary').disabled") {
			t.Error("it can be run without the caution being accepted")
		}
		p.Click("main form input[type=checkbox]")
		p.Click("main form button.btn-primary")
		p.Wait("the end", state("done"))
		<-released
		if there(writer) {
			t.Error("who was ended goes on")
		}
		p.Open("/servers/harbour/databases/sailings_prod/sessions")
		p.WaitText("Nobody is connected to sailings_prod just now.")
		p.Size(390, 844)
		p.Axe("no sessions, narrow")
		p.Size(1280, 800)
	})
	t.Run("drop", func(t *testing.T) {
		h.t = t
		guest := h.client("tickets_prod")
		p.Open("/servers/harbour/databases/tickets_prod")
		p.WaitText("suite-client as")
		p.Click("a[href$='/drop']")
		p.WaitText("kept for certain until")
		p.Axe("asking for setting it aside")
		p.Click("input[name=way][value='for good']")
		p.WaitText("holds 1 table")
		p.Axe("asking for a drop")
		p.Click("input[value=wait]")
		p.WaitText("nobody is ended")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Axe("the brief of a drop")
		p.Dark(true)
		p.Wait("the dark", "document.documentElement.dataset.theme === 'night'")
		p.Axe("the brief of a drop in the dark")
		p.Dark(false)
		p.Type("input[name=confirm]", "ticket_prod")
		if !p.Eval("document.querySelector('main form button.btn-error').disabled") {
			t.Error("it can be run with the wrong name")
		}
		p.Type("input[name=confirm]", "tickets_prod")
		p.Click("main form button.btn-error")
		p.Wait(
			"the clearing",
			"document.querySelector('[data-phase=waiting] [data-left=\"1\"]') && document.querySelector('[data-gate=closed]') && document.querySelector('[role=timer]')",
		)
		p.Axe("a clearing")
		p.Size(390, 844)
		p.Axe("a clearing, narrow")
		p.Size(1280, 800)
		if h.in("tickets_prod") {
			t.Error("somebody gets in through the closed gate")
		}
		p.Click("section > p button.btn-sm")
		p.Wait("the end", state("reverted"))
		p.WaitText("Stopped by keeper")
		if !there(guest) || !h.in("tickets_prod") {
			t.Error("after it was stopped the database is not as it was")
		}
		p.Open("/servers/harbour/databases/tickets_prod/drop")
		p.Click("input[name=way][value='for good']")
		p.WaitText("DROP DATABASE \"tickets_prod\"")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Type("input[name=confirm]", "tickets_prod")
		p.Click("main form button.btn-error")
		p.Wait("the end", state("done"))
		p.WaitText("1 were ended")
		p.Axe("the outcome of a drop")
		if there(guest) || h.has("tickets_prod") {
			t.Error("it is still there")
		}
		p.Open("/servers/harbour/databases/tickets_prod/drop")
		p.WaitText("There is no database tickets_prod on harbour")
	})
	t.Run("rename and move", func(t *testing.T) {
		h.t = t
		h.tablespace("pier")
		guest := h.client("sailings_prod")
		p.Open("/servers/harbour/databases/sailings_prod")
		p.Click("a[href$='/rename']")
		p.Type("input[name=new_name]", "postgres")
		p.Wait("that the name is taken", "document.querySelector('[data-code=\"name.taken\"]')")
		p.Axe("asking for a rename")
		p.Type("input[name=new_name]", "crossings_prod")
		p.WaitText("RENAME TO \"crossings_prod\"")
		p.Type("input[name=grace]", "0")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("main form input[value='drop.breaks']")
		p.Click("main form button.btn-primary")
		p.Wait("the end", state("done"))
		if there(guest) || h.has("sailings_prod") || !h.in("crossings_prod") {
			t.Error("it was not renamed, or nobody gets in")
		}
		p.Click("a[href$='/databases/crossings_prod']")
		p.Click("a[href$='/alter']")
		p.Wait("the tablespaces", "document.querySelector('option[value=pier]')")
		p.Select("select[name=tablespace]", "pier")
		p.WaitText("are copied, which takes as long as the disks need")
		p.WaitText("SET TABLESPACE \"pier\"")
		p.Axe("asking for a move")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Click("main form button.btn-primary")
		p.Wait("the end", state("done"))
		p.Click("main a[href$='/databases/crossings_prod']")
		p.WaitText("Over time")
		p.Click("nav a[href$='/crossings_prod/properties']")
		p.Wait("its new place", "[...document.querySelectorAll('dd span')].some((d) => d.innerText === 'pier')")
	})
	t.Run("drop on MariaDB", func(t *testing.T) {
		q.t = t
		q.client("cargo_prod")
		conn, err := enginetest.Client(t.Context(), rigs.Of(mariadb.Engine{}, maria), "mysql", "")
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close()
		for _, text := range []string{"CREATE USER app@'127.0.0.1' IDENTIFIED BY 'word'",
			"GRANT SELECT ON `cargo\\_prod`.* TO app@'127.0.0.1'"} {
			if _, err := conn.ExecContext(t.Context(), text); err != nil {
				t.Fatal(err)
			}
		}
		p.Open("/servers/quay/databases/cargo_prod/drop")
		p.WaitText("kept for certain until")
		p.Click("input[name=way][value='for good']")
		p.WaitText("Grants on this name remain")
		p.Wait("what else can be asked for",
			"document.querySelector('select[name=clear_leftovers] option[value=true]')")
		p.Select("select[name=clear_leftovers]", "true")
		p.WaitText("are revoked for good")
		p.Axe("asking for a drop on MariaDB")
		p.Click("form button.btn-primary")
		p.WaitText("What will happen")
		p.Type("input[name=confirm]", "cargo_prod")
		p.Click("main form button.btn-error")
		p.Wait("the end", state("done"))
		if q.has("cargo_prod") || strings.Contains(s.run(0, "privilege", "list", "quay/account:app@127.0.0.1", "-o",
			"csv").out, "cargo") {
			t.Error("the database or its grants are left")
		}
	})
	if errs := p.Errors(); len(errs) > 0 {
		t.Errorf("the page complained: %v", errs)
	}
}

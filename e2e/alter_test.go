package e2e

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// TestOptions asks for options of both engines, by name, and alters them: through the
// CLI, the API and the console.
func TestOptions(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "staging", maria, "--free-names")
	t.Run("engines", func(t *testing.T) { testEngines(t, s) })
	t.Run("PostgreSQL", func(t *testing.T) { testAlterPostgres(t, s) })
	t.Run("MariaDB", func(t *testing.T) { testAlterMariaDB(t, s) })
	t.Run("registrations", func(t *testing.T) { testRegistrationOptions(t, s, pg) })
	t.Run("console", func(t *testing.T) { testAlterConsole(t, s) })
}

func testEngines(t *testing.T, s *service) {
	has(t, "the engines", s.run(0, "engine", "list").out, "postgresql", "MariaDB", "database.rename")
	has(t, "one of them", s.run(0, "engine", "show", "postgresql").out, "connection_limit", "how many sessions at once",
		"settings.NAME", "MAINTAIN", "bundle build", "Not possible")
	has(t, "one that there is not", s.run(4, "engine", "show", "abacus").err,
		"genarch: there is no engine \"abacus\"; there are mariadb, mysql, postgresql, sqlserver",
		"genarch engine list")
	var all struct {
		Engines []struct {
			ID     string
			Fields map[string][]struct{ Name, Decides string }
		}
		Common map[string][]string
	}
	if err := json.Unmarshal([]byte(s.run(0, "engine", "list", "-o", "json").out), &all); err != nil ||
		len(all.Engines) != 4 {
		t.Fatalf("%d engines, %v", len(all.Engines), err)
	}
	// Each option that means the same everywhere has a flag, and no other has one.
	help := s.run(0, "database", "create", "--help").out
	for _, e := range all.Engines {
		for _, f := range e.Fields["database"] {
			common := false
			for _, c := range all.Common["database"] {
				common = common || c == f.Name
			}
			if flag := strings.Contains(help, "--"+strings.ReplaceAll(f.Name, "_", "-")+" "); flag != common {
				t.Errorf("%s of %s is common: %v, and has a flag: %v", f.Name, e.ID, common, flag)
			}
		}
	}
}

// testRegistrationOptions alters what is an engine's own of a registration, and where
// clients find the server.
func testRegistrationOptions(t *testing.T, s *service, pg *localdb.Server) {
	edit := func(code int, args ...string) result {
		t.Helper()
		r := s.cli(pg.Password.Reveal(),
			append([]string{"server", "edit", "harbour", "--secret-file", "-"}, args...)...)
		if r.code != code {
			t.Fatalf("server edit %v: %+v", args, r)
		}
		return r
	}
	s.run(0, "database", "create", "harbour/home_prod", "--yes")
	has(t, "an option", edit(0, "--set", "database=home_prod").out, "database", "home_prod")
	has(t, "one that leaves a way", edit(0, "--set", "weak_sign_in=yes").err, "CAUTION", "gives it away",
		"weak_sign_in")
	has(t, "the other one stayed", s.run(0, "server", "check", "harbour").out, "home_prod", "weak sign in")
	has(t, "one that there is not", edit(2, "--set", "moon=full").err, "PostgreSQL has no option moon",
		"genarch engine show postgresql")
	has(t, "of the wrong type", edit(2, "--set", "weak_sign_in=perhaps").err, "weak_sign_in")
	has(t, "taken away", edit(0, "--set", "weak_sign_in=no", "--set", "database=").out, "known instance")
	if status, answer, _ := s.call("GET", "/api/v1/servers/harbour", s.token, ""); status != 200 ||
		fmt.Sprint(answer["options"]) != "map[weak_sign_in:false]" {
		t.Errorf("%d %v", status, answer["options"])
	}
	// What clients are told is where they find it, not where Genarch does. It needs no secret.
	has(t, "no address", s.run(2, "server", "edit", "harbour", "--client-address", "pool example").err,
		"write HOST or HOST:PORT")
	s.run(0, "server", "edit", "harbour", "--client-address", "pool.example.net:6432", "--client-address",
		"harbour.example.net")
	s.run(0, "database", "create", "harbour/berths_prod", "--for-team", "berths", "--yes")
	has(t, "the sheet", s.run(0, "handover", "harbour/berths_prod").out, "pool.example.net port 6432", "also at",
		"harbour.example.net", "pool.example.net:6432/berths_prod", "PGPORT='6432'")
	s.run(0, "server", "edit", "harbour", "--client-address", "")
	has(t, "as before", s.run(0, "handover", "harbour/berths_prod").out, "127.0.0.1 port")
}

func testAlterPostgres(t *testing.T, s *service) {
	s.run(0, "database", "create", "harbour/tickets_prod", "--set", "is_template=yes", "--connection-limit", "9",
		"--yes")
	has(t, "what was asked for", s.run(0, "database", "show", "harbour/tickets_prod").out, "may serve as template  yes",
		"connection limit       9")
	r := s.run(0, "database", "alter", "harbour/tickets_prod", "--comment", "bookings", "--connection-limit", "none",
		"--set", "is_template=no",
		"--set", "settings.work_mem=64MB", "--set", "settings.search_path=\"$user\", public", "--yes")
	has(t, "the brief", r.err, "comment", "none → bookings", "9 → none", "the server's → 64MB",
		"rolled back by: ALTER DATABASE \"tickets_prod\" RESET \"work_mem\"", "read back as asked")
	has(t, "what it is", s.run(0, "database", "show", "harbour/tickets_prod").out, "bookings", "work_mem = 64MB",
		`search_path = "$user", public`)
	has(t, "once more", s.run(0, "database", "alter", "harbour/tickets_prod", "--comment", "bookings", "--yes").err,
		"is so already")
	has(t, "taken away", s.run(0, "database", "alter", "harbour/tickets_prod", "--set", "settings.work_mem=", "--yes").
		err, "64MB → the server's", `RESET "work_mem"`)
	has(t, "a setting that the server refuses",
		s.run(1, "database", "alter", "harbour/tickets_prod", "--set", "settings.work_mem=lots", "--yes").err,
		"[setting.refused]", "invalid value")
	has(t, "what is fixed", s.run(2, "database", "alter", "harbour/tickets_prod", "--encoding", "LATIN1", "--yes").err,
		"encoding is fixed once the database is made", "make a new database")
	has(t, "mistyped", s.run(2, "database", "alter", "harbour/tickets_prod", "--set", "conection_limit=4", "--yes").err,
		"Did you mean connection_limit?")
	has(t, "nothing", s.run(2, "database", "alter", "harbour/tickets_prod").err, "Say what to alter")
	has(t, "no value", s.run(2, "database", "alter", "harbour/tickets_prod", "--set", "is_template").err,
		"--set NAME=VALUE")
	has(t, "a caution", s.run(3, "database", "alter", "harbour/tickets_prod", "--set", "is_template=yes", "--yes").err,
		"[template.open]", "--accept template.open")
	has(t, "not there", s.run(1, "database", "alter", "harbour/tickts_prod", "--comment", "x", "--yes").err,
		"List them: genarch database list harbour")
	// A list, and who is in it.
	s.run(0, "role", "create", "harbour/role:crew", "--yes")
	s.run(0, "account", "create", "harbour/account:mate", "--yes")
	r = s.run(0, "database", "create", "harbour/closed_prod", "--owner", "crew", "--set", "private=yes", "--set",
		"allow=mate,crew", "--yes")
	has(t, "a private one", r.err, "mate, crew", `GRANT CONNECT ON DATABASE "closed_prod" TO "mate"`)
	has(t, "sorted by a property", s.run(0, "database", "list", "harbour", "--sort", "owner").out, "closed_prod",
		"tickets_prod")
	has(t, "sorted by nothing", s.run(2, "database", "list", "harbour", "--sort", "moon").err, "connection_limit")
	// Over HTTP an option is of its own type, and each that is wrong is named.
	intent := `{"kind":"database.alter","server":"harbour","database":{"name":"tickets_prod","options":{"connection_limit":3,"settings":[{"name":"work_mem","value":"8MB"}]}}}`
	status, brief, _ := s.call("POST", "/api/v1/briefs", s.token, intent)
	if text, _ := json.Marshal(brief); status != 200 || !strings.Contains(string(text), `"was":"none"`) ||
		!strings.Contains(string(text), `SET \"work_mem\" TO '8MB'`) && !strings.Contains(string(text), `work_mem`) {
		t.Errorf("brief: %d %s", status, text)
	}
	status, problem, _ := s.call("POST", "/api/v1/briefs", s.token,
		`{"kind":"database.alter","server":"harbour","database":{"name":"tickets_prod","options":{"conection_limit":3,"encoding":"UTF8"}}}`)
	text, _ := json.Marshal(problem)
	has(t, "both are named", string(text), "body.database.options.conection_limit", "body.database.options.encoding",
		"Did you mean")
	if status != 422 || problem["code"] != "option.invalid" {
		t.Errorf("%d %v", status, problem["code"])
	}
}

func testAlterMariaDB(t *testing.T, s *service) {
	s.run(0, "database", "create", "quay/cargo", "--character-set", "latin1", "--yes")
	r := s.run(0, "database", "alter", "quay/cargo", "--collation", "utf8mb4_bin", "--comment", "trailers", "--yes")
	has(t, "the brief", r.err, "latin1 → utf8mb4", "latin1_swedish_ci → utf8mb4_bin", "none → trailers",
		"read back as asked")
	s.run(0, "account", "create", "quay/account:first_app@10.0.0.1", "--yes")
	s.run(0, "account", "create", "quay/account:second_app@10.0.0.1", "--yes")
	s.run(0, "database", "alter", "quay/cargo", "--owner", "first_app", "--yes")
	has(t, "the owner", s.run(0, "database", "show", "quay/cargo").out, "first_app@10.0.0.1")
	has(t, "a caution", s.run(3, "database", "alter", "quay/cargo", "--owner", "second_app", "--yes").err,
		"[owner.replaced]", "first_app@10.0.0.1 → second_app@10.0.0.1")
	s.run(0, "database", "alter", "quay/cargo", "--owner", "second_app", "--yes", "--accept", "owner.replaced")
	has(t, "the other owner", s.run(0, "database", "list", "quay").out, "second_app@10.0.0.1")
	has(t, "what it has not", s.run(2, "database", "alter", "quay/cargo", "--tablespace", "x").err,
		"MariaDB has no option tablespace")
	has(t, "what it cannot", s.run(1, "database", "rename", "quay/cargo", "--to", "x", "--yes").err,
		"[kind.unsupported]", "RENAME TABLE")
}

func testAlterConsole(t *testing.T, s *service) {
	p := testutil.NewBrowser(t).Page(t, s.url)
	p.SignIn("keeper", password)
	p.Open("/servers/harbour/databases/tickets_prod")
	p.Click("a[href$='/alter']")
	p.Wait("the form", "document.querySelector('input[name=settings_value]')")
	p.WaitText("No statement alters it")
	p.Axe("altering a database")
	p.Type("input[name=connection_limit]", "-7")
	p.WaitText("-7 is out of bounds")
	p.Type("input[name=connection_limit]", "12")
	p.Type("input[name=settings_value]", "public")
	p.WaitText(`ALTER DATABASE "tickets_prod" CONNECTION LIMIT 12`)
	p.WaitText(`SET "search_path" TO 'public'`)
	p.Click("form button.btn-primary")
	p.WaitText("What will happen")
	p.Click("main form button.btn-primary")
	p.WaitText("Done, and read back as asked")
	p.Click("main a[href$='/databases/tickets_prod']")
	p.WaitText("Over time")
	p.Click("nav a[href$='/tickets_prod/properties']")
	p.WaitText("search_path = public")
	has(t, "what the console altered", s.run(0, "database", "show", "harbour/tickets_prod").out,
		"connection limit       12", "search_path = public")
}

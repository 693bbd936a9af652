package e2e

import (
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"regexp"
	"strings"
	"testing"

	_ "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// sheet is what the tests read of a handover.
type sheet struct {
	Accounts []struct {
		Name, Host, Level, Password string
		Forms                       []struct{ Name, Text string }
		Proof                       []string
	}
}

func (s sheet) form(t *testing.T, account, form string) string {
	t.Helper()
	for _, a := range s.Accounts {
		for _, f := range a.Forms {
			if a.Name == account && f.Name == form {
				return f.Text
			}
		}
	}
	t.Fatalf("the sheet has no %s of %s: %+v", form, account, s)
	return ""
}

func decode[T any](t *testing.T, text string) T {
	t.Helper()
	var out T
	if err := json.Unmarshal([]byte(text), &out); err != nil {
		t.Fatalf("%v in %s", err, text)
	}
	return out
}

// TestAccess walks the chain from a team's database to its handover, and asks
// afterwards who may do what, on both engines.
func TestAccess(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", pg)
	s.add("quay", "mariadb", "production", maria)
	t.Run("the chain on PostgreSQL", func(t *testing.T) { testChainPostgres(t, s) })
	t.Run("a team's copy of a template", func(t *testing.T) { testTeamFromTemplate(t, s, pg) })
	t.Run("the chain on MariaDB", func(t *testing.T) { testChainMariaDB(t, s, maria) })
	t.Run("accounts", func(t *testing.T) { testAccountCommands(t, s) })
	t.Run("roles and grants", func(t *testing.T) { testGrantCommands(t, s, pg, maria) })
	t.Run("dropping with belongings", func(t *testing.T) { testDropOwned(t, s, pg) })
	t.Run("granted by others", func(t *testing.T) { testOtherGrantor(t, s, pg) })
	t.Run("traps of MariaDB", func(t *testing.T) { testTraps(t, s, maria) })
	t.Run("asking and running", func(t *testing.T) { testWaiting(t, s, pg) })
	t.Run("usage", func(t *testing.T) { testAccessUsage(t, s) })
	t.Run("bad requests", func(t *testing.T) { testAccessRequests(t, s) })
	has(t, "journal check", s.run(0, "journal", "check").out, "WHOLE", "yes")
}

// chain makes a team's database by the CLI and returns its sheet, having looked
// that the passwords come out nowhere else, and not twice.
func chain(t *testing.T, s *service, target, team string, more ...string) sheet {
	t.Helper()
	r := s.run(0, append([]string{"database", "create", target, "--for-team", team, "--yes", "-o", "json"}, more...)...)
	made := decode[struct {
		ID       int
		State    string
		Handover sheet
	}](t, r.out)
	if made.State != "done" || len(made.Handover.Accounts) != 2 {
		t.Fatalf("the chain: %s", r.out)
	}
	var everything strings.Builder
	everything.WriteString(s.log.String() + r.err)
	for _, args := range [][]string{{"change", "show", itoa(made.ID), "-o", "json"},
		{"change", "script", itoa(made.ID)}, {"journal", "list", "--limit", "1000", "-o", "json"},
		{"handover", target, "-o", "json"}} {
		r := s.run(0, args...)
		everything.WriteString(r.out + r.err)
	}
	has(t, "the script", everything.String(), "••••••")
	records, err := sql.Open("mysql", s.dsn)
	if err != nil {
		t.Fatal(err)
	}
	defer records.Close()
	for _, a := range made.Handover.Accounts {
		if len(a.Password) < 20 || len(a.Proof) < 3 {
			t.Errorf("account %+v", a)
		}
		if strings.Contains(everything.String(), a.Password) {
			t.Errorf("the password of %s came out somewhere else too", a.Name)
		}
		for _, column := range []string{"changes.brief", "changes.intent", "change_steps.step", "journal.detail",
			"change_secrets.sealed"} {
			table, field, _ := strings.Cut(column, ".")
			var n int
			if err := records.QueryRow(fmt.Sprintf("SELECT COUNT(*) FROM %s WHERE %s LIKE ?", table, field),
				"%"+a.Password+"%").Scan(&n); err != nil || n > 0 {
				t.Errorf("the password of %s stands in %s: %d, %v", a.Name, column, n, err)
			}
		}
	}
	var kept int
	if err := records.QueryRow("SELECT COUNT(*) FROM change_secrets WHERE change_id = ?", made.ID).
		Scan(&kept); err != nil || kept > 0 {
		t.Errorf("%d passwords are kept after they were shown, %v", kept, err)
	}
	has(t, "a second look at the passwords", s.run(1, "change", "passwords", itoa(made.ID)).err, "shown already",
		"account password")
	return made.Handover
}

func testChainPostgres(t *testing.T, s *service) {
	h := chain(t, s, "harbour/lounges_prod", "lounges")
	app, err := pgx.Connect(t.Context(), h.form(t, "lounges_app", "url"))
	if err != nil {
		t.Fatal(err)
	}
	defer app.Close(t.Context())
	if _, err := app.Exec(t.Context(), "CREATE TEMP TABLE mine (id int)"); err != nil {
		t.Errorf("the application account: %v", err)
	}
	if _, err := app.Exec(t.Context(), "CREATE TABLE theirs (id int)"); err == nil {
		t.Error("the application account makes tables")
	}
	reader, err := pgx.Connect(t.Context(), h.form(t, "lounges_read", "dsn"))
	if err != nil {
		t.Fatal(err)
	}
	reader.Close(t.Context())
	// Private: nobody else gets in, and each says why.
	s.run(0, "account", "create", "harbour/account:stranger", "--yes")
	why := s.run(0, "privilege", "why", "harbour/account:stranger", "CONNECT", "lounges_prod").out
	has(t, "why a stranger may not", why, "no", "missing",
		"granted by: genarch privilege grant harbour/lounges_prod --to stranger")
	why = s.run(0, "privilege", "why", "harbour/account:lounges_app", "USAGE", "lounges_prod/public.").out
	has(t, "why the application may", why, "yes", "granted")
	has(t, "the matrix", s.run(0, "privilege", "matrix", "harbour").out, "lounges_app", "write", "read", "own")
	r := s.run(0, "handover", "harbour/lounges_prod")
	has(t, "handover", r.out, "lounges_app", "write", "lounges_read", "~/.pgpass", "PGHOST=", "jdbc:postgresql://",
		"tried")
	if url := s.run(0, "handover", "harbour/lounges_prod", "--form", "url").out; strings.Count(url,
		"postgresql://") != 2 {
		t.Errorf("the form url: %s", url)
	}
	has(t, "the same team again", s.run(1, "database", "create", "harbour/lounges_prod", "--for-team", "lounges",
		"--yes").err, "[account.exists]", "[name.taken]")
}

// testTeamFromTemplate: what the template holds is open to the team too, in
// every schema and whoever owns it.
func testTeamFromTemplate(t *testing.T, s *service, pg *localdb.Server) {
	s.run(0, "database", "create", "harbour/base", "--set", "is_template=yes", "--yes")
	base, err := pgx.Connect(t.Context(), pg.DSN("base"))
	if err != nil {
		t.Fatal(err)
	}
	if _, err := base.Exec(t.Context(),
		`CREATE ROLE ports_owner; CREATE SCHEMA ports AUTHORIZATION ports_owner; CREATE TABLE ports.piers (id int); ALTER TABLE ports.piers OWNER TO ports_owner`, pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Fatal(err)
	}
	base.Close(t.Context())
	admin, err := pgx.Connect(t.Context(), pg.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(t.Context())
	testutil.Wait(t, "the template to be left", func() bool {
		var n int
		err := admin.QueryRow(t.Context(),
			"SELECT count(*) FROM pg_stat_activity WHERE datname = 'base' AND application_name <> 'genarch'").Scan(&n)
		return err == nil && n == 0
	})
	r := s.run(0, "database", "create", "harbour/piers_prod", "--template", "base", "--for-team", "piers", "--yes",
		"-o", "json")
	h := decode[struct{ Handover sheet }](t, r.out).Handover
	reader, err := pgx.Connect(t.Context(), h.form(t, "piers_read", "url"))
	if err != nil {
		t.Fatal(err)
	}
	defer reader.Close(t.Context())
	if _, err := reader.Exec(t.Context(), "SELECT * FROM ports.piers"); err != nil {
		t.Errorf("a table of the template: %v\n%s", err, r.err)
	}
	m := s.run(0, "privilege", "matrix", "harbour", "--account", "piers_", "--database", "piers_prod", "-o", "json").out
	for _, row := range decode[struct {
		Rows []struct{ Name, Cells string }
	}](t, m).Rows {
		if want := map[string]string{"piers_app": "w", "piers_read": "r",
			"piers_owner": "o"}[row.Name]; row.Cells != want {
			t.Errorf("%s has %q; want %q", row.Name, row.Cells, want)
		}
	}
}

func testChainMariaDB(t *testing.T, s *service, maria *localdb.Server) {
	r := s.run(3, "database", "create", "quay/lounges_prod", "--for-team", "lounges", "--yes")
	has(t, "an account from everywhere", r.err, "[host.wide]", "--accept host.wide")
	h := chain(t, s, "quay/lounges_prod", "lounges", "--client-host", "127.0.0.1")
	app, err := sql.Open("mysql", fmt.Sprintf("lounges_app:%s@tcp(%s)/lounges_prod", h.Accounts[0].Password,
		maria.Address()))
	if err != nil {
		t.Fatal(err)
	}
	defer app.Close()
	if _, err := app.Exec("CREATE TEMPORARY TABLE mine (id INT)"); err != nil {
		t.Errorf("the application account: %v", err)
	}
	has(t, "the option file", h.form(t, "lounges_app", "options"), "[client]", "user=lounges_app", "password=",
		"database=lounges_prod")
	has(t, "list of accounts", s.run(0, "account", "list", "quay").out, "lounges_app", "127.0.0.1", "lounges_owner",
		"role")
	// A anonymous account catches the sign-in of the new ones: the proof fails,
	// and everything that was made is rolled back.
	admin, err := sql.Open("mysql", maria.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	if _, err := admin.Exec("CREATE USER ''@'127.0.0.1'"); err != nil {
		t.Fatal(err)
	}
	r = s.run(1, "database", "create", "quay/spas_prod", "--for-team", "spas", "--yes", "--accept", "host.wide",
		"--accept", "account.anonymous")
	has(t, "a chain that fails at its proof", r.err, "catches sign-ins", "failed", "rolled back",
		"everything that had been done was rolled back")
	has(t, "the outcome", r.out, "reverted")
	for _, left := range []string{"spas_app", "spas_read", "spas_owner"} {
		if strings.Contains(s.run(0, "account", "list", "quay").out, left) {
			t.Errorf("%s is left", left)
		}
	}
	s.run(4, "database", "show", "quay/spas_prod")
	has(t, "the anonymous account", s.run(0, "account", "list", "quay", "--marked").out, "anonymous", "no password")
	s.run(0, "account", "drop", "quay/account:@127.0.0.1", "--confirm", "@127.0.0.1")
}

func testAccountCommands(t *testing.T, s *service) {
	for _, at := range []string{"harbour/account:kiosk_app", "quay/account:kiosk_app@127.0.0.1"} {
		r := s.run(0, "account", "create", at, "--connection-limit", "5", "--yes")
		has(t, "create", r.out, "kiosk_app", "password", "shown once", "tried")
		has(t, "show", s.run(0, "account", "show", at).out, "kiosk_app", "may sign in", "connection limit  5")
		has(t, "again", s.run(0, "account", "create", at, "--if-not-exists", "--connection-limit", "6", "--yes").err,
			"connection limit", "5", "6", "nothing to do")
		has(t, "lock", s.run(0, "account", "lock", at, "--yes").err, "done")
		has(t, "show locked", s.run(0, "account", "show", at).out, "may sign in       no")
		s.run(0, "account", "unlock", at, "--yes")
		file := s.home + "/given"
		if err := os.WriteFile(file, []byte("gull-harpoon-quadrant-3 'quoted\" \\ ü"), 0o600); err != nil {
			t.Fatal(err)
		}
		r = s.run(0, "account", "password", at, "--password-file", file, "--yes")
		if strings.Contains(r.out+r.err, "harpoon") {
			t.Errorf("a given password is shown: %s", r.out)
		}
		has(t, "a weak password", s.cli("hunter2\n", "account", "password", at, "--password-file", "-", "--yes").err,
			"[password.weak]", "STOP")
		if r := s.cli("bell\x07", "account", "password", at, "--password-file", "-", "--yes"); r.code != 2 {
			t.Errorf("a password with a control character: %+v", r)
		}
		s.run(0, "account", "rename", at, "--to", "kiosk_new", "--yes")
		at = strings.Replace(at, "kiosk_app", "kiosk_new", 1)
		r = s.run(3, "account", "drop", at, "--yes")
		has(t, "a drop without its name", r.err, "--confirm kiosk_new")
		_, name, _ := strings.Cut(at, ":")
		s.run(3, "account", "drop", at, "--confirm", "kiosk_other")
		s.run(0, "account", "drop", at, "--confirm", name)
		s.run(4, "account", "show", at)
		has(t, "dropping what is not there", s.run(0, "account", "drop", at, "--if-exists", "--yes").err, "not there")
	}
	for _, own := range []string{"harbour/account:genarch", "quay/account:genarch@127.0.0.1"} {
		has(t, "dropping Genarch's own login", s.run(1, "account", "drop", own, "--confirm", "genarch").err,
			"[account.own_login]")
		has(t, "locking it", s.run(1, "account", "lock", own, "--yes").err, "[account.own_login]")
	}
}

func testGrantCommands(t *testing.T, s *service, pg, maria *localdb.Server) {
	s.run(0, "account", "create", "harbour/account:fares_report", "--yes")
	s.run(0, "role", "create", "harbour/role:auditors", "--yes")
	s.run(0, "role", "grant", "harbour/role:auditors", "--to", "fares_report", "--yes")
	r := s.run(0, "privilege", "grant", "harbour/lounges_prod", "--to", "auditors", "--bundle", "read", "--yes")
	has(t, "give", r.err, "GRANT SELECT ON ALL TABLES", "ALTER DEFAULT PRIVILEGES", "[grant.effect]")
	has(t, "the chain through a role",
		s.run(0, "privilege", "why", "harbour/account:fares_report", "CONNECT", "lounges_prod").out,
		"through auditors, granted by lounges_owner")
	has(t, "given twice", s.run(0, "privilege", "grant", "harbour/lounges_prod", "--to", "auditors", "--bundle", "read",
		"--yes").err, "nothing to do", "already")
	has(t, "with the right to pass on",
		s.run(3, "privilege", "grant", "harbour/lounges_prod", "--to", "fares_report", "--privilege", "CREATE",
			"--with-grant-option", "--yes").err, "[privilege.grant_option]")
	has(t, "list of a database", s.run(0, "privilege", "list", "harbour/lounges_prod").out, "auditors", "lounges_app",
		"from now on")
	d := s.run(0, "privilege", "compare", "harbour/account:fares_report", "harbour/account:lounges_app").out
	has(t, "compare", d, "database lounges_prod", "member of auditors")
	testSinglePrivileges(t, s, pg, maria)
	s.run(0, "account", "create", "quay/account:fares_report@127.0.0.1", "--yes")
	has(t, "compare on two servers",
		s.run(0, "privilege", "compare", "harbour/account:fares_report", "quay/account:fares_report@127.0.0.1").out,
		"member of auditors", "method")
	has(t, "alike", s.run(0, "privilege", "compare", "harbour/account:fares_report", "harbour/account:fares_report").
		err, "alike")
	s.run(0, "privilege", "revoke", "harbour/lounges_prod", "--from", "auditors", "--yes")
	// What everybody has at first is taken, and given again.
	s.run(0, "database", "create", "harbour/open_prod", "--yes")
	has(t, "what everybody has", s.run(0, "privilege", "why", "harbour/account:fares_report", "CONNECT", "open_prod").
		out, "yes", "everybody has it until it is revoked from PUBLIC")
	s.run(0, "privilege", "revoke", "harbour/open_prod", "--from", "PUBLIC", "--yes")
	has(t, "taken from everybody",
		s.run(0, "privilege", "why", "harbour/account:fares_report", "CONNECT", "open_prod").out, "no", "missing")
	s.run(0, "privilege", "grant", "harbour/open_prod", "--to", "PUBLIC", "--privilege", "CONNECT", "--yes")
	has(t, "given to everybody", s.run(0, "privilege", "why", "harbour/account:fares_report", "CONNECT", "open_prod").
		out, "granted to everybody (PUBLIC)")
	has(t, "everybody passing on",
		s.run(1, "privilege", "grant", "harbour/open_prod", "--to", "PUBLIC", "--privilege", "CREATE",
			"--with-grant-option", "--yes").err, "[grant.invalid]")
	s.run(0, "privilege", "grant", "quay/lounges_prod", "--to", "PUBLIC", "--bundle", "read", "--yes")
	has(t, "everybody on MariaDB", s.run(0, "privilege", "list", "quay/lounges_prod").out, "PUBLIC")
	s.run(0, "privilege", "revoke", "quay/lounges_prod", "--from", "PUBLIC", "--yes")
	has(t, "after taking", s.run(0, "privilege", "why", "harbour/account:fares_report", "CONNECT", "lounges_prod").out,
		"no", "missing")

	s.run(0, "privilege", "grant", "quay/lounges_prod", "--to", "fares_report@127.0.0.1", "--bundle", "write", "--yes")
	s.run(0, "privilege", "revoke", "quay/lounges_prod", "--from", "fares_report", "--keep-bundle", "read", "--yes")
	m := s.run(0, "privilege", "matrix", "quay", "--account", "fares_report", "--database", "lounges", "-o", "json").out
	if rows := decode[struct{ Rows []struct{ Cells string } }](t, m).Rows; len(rows) != 1 || rows[0].Cells != "r" {
		t.Errorf("after taking write down to read: %s", m)
	}
	s.run(0, "role", "create", "quay/role:gate_crew", "--yes")
	s.run(0, "role", "grant", "quay/role:gate_crew", "--to", "fares_report@127.0.0.1", "--yes")
	s.run(0, "privilege", "grant", "quay/lounges_prod", "--to", "role:gate_crew", "--bundle", "own", "--yes")
	has(t, "the chain through a default role",
		s.run(0, "privilege", "why", "quay/account:fares_report@127.0.0.1", "DROP", "lounges_prod").out, "yes",
		"through gate_crew")
	s.run(0, "account", "alter", "quay/account:fares_report@127.0.0.1", "--set", "default_role=none", "--yes")
	has(t, "without it", s.run(0, "privilege", "why", "quay/account:fares_report@127.0.0.1", "DROP", "lounges_prod").
		out, "no", "only after SET ROLE")
	r = s.run(0, "role", "drop", "quay/role:gate_crew", "--confirm", "gate_crew", "--accept", "account.members")
	has(t, "dropping a role", r.err, "is a member of this role, and loses it")
}

// testSinglePrivileges gives and takes one privilege on every kind of object, and
// asks why before and after.
func testSinglePrivileges(t *testing.T, s *service, pg, maria *localdb.Server) {
	t.Helper()
	conn, err := pgx.Connect(t.Context(), pg.DSN("lounges_prod"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(),
		`CREATE SCHEMA "odd.schema"; CREATE TABLE "odd.schema".seats (id int, price int); CREATE SEQUENCE public.tickets; CREATE FUNCTION public.fare(int, text) RETURNS int LANGUAGE sql AS 'SELECT 1';
		REVOKE EXECUTE ON FUNCTION public.fare FROM PUBLIC`, pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", maria.DSN("")+"?multiStatements=true")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	if _, err := db.Exec("CREATE TABLE lounges_prod.seats (id INT, price INT); CREATE PROCEDURE lounges_prod.fare() SELECT 1; CREATE USER single@'127.0.0.1' IDENTIFIED BY 'x'"); err != nil {
		t.Fatal(err)
	}
	s.run(0, "account", "create", "harbour/account:single", "--yes")
	for _, tt := range []struct{ target, who, privilege, option, object string }{
		{"harbour/lounges_prod", "single", "TEMPORARY", "", ""},
		{"harbour/lounges_prod", "single", "CREATE", "--schema", "odd.schema"},
		{"harbour/lounges_prod", "single", "USAGE", "--sequence", "public.tickets"},
		{"harbour/lounges_prod", "single", "EXECUTE", "--routine", "public.fare(integer, text)"},
		{"quay/lounges_prod", "single@127.0.0.1", "INDEX", "", ""},
		{"quay/lounges_prod", "single@127.0.0.1", "SELECT", "--table", "seats"},
		{"quay/lounges_prod", "single@127.0.0.1", "EXECUTE", "--routine", "fare"},
	} {
		args := []string{tt.target, "--privilege", tt.privilege, "--yes"}
		if tt.option != "" {
			args = append(args, tt.option, tt.object)
		}
		give := append([]string{"privilege", "grant", "--to", tt.who}, args...)
		s.run(0, give...)
		has(t, fmt.Sprint(give, " twice"), s.run(0, give...).err, "nothing to do")
		s.run(0, append([]string{"privilege", "revoke", "--from", tt.who}, args...)...)
	}
	s.run(0, "privilege", "grant", "quay/lounges_prod", "--to", "single", "--privilege", "SELECT,UPDATE", "--table",
		"seats", "--column", "price", "--yes")
	has(t, "one column", s.run(0, "privilege", "why", "quay/account:single@127.0.0.1", "UPDATE", "lounges_prod/seats",
		"--column", "price").out, "yes")
	has(t, "another column", s.run(0, "privilege", "why", "quay/account:single@127.0.0.1", "UPDATE",
		"lounges_prod/seats", "--column", "id").out, "no", "--table seats --column id")
	has(t, "a routine that is not there",
		s.run(1, "privilege", "grant", "harbour/lounges_prod", "--to", "single", "--privilege", "EXECUTE", "--routine",
			"public.fare(int); DROP ROLE x; --", "--yes").err, "[object.absent]")
}

func testDropOwned(t *testing.T, s *service, pg *localdb.Server) {
	admin, err := pgx.Connect(t.Context(), pg.DSN("lounges_prod"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(t.Context())
	if _, err := admin.Exec(t.Context(),
		`CREATE ROLE clerk LOGIN; GRANT CREATE, CONNECT ON DATABASE lounges_prod TO clerk; GRANT CREATE, USAGE ON SCHEMA public TO clerk;
		SET ROLE clerk; CREATE SCHEMA "odd ""schema"; CREATE TABLE "odd ""schema"."t;able" (id serial PRIMARY KEY); CREATE VIEW public.v AS SELECT 1 AS one; RESET ROLE;
		GRANT SELECT ON "odd ""schema"."t;able" TO fares_report`, pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Fatal(err)
	}
	has(t, "dropping an owner", s.run(1, "account", "drop", "harbour/account:clerk", "--for-good").err,
		"[account.owns]", "--reassign-to", "loses CREATE, CONNECT on database lounges_prod")
	s.run(2, "account", "drop", "harbour/account:clerk", "--reassign-to", "lounges_owner")
	s.run(2, "account", "drop", "harbour/account:clerk", "--for-good", "--keep-days", "3")
	r := s.run(3, "account", "drop", "harbour/account:clerk", "--for-good", "--confirm", "clerk", "--reassign-to",
		"lounges_owner")
	has(t, "what it owns is a caution", r.err, "account.owns", "REASSIGN OWNED BY \"clerk\" TO \"lounges_owner\"",
		"DROP OWNED BY")
	// It is connected: the brief says so, and its session ends with it.
	url := strings.Replace(pg.DSN("lounges_prod"), pg.Admin+":"+pg.Password.Reveal()+"@", "clerk:clerk-password@", 1)
	if _, err := admin.Exec(t.Context(), "ALTER ROLE clerk PASSWORD 'clerk-password'"); err != nil {
		t.Fatal(err)
	}
	clerk, err := pgx.Connect(t.Context(), url)
	if err != nil {
		t.Fatal(err)
	}
	r = s.run(0, "account", "drop", "harbour/account:clerk", "--for-good", "--confirm", "clerk", "--reassign-to",
		"lounges_owner", "--accept", "account.owns")
	has(t, "dropping somebody connected", r.err, "[sessions.ended]", "1 session as of", "0 left, 1 ended")
	if _, err := clerk.Exec(t.Context(), "SELECT 1"); err == nil {
		t.Error("the session of a dropped account goes on")
	}
	var owner string
	if err := admin.QueryRow(t.Context(), `SELECT tableowner FROM pg_tables WHERE tablename = 't;able'`).
		Scan(&owner); err != nil || owner != "lounges_owner" {
		t.Errorf("its table belongs to %q now, %v", owner, err)
	}
	if _, err := admin.Exec(t.Context(), `DROP SCHEMA "odd ""schema" CASCADE; DROP VIEW public.v`,
		pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Error(err)
	}
}

// testOtherGrantor takes what somebody else gave: the server alone would say
// nothing and do nothing.
func testOtherGrantor(t *testing.T, s *service, pg *localdb.Server) {
	admin, err := pgx.Connect(t.Context(), pg.DSN("lounges_prod"))
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close(t.Context())
	if _, err := admin.Exec(t.Context(),
		`CREATE TABLE public.prices (id int); CREATE ROLE giver; CREATE ROLE taker; GRANT SELECT ON public.prices TO giver WITH GRANT OPTION;
		GRANT USAGE ON SCHEMA public TO giver; SET ROLE giver; GRANT SELECT ON public.prices TO taker; RESET ROLE`,
		pgx.QueryExecModeSimpleProtocol); err != nil {
		t.Fatal(err)
	}
	r := s.run(0, "privilege", "revoke", "harbour/lounges_prod", "--from", "taker", "--yes")
	has(t, "taking what another gave", r.err, "[grant.other_grantor]", "SET LOCAL ROLE \"giver\"")
	var has bool
	if err := admin.QueryRow(t.Context(), "SELECT has_table_privilege('taker', 'public.prices', 'SELECT')").
		Scan(&has); err != nil || has {
		t.Errorf("it still has it: %v %v", has, err)
	}
}

func testTraps(t *testing.T, s *service, maria *localdb.Server) {
	admin, err := sql.Open("mysql", maria.DSN("")+"?multiStatements=true")
	if err != nil {
		t.Fatal(err)
	}
	defer admin.Close()
	if _, err := admin.Exec("CREATE DATABASE fast_lane; CREATE DATABASE fast2lane; CREATE USER wide@'10.%' IDENTIFIED BY 'x'; GRANT SELECT ON `fast_lane`.* TO wide@'10.%';" +
		"GRANT INSERT ON `gone\\_db`.* TO wide@'10.%'; CREATE TABLE fast_lane.t (a INT); CREATE DEFINER='wide'@'10.%' VIEW fast_lane.v AS SELECT 1"); err != nil {
		t.Fatal(err)
	}
	r := s.run(0, "privilege", "matrix", "quay")
	has(t, "the traps in the matrix", r.err, "wide", "fast2lane", "left over", "gone_db")
	r = s.run(3, "privilege", "grant", "quay/fast_lane", "--to", "wide@10.%", "--privilege", "INSERT", "--yes")
	has(t, "a grant that narrows", r.err, "[grant.narrows]", "loses it", `fast\_lane`)
	r = s.run(0, "privilege", "grant", "quay/fast_lane", "--to", "wide@10.%", "--bundle", "write", "--yes")
	var through int
	if err := admin.QueryRow("SELECT COUNT(*) FROM mysql.db WHERE User = 'wide' AND Db = 'fast\\\\_lane'").
		Scan(&through); err != nil || through != 1 {
		t.Errorf("the grant is not on the one database alone: %d %v\n%s", through, err, r.err)
	}
	r = s.run(0, "privilege", "revoke", "quay/fast_lane", "--from", "wide@10.%", "--yes", "--accept", "grant.wide")
	has(t, "taking a pattern", r.err, "fast2lane")
	has(t, "dropping a definer", s.run(1, "account", "drop", "quay/account:wide@10.%", "--confirm", "wide@10.%").err,
		"[account.defines]", "view fast_lane.v")
	has(t, "another host", s.run(3, "account", "create", "quay/account:wide@10.0.0.7", "--yes").err,
		"[account.other_host]", "who sign in as wide@10.% today")
	has(t, "a host that never matches", s.run(1, "account", "create", "quay/account:x@10.0.0.0/24", "--yes").err,
		"[host.invalid]", "never matches")
	r = s.run(3, "database", "create", "quay/gone_db", "--yes")
	has(t, "a name with leftovers", r.err, "[grants.leftover]", "--set clear_leftovers=yes")
	r = s.run(0, "database", "create", "quay/gone_db", "--set", "clear_leftovers=yes", "--yes")
	has(t, "clearing them first", r.err, "REVOKE INSERT")
	if strings.Contains(s.run(0, "privilege", "list", "quay/gone_db").out, "wide") {
		t.Error("the grant came alive")
	}
}

// testWaiting: who may only ask has somebody else let it run, and gets the
// passwords that nobody else is shown.
func testWaiting(t *testing.T, s *service, pg *localdb.Server) {
	if r := s.cli("gull-harpoon-quadrant-3", "operator", "add", "lead", "--permissions", "view,request",
		"--password-file", "-"); r.code != 0 {
		t.Fatal(r)
	}
	lead := *s
	lead.home = t.TempDir()
	if r := lead.cli("gull-harpoon-quadrant-3", "login", s.url, "--name", "lead", "--password-file", "-"); r.code != 0 {
		t.Fatal(r)
	}
	ask := func(name string) string {
		r := lead.run(3, "database", "create", "harbour/"+name+"_prod", "--for-team", name, "--yes", "-o", "json")
		has(t, "asking", r.err, "waits for somebody who may run it")
		return itoa(decode[struct{ ID int }](t, r.out).ID)
	}
	id := ask("galley")
	has(t, "who may only ask", lead.run(5, "change", "run", id, "--yes").err, "run")
	has(t, "the list", s.run(0, "change", "list", "--state", "waiting").out, "galley_prod", "lead")
	has(t, "passwords before it is done", lead.run(1, "change", "passwords", id).err, "waiting")
	r := s.run(0, "change", "run", id, "--yes")
	has(t, "the one who lets it run sees no passwords", r.err, "its passwords can be shown once, to lead")
	has(t, "another's passwords", s.run(5, "change", "passwords", id).err, "for lead, who asked")
	has(t, "the asker's passwords", lead.run(0, "change", "passwords", id).out, "galley_app", "shown once")
	// The server changes while it waits: the new brief waits in its place, with
	// the same passwords.
	old := ask("bunk")
	conn, err := pgx.Connect(t.Context(), pg.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(t.Context())
	if _, err := conn.Exec(t.Context(), `CREATE DATABASE "bunk-prod"`); err != nil {
		t.Fatal(err)
	}
	r = s.run(3, "change", "run", old, "--yes")
	has(t, "an outdated change", r.err, "name.lookalike", "The server is not as it was")
	fresh := regexp.MustCompile(`genarch change run (\d+)`).FindStringSubmatch(r.err)
	if fresh == nil {
		t.Fatal(r.err)
	}
	has(t, "the new one", s.run(0, "change", "list", "--state", "waiting").out, "bunk_prod", "lead")
	s.run(0, "change", "run", fresh[1], "--yes", "--accept", "name.lookalike")
	has(t, "its passwords", lead.run(0, "change", "passwords", fresh[1]).out, "bunk_app", "shown once")
	no := ask("bilge")
	has(t, "declining", s.run(0, "change", "decline", no, "--reason", "one pump is enough").out, "declined")
	has(t, "a declined change", lead.run(0, "change", "show", no).out, "one pump is enough")
	s.run(1, "change", "run", no, "--yes")
	lead.run(5, "change", "decline", no, "--reason", "x")
	has(t, "not agreed to", lead.run(3, "database", "create", "harbour/deck_prod", "--for-team", "deck").err, "--yes")
}

func testAccessUsage(t *testing.T, s *service) {
	for _, tt := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"account", "create", "harbour/kiosk"}, 2, "SERVER/account:NAME"},
		{[]string{"account", "rename", "harbour/account:x", "--yes"}, 2, "--to"},
		{[]string{"account", "alter", "harbour/account:lounges_app", "--yes"}, 2, "something to alter"},
		{[]string{"account", "show", "harbour/account:lounges_ap"}, 4, "no account or role lounges_ap"},
		{[]string{"account", "show", "harbour/account:"}, 2, "Name it with its server"},
		{[]string{"privilege", "compare", "harbour/account:x"}, 2, "two accounts"},
		{[]string{"privilege", "grant", "harbour/lounges_prod", "--to", "lounges_app"}, 2, "--bundle"},
		{[]string{"privilege", "grant", "harbour/lounges_prod", "--to", "lounges_app", "--bundle", "all", "--yes"}, 2,
			"bundle"},
		{[]string{"privilege", "grant", "harbour/lounges_prod", "--to", "lounges_app", "--privilege", "FLY", "--yes"},
			2, "no privilege"},
		{[]string{"privilege", "why", "harbour/account:lounges_app", "FLY", "lounges_prod"}, 2, "no privilege"},
		{[]string{"account", "create", "harbour/role:crew_x", "--yes"}, 2, "genarch role create harbour/role:crew_x"},
		{[]string{"privilege", "why", "harbour/account:lounges_app", "SELECT"}, 2, "PRIVILEGE OBJECT"},
		{[]string{"privilege", "why", "harbour/account:lounges_app", "SELECT", "nowhere"}, 4, "no database nowhere"},
		{[]string{"privilege", "list", "harbour"}, 2, "SERVER/DATABASE or"},
		{[]string{"role", "grant", "harbour/role:nobody", "--to", "lounges_app", "--yes"}, 1, "[role.absent]"},
		{[]string{"handover", "harbour/nowhere"}, 4, "no database nowhere"},
		{[]string{"database", "create", "harbour/x_prod", "--client-host", "%"}, 2, "--for-team"},
		{[]string{"database", "create", "harbour/x_prod", "--for-team", "No Such!", "--yes"}, 1, "[team.name]"},
		{[]string{"account", "create", "harbour/account:t", "--set", "tls=yes", "--yes"}, 2,
			"PostgreSQL has no option tls"},
		{[]string{"account", "create", "quay/account:t@127.0.0.1", "--comment", "x", "--yes"}, 2,
			"MariaDB has no option comment"},
		{[]string{"account", "create", "quay/account:t@127.0.0.1", "--set", "tls=yes", "--yes"}, 1, "[tls.missing]"},
	} {
		if r := s.cli("", tt.args...); r.code != tt.code || !strings.Contains(r.err, tt.says) {
			t.Errorf("genarch %v: code %d, want %d with %q\nerr %s", tt.args, r.code, tt.code, tt.says, r.err)
		}
	}
	for _, args := range [][]string{{"account", "list", "quay"}, {"privilege", "matrix", "harbour"},
		{"privilege", "list", "harbour/lounges_prod"}, {"account", "show", "harbour/account:lounges_app"},
		{"handover", "quay/lounges_prod"}} {
		for _, form := range []string{"json", "yaml", "csv"} {
			if r := s.run(0, append(args, "-o", form)...); len(r.out) < 20 {
				t.Errorf("%v as %s: %q", args, form, r.out)
			}
		}
	}
}

func testAccessRequests(t *testing.T, s *service) {
	for _, tt := range []struct {
		body string
		code int
		says string
	}{
		{`{"kind":"account.create","server":"harbour"}`, 422, "needs the part account"},
		{`{"kind":"account.create","server":"harbour","account":{"name":"x","password":"hunter2-secret","password_from":"none"}}`, 422, "not asked to be used"},
		{`{"kind":"account.create","server":"harbour","account":{"name":"x","password":"hunter2-secret","colour":1}}`,
			422, "unexpected property"},
		{`{"kind":"account.create","server":"harbour","account":{"name":"x","role":true,"password_from":"given","password":"hunter2-secret"}}`, 422, "has no password here"},
		{`{"kind":"privilege.grant","server":"harbour","grant":{"database":"lounges_prod","to":{"name":"x"}}}`, 422,
			"needs a bundle or privileges"},
		{`{"kind":"privilege.grant","server":"harbour","grant":{"database":"lounges_prod","to":{"name":"x"},"bundle":"read","privileges":["SELECT"]}}`, 422, "either a bundle or single"},
		{`{"kind":"role.grant","server":"harbour","member":{"role":"","to":{"name":"x"}}}`, 422, "needs member.role"},
		{`{"kind":"account.fly","server":"harbour"}`, 422, "kind"},
	} {
		code, body, _ := s.call("POST", "/api/v1/changes", s.token, tt.body)
		text, _ := json.Marshal(body)
		if code != tt.code || !strings.Contains(string(text), tt.says) ||
			strings.Contains(string(text), "hunter2-secret") {
			t.Errorf("%s: %d %s; want %d with %q", tt.body, code, text, tt.code, tt.says)
		}
	}
	for path, want := range map[string]int{
		"/api/v1/servers/quay/accounts?kind=account&limit=1": 200, "/api/v1/servers/quay/accounts/lounges_app": 200,
		"/api/v1/servers/quay/accounts/" + "lounges_owner?role=true": 200,
		"/api/v1/servers/quay/grants":                                422,
		"/api/v1/servers/quay/grants?account=nobody":                 404,
		"/api/v1/servers/nowhere/access":                             404,
		"/api/v1/comparison?left=harbour&right=quay":                 422,
		"/api/v1/servers/harbour/access/why?privilege=SELECT&account=lounges_app&scope=table&database=lounges_prod&schema=public&name=prices": 200,
	} {
		if code, body, _ := s.call("GET", path, s.token, ""); code != want {
			t.Errorf("GET %s: %d %v; want %d", path, code, body, want)
		}
		if code, _, _ := s.call("GET", path, "", ""); code != 401 {
			t.Errorf("GET %s without signing in: %d", path, code)
		}
	}
	// Paging: each account once.
	seen, after := map[string]bool{}, ""
	for range 50 {
		_, body, _ := s.call("GET", "/api/v1/servers/quay/accounts?limit=2&after="+after, s.token, "")
		for _, a := range body["accounts"].([]any) {
			at := a.(map[string]any)["address"].(string)
			if seen[at] {
				t.Fatalf("%s comes twice", at)
			}
			seen[at] = true
		}
		next, more := body["next"].(string)
		if !more {
			break
		}
		after = strings.ReplaceAll(next, "%", "%25")
	}
	if _, body, _ := s.call("GET", "/api/v1/servers/quay/accounts", s.token,
		""); len(seen) != int(body["total"].(float64)) {
		t.Errorf("%d accounts in pages, %v in all", len(seen), body["total"])
	}
}

package e2e

import (
	"encoding/json"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// TestCLI walks the way of a newcomer and of a pipeline through the CLI.
func TestCLI(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "production", pg, "--name-suffix", "_prod", "--label", "team=passenger")
	s.add("quay", "mariadb", "production", maria)
	t.Run("usage", func(t *testing.T) { testUsage(t, s) })
	t.Run("servers", func(t *testing.T) { testServers(t, s, pg) })
	t.Run("create", func(t *testing.T) { testCreate(t, s) })
	t.Run("not confirmed", func(t *testing.T) { testUnconfirmed(t, s) })
	t.Run("choices", func(t *testing.T) { testChoices(t, s) })
	t.Run("forms of output", func(t *testing.T) { testOutput(t, s) })
	t.Run("mariadb", func(t *testing.T) { testMariaDB(t, s) })
	t.Run("operators and tokens", func(t *testing.T) { testOperators(t, s) })
	t.Run("secrets stay secret", func(t *testing.T) { testSecrets(t, s, pg, maria) })
	r := s.run(0, "journal", "check")
	has(t, "journal check", r.out, "WHOLE", "yes")
}

func testUsage(t *testing.T, s *service) {
	for _, tt := range []struct {
		args []string
		code int
		says string
	}{
		{[]string{"databse", "list"}, 2, "do you mean database"},
		{[]string{"database", "lst"}, 2, "do you mean list"},
		{[]string{"database", "list", "harbour", "--serch", "x"}, 2, "do you mean --search"},
		{[]string{"database", "list"}, 2, "Name the server"},
		{[]string{"database", "list", "harbour", "extra"}, 2, "one argument too many"},
		{[]string{"database", "create", "tickets"}, 2, "SERVER/DATABASE"},
		{[]string{"database", "list", "harbour", "-o", "xml"}, 2, "table, json, yaml, csv"},
		{[]string{"database", "list", "harbour", "--sort", "colour"}, 2, "There is no column \"colour\""},
		{[]string{"database", "list", "harb0ur"}, 4, "Do you mean harbour"},
		{[]string{"database", "show", "harbour/nowhere"}, 4, "There is no database nowhere on harbour"},
		{[]string{"change", "show", "4711"}, 4, "There is no change 4711"},
		{[]string{"server", "forget", "nowhere", "--confirm", "nowhere"}, 4, "No server nowhere"},
		{[]string{"--url", "http://127.0.0.1:1", "server", "list"}, 5, "The login is for"},
		{[]string{"server", "edit", "harbour"}, 2, "Nothing to alter"},
	} {
		r := s.cli("", tt.args...)
		if r.code != tt.code || !strings.Contains(r.err, tt.says) || r.out != "" {
			t.Errorf("genarch %v: code %d, want %d with %q\nout %s\nerr %s", tt.args, r.code, tt.code, tt.says, r.out,
				r.err)
		}
	}
	if r := s.cli("", "--version"); r.code != 0 || !strings.Contains(r.out, "genarch") {
		t.Errorf("--version: %+v", r)
	}
}

func testServers(t *testing.T, s *service, pg *localdb.Server) {
	has(t, "server list", s.run(0, "server", "list").out, "harbour", "production", "postgresql", "quay", "mariadb",
		"answers")
	has(t, "server check", s.run(0, "server", "check", "harbour").out, "system identifier", "may create databases",
		"may end sessions", "team", "ending in _prod")
	r := s.cli(pg.Password.Reveal(), "server", "add", "again", "--engine", "postgresql", "--host", pg.Host, "--port",
		"1", "--admin", "x", "--environment", "staging", "--secret-file", "-")
	has(t, "a server that is down", r.err, "connect", "next:")
	r = s.cli("wrong", "server", "add", "again", "--engine", "postgresql", "--host", pg.Host, "--port", itoa(pg.Port),
		"--admin", pg.Admin, "--environment", "staging", "--secret-file", "-")
	has(t, "a wrong password", r.err, "password authentication failed", "28P01")
	r = s.cli(pg.Password.Reveal(), "server", "add", "again", "--engine", "postgresql", "--host", pg.Host, "--port",
		itoa(pg.Port), "--admin", pg.Admin, "--environment", "staging", "--secret-file", "-")
	has(t, "the same instance twice", r.err, "registered already, as harbour")
	r = s.cli(pg.Password.Reveal(), "server", "add", "again", "--engine", "mariadb", "--host", pg.Host, "--port",
		itoa(pg.Port), "--admin", pg.Admin, "--environment", "staging", "--secret-file", "-")
	if r.code == 0 {
		t.Error("a PostgreSQL was registered as a MariaDB")
	}
	has(t, "edit", s.run(0, "server", "edit", "harbour", "--label", "team=freight").out, "freight", "ending in _prod")
	if r := s.cli("", "server", "forget", "harbour"); r.code != 3 || !strings.Contains(r.err, "--confirm harbour") {
		t.Errorf("forgotten without a confirmation: %+v", r)
	}
}

func itoa(n int) string { b, _ := json.Marshal(n); return string(b) }

func testCreate(t *testing.T, s *service) {
	r := s.run(0, "database", "create", "harbour/tickets_prod", "--comment", "bookings", "--yes")
	has(t, "the brief", r.err, "create database tickets_prod on harbour", "production", "encoding",
		"default, from template template1", "cannot be changed later",
		"CREATE DATABASE \"tickets_prod\"", "COMMENT ON DATABASE", "[1/3]", "done", "read back as asked")
	has(t, "the result", r.out, "CHANGE", "done", "harbour/tickets_prod")
	has(t, "the list", s.run(0, "database", "list", "harbour").out, "tickets_prod", "bookings", "UTF8")
	has(t, "show", s.run(0, "database", "show", "harbour/tickets_prod").out, "bookings", "by keeper, change 1",
		"0 (empty")
	has(t, "again", s.run(1, "database", "create", "harbour/tickets_prod", "--yes").err, "STOP", "name.taken",
		"tickets_2_prod", "was created by keeper with change 1")
	has(t, "only if absent", s.run(0, "database", "create", "harbour/tickets_prod", "--if-not-exists", "--yes").err,
		"is there already, as asked")
	has(t, "only if absent, differs",
		s.run(0, "database", "create", "harbour/tickets_prod", "--if-not-exists", "--comment", "other", "--yes").err,
		"differs", "asked other, is bookings")
	has(t, "taken, after runs that did nothing", s.run(1, "database", "create", "harbour/tickets_prod", "--yes").err,
		"was created by keeper with change 1")
	has(t, "a bad name", s.run(1, "database", "create", "harbour/Crew Rota", "--yes").err, "name.characters",
		"crew_rota_prod")
	has(t, "an option that does not fit",
		s.run(1, "database", "create", "harbour/x_prod", "--encoding", "LATIN1", "--yes").err, "collation.mismatch",
		"character type C")
	if list := s.run(0, "database", "list", "harbour").out; strings.Contains(list, "x_prod") {
		t.Error("a stopped change left something behind")
	}
	r = s.run(0, "change", "script", "1")
	has(t, "the script", r.out, "-- Genarch change 1", "CREATE DATABASE \"tickets_prod\"", ";\n")
	has(t, "the change", s.run(0, "change", "show", "1").out, "asked by keeper", "took", "step 1")
	has(t, "the journal", s.run(0, "journal", "list", "--change", "1").out, "change.draft", "change.run",
		"step.do.begin", "change.done")
	has(t, "changes", s.run(0, "change", "list", "--server", "harbour").out, "done", "withdrawn", "database.create")
	first := s.run(0, "database", "create", "harbour/idem_prod", "--yes", "--idempotency-key", "job 7")
	second := s.run(0, "database", "create", "harbour/idem_prod", "--yes", "--idempotency-key", "job 7")
	has(t, "the same key for another request",
		s.run(1, "database", "create", "harbour/other_prod", "--yes", "--idempotency-key", "job 7").err,
		"used for another request", "another key")
	has(t, "follow", s.run(0, "change", "follow", "1").err, "read back as asked")
	if first.out != second.out {
		t.Errorf("the same key gave another change:\n%s%s", first.out, second.out)
	}
}

func testUnconfirmed(t *testing.T, s *service) {
	r := s.cli("", "database", "create", "harbour/quiet_prod")
	if r.code != 3 || !strings.Contains(r.err, "--yes") || !strings.Contains(r.err, "CREATE DATABASE") {
		t.Errorf("without --yes and a terminal: %+v", r)
	}
	r = s.cli("", "database", "create", "harbour/t1ckets_prod", "--yes")
	if r.code != 3 || !strings.Contains(r.err, "--accept name.lookalike") {
		t.Errorf("a caution that was not accepted: %+v", r)
	}
	has(t, "dry run", s.run(0, "database", "create", "harbour/dry_prod", "--dry-run").err, "nothing was done")
	r = s.run(0, "database", "create", "harbour/later_prod", "--draft")
	has(t, "a draft", r.err, "change run")
	list := s.run(0, "database", "list", "harbour").out
	for _, name := range []string{"quiet_prod", "t1ckets_prod", "dry_prod", "later_prod"} {
		if strings.Contains(list, name) {
			t.Errorf("%s was made", name)
		}
	}
	id := strings.Fields(strings.Split(r.out, "\n")[1])[0]
	other := s.run(0, "database", "create", "harbour/never_prod", "--draft")
	never := strings.Fields(strings.Split(other.out, "\n")[1])[0]
	has(t, "withdraw", s.run(0, "change", "withdraw", never).out, "withdrawn")
	has(t, "run a withdrawn one", s.run(1, "change", "run", never, "--yes").err, "is withdrawn", "create a new change")
	has(t, "run a draft", s.run(0, "change", "run", id, "--yes").err, "read back as asked")
	has(t, "run it again", s.run(1, "change", "run", id, "--yes").err, "is done")
	has(t, "accepted", s.run(0, "database", "create", "harbour/t1ckets_prod", "--yes", "--accept", "name.lookalike").
		err, "read back as asked")
}

func testChoices(t *testing.T, s *service) {
	has(t, "encodings", s.run(0, "server", "choices", "harbour", "encodings", "--search", "UTF").out, "UTF8", "yes")
	has(t, "collations", s.run(0, "server", "choices", "quay", "collations", "--search", "utf8mb4_uca1400_as").out,
		"utf8mb4_uca1400_as_ci")
	has(t, "templates", s.run(0, "server", "choices", "harbour", "templates").out, "template1", "template0")
	has(t, "tablespaces", s.run(0, "server", "choices", "harbour", "tablespaces").out, "pg_default", "yes")
	has(t, "no tablespaces", s.run(4, "server", "choices", "quay", "tablespaces").err,
		"MariaDB has no list of tablespaces", "There are collations, encodings, owners")
	has(t, "the lists", s.run(0, "server", "choices", "quay").out, "encodings", "Character sets")
}

func testOutput(t *testing.T, s *service) {
	var list struct {
		Server    string
		Databases []struct {
			Name string
			Size *int64
		}
	}
	if err := json.Unmarshal([]byte(s.run(0, "database", "list", "harbour", "-o", "json").out),
		&list); err != nil || list.Server != "harbour" || len(list.Databases) == 0 || list.Databases[0].Size == nil {
		t.Errorf("json: %v, %+v", err, list)
	}
	has(t, "yaml", s.run(0, "database", "list", "harbour", "-o", "yaml").out, "server: harbour", "- name: ",
		"connection_limit: none")
	csv := s.run(0, "database", "list", "harbour", "-o", "csv", "--sort", "-size").out
	has(t, "csv", csv, "database,owner,encoding,collation,size,tables,sessions")
	if lines := strings.Split(strings.TrimSpace(csv), "\n"); len(lines) != len(list.Databases)+1 {
		t.Errorf("csv has %d lines for %d databases", len(lines), len(list.Databases))
	}
	if r := s.run(0, "database", "list", "harbour", "--search", "nothing like it"); r.out != "" ||
		!strings.Contains(r.err, "No database on harbour fits") {
		t.Errorf("an empty search: %+v", r)
	}
	has(t, "system databases", s.run(0, "database", "list", "harbour", "--system").out, "template0", "SYSTEM")
}

func testMariaDB(t *testing.T, s *service) {
	has(t, "an option MariaDB lacks", s.run(2, "database", "create", "quay/a", "--tablespace", "x", "--yes").err,
		"MariaDB has no option tablespace for database.create", "genarch engine show mariadb")
	r := s.run(0, "database", "create", "quay/cargo", "--character-set", "utf8mb4", "--collation", "utf8mb4_bin",
		"--comment", "it's \"so\"", "--yes")
	has(t, "the brief", r.err, "CHARACTER SET utf8mb4", "COLLATE utf8mb4_bin")
	has(t, "show", s.run(0, "database", "show", "quay/cargo").out, "utf8mb4_bin", "it's \"so\"",
		"nobody: MariaDB has no owners")
	has(t, "mark", s.run(0, "server", "mark", "quay", "--yes").err, "create database genarch_identity",
		"read back as asked")
	has(t, "marked", s.run(0, "server", "show", "quay").out, "marker ")
	has(t, "marked twice", s.run(1, "server", "mark", "quay", "--yes").err, "marked already")
	if strings.Contains(s.run(0, "database", "list", "quay").out, "genarch_identity") {
		t.Error("the marker's database is listed as if it were somebody's")
	}
}

func testOperators(t *testing.T, s *service) {
	weak := s.cli("password1234", "operator", "add", "deckhand", "--password-file", "-")
	if weak.code != 2 || !strings.Contains(weak.err, "guessed") {
		t.Errorf("a weak password: %+v", weak)
	}
	if r := s.cli("gull-harpoon-quadrant-3", "operator", "add", "deckhand", "--permissions", "view,request",
		"--password-file", "-"); r.code != 0 {
		t.Fatalf("operator add: %+v", r)
	}
	s.run(0, "operator", "add", "nightly", "--program", "--permissions", "view")
	token := strings.TrimSpace(s.run(0, "token", "create", "nightly", "--title", "reports").out)
	file := filepath.Join(s.home, "token")
	if err := os.WriteFile(file, []byte(token), 0o600); err != nil {
		t.Fatal(err)
	}
	asProgram := []string{"--url", s.url, "--token-file", file}
	s.run(0, append(asProgram, "database", "list", "harbour")...)
	r := s.cli("", append(asProgram, "database", "create", "harbour/b_prod", "--yes")...)
	if r.code != 5 || !strings.Contains(r.err, "permission request") {
		t.Errorf("without the permission request: %+v", r)
	}
	has(t, "tokens", s.run(0, "token", "list").out, "nightly", "reports", "login on")
	var tokens []struct {
		ID    int
		Title string
	}
	_ = json.Unmarshal([]byte(s.run(0, "token", "list", "-o", "json").out), &tokens)
	for _, tok := range tokens {
		if tok.Title == "reports" {
			s.run(0, "token", "revoke", itoa(tok.ID))
		}
	}
	if r := s.cli("", append(asProgram, "server", "list")...); r.code != 5 {
		t.Errorf("with a revoked token: %+v", r)
	}
	other := &service{tb: t, home: t.TempDir(), url: s.url}
	if r := other.cli("gull-harpoon-quadrant-3", "login", s.url, "--name", "deckhand", "--password-file",
		"-"); r.code != 0 {
		t.Fatalf("login: %+v", r)
	}
	r = other.cli("", "database", "create", "harbour/asked_prod", "--yes")
	if r.code != 3 || !strings.Contains(r.err, "waits for somebody who may run it") {
		t.Errorf("asking may be done, running not: %+v", r)
	}
	s.run(0, "operator", "edit", "deckhand", "--disable")
	if r := other.cli("", "server", "list"); r.code != 5 {
		t.Errorf("a disabled operator: %+v", r)
	}
	has(t, "locking oneself out", s.run(2, "operator", "edit", "keeper", "--permissions", "view").err,
		"lock yourself out")
	other.run(0, "logout")
	if r := other.cli("", "server", "list"); r.code != 5 || !strings.Contains(r.err, "genarch login") {
		t.Errorf("after logout: %+v", r)
	}
	if info, err := os.Stat(filepath.Join(s.home, "genarch", "login.json")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("the login's file: %v %v", info, err)
	}
}

// testSecrets looks for the admin passwords wherever they must not be.
func testSecrets(t *testing.T, s *service, pg, maria *localdb.Server) {
	var everything strings.Builder
	everything.WriteString(s.log.String())
	for _, args := range [][]string{{"server", "list", "-o", "json"}, {"server", "check", "harbour", "-o", "json"},
		{"server", "check", "quay", "-o", "yaml"}, {"journal", "list", "--limit", "1000", "-o", "json"},
		{"change", "show", "1", "-o", "json"}} {
		r := s.run(0, args...)
		everything.WriteString(r.out + r.err)
	}
	_, body, _ := s.call("POST", "/api/v1/servers", s.token,
		`{"name":"x","secret":"`+pg.Password.Reveal()+`","colour":1}`)
	text, _ := json.Marshal(body)
	everything.Write(text)
	for _, secret := range []string{pg.Password.Reveal(), maria.Password.Reveal(), password, s.token} {
		if strings.Contains(everything.String(), secret) {
			t.Errorf("the secret %q came out somewhere", secret)
		}
	}
	has(t, "a mistyped field", string(text), "unexpected property", "body.colour")
}

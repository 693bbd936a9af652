package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/engine/postgres"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// A tenant who owns a database gives a function a name that is SQL. Whoever takes
// a grant there, then or later, must not run it.
func TestFunctionNameIsNoCode(t *testing.T) {
	s, pg := newService(t), testutil.Postgres(t)
	s.add("slipway", "postgresql", "staging", pg)
	as := func(name, database string, statements ...string) {
		t.Helper()
		url := pg.DSN(database)
		conn, err := pgx.Connect(t.Context(), url)
		if err != nil {
			t.Fatal(err)
		}
		defer conn.Close(t.Context())
		for _, text := range append([]string{"SET SESSION AUTHORIZATION " + name}, statements...) {
			if _, err := conn.Exec(t.Context(), text); err != nil {
				t.Fatalf("%s: %v", text, err)
			}
		}
	}
	as(pg.Admin, "postgres", "CREATE ROLE mal LOGIN", "CREATE ROLE mallory_app LOGIN", "CREATE ROLE visitor LOGIN",
		"CREATE DATABASE mallory_staging OWNER mal")
	const name = `"f() from public;reset role;alter role mal superuser--"`
	as("mal", "mallory_staging", "CREATE SCHEMA s", "GRANT USAGE ON SCHEMA s TO PUBLIC",
		"CREATE FUNCTION s.f() RETURNS int LANGUAGE sql AS 'select 1'",
		"GRANT EXECUTE ON FUNCTION s.f() TO mallory_app WITH GRANT OPTION",
		"CREATE FUNCTION s."+name+"() RETURNS int LANGUAGE sql AS 'select 1'",
		"GRANT EXECUTE ON FUNCTION s."+name+"() TO mallory_app WITH GRANT OPTION",
		"GRANT CONNECT ON DATABASE mallory_staging TO mallory_app WITH GRANT OPTION")
	as("mallory_app", "mallory_staging", "GRANT EXECUTE ON FUNCTION s."+name+"() TO visitor",
		"GRANT CONNECT ON DATABASE mallory_staging TO visitor")
	holds := func(query string, want bool) {
		t.Helper()
		conn := onPostgres(t, pg, "mallory_staging")
		var got bool
		if err := conn.QueryRow(t.Context(), query).Scan(&got); err != nil || got != want {
			t.Errorf("%s: %v, %v; want %v", query, got, err, want)
		}
	}
	const super = `SELECT rolsuper FROM pg_roles WHERE rolname = 'mal'`
	const may = `SELECT EXISTS (SELECT FROM pg_proc p, aclexplode(p.proacl) x WHERE p.proname LIKE 'f() from%' AND x.grantee = 'visitor'::regrole)`
	s.run(0, "privilege", "revoke", "slipway/mallory_staging", "--from", "visitor", "--privilege", "CONNECT", "--yes")
	holds(super, false)
	holds(may, true) // only what was asked for is taken
	out := s.run(0, "privilege", "revoke", "slipway/mallory_staging", "--from", "visitor", "--yes")
	holds(super, false)
	holds(may, false)
	has(t, "what was sent", out.err+out.out, "done")
	// The function can be named, with its types or without, and is quoted whole.
	s.run(0, "privilege", "grant", "slipway/mallory_staging", "--to", "visitor", "--privilege", "EXECUTE", "--routine",
		"s.f() from public;reset role;alter role mal superuser--", "--yes")
	holds(may, true)
	holds(super, false)
	s.run(0, "privilege", "revoke", "slipway/mallory_staging", "--from", "visitor", "--privilege", "EXECUTE",
		"--routine", "s.f() from public;reset role;alter role mal superuser--()", "--yes")
	holds(may, false)
	// A name that could mean two routines is refused.
	as("mal", "mallory_staging", "CREATE FUNCTION s.g(int) RETURNS int LANGUAGE sql AS 'select 1'",
		`CREATE FUNCTION s."g(integer)"() RETURNS int LANGUAGE sql AS 'select 1'`)
	r := s.run(1, "privilege", "grant", "slipway/mallory_staging", "--to", "visitor", "--privilege", "EXECUTE",
		"--routine", "s.g(integer)", "--yes")
	has(t, "an ambiguous name", r.err, "[object.ambiguous]")
	if r := s.run(0, "journal", "check"); r.code != 0 {
		t.Error(fmt.Sprint(r))
	}
}

// Whoever gets the port of a server that is down, or is between, learns nothing of
// the admin password; and nobody reads it by having a registration lead elsewhere.
func TestAdminPasswordStaysSecret(t *testing.T) {
	s := newService(t)
	silent := func(what string, r *testutil.Rogue) {
		t.Helper()
		told, calls := r.Told()
		if len(told) > 0 || calls == 0 {
			t.Errorf("%s: %d calls, told %q", what, calls, told)
		}
	}
	t.Run("in the place of a server that is down", func(t *testing.T) {
		pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
		s.add("harbour", "postgresql", "staging", pg)
		s.add("quay", "mariadb", "staging", maria)
		pg.Kill()
		maria.Kill()
		for _, withTLS := range []bool{false, true} {
			t.Run(fmt.Sprintf("TLS %v", withTLS), func(t *testing.T) {
				for name, r := range map[string]*testutil.Rogue{"harbour": testutil.RoguePostgres(t, pg.Port, withTLS),
					"quay": testutil.RogueMariaDB(t, maria.Port, withTLS)} {
					has(t, name, s.run(1, "server", "check", name).out, "nothing was sent")
					silent(name, r)
				}
			})
		}
	})
	t.Run("registered with a certificate that nobody vouches for", func(t *testing.T) {
		for engine, r := range map[string]*testutil.Rogue{"postgresql": testutil.RoguePostgres(t, 0, true),
			"mariadb": testutil.RogueMariaDB(t, 0, true)} {
			for _, mode := range []string{"required", "verified"} {
				out := s.cli("hush-hush", "server", "add", "rogue", "--engine", engine, "--host", "127.0.0.1", "--port",
					fmt.Sprint(r.Port), "--admin", "x",
					"--environment", "staging", "--tls", mode, "--secret-file", "-")
				if out.code != 1 {
					t.Errorf("%s with TLS %s: %+v", engine, mode, out)
				}
				if engine == "mariadb" && mode == "required" {
					has(t, "the way on", out.err, "--server-key sha256:")
				}
			}
			silent(engine, r)
		}
	})
	t.Run("an edit that leads elsewhere", func(t *testing.T) {
		pg := testutil.Postgres(t)
		s.add("slipway", "postgresql", "staging", pg)
		r := testutil.RoguePostgres(t, 0, false)
		_, before, _ := s.call("GET", "/api/v1/servers/slipway", s.token, "")
		for _, patch := range []string{`"port":%d`, `"host":"127.0.0.2","port":%d`, `"tls":"required","port":%d`,
			`"admin":"other","port":%d`} {
			body := fmt.Sprintf(`{"version":%v,`+patch+`}`, before["version"], r.Port)
			if status, p, _ := s.call("PATCH", "/api/v1/servers/slipway", s.token, body); status != 422 ||
				p["code"] != "secret.needed" {
				t.Errorf("%s without the secret: %d %v", body, status, p)
			}
		}
		if told, calls := r.Told(); len(told) > 0 || calls > 0 {
			t.Errorf("the other address was called %d times, and told %q", calls, told)
		}
		// With the secret the new address is tried first, and nothing is written when
		// somebody else answers.
		body := fmt.Sprintf(`{"version":%v,"port":%d,"secret":"%s"}`, before["version"], r.Port, pg.Password.Reveal())
		if status, p, _ := s.call("PATCH", "/api/v1/servers/slipway", s.token, body); status != 502 {
			t.Errorf("with the secret, to somebody else: %d %v", status, p)
		}
		silent("the other address", r)
		other := testutil.Postgres(t)
		body = fmt.Sprintf(`{"version":%v,"port":%d,"secret":"%s"}`, before["version"], other.Port,
			other.Password.Reveal())
		if status, p, _ := s.call("PATCH", "/api/v1/servers/slipway", s.token, body); status != 409 ||
			p["code"] != "identity.changed" {
			t.Errorf("to another instance: %d %v", status, p)
		}
		if _, after, _ := s.call("GET", "/api/v1/servers/slipway", s.token, ""); after["port"] != before["port"] ||
			after["version"] != before["version"] {
			t.Errorf("something was written: %v", after)
		}
	})
}

// What a tenant's statement says stays between the tenant and the server: whoever
// only sees is shown its shape, and nobody finds a text of it in the records.
func TestStatementsOfOthers(t *testing.T) {
	t.Parallel()
	s, pg := newService(t), testutil.Postgres(t)
	s.add("harbour", "postgresql", "staging", pg)
	h := shore{t, s, "harbour", postgres.Engine{}, pg}
	h.furnished("berths_staging")
	const text = "manifest-of-the-Cormorant"
	conn, err := pgx.Connect(t.Context(), pg.DSN("berths_staging"))
	if err != nil {
		t.Fatal(err)
	}
	over := make(chan struct{})
	go func() {
		defer close(over)
		_, _ = conn.PgConn().Exec(context.Background(),
			"SELECT 1 -- the purser's list\n, '"+text+"' FROM pg_sleep(600)").ReadAll()
	}()
	s.run(0, "operator", "add", "purser", "--permissions", "view", "--password-file", secretFile(t, password))
	_, body, _ := s.call("POST", "/api/v1/session", "", `{"name":"purser","password":"`+password+`","token_title":"x"}`)
	purser, _ := body["token"].(string)
	seen := func(token string) string {
		_, body, _ := s.call("GET", "/api/v1/servers/harbour/sessions?database=berths_staging", token, "")
		return fmt.Sprint(body)
	}
	testutil.Wait(t, "the statement to run", func() bool { return strings.Contains(seen(s.token), "pg_sleep") })
	if got := seen(s.token); !strings.Contains(got, text) {
		t.Errorf("who may end it cannot read what it does: %s", got)
	}
	if got := seen(purser); strings.Contains(got, text) || !strings.Contains(got, "pg_sleep") {
		t.Errorf("who only sees is shown %s", got)
	}
	r := s.run(0, "database", "drop", "--for-good",
		"harbour/berths_staging", "--grace", "0s", "--accept-loss", "--confirm",
		"berths_staging")
	<-over
	db := onMariaDB(t, s.dsn)
	for _, table := range []string{"changes", "change_steps", "journal"} {
		rows, err := db.Query("SELECT * FROM " + table)
		if err != nil {
			t.Fatal(err)
		}
		columns, _ := rows.Columns()
		for rows.Next() {
			line := make([]sql.RawBytes, len(columns))
			to := make([]any, len(columns))
			for i := range line {
				to[i] = &line[i]
			}
			_ = rows.Scan(to...)
			if i := slices.IndexFunc(line,
				func(b sql.RawBytes) bool { return strings.Contains(string(b), text) }); i >= 0 {
				t.Errorf("%s.%s has the text of the statement", table, columns[i])
			}
		}
		rows.Close()
	}
	if strings.Contains(r.out+r.err+s.log.String(), text) {
		t.Errorf("the text of the statement is in what was said or logged:\n%s", r.err)
	}
}

// What would hand the whole server over is not one line among others: it is a
// caution, and the name has to be typed.
func TestHandingTheServerOver(t *testing.T) {
	t.Parallel()
	s := newService(t)
	pg, maria := testutil.Postgres(t), testutil.MariaDB(t)
	s.add("harbour", "postgresql", "staging", pg)
	s.add("quay", "mariadb", "staging", maria)
	s.run(0, "account", "create", "harbour/account:mate", "--yes")
	s.run(0, "account", "create", "quay/account:mate@127.0.0.1", "--yes")
	r := s.cli("", "role", "grant", "harbour/role:pg_execute_server_program", "--to", "mate", "--yes")
	has(t, "what would be had", r.err, "could then do anything on harbour, outside Genarch too")
	for _, attack := range []struct{ code, command string }{
		{"server.taken_over", "role grant harbour/role:pg_execute_server_program --to mate"},
		{"server.taken_over", "role grant harbour/role:pg_write_server_files --to mate"},
		{"grant.invalid", "privilege grant quay/mysql --to mate@127.0.0.1 --privilege UPDATE"},
	} {
		r := s.cli("", append(strings.Fields(attack.command), "--yes")...)
		if r.code == 0 {
			t.Errorf("%s is done by --yes:\n%s", attack.command, r.err)
		}
		has(t, attack.command, r.err, "["+attack.code+"]")
	}
}

// A server that speaks another character set than its client asks for takes no
// name for code.
func TestCharacterSets(t *testing.T) {
	t.Parallel()
	s := newService(t)
	maria := testutil.MariaDB(t, "character-set-server=gbk", "skip-character-set-client-handshake")
	s.add("quay", "mariadb", "staging", maria, "--free-names")
	const name = `縗' IDENTIFIED BY 'x`
	s.run(0, "role", "create", "quay/role:"+name, "--yes")
	has(t, "the role", s.run(0, "role", "list", "quay").out, name)
	s.run(0, "database", "create", "quay/hold_staging", "--comment", `縗\' COLLATE='x`, "--yes")
	has(t, "the comment", s.run(0, "database", "show", "quay/hold_staging").out, `縗\' COLLATE='x`)
	s.run(0, "role", "drop", "quay/role:"+name, "--confirm", name)
}

// A script that is shown runs as it is read: no name in it is a command of the
// client's, no line of it ends early.
func TestScriptsRunNoName(t *testing.T) {
	t.Parallel()
	s, pg := newService(t), testutil.Postgres(t)
	s.add("harbour", "postgresql", "staging", pg, "--free-names")
	mark := filepath.Join(t.TempDir(), "ran")
	const name = "a`touch $mark`:x"
	comment := "x\n\\! touch " + mark + "\n\\q\n'; :x"
	id := itoa(decode[struct{ ID int }](t,
		s.run(0, "database", "create", "harbour/"+name, "--comment", comment, "--draft", "-o", "json").out).ID)
	script := s.run(0, "change", "script", id).out
	cmd := exec.Command("psql", "-X", "-v", "ON_ERROR_STOP=1", pg.DSN("postgres"))
	cmd.Env = append(os.Environ(), "mark="+mark)
	cmd.Stdin = strings.NewReader(script)
	out, err := cmd.CombinedOutput()
	if _, there := os.Stat(mark); there == nil || err != nil {
		t.Errorf("the script: %v, a command ran: %v\n%s\n%s", err, there == nil, script, out)
	}
	if !(shore{t, s, "harbour", postgres.Engine{}, pg}).has(name) {
		t.Error("the database of the name is not there")
	}
}

// A script goes to the database that it names, and to no other server: whatever
// the name looks like to the client.
func TestScriptsGoWhereTheySay(t *testing.T) {
	t.Parallel()
	s, pg := newService(t), testutil.Postgres(t)
	s.add("harbour", "postgresql", "staging", pg)
	admin := onPostgres(t, pg, "postgres")
	for i, name := range []string{"host=127.0.0.1 port=1", "postgresql://127.0.0.1:1/x", "line\nend", "it's \\ \"odd\"",
		":x -", "line end"} {
		role := fmt.Sprintf("mate%d", i)
		for _, text := range []string{"CREATE ROLE " + role, "CREATE DATABASE " + pgx.Identifier{name}.Sanitize()} {
			if _, err := admin.Exec(t.Context(), text); err != nil {
				t.Fatal(err)
			}
		}
		status, body, _ := s.call("POST", "/api/v1/changes", s.token,
			fmt.Sprintf(`{"kind":"privilege.grant","server":"harbour","grant":{"database":%s,"to":{"name":%q},"bundle":"read"}}`, quoted(name), role))
		if status != 201 {
			t.Fatalf("%q: %d %v", name, status, body)
		}
		script := s.run(0, "change", "script", itoa(int(body["id"].(float64)))).out
		cmd := exec.Command("psql", "-X", pg.DSN("postgres"))
		cmd.Stdin = strings.NewReader(script)
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Errorf("%q: %v\n%s\n%s", name, err, out, script)
		}
		var may bool
		if err := admin.QueryRow(t.Context(), "SELECT has_database_privilege($1, $2, 'CONNECT')", role, name).
			Scan(&may); err != nil || !may {
			t.Errorf("%q: %v %v", name, may, err)
		}
		if got := within(t, pg, name, "SELECT count(*) FROM pg_namespace n, aclexplode(n.nspacl) x WHERE n.nspname = 'public' AND x.grantee = '"+role+"'::regrole"); got == 0 {
			t.Errorf("%q: the schema of that database was given nothing:\n%s", name, script)
		}
	}
}

// within asks for a number inside a database, whatever it is called.
func within(t *testing.T, pg *localdb.Server, database, query string) (n int) {
	t.Helper()
	cfg, err := pgx.ParseConfig(pg.DSN("postgres"))
	if err != nil {
		t.Fatal(err)
	}
	cfg.Database = database
	conn, err := pgx.ConnectConfig(t.Context(), cfg)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close(context.Background())
	if err := conn.QueryRow(t.Context(), query).Scan(&n); err != nil {
		t.Fatal(err)
	}
	return n
}

func quoted(text string) string {
	out, _ := json.Marshal(text)
	return string(out)
}

// A grant on a function is not one on the procedure of the same name: each is
// taken as what it is.
func TestFunctionsAndProcedures(t *testing.T) {
	t.Parallel()
	s, maria := newService(t), testutil.MariaDB(t)
	s.add("quay", "mariadb", "staging", maria)
	db := onMariaDB(t, maria.DSN(""))
	for _, text := range []string{"CREATE DATABASE tolls_staging", "CREATE USER mate@'127.0.0.1' IDENTIFIED BY 'x'",
		"CREATE FUNCTION tolls_staging.weigh() RETURNS INT RETURN 1",
		"CREATE FUNCTION tolls_staging.toll() RETURNS INT RETURN 1", "CREATE PROCEDURE tolls_staging.weigh() SELECT 1",
		"GRANT EXECUTE ON FUNCTION tolls_staging.weigh TO mate@'127.0.0.1'",
		"GRANT EXECUTE ON FUNCTION tolls_staging.toll TO mate@'127.0.0.1'",
		"GRANT EXECUTE ON PROCEDURE tolls_staging.weigh TO mate@'127.0.0.1'"} {
		if _, err := db.Exec(text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
	held := func() (list string) {
		_ = db.QueryRow("SELECT COALESCE(GROUP_CONCAT(Routine_name, ' ', Routine_type ORDER BY 1), '') FROM mysql.procs_priv").Scan(&list)
		return list
	}
	s.run(0, "privilege", "revoke", "quay/tolls_staging", "--from", "mate@127.0.0.1", "--privilege", "EXECUTE",
		"--routine", "toll", "--yes")
	if got := held(); got != "weigh FUNCTION,weigh PROCEDURE" && got != "weigh PROCEDURE,weigh FUNCTION" {
		t.Errorf("after taking one: %q", got)
	}
	s.run(0, "privilege", "grant", "quay/tolls_staging", "--to", "mate@127.0.0.1", "--privilege", "EXECUTE",
		"--routine", "toll", "--yes")
	if got := held(); !strings.Contains(got, "toll FUNCTION") {
		t.Errorf("after giving it again: %q", got)
	}
	s.run(0, "database", "drop", "--for-good", "quay/tolls_staging", "--grace", "0s", "--confirm", "tolls_staging")
	if got := held(); got != "" {
		t.Errorf("after the drop: %q", got)
	}
}

package e2e

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/exec"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"

	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// The benchmarks stand side by side with the bare statements by the same
// driver in the same run, turn by turn, so that both meet the same machine.
// They report medians: make bench.

// durable starts servers as they run in earnest.
func durable(b *testing.B, start func(context.Context, localdb.Config) (*localdb.Server, error),
	options ...string) *localdb.Server {
	b.Helper()
	s, err := start(b.Context(), localdb.Config{Dir: testutil.Dir(b) + "/srv", Options: options})
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { s.Stop() })
	return s
}

func benchService(b *testing.B) *service {
	b.Helper()
	s := &service{tb: b, dir: b.TempDir(), home: b.TempDir(), dsn: durable(b, marialocal.Start).DSN("records")}
	s.start()
	s.login()
	return s
}

// create makes a database by the API, from asking to verified.
func (s *service) create(b *testing.B, server, name string) {
	s.carry(b, fmt.Sprintf(`{"kind":"database.create","server":%q,"database":{"name":%q}}`, server, name))
}

// team makes a database with all that a team needs.
func (s *service) team(b *testing.B, server, name string) {
	host := ""
	if server != "harbour" {
		host = "127.0.0.1"
	}
	s.carry(b, fmt.Sprintf(`{"kind":"database.create","server":%q,"database":{"name":%q,"team":{"name":%q,"host":%q}}}`,
		server, name+"_db", name, host))
}

// carry asks for an intent and lets it run to its end.
func (s *service) carry(b *testing.B, intent string) {
	b.Helper()
	s.carryConfirmed(b, intent, "")
}

// carryConfirmed does it for a change that asks for a name.
func (s *service) carryConfirmed(b *testing.B, intent, name string) {
	b.Helper()
	status, draft, _ := s.call("POST", "/api/v1/changes", s.token, intent)
	if status != 201 {
		b.Fatalf("ask: %d %v", status, draft)
	}
	status, done, _ := s.call("POST", fmt.Sprintf("/api/v1/changes/%v/run", draft["id"]), s.token,
		fmt.Sprintf(`{"fingerprint":%q,"confirm":%q,"wait":60}`, draft["brief"].(map[string]any)["fingerprint"], name))
	if status != 200 || done["state"] != "done" {
		b.Fatalf("run: %d %v", status, done)
	}
}

func BenchmarkCreatePostgres(b *testing.B) {
	s, pg := benchService(b), durable(b, pglocal.Start)
	s.add("harbour", "postgresql", "production", pg)
	conn, err := pgx.Connect(b.Context(), pg.DSN("postgres"))
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(b.Context())
	testutil.Beside(b, 40, func(i int) {
		if _, err := conn.Exec(b.Context(), fmt.Sprintf("CREATE DATABASE bare_%d", i)); err != nil {
			b.Fatal(err)
		}
	}, func(i int) { s.create(b, "harbour", fmt.Sprintf("ours_%d", i)) })
}

// BenchmarkTeamPostgres is a team's whole chain, three sign-ins tried included,
// beside the same statements and sign-ins; the goal is 1.5 times.
func BenchmarkTeamPostgres(b *testing.B) {
	s, pg := benchService(b), durable(b, pglocal.Start)
	s.add("harbour", "postgresql", "production", pg)
	conn, err := pgx.Connect(b.Context(), pg.DSN("postgres"))
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(b.Context())
	testutil.Beside(b, 30, func(i int) {
		exec := func(c *pgx.Conn, texts ...string) {
			for _, text := range texts {
				if _, err := c.Exec(b.Context(), strings.ReplaceAll(text, "$", strconv.Itoa(i))); err != nil {
					b.Fatal(err)
				}
			}
		}
		dial := func(user string) *pgx.Conn {
			url := pg.DSN(fmt.Sprintf("bare_%d", i))
			if user != "" {
				url = strings.Replace(url, pg.Admin+":"+pg.Password.Reveal()+"@",
					fmt.Sprintf("bare%d_%s:word@", i, user), 1)
			}
			c, err := pgx.Connect(b.Context(), url)
			if err != nil {
				b.Fatal(err)
			}
			return c
		}
		exec(conn, "CREATE ROLE bare$_owner", "CREATE ROLE bare$_app LOGIN PASSWORD 'word'",
			"CREATE ROLE bare$_read LOGIN PASSWORD 'word'", "CREATE DATABASE bare_$ OWNER bare$_owner")
		c := dial("")
		exec(c, "BEGIN", "REVOKE CONNECT, TEMPORARY ON DATABASE bare_$ FROM PUBLIC",
			"GRANT CONNECT, TEMPORARY ON DATABASE bare_$ TO bare$_app",
			"GRANT CONNECT ON DATABASE bare_$ TO bare$_read",
			"GRANT USAGE ON SCHEMA public TO bare$_app, bare$_read",
			"ALTER DEFAULT PRIVILEGES FOR ROLE bare$_owner GRANT SELECT, INSERT, UPDATE, DELETE ON TABLES TO bare$_app",
			"ALTER DEFAULT PRIVILEGES FOR ROLE bare$_owner GRANT SELECT ON TABLES TO bare$_read",
			"ALTER DEFAULT PRIVILEGES FOR ROLE bare$_owner GRANT SELECT, USAGE ON SEQUENCES TO bare$_app",
			"ALTER DEFAULT PRIVILEGES FOR ROLE bare$_owner GRANT SELECT ON SEQUENCES TO bare$_read", "COMMIT",
			"SET ROLE bare$_owner", "CREATE TABLE proof (id int)")
		for _, user := range []string{"app", "read"} {
			u := dial(user)
			exec(u, "SELECT * FROM proof")
			u.Close(b.Context())
		}
		exec(c, "DROP TABLE proof")
		c.Close(b.Context())
	}, func(i int) { s.team(b, "harbour", fmt.Sprintf("ours%d", i)) })
}

// BenchmarkTeamMariaDB is the same on MariaDB.
func BenchmarkTeamMariaDB(b *testing.B) {
	s, maria := benchService(b), durable(b, marialocal.Start)
	s.add("quay", "mariadb", "production", maria)
	db, err := sql.Open("mysql", maria.DSN(""))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	testutil.Beside(b, 40, func(i int) {
		for _, text := range []string{"CREATE ROLE bare$_owner",
			"CREATE USER bare$_app@'127.0.0.1' IDENTIFIED BY 'word'",
			"CREATE USER bare$_read@'127.0.0.1' IDENTIFIED BY 'word'", "CREATE DATABASE bare_$",
			"GRANT ALL ON bare_$.* TO bare$_owner",
			"GRANT SELECT, INSERT, UPDATE, DELETE ON bare_$.* TO bare$_app@'127.0.0.1'",
			"GRANT SELECT ON bare_$.* TO bare$_read@'127.0.0.1'", "CREATE TABLE bare_$.proof (id INT)"} {
			if _, err := db.Exec(strings.ReplaceAll(text, "$", strconv.Itoa(i))); err != nil {
				b.Fatal(err)
			}
		}
		for _, user := range []string{"app", "read"} {
			u, err := sql.Open("mysql", fmt.Sprintf("bare%d_%s:word@tcp(%s)/bare_%d", i, user, maria.Address(), i))
			if err != nil {
				b.Fatal(err)
			}
			if _, err := u.Exec("SELECT * FROM proof"); err != nil {
				b.Fatal(err)
			}
			u.Close()
		}
		if _, err := db.Exec(fmt.Sprintf("DROP TABLE bare_%d.proof", i)); err != nil {
			b.Fatal(err)
		}
	}, func(i int) { s.team(b, "quay", fmt.Sprintf("ours%d", i)) })
}

func BenchmarkCreateMariaDB(b *testing.B) {
	s, maria := benchService(b), durable(b, marialocal.Start)
	s.add("quay", "mariadb", "production", maria)
	db, err := sql.Open("mysql", maria.DSN(""))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	testutil.Beside(b, 50, func(i int) {
		if _, err := db.Exec(fmt.Sprintf("CREATE DATABASE bare_%d CHARACTER SET utf8mb4 COLLATE utf8mb4_general_ci",
			i)); err != nil {
			b.Fatal(err)
		}
	}, func(i int) { s.create(b, "quay", fmt.Sprintf("ours_%d", i)) })
}

// get reads an address whole.
func (s *service) get(b *testing.B, path string) []byte {
	req, _ := http.NewRequest("GET", s.url+path, nil)
	req.Header.Set("Authorization", "Bearer "+s.token)
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		b.Fatal(err)
	}
	defer res.Body.Close()
	text, err := io.ReadAll(res.Body)
	if err != nil || res.StatusCode != 200 {
		b.Fatalf("%s: %d %v", path, res.StatusCode, err)
	}
	return text
}

func BenchmarkList10000MariaDB(b *testing.B) {
	s, maria := benchService(b), testutil.MariaDB(b)
	s.add("quay", "mariadb", "production", maria)
	db, err := sql.Open("mysql", maria.DSN(""))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	for i := range 10000 {
		if _, err := db.Exec(fmt.Sprintf("CREATE DATABASE many_%05d", i)); err != nil {
			b.Fatal(err)
		}
	}
	// The bare queries for the same columns, one after the other.
	queries := []string{
		"SELECT SCHEMA_NAME, DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME, SCHEMA_COMMENT FROM information_schema.SCHEMATA",
		"SELECT TABLE_SCHEMA, COUNT(*) FROM information_schema.TABLES WHERE TABLE_TYPE NOT IN ('VIEW', 'SYSTEM VIEW') GROUP BY TABLE_SCHEMA",
		"SELECT SUBSTRING_INDEX(NAME, '/', 1), SUM(FILE_SIZE) FROM information_schema.INNODB_SYS_TABLESPACES WHERE NAME LIKE '%/%' GROUP BY 1",
		"SELECT DB, COUNT(*) FROM information_schema.PROCESSLIST WHERE DB IS NOT NULL GROUP BY DB",
	}
	testutil.Beside(b, 15, func(int) {
		for _, q := range queries {
			rows, err := db.Query(q)
			if err != nil {
				b.Fatal(err)
			}
			drain(b, rows)
		}
	}, func(int) {
		var list struct{ Total int }
		if err := json.Unmarshal(s.get(b, "/api/v1/servers/quay/databases?limit=20000"), &list); err != nil ||
			list.Total != 10000 {
			b.Fatalf("%d databases, %v", list.Total, err)
		}
	})
}

func drain(b *testing.B, rows *sql.Rows) {
	defer rows.Close()
	columns, err := rows.Columns()
	if err != nil {
		b.Fatal(err)
	}
	values := make([]any, len(columns))
	for i := range values {
		values[i] = new(sql.NullString)
	}
	for rows.Next() {
		if err := rows.Scan(values...); err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkList200Postgres(b *testing.B) {
	s, pg := benchService(b), testutil.Postgres(b)
	s.add("harbour", "postgresql", "production", pg)
	conn, err := pgx.Connect(b.Context(), pg.DSN("postgres"))
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(b.Context())
	for i := range 200 {
		if _, err := conn.Exec(b.Context(), fmt.Sprintf("CREATE DATABASE many_%03d", i)); err != nil {
			b.Fatal(err)
		}
	}
	testutil.Beside(b, 15, func(int) {
		for _, q := range []string{`SELECT d.oid, d.datname, pg_get_userbyid(datdba), pg_encoding_to_char(encoding), datcollate, datctype, datistemplate, datallowconn, datconnlimit,
			shobj_description(d.oid, 'pg_database'), (SELECT count(*) FROM pg_stat_activity a WHERE a.datid = d.oid) FROM pg_database d`, `SELECT oid, pg_database_size(oid) FROM pg_database`} {
			rows, err := conn.Query(b.Context(), q)
			if err != nil {
				b.Fatal(err)
			}
			for rows.Next() {
				if _, err := rows.Values(); err != nil {
					b.Fatal(err)
				}
			}
			rows.Close()
		}
	}, func(int) { s.get(b, "/api/v1/servers/harbour/databases") })
}

// BenchmarkCommand times whole commands, process start included.
func BenchmarkCommand(b *testing.B) {
	s := benchService(b)
	s.add("harbour", "postgresql", "production", testutil.Postgres(b))
	for name, args := range map[string][]string{"version": {"--version"},
		"database-list": {"database", "list", "harbour"}} {
		b.Run(name, func(b *testing.B) {
			var times []time.Duration
			for b.Loop() {
				for range 30 {
					cmd := exec.Command(binary, args...)
					cmd.Env = append(os.Environ(), "XDG_CONFIG_HOME="+s.home)
					begun := time.Now()
					if err := cmd.Run(); err != nil {
						b.Fatal(err)
					}
					times = append(times, time.Since(begun))
				}
			}
			slices.Sort(times)
			b.ReportMetric(float64(times[len(times)/2].Microseconds())/1000, "median-ms")
			b.ReportMetric(float64(times[len(times)*95/100].Microseconds())/1000, "p95-ms")
			b.ReportMetric(0, "ns/op")
		})
	}
}

// BenchmarkConsole times the first page, and weighs what the browser loads.
func BenchmarkConsole(b *testing.B) {
	s := benchService(b)
	s.add("harbour", "postgresql", "production", testutil.Postgres(b))
	p := testutil.NewBrowser(b).Page(b, s.url)
	p.SignIn("keeper", password)
	p.WaitText("1 of 1 servers answered")
	var times []float64
	for b.Loop() {
		for range 10 {
			p.Open("/")
			p.WaitText("servers answered")
			p.Wait("the first paint", "performance.getEntriesByName('first-contentful-paint').length > 0")
			ms, err := strconv.ParseFloat(p.EvalText("String(performance.getEntriesByName('first-contentful-paint')[0].startTime)"), 64)
			if err != nil {
				b.Fatal(err)
			}
			times = append(times, ms)
		}
	}
	slices.Sort(times)
	b.ReportMetric(times[len(times)/2], "first-paint-ms")
	var kilobytes float64
	for _, src := range strings.Split(p.EvalText("[...document.querySelectorAll('script[src]')].map((s) => new URL(s.src).pathname).join(' ')"), " ") {
		req, _ := http.NewRequest("GET", s.url+src, nil)
		req.Header.Set("Accept-Encoding", "gzip")
		res, err := http.DefaultTransport.RoundTrip(req)
		if err != nil {
			b.Fatal(err)
		}
		text, _ := io.ReadAll(res.Body)
		res.Body.Close()
		kilobytes += float64(len(text)) / 1000
	}
	b.ReportMetric(kilobytes, "script-gzip-kB")
	status, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", s.cmd.Process.Pid))
	if err != nil {
		b.Fatal(err)
	}
	for line := range strings.Lines(string(status)) {
		if kb, ok := strings.CutPrefix(line, "VmRSS:"); ok {
			n, _ := strconv.ParseFloat(strings.Fields(kb)[0], 64)
			b.ReportMetric(n/1024, "service-MiB")
		}
	}
	b.ReportMetric(0, "ns/op")
}

// BenchmarkCreateBesideReaders makes databases while thirty people read lists of the
// same server, beside making them alone. The goal is 1.5 times.
func BenchmarkCreateBesideReaders(b *testing.B) {
	s, pg := benchService(b), durable(b, pglocal.Start)
	s.add("harbour", "postgresql", "production", pg)
	testutil.Beside(b, 15, func(i int) { s.create(b, "harbour", fmt.Sprintf("alone_%d", i)) }, func(i int) {
		ctx, leave := context.WithCancel(b.Context())
		var readers sync.WaitGroup
		for range 30 {
			readers.Go(func() {
				for ctx.Err() == nil {
					req, _ := http.NewRequestWithContext(ctx, "GET", s.url+"/api/v1/servers/harbour/databases", nil)
					req.Header.Set("Authorization", "Bearer "+s.token)
					if res, err := http.DefaultClient.Do(req); err == nil {
						_, _ = io.Copy(io.Discard, res.Body)
						res.Body.Close()
					}
				}
			})
		}
		s.create(b, "harbour", fmt.Sprintf("beside_%d", i))
		leave()
		readers.Wait()
	})
}

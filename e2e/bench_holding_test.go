package e2e

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"github.com/jackc/pgx/v5"

	"example.com/genarch/engine/mariadb/marialocal"
	"example.com/genarch/engine/postgres/pglocal"
	"example.com/genarch/testutil"
)

// roundTrip sets a database aside and brings it back, by the API.
func (s *service) roundTrip(b *testing.B, server, name string) {
	b.Helper()
	s.carryConfirmed(b, fmt.Sprintf(`{"kind":"database.set_aside","server":%q,"database":{"name":%q},
		"clearing":{"grace":0}}`, server, name), name)
	_, list, _ := s.call("GET", "/api/v1/holdings?server="+server, s.token, "")
	for _, h := range list["holdings"].([]any) {
		if h := h.(map[string]any); h["name"] == name {
			s.carry(b, fmt.Sprintf(`{"kind":"holding.bring_back","server":%q,"holding":{"id":%q}}`, server, h["id"]))
			return
		}
	}
	b.Fatalf("%s does not wait: %v", name, list)
}

// bareRoundTrip is what has to be sent at the least.
func bareRoundTrip(b *testing.B, exec func(string), maria bool, name string, tables int) {
	b.Helper()
	if !maria {
		for _, text := range []string{"ALTER DATABASE §  ALLOW_CONNECTIONS false", "COMMENT ON DATABASE § IS 'x'",
			"ALTER DATABASE § RENAME TO held_§", "ALTER DATABASE held_§ RENAME TO §", "COMMENT ON DATABASE § IS NULL",
			"ALTER DATABASE § ALLOW_CONNECTIONS true"} {
			exec(strings.ReplaceAll(text, "§", name))
		}
		return
	}
	move := func(from, to string) string {
		var pairs []string
		for i := range tables {
			pairs = append(pairs, fmt.Sprintf("%s.t%d TO %s.t%d", from, i, to, i))
		}
		return "RENAME TABLE " + strings.Join(pairs, ", ")
	}
	for _, text := range []string{"CREATE DATABASE held_" + name, move(name, "held_"+name), "DROP DATABASE " + name,
		"CREATE DATABASE " + name, move("held_"+name, name), "DROP DATABASE held_" + name} {
		exec(text)
	}
}

const asideRounds = 15

// BenchmarkAsidePostgres sets aside and brings back beside the bare statements; the goal is
// 30 ms more for each of the two.
func BenchmarkAsidePostgres(b *testing.B) {
	s, pg := benchService(b), durable(b, pglocal.Start)
	s.add("harbour", "postgresql", "production", pg)
	conn, err := pgx.Connect(b.Context(), pg.DSN("postgres"))
	if err != nil {
		b.Fatal(err)
	}
	defer conn.Close(b.Context())
	exec := func(text string) {
		if _, err := conn.Exec(b.Context(), text); err != nil {
			b.Fatalf("%s: %v", text, err)
		}
	}
	exec("CREATE DATABASE bare")
	exec("CREATE DATABASE ours")
	testutil.Beside(b, asideRounds, func(int) { bareRoundTrip(b, exec, false, "bare", 0) },
		func(int) { s.roundTrip(b, "harbour", "ours") })
}

// furnishBench makes a database of MariaDB with tables of so many rows.
func furnishBench(b *testing.B, db *sql.DB, name string, tables, rows int) {
	b.Helper()
	exec := func(text string) {
		if _, err := db.ExecContext(context.Background(), text); err != nil {
			b.Fatalf("%s: %v", text, err)
		}
	}
	exec("CREATE DATABASE " + name)
	for i := range tables {
		exec(fmt.Sprintf("CREATE TABLE %s.t%d (n INT PRIMARY KEY, text CHAR(200)) ENGINE=InnoDB", name, i))
		exec(fmt.Sprintf("INSERT INTO %s.t%d SELECT seq, REPEAT('x', 200) FROM mysql.seq_1_to_%d", name, i, rows))
	}
}

// BenchmarkAsideMariaDB does it with 20 tables; the goal is 100 ms more for each of the two.
func BenchmarkAsideMariaDB(b *testing.B) {
	s, db := benchMariaDB(b)
	furnishBench(b, db, "bare", 20, 10)
	furnishBench(b, db, "ours", 20, 10)
	testutil.Beside(b, asideRounds, func(int) {
		bareRoundTrip(b, func(text string) {
			if _, err := db.ExecContext(b.Context(), text); err != nil {
				b.Fatalf("%s: %v", text, err)
			}
		}, true, "bare", 20)
	}, func(int) { s.roundTrip(b, "quay", "ours") })
}

// BenchmarkAsideSizeMariaDB holds that it is flat: a database of 1 MB beside one of 250 MB.
func BenchmarkAsideSizeMariaDB(b *testing.B) {
	s, db := benchMariaDB(b)
	furnishBench(b, db, "small", 2, 2000)
	furnishBench(b, db, "large", 2, 500_000)
	testutil.Beside(b, asideRounds, func(int) { s.roundTrip(b, "quay", "small") },
		func(int) { s.roundTrip(b, "quay", "large") })
}

// BenchmarkCopyMariaDB copies 50 MB beside the bare statements; the goal is 1.3 times.
func BenchmarkCopyMariaDB(b *testing.B) {
	s, db := benchMariaDB(b)
	furnishBench(b, db, "model", 4, 50_000)
	exec := func(text string) {
		if _, err := db.ExecContext(b.Context(), text); err != nil {
			b.Fatalf("%s: %v", text, err)
		}
	}
	testutil.Beside(b, 5, func(i int) {
		exec(fmt.Sprintf("CREATE DATABASE bare_%d", i))
		for t := range 4 {
			exec(fmt.Sprintf("CREATE TABLE bare_%d.t%d LIKE model.t%d", i, t, t))
			exec(fmt.Sprintf("INSERT INTO bare_%d.t%d SELECT * FROM model.t%d", i, t, t))
		}
	}, func(i int) {
		s.carry(b, fmt.Sprintf(`{"kind":"database.create","server":"quay","database":{"name":"ours_%d",
			"options":{"template":"model"}}}`, i))
	})
}

// benchMariaDB is a service that looks after a MariaDB of its own.
func benchMariaDB(b *testing.B) (*service, *sql.DB) {
	b.Helper()
	s, maria := benchService(b), durable(b, marialocal.Start)
	s.add("quay", "mariadb", "development", maria, "--free-names")
	db, err := sql.Open("mysql", maria.DSN(""))
	if err != nil {
		b.Fatal(err)
	}
	b.Cleanup(func() { db.Close() })
	return s, db
}

package e2e

import (
	"database/sql"
	"fmt"
	"testing"

	"example.com/genarch/engine/mariadb"
	"example.com/genarch/engine/mysql"
	"example.com/genarch/testutil"
)

// BenchmarkMySQL does the same on MariaDB, which stands as the bare one, and on the stand-in for
// MySQL, behind which the same MariaDB works. The goal is 1.2 times; the bare statements tell how
// much of what is more the stand-in takes.
func BenchmarkMySQL(b *testing.B) {
	s, maria, my := benchService(b), testutil.MariaDB(b, "max-connections=400"), testutil.MySQL(b, "8.4.3")
	s.add("quay", "mariadb", "development", maria)
	s.add("jetty", "mysql", "development", my)
	both := func(b *testing.B, turns int, do func(server string, i int)) {
		testutil.Beside(b, turns, func(i int) { do("quay", i) }, func(i int) { do("jetty", i) })
	}
	// What the stand-in itself takes for the hop, and for a sign-in.
	bare := map[string]*sql.DB{"quay": onMariaDB(b, maria.DSN("")), "jetty": onMariaDB(b, my.DSN(""))}
	b.Run("BareStatements", func(b *testing.B) {
		both(b, 20, func(server string, i int) {
			for _, text := range []string{"CREATE DATABASE bare_%d", "CREATE TABLE bare_%d.t (n INT)",
				"DROP DATABASE bare_%d"} {
				if _, err := bare[server].Exec(fmt.Sprintf(text, i)); err != nil {
					b.Fatal(err)
				}
			}
		})
	})
	b.Run("BareSessions", func(b *testing.B) {
		both(b, 20, func(server string, i int) {
			bare[server].SetMaxIdleConns(0)
			if err := bare[server].Ping(); err != nil {
				b.Fatal(err)
			}
		})
	})
	b.Run("Create", func(b *testing.B) {
		both(b, 30, func(server string, i int) { s.create(b, server, fmt.Sprintf("made_%d", i)) })
	})
	b.Run("Team", func(b *testing.B) {
		both(b, 15, func(server string, i int) { s.team(b, server, fmt.Sprintf("team_%d", i)) })
	})
	b.Run("Drop", func(b *testing.B) {
		both(b, 20, func(server string, i int) { s.dropping(b, server, fmt.Sprintf("made_%d", i)) })
	})
	b.Run("Aside", func(b *testing.B) {
		both(b, 8, func(server string, i int) { s.roundTrip(b, server, fmt.Sprintf("made_%d", 20+i)) })
	})
	b.Run("Databases", func(b *testing.B) {
		both(b, 30, func(server string, _ int) {
			if status, list, _ := s.call("GET", "/api/v1/servers/"+server+"/databases", s.token, ""); status != 200 {
				b.Fatal(status, list)
			}
		})
	})
	b.Run("Sessions", func(b *testing.B) {
		defer crowd(b, mariadb.Engine{}, maria, "mysql", 300)()
		defer crowd(b, mysql.Engine{}, my, "mysql", 300)()
		both(b, 20, func(server string, _ int) { s.listAll(b, server, 300) })
	})
}

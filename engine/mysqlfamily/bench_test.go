package mysqlfamily

import (
	"database/sql"
	"fmt"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// BenchmarkAccess reads 5,000 accounts and 50,000 grants beside the same tables
// by the same driver; the goal is 1.5 times.
func BenchmarkAccess(b *testing.B) {
	running := testutil.MariaDB(b)
	db, err := sql.Open("mysql", running.DSN(""))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	fill := func(into, row string, n int) {
		b.Helper()
		for from := 0; from < n; from += 2000 {
			var rows []string
			for i := from; i < min(n, from+2000); i++ {
				rows = append(rows, strings.NewReplacer("$i", fmt.Sprint(i), "$u", fmt.Sprint(i%5000), "$d",
					fmt.Sprint(i/5000)).Replace(row))
			}
			if _, err := db.Exec("INSERT INTO " + into + " VALUES " + strings.Join(rows, ",")); err != nil {
				b.Fatal(err)
			}
		}
	}
	fill("mysql.global_priv (Host, User, Priv)",
		`('%', 'acc_$i', '{"access":0,"version_id":101119,"plugin":"mysql_native_password","authentication_string":"*D821809F681A40A6E379B50D0463EFAE20BDD122","password_last_changed":1795429580}')`, 5000)
	fill("mysql.db (Host, Db, User, Select_priv, Insert_priv, Show_view_priv)",
		`('%', 'db\\_$d', 'acc_$u', 'Y', 'Y', 'Y')`, 50000)
	fill("mysql.roles_mapping (Host, User, Role, Admin_option)", `('%', 'acc_$i', 'crew', 'N')`, 5000)
	s := enginetest.Open(b, maria{}, enginetest.Target(maria{}, running, "quay"))
	bare := func() {
		for _, text := range []string{"SELECT User, Host, Priv FROM mysql.global_priv",
			"SELECT User, Host, Db, " + flagsOf(mariaDB.databaseColumns) + " FROM mysql.db", "SELECT * FROM " +
				"mysql.tables_priv",
			"SELECT * FROM mysql.columns_priv",
			"SELECT * FROM mysql.procs_priv", "SELECT Host, User, Role, Admin_option FROM mysql.roles_mapping",
			"SELECT SCHEMA_NAME FROM information_schema.SCHEMATA",
			"SELECT ID, USER, HOST, DB FROM information_schema.PROCESSLIST"} {
			rows, err := db.Query(text)
			if err != nil {
				b.Fatal(err)
			}
			columns, _ := rows.Columns()
			values := make([]any, len(columns))
			for i := range values {
				values[i] = new(sql.RawBytes)
			}
			for rows.Next() {
				if err := rows.Scan(values...); err != nil {
					b.Fatal(err)
				}
			}
			rows.Close()
		}
	}
	testutil.Beside(b, 15, func(int) { bare() }, func(int) {
		a, err := s.Access(b.Context(), catalog.AccessQuery{})
		if err != nil || len(a.Accounts) < 5000 || len(a.Grants) < 50000 || len(a.Memberships) < 5000 {
			b.Fatal(err, len(a.Accounts), len(a.Grants))
		}
	})
}

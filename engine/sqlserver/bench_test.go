package sqlserver

import (
	"database/sql"
	"fmt"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/testutil"
)

// BenchmarkLists reads 2,000 databases with their files, and 2,000 sessions, beside the bare queries by
// the same driver; the goal is 1.5 times. It is a stand-in that answers, so the driver and what is made of
// its rows are what is measured.
func BenchmarkLists(b *testing.B) {
	const n = 2000
	running := testutil.SQLServer(b, "16.0.4125.3")
	db, err := sql.Open("sqlserver", running.DSN(""))
	if err != nil {
		b.Fatal(err)
	}
	defer db.Close()
	for i := range n {
		if _, err := db.ExecContext(b.Context(), fmt.Sprintf("CREATE DATABASE db_%04d", i)); err != nil {
			b.Fatal(err)
		}
	}
	s := enginetest.Open(b, Engine{}, enginetest.Target(Engine{}, running, "customs"))
	bare := func(texts ...string) func(int) {
		return func(int) {
			for _, text := range texts {
				rows, err := db.QueryContext(b.Context(), text)
				if err != nil {
					b.Fatal(err)
				}
				columns, _ := rows.Columns()
				values := make([]any, len(columns))
				for i := range values {
					values[i] = new(any)
				}
				for rows.Next() {
					if err := rows.Scan(values...); err != nil {
						b.Fatal(err)
					}
				}
				rows.Close()
			}
		}
	}
	b.Run("databases", func(b *testing.B) {
		testutil.Beside(b, 3, bare(databaseColumns+" ORDER BY d.name", "SELECT database_id, type, SUM(CAST(size AS "+
			"bigint))"+
			" FROM sys.master_files GROUP BY database_id, type", "SELECT database_id, COUNT(*) FROM "+
			"sys.dm_exec_sessions "+
			"WHERE is_user_process = 1 GROUP BY database_id"), func(int) {
			list, err := s.Databases(b.Context())
			if err != nil || len(list.Databases) < n {
				b.Fatal(err, len(list.Databases))
			}
		})
	})
	for range n {
		conn, err := db.Conn(b.Context())
		if err != nil {
			b.Fatal(err)
		}
		defer conn.Close()
		if _, err := conn.ExecContext(b.Context(), "SELECT 1"); err != nil {
			b.Fatal(err)
		}
	}
	b.Run("sessions", func(b *testing.B) {
		testutil.Beside(b, 3, bare("SELECT s.session_id, "+markColumn+", d.name, s.login_name, s.program_name, "+
			"c.client_net_address, c.client_tcp_port, s.host_name, s.login_time, s.last_request_end_time, "+
			"s.is_user_process"+
			sessionTables+" LEFT JOIN sys.databases d ON d.database_id = s.database_id",
			"SELECT session_id, command, wait_type, status, blocking_session_id, start_time FROM sys.dm_exec_requests",
			"SELECT c.session_id, t.text FROM sys.dm_exec_connections c CROSS APPLY "+
				"sys.dm_exec_sql_text(c.most_recent_sql_handle) t"), func(int) {
			list, err := s.Sessions(b.Context(), catalog.SessionQuery{})
			if err != nil || len(list.Sessions) < n {
				b.Fatal(err, len(list.Sessions))
			}
		})
	})
}

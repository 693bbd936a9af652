package server

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	mssql "github.com/microsoft/go-mssqldb"
)

// TestTraps shows what a caller of the driver has to know.
func TestTraps(t *testing.T) {
	s, addr := start(t)
	ctx := context.Background()
	c := conn(t, addr, "sa", saPassword, "")

	// A datetime that was read, bound again, is not the same moment: it has ticks
	// of 1/300 s, and a time.Time goes as datetimeoffset(7).
	var at time.Time
	hits := 0
	for range 20 {
		one := conn(t, addr, "sa", saPassword, "")
		id := scalar[int](t, one, "SELECT @@SPID")
		at = scalar[time.Time](t, c, "SELECT login_time FROM sys.dm_exec_sessions WHERE session_id = @p1", id)
		hits += scalar[int](
			t,
			c,
			"SELECT COUNT(*) FROM sys.dm_exec_sessions WHERE session_id = @p1 AND login_time = @p2",
			id,
			at,
		)
		if n := scalar[int](t, c, "SELECT COUNT(*) FROM sys.dm_exec_sessions WHERE session_id = @p1 AND login_time = "+
			"@p2", id, mssql.DateTime1(at)); n != 1 {
			t.Error("a DateTime1 does not find it either")
		}
		text := scalar[string](
			t,
			c,
			"SELECT CONVERT(varchar(23), login_time, 126) FROM sys.dm_exec_sessions WHERE session_id = @p1",
			id,
		)
		if n := scalar[int](t, c, "SELECT COUNT(*) FROM sys.dm_exec_sessions WHERE session_id = @p1 AND "+
			"CONVERT(varchar(23), login_time, 126) = @p2", id, text); n != 1 {
			t.Error("nor does the text")
		}
		off(one)
	}
	t.Logf("login_time = @p with a time.Time found %d of 20", hits)

	// The driver does not send a statement again whose line was cut after it left.
	for _, f := range []Fault{{CutBefore: true}, {CutAfter: true}} {
		pool, err := sql.Open("sqlserver", dsn(addr, "sa", saPassword, ""))
		if err != nil {
			t.Fatal(err)
		}
		var n atomic.Int32
		s.Instance.SetHooks(Hooks{Before: func(_ int, text string) Fault {
			if strings.HasPrefix(text, "CREATE DATABASE") {
				n.Add(1)
				return f
			}
			return Fault{}
		}})
		_, err = pool.ExecContext(ctx, "CREATE DATABASE again")
		if n.Load() != 1 || err == nil {
			t.Errorf("%+v: sent %d times, %v", f, n.Load(), err)
		}
		s.Instance.SetHooks(Hooks{})
		must(t, c, "DROP DATABASE IF EXISTS again")
		_ = pool.Close()
	}

	// A session killed while idle in the pool.
	pool, _ := sql.Open("sqlserver", dsn(addr, "sa", saPassword, ""))
	defer pool.Close()
	pool.SetMaxOpenConns(1)
	var id int
	_ = pool.QueryRow("SELECT @@SPID").Scan(&id)
	must(t, c, fmt.Sprint("KILL ", id))
	comes(t, c, "[]", "SELECT 1 FROM sys.dm_exec_sessions WHERE session_id = @p1", id)
	_, err := pool.Exec("SELECT 1")
	t.Logf("a pool whose one idle connection was killed: %v", err)
}

func TestSpeed(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	began := time.Now()
	for k := range 200 {
		must(t, c, fmt.Sprintf("CREATE DATABASE d%03d", k))
	}
	t.Logf("200 CREATE DATABASE: %v", time.Since(began))
	began = time.Now()
	n := len(
		lines(
			t,
			c,
			"SELECT d.name, SUSER_SNAME(d.owner_sid), d.collation_name, SUM(CAST(f.size AS bigint))*8192, (SELECT "+
				"COUNT(*) FROM sys.dm_exec_sessions s WHERE s.database_id = d.database_id AND s.is_user_process = 1) "+
				"FROM sys.databases d LEFT JOIN sys.master_files f ON f.database_id = d.database_id GROUP BY d.name, "+
				"d.owner_sid, d.collation_name, d.database_id ORDER BY d.name",
		),
	)
	t.Logf("list %d with sizes and sessions: %v", n, time.Since(began))
	began = time.Now()
	for range 100 {
		off(conn(t, addr, "sa", saPassword, ""))
	}
	t.Logf("100 log-ins: %v", time.Since(began))
	began = time.Now()
	for range 100 {
		off(conn(t, addr, "sa", saPassword, "", "encrypt", "true", "TrustServerCertificate", "true"))
	}
	t.Logf("100 log-ins with TLS: %v", time.Since(began))
}

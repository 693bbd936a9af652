package server

import (
	"context"
	"database/sql/driver"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	mssql "github.com/microsoft/go-mssqldb"
)

// off takes a connection away at once.
func off(c interface{ Raw(func(any) error) error }) {
	_ = c.Raw(func(any) error { return driver.ErrBadConn })
}

func TestActs(t *testing.T) {
	s, addr := scene(t)
	c := conn(t, addr, "sa", saPassword, "")
	ok := func(stmt string) { t.Helper(); must(t, c, stmt) }
	no := func(stmt string, want ...int32) { t.Helper(); refused(t, c, stmt, want...) }

	// Databases.
	no("CREATE DATABASE wiki", 1801)
	no("CREATE DATABASE [WIKI ]", 1801) // neither case nor trailing blanks tell two names apart
	no("CREATE DATABASE x COLLATE Nope_CI_AS", 448)
	no("CREATE DATABASE ["+strings.Repeat("n", 129)+"]", 103)
	no("CREATE DATABASE ["+strings.Repeat("n", 124)+"]", 103) // the log's name is the database's with a suffix
	no("CREATE DATABASE []", 1038)
	no("BEGIN TRAN; CREATE DATABASE x", 226)
	ok("IF @@TRANCOUNT > 0 ROLLBACK")
	no("CREATE DATABASE x CONTAINMENT = PARTIAL", 12824)
	no("CREATE DATABASE x ON (NAME = N'x', FILENAME = N'/data/tickets.mdf')", 5170, 1802)
	no("CREATE DATABASE x ON (NAME = N'x', FILENAME = N'/nowhere/x.mdf')", 5133, 1802)
	no("CREATE DATABASE x ON (NAME = N'x', FILENAME = N'/data/x.mdf', SIZE = 1MB)", 1803)
	no(
		"CREATE DATABASE x ON (NAME = N'x', FILENAME = N'/data/x.mdf', SIZE = 9MB) LOG ON (NAME = N'X', FILENAME = "+
			"N'/data/x.ldf')",
		1828,
	)
	for _, n := range []string{"with " +
		"space", "semi;colon", "quo'te", "dou\"ble", "br[ack]et", "ünï", "😀", "select", "../x", "#tmp", "a.b"} {
		q := "[" + strings.ReplaceAll(n, "]", "]]") + "]"
		ok("CREATE DATABASE " + q)
		if got := scalar[int](t, c, "SELECT COUNT(*) FROM sys.databases WHERE name = @p1 AND QUOTENAME(name) = "+
			"@p2", n, q); got != 1 {
			t.Error(n)
		}
		ok("DROP DATABASE " + q)
	}
	no("DROP DATABASE absent", 3701)
	ok("DROP DATABASE IF EXISTS absent")
	no("DROP DATABASE master", 3708)
	no("USE wiki; DROP DATABASE wiki", 3702)
	ok("USE master")
	s.Instance.Mark("wiki", "published")
	no("DROP DATABASE wiki", 3724)
	s.Instance.Mark("wiki", "")
	s.Instance.Mark("wiki", "mirrored")
	no("DROP DATABASE wiki", 3743)
	s.Instance.Mark("wiki", "")
	s.Instance.Mark("wiki", "ag1")
	no("DROP DATABASE wiki", 3752)
	s.Instance.Mark("wiki", "")
	ok("CREATE DATABASE wiki_snap ON (NAME = wiki, FILENAME = N'/data/wiki.ss') AS SNAPSHOT OF wiki")
	no("DROP DATABASE wiki", 3709)
	ok("DROP DATABASE wiki_snap")
	no("ALTER DATABASE absent SET ONLINE", 5011, 5069)
	no("ALTER DATABASE wiki MODIFY NAME = [TICKETS_PROD]", 1801, 5069)
	ok("ALTER DATABASE wiki MODIFY NAME = [Wiki]") // only its case
	ok("ALTER DATABASE wiki MODIFY NAME = [wiki]")
	no("ALTER DATABASE wiki SET COMPATIBILITY_LEVEL = 90", 15048, 5069)
	ok(
		"ALTER DATABASE wiki SET COMPATIBILITY_LEVEL = 150, RECOVERY SIMPLE, AUTO_UPDATE_STATISTICS OFF, PAGE_VERIFY " +
			"NONE, ALLOW_SNAPSHOT_ISOLATION ON",
	)
	ok("ALTER DATABASE wiki COLLATE Latin1_General_CI_AS")
	no("ALTER DATABASE wiki COLLATE Nope", 448, 5069)
	ok("ALTER DATABASE tickets_prod MODIFY FILE (NAME = N'tickets', SIZE = 128MB, FILEGROWTH = 64MB)")
	no("ALTER DATABASE tickets_prod MODIFY FILE (NAME = N'tickets', SIZE = 1MB)", 5039, 5069)
	if got := lines(t, c, "SELECT compatibility_level, recovery_model_desc, collation_name, is_auto_update_stats_on, "+
		"snapshot_isolation_state_desc FROM sys.databases WHERE name = N'wiki'"); fmt.Sprint(
		got,
	) != "[150|SIMPLE|Latin1_General_CI_AS|false|ON]" {
		t.Error(got)
	}

	// Logins.
	no("CREATE LOGIN app WITH PASSWORD = 'Whatever-1'", 15025)
	no("CREATE LOGIN x WITH PASSWORD = 'short'", 15116)
	no("CREATE LOGIN x WITH PASSWORD = 'alllowercase'", 15118)
	no("CREATE LOGIN x WITH PASSWORD = 0x0100AABB HASHED", 15021)
	no("CREATE LOGIN x WITH PASSWORD = 'Whatever-1', DEFAULT_DATABASE = absent", 911)
	no(fmt.Sprintf("CREATE LOGIN x WITH PASSWORD = 'Whatever-1', SID = 0x%X", s.Instance.principal("app").SID), 15433)
	no("ALTER LOGIN absent DISABLE", 15151)
	no("DROP LOGIN absent", 15151)
	no("DROP LOGIN sa", 15150)
	no("DROP LOGIN owner1", 15174)
	no("DROP LOGIN app", 15170) // a job of the agent is his
	ok("EXEC msdb.dbo.sp_add_job @job_name = N'hourly'; EXEC msdb.dbo.sp_add_jobstep @job_name = N'hourly', " +
		"@database_name = N'wiki', @command = N'SELECT 1'")
	no("EXEC msdb.dbo.sp_add_job @job_name = N'hourly'", 14261)
	no("EXEC msdb.dbo.sp_add_jobstep @job_name = N'absent'", 14262)
	if got := lines(t, c, "SELECT s.database_name FROM msdb.dbo.sysjobs j JOIN msdb.dbo.sysjobsteps s ON s.job_id = "+
		"j.job_id WHERE j.name = N'hourly'"); fmt.Sprint(got) != "[wiki]" {
		t.Error(got)
	}
	user := conn(t, addr, "watcher", "Watch-12345", "")
	no("DROP LOGIN watcher", 15434)
	off(user)
	gone(t, c, "watcher")
	ok("ALTER LOGIN watcher WITH NAME = watch2, DEFAULT_DATABASE = wiki")
	ok("ALTER SERVER ROLE processadmin ADD MEMBER watch2; ALTER SERVER ROLE processadmin DROP MEMBER watch2")
	ok("DROP LOGIN watch2")
	no("CREATE LOGIN [DOM\\ann] FROM WINDOWS", 15401)

	// Users, roles, schemas.
	ok("USE tickets_prod")
	no("CREATE USER app FOR LOGIN app", 15023)
	no("CREATE USER app2 FOR LOGIN app", 15063)
	no("CREATE USER x FOR LOGIN absent", 15007)
	no("CREATE USER x WITH PASSWORD = 'Whatever-1'", 33233)
	no("ALTER AUTHORIZATION ON DATABASE::tickets_prod TO app", 15110)
	ok("ALTER AUTHORIZATION ON SCHEMA::sales TO app")
	no("DROP USER app", 15138)
	ok("ALTER AUTHORIZATION ON SCHEMA::sales TO dbo")
	no("DROP ROLE clerks", 15144)
	no("DROP USER dbo", 15150)
	no("ALTER ROLE clerks ADD MEMBER absent", 15151)
	no("ALTER ROLE absent ADD MEMBER app", 15151)
	no("DROP SCHEMA sales", 3729)
	no("GRANT SELECT ON dbo.absent TO app", 15151)
	no("GRANT SELECT TO absent", 15151)
	no("GRANT NONSENSE TO app", 102)
	no("GRANT SELECT TO db_datareader", 4617)
	no("GRANT VIEW SERVER STATE TO app", 4621)
	no(
		"EXECUTE AS USER = 'app'; GRANT SELECT ON SCHEMA::sales TO public",
		15151,
	) // the role may, so the role has to be named
	ok("REVERT; EXECUTE AS USER = 'app'; GRANT SELECT ON SCHEMA::sales TO public AS clerks; REVERT")
	no("REVOKE SELECT ON SCHEMA::sales FROM clerks", 4611)
	ok("REVOKE SELECT ON SCHEMA::sales FROM clerks CASCADE")
	ok("REVOKE SELECT ON SCHEMA::sales FROM clerks") // what is not there: no error
	ok("DROP USER app")
	if got := scalar[int](t, c, "SELECT COUNT(*) FROM sys.database_role_members"); got != 1 {
		t.Error(got)
	}
	// A login that was dropped leaves its user behind, without a login.
	ok("CREATE LOGIN gone WITH PASSWORD = 'Whatever-1'; CREATE USER gone FOR LOGIN gone; DROP LOGIN gone")
	if got := lines(t, c, "SELECT u.name FROM sys.database_principals u LEFT JOIN sys.server_principals p ON p.sid = "+
		"u.sid WHERE u.type = 'S' AND u.authentication_type = 1 AND p.sid IS NULL"); fmt.Sprint(
		got,
	) != "[gone]" {
		t.Error(got)
	}
	ok("CREATE LOGIN gone WITH PASSWORD = 'Whatever-1'; ALTER USER gone WITH LOGIN = gone, NAME = back")
}

// dbcreator drops any database, and what it makes is its own.
func TestDelegated(t *testing.T) {
	_, addr := scene(t)
	c := conn(t, addr, "owner1", "Owner-12345", "")
	must(t, c, "CREATE DATABASE mine")
	if got := scalar[string](t, c, "SELECT SUSER_SNAME(owner_sid) FROM sys.databases WHERE name = "+
		"N'mine'"); got != "owner1" {
		t.Error(got)
	}
	refused(t, c, "ALTER AUTHORIZATION ON DATABASE::mine TO app", 15151) // no IMPERSONATE on it
	refused(t, c, "CREATE LOGIN x WITH PASSWORD = 'Whatever-1'", 15247)
	refused(t, c, "KILL 51", 6102)
	must(
		t,
		c,
		"USE mine; CREATE ROLE r; USE master; ALTER DATABASE mine SET SINGLE_USER WITH ROLLBACK IMMEDIATE; DROP "+
			"DATABASE mine",
	)
}

func TestGate(t *testing.T) {
	s, addr := scene(t)
	c := conn(t, addr, "sa", saPassword, "")
	ctx := context.Background()
	idle := conn(t, addr, "app", "App-123456", "tickets_prod")
	refused(t, c, "DROP DATABASE tickets_prod", 3702)
	refused(t, c, "ALTER DATABASE tickets_prod MODIFY NAME = x", 5030, 5069)
	refused(t, c, "ALTER DATABASE tickets_prod SET SINGLE_USER WITH NO_WAIT", 5070, 5069)
	refused(t, c, "ALTER DATABASE tickets_prod COLLATE Latin1_General_CI_AS", 5030, 5072)
	// Without a termination clause it waits for ever; it shows as blocked.
	watch := conn(t, addr, "sa", saPassword, "")
	waits, cancel := context.WithCancel(ctx)
	done := make(chan error, 1)
	go func() {
		_, err := c.ExecContext(waits, "ALTER DATABASE tickets_prod SET SINGLE_USER")
		done <- err
	}()
	comes(t, watch, "[ALTER DATABASE|LCK_M_X|blocked]", "SELECT command, wait_type, "+
		"CASE WHEN blocking_session_id > 50 "+
		"THEN 'blocked' END FROM sys.dm_exec_requests WHERE session_id <> @@SPID")
	cancel()
	if err := <-done; !errors.Is(err, context.Canceled) {
		t.Error(err)
	}
	if got := scalar[string](t, watch, "SELECT user_access_desc FROM sys.databases WHERE name = "+
		"N'tickets_prod'"); got != "MULTI_USER" {
		t.Error(got)
	}
	// ROLLBACK AFTER waits, then ends them. The work that was not committed is gone.
	must(t, idle, "BEGIN TRAN; INSERT sales.lines VALUES (7)")
	began := time.Now()
	must(t, c, "ALTER DATABASE tickets_prod SET SINGLE_USER WITH ROLLBACK AFTER 1 SECONDS")
	if d := time.Since(began); d < 900*time.Millisecond || d > 4*time.Second {
		t.Error(d)
	}
	if _, err := idle.ExecContext(ctx, "SELECT 1"); err == nil {
		t.Error("the session lives")
	}
	// The trap: from master, the one place is free for anybody.
	thief := conn(t, addr, "app", "App-123456", "tickets_prod")
	refused(t, c, "USE tickets_prod", 924)
	refused(t, c, "DROP DATABASE tickets_prod", 3702)
	refused(t, c, "ALTER DATABASE tickets_prod SET MULTI_USER", 5064, 5069)
	refused(t, c, "ALTER DATABASE tickets_prod SET SINGLE_USER WITH ROLLBACK IMMEDIATE", 5064, 5069)
	must(
		t,
		c,
		fmt.Sprintf(
			"KILL %d",
			scalar[int](t, c, "SELECT session_id FROM sys.dm_exec_sessions WHERE database_id = DB_ID(N'tickets_prod')"),
		),
	)
	comes(t, c, "[]", "SELECT session_id FROM sys.dm_exec_sessions WHERE database_id = DB_ID(N'tickets_prod')")
	_ = thief
	// Held: USE first, and stay until the last step.
	must(t, c, "USE tickets_prod", "ALTER DATABASE tickets_prod SET SINGLE_USER WITH ROLLBACK IMMEDIATE")
	if _, err := open(t, addr, "app", "App-123456", "tickets_prod"); number(err) != 18456 && number(err) != 4060 {
		t.Error(err)
	}
	if _, err := open(t, addr, "sa", saPassword, "tickets_prod"); err == nil {
		t.Error("even sysadmin is kept out")
	}
	must(t, c, "SELECT COUNT(*) FROM sales.lines")
	if got := scalar[int](t, c, "SELECT COUNT(*) FROM sales.lines"); got != 0 {
		t.Error("what was not committed is there")
	}
	// RESTRICTED_USER keeps ordinary users out, not db_owner, dbcreator, sysadmin.
	must(t, c, "ALTER DATABASE tickets_prod SET RESTRICTED_USER WITH ROLLBACK IMMEDIATE", "USE master")
	if _, err := open(t, addr, "app", "App-123456", "tickets_prod"); err == nil {
		t.Error("let in")
	}
	off(conn(t, addr, "owner1", "Owner-12345", "tickets_prod"))
	gone(t, c, "owner1")
	// Set aside: renamed, then offline; nobody gets in; back again it is whole.
	must(
		t,
		c,
		"ALTER DATABASE tickets_prod MODIFY NAME = [tickets_prod.aside]",
		"ALTER DATABASE [tickets_prod.aside] SET OFFLINE WITH ROLLBACK IMMEDIATE",
	)
	if _, err := open(t, addr, "sa", saPassword, "tickets_prod.aside"); err == nil {
		t.Error("let in")
	}
	refused(t, c, "USE [tickets_prod.aside]", 942)
	refused(t, c, "ALTER DATABASE [tickets_prod.aside] MODIFY NAME = tickets_prod", 942, 5069)
	if got := lines(t, c, "SELECT state_desc, collation_name, user_access_desc, SUSER_SNAME(owner_sid), "+
		"HAS_DBACCESS(name) FROM sys.databases WHERE name = N'tickets_prod.aside'"); fmt.Sprint(
		got,
	) != "[OFFLINE|<nil>|RESTRICTED_USER|owner1|0]" {
		t.Error(got)
	}
	must(
		t,
		c,
		"ALTER DATABASE [tickets_prod.aside] SET ONLINE",
		"ALTER DATABASE [tickets_prod.aside] MODIFY NAME = tickets_prod",
		"ALTER DATABASE tickets_prod SET MULTI_USER",
	)
	off(conn(t, addr, "app", "App-123456", "tickets_prod"))
	gone(t, c, "app")
	must(t, c, "DROP DATABASE tickets_prod")
	_ = s
}

func TestModelBusy(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	other := conn(t, addr, "sa", saPassword, "model")
	refused(t, c, "CREATE DATABASE x", 1807)
	must(t, other, "USE master")
	must(t, c, "CREATE DATABASE x")
}

func TestKill(t *testing.T) {
	s, addr := scene(t)
	c := conn(t, addr, "sa", saPassword, "")
	ctx := context.Background()
	own := scalar[int](t, c, "SELECT @@SPID")
	refused(t, c, fmt.Sprint("KILL ", own), 6104)
	refused(t, c, "KILL 0", 6101)
	refused(t, c, "KILL 3", 6107)
	refused(t, c, "KILL 999", 6106)
	refused(t, c, "BEGIN TRAN; KILL 999; ", 6115)
	must(t, c, "ROLLBACK")
	// A number is used again at once, so it goes with the time of the log-in.
	idle := conn(t, addr, "app", "App-123456", "tickets_prod")
	id := scalar[int](t, idle, "SELECT @@SPID")
	mark := func() string {
		return scalar[string](
			t,
			c,
			"SELECT CONVERT(varchar(30), s.login_time, 126) + ' ' + CONVERT(varchar(36), c.connection_id) FROM "+
				"sys.dm_exec_sessions s JOIN sys.dm_exec_connections c ON c.session_id = s.session_id WHERE "+
				"s.session_id = @p1",
			id,
		)
	}
	first := mark()
	refused(t, c, fmt.Sprintf("KILL %d WITH STATUSONLY", id), 6120)
	must(t, c, fmt.Sprint("KILL ", id))
	_, err := idle.ExecContext(ctx, "SELECT 1")
	if err == nil {
		t.Error("the session lives")
	}
	t.Logf("an idle session that was killed sees: %v", err)
	again := conn(t, addr, "app", "App-123456", "tickets_prod")
	if got := scalar[int](t, again, "SELECT @@SPID"); got != id {
		t.Errorf("session %d, was %d", got, id)
	}
	if mark() == first {
		t.Error("two sessions with one mark")
	}
	// Compared within one statement: who is another by now is left alone.
	stmt := fmt.Sprintf(
		`IF EXISTS (SELECT 1 FROM sys.dm_exec_connections WHERE session_id = %d AND connection_id = '%s') KILL %d`,
		id,
		strings.Fields(first)[1],
		id,
	)
	must(t, c, stmt)
	must(t, again, "SELECT 1")
	// A busy one is told.
	busy := make(chan error, 1)
	go func() {
		_, err := again.ExecContext(ctx, "WAITFOR DELAY '00:00:30'")
		busy <- err
	}()
	comes(t, c, "[WAITFOR]", "SELECT command FROM sys.dm_exec_requests WHERE session_id = @p1", id)
	must(t, c, fmt.Sprint("KILL ", id))
	err = <-busy
	e, _ := errors.AsType[mssql.Error](err)
	t.Logf("a busy session that was killed sees: %v (%T)", err, err)
	if se, ok := errors.AsType[mssql.ServerError](err); ok {
		t.Log(se)
	} else if e.Number != 596 && e.Number != 0 {
		t.Error(err)
	}
	// Rolling back takes its time; then it says how far it is.
	s.Instance.SetHooks(Hooks{RollbackPerRow: 50 * time.Millisecond})
	writer := conn(t, addr, "app", "App-123456", "tickets_prod")
	must(t, writer, "BEGIN TRAN; INSERT sales.lines VALUES (1), (2), (3), (4), (5), (6), (7), (8), (9), (10)")
	wid := scalar[int](t, writer, "SELECT @@SPID")
	must(t, c, fmt.Sprint("KILL ", wid))
	comes(t, c, "[KILLED/ROLLBACK|rollback]", "SELECT command, status "+
		"FROM sys.dm_exec_requests WHERE session_id = @p1 "+
		"AND percent_complete > 0", wid)
	must(t, c, fmt.Sprintf("KILL %d WITH STATUSONLY", wid))
	comes(t, c, "[]", "SELECT 1 FROM sys.dm_exec_sessions WHERE session_id = @p1", wid)
	if got := scalar[int](t, c, "SELECT COUNT(*) FROM tickets_prod.sales.lines"); got != 0 {
		t.Error(got)
	}
}

func TestBlocking(t *testing.T) {
	_, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	must(
		t,
		c,
		"CREATE DATABASE d",
		"USE d; CREATE TABLE t (id int); INSERT t VALUES (1)",
		"BEGIN TRAN; UPDATE t SET id = 2",
	)
	other := conn(t, addr, "sa", saPassword, "d")
	done := make(chan error, 1)
	go func() { _, err := other.ExecContext(context.Background(), "SELECT * FROM t"); done <- err }()
	comes(t, c, "[LCK_M_S|suspended|me]", "SELECT r.wait_type, r.status, "+
		"CASE WHEN r.blocking_session_id = @@SPID THEN "+
		"'me' END FROM sys.dm_exec_requests r WHERE r.blocking_session_id <> 0")
	third := conn(t, addr, "sa", saPassword, "d")
	refused(t, third, "SET LOCK_TIMEOUT 100; SELECT * FROM t", 1222)
	must(t, third, "SELECT * FROM t WITH (NOLOCK)")
	must(t, c, "COMMIT")
	if err := <-done; err != nil {
		t.Error(err)
	}
}

package server

import (
	"fmt"
	"regexp"
	"strings"
	"testing"
)

// scene is an instance with something in it.
func scene(t *testing.T) (*Server, string) {
	s, addr := start(t)
	c := conn(t, addr, "sa", saPassword, "")
	must(
		t,
		c,
		"CREATE LOGIN owner1 WITH PASSWORD = 'Owner-12345'",
		"CREATE LOGIN app WITH PASSWORD = 'App-123456'",
		"CREATE LOGIN watcher WITH PASSWORD = 'Watch-12345'",
		`CREATE DATABASE [tickets_prod] ON PRIMARY (NAME = N'tickets', FILENAME = N'/data/tickets.mdf', SIZE = 64MB,
			MAXSIZE = 1GB, FILEGROWTH = 10%), FILEGROUP [extra] (NAME = N'tickets2', FILENAME = N'/data/tickets2.ndf', SIZE = 16MB)
		 LOG ON (NAME = N'tickets_log', FILENAME = N'/data/tickets.ldf', SIZE = 32MB,
			MAXSIZE = UNLIMITED, FILEGROWTH = 16MB) COLLATE Latin1_General_100_CS_AS_SC_UTF8`,
		"ALTER AUTHORIZATION ON DATABASE::[tickets_prod] TO [owner1]",
		"ALTER DATABASE [tickets_prod] SET RECOVERY SIMPLE, READ_COMMITTED_SNAPSHOT ON WITH NO_WAIT",
		"CREATE DATABASE [wiki]",
		"USE [tickets_prod]",
		"CREATE SCHEMA [sales]",
		"CREATE TABLE dbo.orders (id int PRIMARY KEY, note nvarchar(100), amount bigint)",
		"CREATE TABLE sales.lines (id int)",
		"CREATE VIEW dbo.v AS SELECT 1 AS a",
		"CREATE USER app FOR LOGIN app WITH DEFAULT_SCHEMA = sales",
		"CREATE ROLE clerks",
		"ALTER ROLE clerks ADD MEMBER app",
		"ALTER ROLE db_datareader ADD MEMBER clerks",
		"GRANT SELECT, INSERT ON SCHEMA::sales TO clerks WITH GRANT OPTION",
		"DENY UPDATE ON dbo.orders (note) TO app",
		"INSERT dbo.orders VALUES (1, N'x', 5), (2, N'y', NULL)",
		"USE master",
		"GRANT VIEW SERVER STATE TO watcher",
		"ALTER SERVER ROLE dbcreator ADD MEMBER owner1",
		"USE wiki; EXEC sys.sp_addextendedproperty @name = N'genarch.set_aside', @value = N'{\"by\":\"ann\"}'",
		"USE master",
	)
	s.Instance.AddJob("nightly", "app", "tickets_prod", "EXEC dbo.nightly")
	return s, addr
}

func TestCatalogue(t *testing.T) {
	s, addr := scene(t)
	c := conn(t, addr, "sa", saPassword, "")
	idle := conn(t, addr, "app", "App-123456", "tickets_prod", "app name", "shop", "workstation id", "till7")
	must(t, idle, "BEGIN TRAN; INSERT sales.lines VALUES (1), (2)")
	defer s.Instance.Backup("wiki")()
	for _, q := range []struct{ query, want string }{
		{"SELECT CAST(SERVERPROPERTY('MachineName') AS nvarchar(128)), CAST(SERVERPROPERTY('InstanceName') AS " +
			"nvarchar(128)), CAST(SERVERPROPERTY('ServerName') AS nvarchar(128)), @@SERVERNAME, " +
			"CAST(SERVERPROPERTY('ProductMajorVersion') AS int), CAST(SERVERPROPERTY('EngineEdition') AS " +
			"int)", `standin\|<nil>\|standin\|standin\|16\|3`},
		{"SELECT (SELECT service_broker_guid FROM sys.databases WHERE name = N'msdb'), (SELECT create_date FROM " +
			"sys.databases WHERE database_id = 2), sqlserver_start_time FROM " +
			"sys.dm_os_sys_info", `.+\|20.+ UTC\|20.+ UTC`},
		{"SELECT name, database_id, SUSER_SNAME(owner_sid) AS owner, collation_name, compatibility_level, " +
			"recovery_model_desc, state_desc, user_access_desc, containment_desc, is_read_only, " +
			"is_auto_update_stats_on, is_read_committed_snapshot_on, HAS_DBACCESS(name) AS mine, CASE WHEN " +
			"database_id <= 4 OR is_distributor = 1 THEN CAST(1 AS bit) ELSE CAST(0 AS bit) END AS system FROM " +
			"sys.databases WHERE source_database_id IS NULL ORDER BY name",
			`master\|1\|sa\|SQL_Latin1_General_CP1_CI_AS\|160\|SIMPLE\|ONLINE\|MULTI_USER\|NONE\|false\|true\|false\|1\|true;model.*;msdb.*;tempdb.*;tickets_prod\|5\|owner1\|Latin1_General_100_CS_AS_SC_UTF8\|160\|SIMPLE\|ONLINE\|MULTI_USER\|NONE\|false\|true\|true\|1\|false;wiki.*`},
		{"SELECT d.name, SUM(CAST(f.size AS bigint)) * 8192 AS bytes, MAX(CASE WHEN f.type = 1 THEN f.physical_name " +
			"END) AS log FROM sys.databases AS d LEFT JOIN sys.master_files f ON f.database_id = d.database_id GROUP " +
			"BY d.name HAVING SUM(CAST(f.size AS bigint)) > 2048 ORDER BY bytes DESC, " +
			"d.name", `tickets_prod\|117440512\|/data/tickets.ldf`},
		{"SELECT name, type_desc, size/128, max_size, growth, is_percent_growth FROM sys.master_files WHERE " +
			"database_id = DB_ID(N'tickets_prod') ORDER BY " +
			"file_id", `tickets\|ROWS\|64\|131072\|10\|true;tickets_log\|LOG\|32\|-1\|2048\|false;` +
			`tickets2\|ROWS\|16\|-1\|8192\|false`},
		{"SELECT COUNT(*) FROM [tickets_prod].sys.tables WHERE is_ms_shipped = 0", "2"},
		{"SELECT s.name + N'.' + t.name, SUM(p.rows) FROM [tickets_prod].sys.tables t JOIN " +
			"[tickets_prod].sys.schemas s ON s.schema_id = t.schema_id JOIN [tickets_prod].sys.partitions p ON " +
			"p.object_id = t.object_id AND p.index_id IN (0, 1) GROUP BY s.name, t.name ORDER BY 1",
			`dbo\.orders\|2;sales\.lines\|2`},
		{"SELECT name, is_disabled, type_desc, default_database_name FROM sys.server_principals WHERE type IN ('S', " +
			"'U', 'G') AND name NOT LIKE '##%' ORDER BY name", `app\|false\|SQL_LOGIN\|master;owner1.*;sa.*;watcher.*`},
		{"SELECT l.name, CONVERT(varchar(10), l.password_hash, 1), is_policy_checked FROM sys.sql_logins l WHERE " +
			"l.name = @p1", `app\|0x0200[0-9A-F]{4}\|true`},
		{"SELECT r.name, m.name FROM sys.server_role_members rm JOIN sys.server_principals r ON r.principal_id = " +
			"rm.role_principal_id JOIN sys.server_principals m ON m.principal_id = rm.member_principal_id ORDER BY " +
			"1, 2", `dbcreator\|owner1;sysadmin\|sa`},
		{"SELECT p.name, sp.permission_name, sp.state_desc FROM sys.server_permissions sp INNER JOIN " +
			"sys.server_principals p ON p.principal_id = sp.grantee_principal_id WHERE sp.class = 100 AND p.name = " +
			"N'watcher' ORDER BY 2", `watcher\|CONNECT SQL\|GRANT;watcher\|VIEW SERVER STATE\|GRANT`},
		{"SELECT u.name, sp.name AS login, u.authentication_type_desc, u.default_schema_name FROM " +
			"[tickets_prod].sys.database_principals u LEFT JOIN sys.server_principals sp ON sp.sid = u.sid WHERE " +
			"u.type = 'S' AND u.principal_id > 4", `app\|app\|INSTANCE\|sales`},
		{"SELECT r.name, m.name FROM [tickets_prod].sys.database_role_members x JOIN " +
			"[tickets_prod].sys.database_principals r ON r.principal_id = x.role_principal_id JOIN " +
			"[tickets_prod].sys.database_principals m ON m.principal_id = x.member_principal_id ORDER BY " +
			"r.name", `clerks\|app;db_datareader\|clerks`},
		{"SELECT pr.name, pe.class_desc, pe.permission_name, pe.state_desc, COALESCE(s.name, o.name, N'') AS " +
			"securable, c.name FROM [tickets_prod].sys.database_permissions pe JOIN " +
			"[tickets_prod].sys.database_principals pr ON pr.principal_id = pe.grantee_principal_id LEFT JOIN " +
			"[tickets_prod].sys.schemas s ON pe.class = 3 AND s.schema_id = pe.major_id LEFT JOIN " +
			"[tickets_prod].sys.objects o ON pe.class = 1 AND o.object_id = pe.major_id LEFT JOIN " +
			"[tickets_prod].sys.columns c ON pe.class = 1 AND c.object_id = pe.major_id AND c.column_id = " +
			"pe.minor_id WHERE pr.name IN (N'app', N'clerks') AND pe.class <> 0 ORDER BY 1, 3",
			`app\|OBJECT_OR_COLUMN\|UPDATE\|DENY\|orders\|note;` +
				`clerks\|SCHEMA\|INSERT\|GRANT_WITH_GRANT_OPTION\|sales\|<nil>;clerks\|SCHEMA\|SELECT\|.*`},
		{"SELECT s.login_name, s.host_name, s.program_name, s.status, DB_NAME(s.database_id), " +
			"s.open_transaction_count, c.client_net_address, t.text FROM sys.dm_exec_sessions s LEFT JOIN " +
			"sys.dm_exec_connections c ON c.session_id = s.session_id OUTER APPLY " +
			"sys.dm_exec_sql_text(c.most_recent_sql_handle) t WHERE s.is_user_process = 1 AND s.session_id <> @@SPID " +
			"AND s.program_name = " +
			"N'shop'", `app\|till7\|shop\|sleeping\|tickets_prod\|1\|127\.0\.0\.1\|BEGIN TRAN;` +
			` INSERT sales\.lines VALUES \(1\), \(2\)`},
		{"SELECT st.session_id, SUM(dt.database_transaction_log_bytes_used) AS written, " +
			"MIN(at.transaction_begin_time) FROM sys.dm_tran_session_transactions st JOIN " +
			"sys.dm_tran_active_transactions at ON at.transaction_id = st.transaction_id JOIN " +
			"sys.dm_tran_database_transactions dt ON dt.transaction_id = st.transaction_id WHERE dt.database_id = " +
			"DB_ID(N'tickets_prod') GROUP BY st.session_id", `\d+\|240\|20.*`},
		{"SELECT r.command, DB_NAME(r.database_id), r.percent_complete, r.wait_type FROM sys.dm_exec_requests r " +
			"WHERE r.command IN ('BACKUP DATABASE', 'BACKUP LOG')", `BACKUP DATABASE\|wiki\|12\.5\|BACKUPIO`},
		{"SELECT TOP (1) database_id, COUNT(*) AS n FROM sys.dm_exec_sessions WHERE is_user_process = 1 GROUP BY " +
			"database_id ORDER BY COUNT(*) DESC", `1\|3`},
		{"SELECT resource_type, request_mode, request_session_id FROM sys.dm_tran_locks WHERE resource_database_id = " +
			"DB_ID(N'tickets_prod') ORDER BY resource_type", `DATABASE\|S\|\d+;OBJECT\|X\|\d+`},
		{"SELECT name, value FROM [wiki].sys.extended_properties WHERE class = 0 AND name LIKE " +
			"N'genarch.%'", `genarch\.set_aside\|\{"by":"ann"\}`},
		{"SELECT j.name, SUSER_SNAME(j.owner_sid), s.database_name FROM msdb.dbo.sysjobs j JOIN msdb.dbo.sysjobsteps " +
			"s ON s.job_id = j.job_id WHERE j.enabled = 1", `nightly\|app\|tickets_prod`},
		{"SELECT COUNT(*), SUM(CASE WHEN name LIKE N'%[_]UTF8' THEN 1 ELSE 0 END) FROM " +
			"sys.fn_helpcollations()", `17\|3`},
		{"SELECT entity_name, permission_name FROM fn_my_permissions(NULL, 'SERVER') WHERE permission_name IN " +
			"('CONTROL SERVER', 'ALTER ANY LOGIN') ORDER BY 2", `server\|ALTER ANY LOGIN;server\|CONTROL SERVER`},
		{"SELECT HAS_PERMS_BY_NAME(NULL, NULL, 'CREATE ANY DATABASE'), HAS_PERMS_BY_NAME(N'tickets_prod', " +
			"'DATABASE', 'ALTER'), HAS_PERMS_BY_NAME(N'absent', 'DATABASE', 'ALTER'), IS_SRVROLEMEMBER('sysadmin'), " +
			"IS_SRVROLEMEMBER('dbcreator', N'owner1')", `1\|1\|<nil>\|1\|1`},
		{"WITH n AS (SELECT database_id FROM sys.databases WHERE database_id > 4), m (id) AS (SELECT database_id " +
			"FROM n UNION ALL SELECT 99) SELECT COUNT(*), MAX(id) FROM m WHERE NOT EXISTS (SELECT 1 FROM " +
			"sys.database_mirroring x WHERE x.database_id = m.id AND x.mirroring_guid IS NOT NULL)", `3\|99`},
		{"SELECT CAST(value_in_use AS int) FROM sys.configurations WHERE name = N'contained database " +
			"authentication'", "0"},
		{"SELECT DATEDIFF(second, login_time, GETDATE()), DATEADD(day, 1, CAST('2026-02-28' AS date)), " +
			"ISNULL(NULLIF(program_name, N''), N'-') FROM sys.dm_exec_sessions WHERE session_id = " +
			"@@SPID", `0\|2026-03-01.*\|genarch-test`},
		{"SELECT d.name, x.n FROM sys.databases d CROSS APPLY (SELECT COUNT(*) AS n FROM sys.master_files f WHERE " +
			"f.database_id = d.database_id) x WHERE x.n > 2", `tickets_prod\|3`},
		{"SELECT v.a, QUOTENAME(v.b) FROM (VALUES (1, N'x]y'), (2, NULL)) AS v (a, b) ORDER BY v.a " +
			"DESC", `2\|<nil>;1\|\[x\]\]y\]`},
		{"SELECT name FROM sys.databases WHERE name = N'TICKETS_PROD ' AND name <> N'tickets_prod' COLLATE " +
			"Latin1_General_BIN2", ""},
		{"SELECT CAST(SERVERPROPERTY('InstanceDefaultDataPath') AS nvarchar(260)), " +
			"CAST(SERVERPROPERTY('InstanceDefaultLogPath') AS " +
			"nvarchar(260))", `/var/opt/mssql/data/\|/var/opt/mssql/data/`},
		{"IF DB_ID(N'wiki') IS NOT NULL SELECT 'yes' AS a ELSE SELECT 'no'", "yes"},
		{"DECLARE @n int; SELECT @n = COUNT(*) FROM sys.databases; SET @n += 1; SELECT @n", "7"},
		{"EXEC [tickets_prod].sys.sp_executesql N'SELECT DB_NAME(), SUM(CAST(FILEPROPERTY(name, N''SpaceUsed'') AS " +
			"bigint)) * 8192 FROM sys.database_files WHERE type = 0'", `tickets_prod\|2097152`},
		{"SELECT DB_NAME()", "master"},
		{"EXEC sp_executesql N'SELECT name FROM sys.databases WHERE database_id = @id', N'@id int', @id = 4", "msdb"},
	} {
		args := []any{}
		if strings.Contains(q.query, "@p1") {
			args = append(args, "app")
		}
		got := strings.Join(lines(t, c, q.query, args...), ";")
		if !regexp.MustCompile("^(?:" + q.want + ")$").MatchString(got) {
			t.Errorf("%s\n got %s\nwant %s", q.query, got, q.want)
		}
	}
	for _, q := range []struct {
		query string
		want  int32
	}{
		{"SELECT * FROM sys.nothing", 208}, {"SELECT nothing FROM sys.databases", 207}, {"SELECT d.x FROM " +
			"sys.databases d", 207}, {"SELECT e.name FROM sys.databases d", 4104},
		{"SELECT NOPE(1)", 195}, {"SELECT name FROM sys.databases a JOIN sys.master_files b ON a.database_id = " +
			"b.database_id", 209}, {"SELECT @x", 137}, {"SELECT CAST(N'x' AS int)", 245},
		{"SELECT 1 / 0", 8134}, {"SELECT (SELECT name FROM sys.databases)", 512}, {"SELECT 'x", 105}, {"SELECT name " +
			"FROM [absent].sys.tables", 208}, {"EXEC no_such_thing", 2812},
		{"SELECT * FROM sys.databases WHERE [" + strings.Repeat("n", 129) + "] = 1", 103},
	} {
		refused(t, c, q.query, q.want)
	}
}

func TestVisibility(t *testing.T) {
	s, addr := scene(t)
	app := conn(t, addr, "app", "App-123456", "tickets_prod")
	sa := conn(t, addr, "sa", saPassword, "")
	watcher := conn(t, addr, "watcher", "Watch-12345", "")
	// An ordinary login: all names (public holds VIEW ANY DATABASE), nothing of what others do.
	if got := lines(t, app, "SELECT name, HAS_DBACCESS(name) FROM sys.databases WHERE database_id > 4 ORDER BY "+
		"name"); fmt.Sprint(
		got,
	) != "[tickets_prod|1 wiki|0]" {
		t.Error(got)
	}
	if got := scalar[int](t, app, "SELECT COUNT(*) FROM sys.dm_exec_sessions"); got != 1 {
		t.Error(got)
	}
	refused(t, app, "SELECT * FROM sys.dm_exec_connections", 300, 297)
	refused(t, app, "SELECT * FROM [wiki].sys.tables", 916)
	refused(t, app, "USE wiki", 916)
	refused(t, app, "USE absent", 911)
	refused(t, app, "KILL 60", 6102)
	refused(t, app, "DROP DATABASE wiki", 3701)
	refused(t, app, "DROP DATABASE absent", 3701)
	refused(t, app, "ALTER DATABASE wiki SET OFFLINE", 5011, 5069)
	refused(t, app, "CREATE DATABASE mine", 262)
	if got := lines(t, app, "SELECT name FROM sys.server_principals WHERE type = 'S' ORDER BY name"); fmt.Sprint(
		got,
	) != "[app sa]" {
		t.Error(got)
	}
	if got := scalar[int](t, watcher, "SELECT COUNT(*) FROM sys.dm_exec_sessions WHERE is_user_process = 1"); got < 3 {
		t.Error(got)
	}
	if got := lines(t, watcher, "SELECT database_id FROM sys.master_files"); len(got) != 0 {
		t.Error(got)
	}
	// Revoked, only master, tempdb and one's own are in sight.
	must(t, sa, "USE master; REVOKE VIEW ANY DATABASE FROM public")
	if got := lines(t, app, "SELECT name FROM sys.databases ORDER BY name"); fmt.Sprint(
		got,
	) != "[master tempdb tickets_prod]" {
		t.Error(got)
	}
	// DENY wins over every grant; a member of a role that reads is refused.
	if got := lines(t, app, "SELECT COUNT(*) FROM dbo.orders"); fmt.Sprint(got) != "[2]" {
		t.Error(got)
	}
	must(t, sa, "USE tickets_prod; DENY SELECT ON dbo.orders TO clerks")
	refused(t, app, "SELECT * FROM dbo.orders", 229)
	if got := scalar[int](t, app, "SELECT ISNULL(HAS_PERMS_BY_NAME(N'dbo.orders', 'OBJECT', 'SELECT'), 0)"); got != 0 {
		t.Error("DENY did not win")
	}
	if got := lines(t, sa, "EXECUTE AS USER = 'app'; SELECT HAS_PERMS_BY_NAME(N'sales.lines', 'OBJECT', 'INSERT'), "+
		"USER_NAME(); REVERT"); fmt.Sprint(
		got,
	) != "[1|app]" {
		t.Error(got)
	}
	if got := lines(t, sa, "SELECT USER_NAME(), ORIGINAL_LOGIN()"); fmt.Sprint(got) != "[dbo|sa]" {
		t.Error(got)
	}
	_ = s
}

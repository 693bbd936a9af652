package demo

import (
	"context"
	"database/sql"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"

	"example.com/genarch/engine/sqlserver/sqlserverlocal"
	"example.com/genarch/localdb"
)

// sqlserverVersion is what customs is.
const sqlserverVersion = "16.0.4125.3"

// tariffJob is a job of the server's agent, which comes back each night.
const tariffJob = "nightly tariffs"

// jobProgram is how the agent calls itself when it runs the first step of a job.
func jobProgram(ctx context.Context, s *localdb.Server, job string) string {
	number := "0x0"
	if db, err := sql.Open("sqlserver", s.DSN("")); err == nil {
		defer db.Close()
		_ = db.QueryRowContext(ctx, "SELECT CONVERT(varchar(34), CONVERT(binary(16), job_id), 1) "+
			"FROM msdb.dbo.sysjobs WHERE name = @p1", job).Scan(&number)
	}
	return "SQLAgent - TSQL JobStep (Job " + number + " : Step 1)"
}

// clearing are the databases of what the company clears through customs.
var clearing = []demoDatabase{
	{"clearance", "clearance_app", "", map[string]int{"declarations": 2400, "seals": 700}},
	{"tariffs", "tariffs_app", "", map[string]int{"codes": 1800}},
	{"bonded_store", "store_app", "", map[string]int{"goods": 900}},
}

// startSQLServer starts a stand-in.
func startSQLServer(ctx context.Context, cfg localdb.Config) (*localdb.Server, error) {
	program, err := standin()
	if err != nil {
		return nil, err
	}
	return sqlserverlocal.Start(ctx, program, sqlserverVersion, cfg)
}

// seedSQLServer fills customs, which is empty at each start. What deserves a look: a user who is denied
// what its role has, a user whose login is gone, and what guests may do.
func seedSQLServer(ctx context.Context, b demoServer, s *localdb.Server) error {
	db, err := sql.Open("sqlserver", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	password := " WITH PASSWORD = N'" + s.Password.Reveal() + "', CHECK_POLICY = OFF"
	var texts []string
	for _, h := range demoDatabases[b.name] {
		name := h.name + b.suffix
		texts = append(texts, "CREATE LOGIN "+h.owner+password, "CREATE DATABASE "+name,
			"USE "+name+"; CREATE USER "+h.owner+" FOR LOGIN "+h.owner+"; ALTER ROLE db_owner ADD MEMBER "+h.owner)
		for _, table := range slices.Sorted(maps.Keys(h.tables)) {
			texts = append(texts, "USE "+name+"; CREATE TABLE dbo."+table+
				" (id bigint PRIMARY KEY, code nvarchar(20) NOT NULL, detail nvarchar(200))")
			texts = append(texts, inserts(name, table, h.tables[table])...)
		}
	}
	in := func(database, text string) string { return "USE " + database + b.suffix + "; " + text }
	texts = append(texts,
		"ALTER DATABASE clearance"+b.suffix+" ADD FILEGROUP scans",
		"ALTER DATABASE clearance"+b.suffix+" ADD FILE (NAME = scans_1, FILENAME = '/var/opt/mssql/data/scans_1.ndf', "+
			"SIZE = 64 MB, MAXSIZE = 2 GB, FILEGROWTH = 64 MB) TO FILEGROUP scans",
		"ALTER DATABASE bonded_store"+b.suffix+" SET RECOVERY SIMPLE",
		"CREATE LOGIN nightly_tariffs"+password, in("tariffs", "CREATE USER nightly_tariffs FOR LOGIN nightly_tariffs"),
		in("tariffs", "ALTER ROLE db_datareader ADD MEMBER nightly_tariffs"),
		"EXEC msdb.dbo.sp_add_job @job_name = N'"+tariffJob+"', @owner_login_name = N'nightly_tariffs'",
		"EXEC msdb.dbo.sp_add_jobstep @job_name = N'"+tariffJob+"', @step_name = N'count', "+
			"@database_name = N'tariffs"+b.suffix+"', @command = N'SELECT COUNT(*) FROM dbo.codes'",
		"CREATE LOGIN declarant_desk"+password, in("clearance", "CREATE USER declarant_desk FOR LOGIN declarant_desk"),
		in("clearance", "CREATE ROLE declarants"), in("clearance", "ALTER ROLE declarants ADD MEMBER declarant_desk"),
		in("clearance", "GRANT SELECT, INSERT, UPDATE ON SCHEMA::dbo TO declarants"),
		in("clearance", "DENY UPDATE ON dbo.seals TO declarant_desk"),
		"CREATE LOGIN agent_tarnes"+password, in("clearance", "CREATE USER agent_tarnes FOR LOGIN agent_tarnes"),
		in("clearance", "ALTER ROLE declarants ADD MEMBER agent_tarnes"), "DROP LOGIN agent_tarnes",
		in("tariffs", "GRANT CONNECT TO guest"), in("tariffs", "GRANT SELECT ON dbo.codes TO guest"))
	for _, text := range texts {
		if _, err := db.ExecContext(ctx, text); err != nil {
			return fmt.Errorf("%.200s: %w", strings.ReplaceAll(text, s.Password.Reveal(), "…"), err)
		}
	}
	return nil
}

// inserts fill a table, some hundred rows by each statement.
func inserts(database, table string, rows int) (texts []string) {
	const most = 500 // the server takes 1,000
	for from := 1; from <= rows; from += most {
		var values []string
		for i := from; i < min(from+most, rows+1); i++ {
			values = append(values, fmt.Sprintf("(%d, N'OL-%06d', N'noted')", i, i))
		}
		texts = append(texts, "USE "+database+"; INSERT dbo."+table+" VALUES "+strings.Join(values, ", "))
	}
	return texts
}

// sqlserver keeps one session that repeats statements with a pause.
func (l *Demo) sqlserver(ctx context.Context, s *localdb.Server, database, account, program string, pause time.Duration,
	statements ...string) {
	address, err := url.Parse(s.DSN(database))
	if err != nil {
		return
	}
	address.User = url.UserPassword(account, s.Password.Reveal())
	more := address.Query()
	more.Set("app name", program)
	address.RawQuery = more.Encode()
	l.pooled(ctx, "sqlserver", address.String(), pause, statements)
}

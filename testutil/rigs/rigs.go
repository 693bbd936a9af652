// Package rigs tells the suite of package enginetest how clients speak to the servers
// that run here.
package rigs

import (
	"io"
	"log"
	"strings"

	"github.com/go-sql-driver/mysql"
	_ "github.com/jackc/pgx/v5/stdlib"  // clients of PostgreSQL
	_ "github.com/microsoft/go-mssqldb" // clients of SQL Server

	"example.com/genarch/engine"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/localdb"
)

func init() { _ = mysql.SetLogger(log.New(io.Discard, "", 0)) } // clients that are ended complain

// Of is the rig of a running server.
func Of(e engine.Engine, running *localdb.Server) enginetest.Rig {
	switch e.Describe().ID {
	case "sqlserver":
		return sqlServer(e, running)
	case "mariadb":
		return mariaDB(e, running)
	case "mysql":
		rig := mariaDB(e, running)
		rig.DSN = func(database string) string { return running.DSN(database) + "&timeout=5s" }
		return rig
	}
	return postgreSQL(e, running)
}

func postgreSQL(e engine.Engine, running *localdb.Server) enginetest.Rig {
	return enginetest.Rig{Engine: e, Running: running, Driver: "pgx", Main: "postgres", Numbered: true,
		DSN:    func(database string) string { return running.DSN(database) + "&application_name=suite-client" },
		Number: "SELECT pg_backend_pid()", Begin: "BEGIN",
		Sleep: "SELECT pg_sleep(60)",
		Busy:  "SELECT pg_sleep(0.1), COUNT(*) FROM shifts",
		Quote: func(name string) string { return `"` + strings.ReplaceAll(name, `"`, `""`) + `"` },
		Account: func(name, password, _ string) []string {
			return []string{"CREATE ROLE " + name + " LOGIN PASSWORD '" + password + "'"}
		},
	}
}

// On MariaDB administrators get in at a closed gate, so Busy is not busy all the time.
func mariaDB(e engine.Engine, running *localdb.Server) enginetest.Rig {
	return enginetest.Rig{Engine: e, Running: running, Driver: "mysql", Main: "mysql", Host: "127.0.0.1",
		DSN:    func(database string) string { return running.DSN(database) + "?timeout=5s" },
		Number: "SELECT CONNECTION_ID()", Begin: "BEGIN",
		Sleep: "SELECT SLEEP(60) FROM shifts",
		Busy:  "SELECT COUNT(*) FROM shifts",
		Quote: func(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" },
		Account: func(name, password, database string) []string {
			at := "'" + name + "'@'127.0.0.1'"
			return []string{"CREATE USER " + at + " IDENTIFIED BY '" + password + "'",
				"GRANT SELECT ON `" + strings.ReplaceAll(database, "_", `\_`) + "`.* TO " + at}
		},
	}
}

func sqlServer(e engine.Engine, running *localdb.Server) enginetest.Rig {
	quote := func(name string) string { return "[" + strings.ReplaceAll(name, "]", "]]") + "]" }
	return enginetest.Rig{Engine: e, Running: running, Driver: "sqlserver", Main: "master", Numbered: true,
		DSN:    running.DSN,
		Number: "SELECT CAST(@@SPID AS bigint)", Begin: "BEGIN TRANSACTION",
		Sleep: "WAITFOR DELAY '00:01:00'",
		Busy:  "SELECT COUNT(*) FROM shifts",
		Quote: quote,
		Account: func(name, password, database string) []string {
			in := quote(database) + ".sys.sp_executesql N'"
			return []string{"CREATE LOGIN " + quote(name) + " WITH PASSWORD = N'" + password + "', CHECK_POLICY = OFF",
				"EXEC " + in + "CREATE USER " + quote(name) + " FOR LOGIN " + quote(name) + "'",
				"EXEC " + in + "GRANT SELECT TO " + quote(name) + "'"}
		},
	}
}

package e2e

import (
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"example.com/genarch/testutil"
)

const seedSQLServer = `SET ANSI_NULLS ON
SET QUOTED_IDENTIFIER ON
GO
USE [berths_prod]
GO
/* the fares
GO */
CREATE TABLE dbo.fares (n int PRIMARY KEY, label nvarchar(20))
INSERT dbo.fares VALUES (1, N'one
GO
way')
GO
CREATE SCHEMA cargo AUTHORIZATION harbour_app
GO
CREATE TABLE cargo.crates (n int)
GO
INSERT cargo.crates VALUES (1), (2)
go 3  -- three times
CREATE VIEW dbo.cheap AS SELECT * FROM dbo.fares WHERE n < 2
GO
`

// testFillSQLServer runs scripts in a database of the fourth engine.
func testFillSQLServer(t *testing.T, c customs) {
	c.exec(t, "CREATE DATABASE berths_prod", "ALTER AUTHORIZATION ON DATABASE::berths_prod TO harbour_app",
		"CREATE DATABASE [odd ]] name';]", "CREATE DATABASE others_prod",
		"USE others_prod; CREATE TABLE secret (n int)", "USE master")
	fill := func(code int, text string, more ...string) string {
		t.Helper()
		return c.run(code, append([]string{"database", "fill", "customs/berths_prod", scriptFile(t, text), "--yes"},
			more...)...).err
	}
	said := fill(0, seedSQLServer, "--accept", "script.owners")
	has(t, "what it holds", said, "seed.sql", "9 batches: 3 × INSERT", "in one transaction", "belong to dbo",
		"CREATE LOGIN [genarch_fill_", "GRANT SELECT, INSERT")
	has(t, "what it did", said, "DONE: 9 batches", "TABLE: fares: new, with 1 row", "cargo.crates: new, with 6 rows",
		"TABLES: 0 before, 2 now")
	if got := c.one(t, `SELECT CONCAT((SELECT label FROM berths_prod.dbo.fares), '|', (SELECT USER_NAME(principal_id)
		FROM berths_prod.sys.schemas WHERE name = N'cargo'))`); got != "one\nGO\nway|dbo" {
		t.Errorf("it made %q", got)
	}
	c.nothingFilled(t)
	r := fill(1, "INSERT dbo.fares VALUES (7, N'x')\nGO\n\nINSERT dbo.fares VALUES (8, N'y')\n"+
		"INSERT dbo.fares VALUES (1, N'whispered')\nGO\n")
	has(t, "where it failed", r, "line 5, column 1, INSERT", "PRIMARY KEY", "nothing of it took effect", "reverted")
	lacks(t, "what a row holds", r, "whispered")
	r = fill(1, "INSERT dbo.fares VALUES (7, N'x')\nGO\nINSERT nowhere VALUES (8)\n", "--one-transaction=false")
	has(t, "what stays", r, "line 3, column 1", "1 batch up to line 1 took effect", "stuck")
	if got := c.one(t, "SELECT CONVERT(varchar(9), COUNT(*)) FROM berths_prod.dbo.fares"); got != "2" {
		t.Errorf("%s rows", got)
	}
	r = fill(1, "INSERT dbo.fares VALUES (30, N'x')\nINSERT dbo.fares VALUES (1, N'y')\n", "--one-transaction=false")
	has(t, "what stays of a batch", r, "line 2, column 1", "stuck",
		"of the batch at line 1 what stood before the error may have taken effect, and stays")
	lacks(t, "what stays of a batch", r, "nothing of it took effect")
	r = fill(1, "INSERT dbo.fares VALUES (31, N'x')\nINSERT INSERT\n", "--one-transaction=false")
	has(t, "what the server cannot read", r, "nothing of it took effect", "reverted")
	if got := c.one(t, "SELECT STRING_AGG(n, ' ') FROM berths_prod.dbo.fares"); got != "1 7 30" {
		t.Errorf("the rows %s", got)
	}
	c.nothingFilled(t)
	has(t, "tables that are there", fill(3, "CREATE TABLE Fares (n int)\nGO\nDROP TABLE cargo.crates\n"),
		"script.existing", "Fares (line 1)", "script.drops", "cargo.crates (line 3)")
	has(t, "what is not run", fill(1, ":r other.sql\nUSE others_prod\nGO\nCREATE LOGIN mate WITH PASSWORD = 'x'\nGO\n"+
		"GRANT SELECT TO public\nEXEC master..xp_cmdshell 'dir'\n"), "script.refused", "line 1 (:r)", "line 6 (GRANT)",
		"script.outside", "others_prod (line 2)", "line 4 (CREATE LOGIN)", "script.grants")
	has(t, "cut off", fill(1, "SELECT 1\nGO\nSELECT 'x"), "line 3, column 8", "has no end")
	if r := c.cli("CREATE TABLE t (n int)\nGO\nINSERT t VALUES (1)", "database", "fill", "customs/odd ] name';", "-",
		"--yes"); r.code != 0 {
		t.Errorf("into a database of an odd name: %s", r.err)
	}
	testFillHostileSQLServer(t, c, fill)
}

// nothingFilled checks that no login, no user and no note of a script is left.
func (c customs) nothingFilled(t *testing.T) {
	t.Helper()
	if got := c.one(t, `SELECT CONCAT(
		(SELECT COUNT(*) FROM sys.server_principals WHERE name LIKE N'genarch[_]fill%'), ' ',
		(SELECT COUNT(*) FROM berths_prod.sys.database_principals WHERE name LIKE N'genarch[_]fill%'), ' ',
		(SELECT COUNT(*) FROM berths_prod.sys.objects WHERE name LIKE N'genarch[_]fill%'))`); got != "0 0 0" {
		t.Errorf("logins, users and notes of scripts that are left: %s", got)
	}
}

// testFillHostileSQLServer runs what hides from whoever looks at a script: code that is put together while it
// runs has the rights of its user in the one database, and leaves nothing to one that goes.
func testFillHostileSQLServer(t *testing.T, c customs, fill func(int, string, ...string) string) {
	for text, code := range map[string]string{
		"EXEC (N'CREATE LO' + N'GIN mate WITH PASSWORD = N''x''')":  "15247",
		"EXEC (N'INSERT others_prod.dbo.secret VALUES (1)')":        "916",
		"EXEC (N'ROLL' + N'BACK; DROP DATA' + N'BASE berths_prod')": "3701",
		"EXEC (N'ALTER ROLE db_owner ADD MEM' + N'BER public')":     "15151",
		"EXEC (N'CREATE USER mate WITHOUT LO' + N'GIN')":            "15247",
	} {
		has(t, text, fill(1, text), code)
	}
	has(t, "a transaction that ends within", fill(1, "INSERT dbo.fares VALUES (20, N'z')\nGO\nEXEC (N'COM' + N'MIT')"),
		"0 transactions are open, and not 1", "has ended the transaction around it itself", "stuck")
	r := fill(1, "INSERT dbo.fares VALUES (21, N'z')\nGO\nEXEC (N'COM' + N'MIT')\nGO\n"+
		"INSERT dbo.nowhere VALUES (1)")
	has(t, "and an error after it", r, "line 5", "has ended the transaction around it itself", "stuck")
	lacks(t, "and an error after it", r, "nothing of it took effect")
	has(t, "nothing runs any more", fill(1, "INSERT dbo.fares VALUES (9, N'z')\nGO\nSET NOEXEC ON\nGO\nSELECT 1"),
		"SET NOEXEC", "reverted")
	c.nothingFilled(t)
	// Its own schema is the one thing that it may grant on.
	fill(0, "CREATE SCHEMA mine\nGO\nCREATE TABLE mine.kept (n int)\nGO\n"+
		"EXEC (N'GRA' + N'NT SELECT ON SCHEMA::mine TO public')")
	c.nothingFilled(t)
}

// testFillStoppedSQLServer stops a script, and kills the service while one runs.
func testFillStoppedSQLServer(t *testing.T, c customs) {
	f := filler{service: c.service}
	slow := "CREATE TABLE slow (n int)\nGO\nWAITFOR DELAY '00:01:00'\nGO\nSELECT 1\n"
	path, _ := f.running(t, "customs", "berths_prod", slow)
	has(t, "stopped", c.run(0, "change", "stop", path[strings.LastIndexByte(path, '/')+1:]).out, "reverted")
	c.nothingFilled(t)
	path, _ = f.running(t, "customs", "berths_prod", slow)
	c.end(syscall.SIGKILL)
	c.startAt(strings.TrimPrefix(c.url, "http://"))
	testutil.Wait(t, "the next service to end the change", func() bool {
		return !strings.HasPrefix(f.state(path), "running")
	})
	has(t, "killed while it ran", f.state(path), "reverted")
	c.nothingFilled(t)
	if c.one(t, "SELECT CONVERT(varchar(9), COUNT(*)) FROM berths_prod.sys.tables WHERE name = N'slow'") != "0" {
		t.Error("what was stopped is there")
	}
}

// testCutFillSQLServer cuts the line after each statement by which a script is run.
func testCutFillSQLServer(t *testing.T, c customs) {
	for _, text := range []string{"CREATE LOGIN", "CREATE USER", "GRANT SELECT", "ALTER LOGIN", "BEGIN TRANSACTION",
		"CREATE SCHEMA", "cut_here", "CREATE TABLE [dbo].[genarch", "INSERT [dbo].[genarch", "COMMIT TRANSACTION",
		"ALTER AUTHORIZATION", "DROP TABLE", "DROP USER", "DROP LOGIN"} {
		c.exec(t, "USE berths_prod; DROP TABLE IF EXISTS cuts.cut_here; DROP SCHEMA IF EXISTS cuts", "USE master")
		if err := os.WriteFile(filepath.Join(c.srv.Dir, "cut"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		r := c.cli("CREATE SCHEMA cuts\nGO\nCREATE TABLE cuts.cut_here (n int)\n", "database", "fill",
			"customs/berths_prod", "-", "--yes")
		there := c.one(t, "SELECT CONVERT(varchar(9), COUNT(*)) FROM berths_prod.sys.tables WHERE name = N'cut_here'")
		if done := r.code == 0; done != (there == "1") {
			t.Errorf("cut after %s: it ended with %d, and there are %s tables: %s", text, r.code, there, r.err)
		}
		c.nothingFilled(t)
		if _, err := os.Stat(filepath.Join(c.srv.Dir, "cut")); err == nil {
			t.Errorf("nothing was sent with %s", text)
		}
	}
}

package sqlserver

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"testing"

	mssql "github.com/microsoft/go-mssqldb"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/sqlserver/sqlserverlocal"
	"example.com/genarch/testutil/rigs"
)

// TestRealSQLServer runs the suite on a server that somebody has: make check-engine ENGINE=sqlserver URL=…
// First come the facts that only such a server can show, and that the adapter rests on.
func TestRealSQLServer(t *testing.T) {
	address := os.Getenv("GENARCH_CHECK_SQLSERVER")
	if address == "" {
		t.Skip("no server was named")
	}
	s, err := sqlserverlocal.At(t.Context(), address)
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("sqlserver", s.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	t.Run("facts", func(t *testing.T) { testFactsOfSQLServer(t, db) })
	enginetest.Run(t, Engine{}, s, enginetest.AllNames)
	enginetest.RunAccounts(t, Engine{}, s, enginetest.AllNames)
	enginetest.RunSessions(t, rigs.Of(Engine{}, s), enginetest.AllNames)
}

// factFinder tries facts on a server.
type factFinder struct {
	*testing.T
	db   *sql.DB
	conn *sql.Conn
}

// gives has a session send a text, and compares the number of the error; 0: it works.
func (f factFinder) gives(c *sql.Conn, want int32, text string) {
	f.Helper()
	_, err := c.ExecContext(f.Context(), text)
	got := int32(0)
	if me, ok := errors.AsType[mssql.Error](err); ok {
		if got = me.Number; len(me.All) > 0 {
			got = me.All[0].Number
		}
	} else if err != nil {
		got = -1
	}
	if got != want {
		f.Errorf("%s\n  gave %d (%v), want %d", text, got, err, want)
	}
}

func (f factFinder) one(text string) (out string) {
	f.Helper()
	if err := f.conn.QueryRowContext(f.Context(), text).Scan(&out); err != nil {
		f.Errorf("%s: %v", text, err)
	}
	return out
}

// testFactsOfSQLServer tries what the manual says, or leaves open.
func testFactsOfSQLServer(t *testing.T, db *sql.DB) {
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	f := factFinder{t, db, conn}
	defer func() {
		for _, text := range []string{"USE master", "ALTER DATABASE facts_a SET ONLINE", "DROP DATABASE facts_a",
			"ALTER DATABASE facts_b SET ONLINE", "DROP DATABASE facts_b", "DROP DATABASE facts_c", "DROP LOGIN facts",
			"DROP LOGIN facts_policy", "DROP LOGIN facts_fill"} {
			_, _ = conn.ExecContext(context.WithoutCancel(t.Context()), text)
		}
	}()
	f.gives(conn, 0, "CREATE DATABASE facts_a")
	if f.one("SELECT CONVERT(varchar(36), service_broker_guid) FROM sys.databases WHERE name = N'msdb'") == "" {
		t.Error("msdb has no number of its broker, which is one of the marks")
	}
	f.gate()
	f.people()
	f.scripts()
	f.copies()
}

// scripts: what the user of a script may do, and what an error leaves of a transaction.
func (f factFinder) scripts() {
	for _, text := range makeFillerSQL("facts_fill", "facts_b") {
		f.gives(f.conn, 0, text)
	}
	as := func(text string) string { return inDatabase("facts_b", "EXECUTE AS USER = N'facts_fill'; "+text) }
	f.gives(f.conn, 0, as("CREATE TABLE dbo.facts_made (a int)"))
	f.gives(f.conn, 0, as("INSERT dbo.facts_made VALUES (1)"))
	f.gives(f.conn, 15247, as("CREATE USER facts_other WITHOUT LOGIN"))
	f.gives(f.conn, 0, as("CREATE SCHEMA facts_own"))
	f.gives(f.conn, 15138, dropUserSQL("facts_fill", "facts_b"))
	f.gives(f.conn, 0, schemaTo("facts_b", "facts_own", defaultSchema))
	for _, text := range []string{"USE facts_b", "SET XACT_ABORT ON", "BEGIN TRANSACTION",
		"CREATE TABLE dbo.facts_note (a int)"} {
		f.gives(f.conn, 0, text)
	}
	f.gives(f.conn, 245, "INSERT dbo.facts_note VALUES ('x')")
	if open := f.one("SELECT CONVERT(varchar(9), @@TRANCOUNT)"); open != "0" {
		f.Errorf("after an error %s transactions are open", open)
	}
	if n := f.one("SELECT CONVERT(varchar(9), COUNT(*)) FROM sys.tables WHERE name = N'facts_note'"); n != "0" {
		f.Error("a table that was made in a transaction stays when that is taken back")
	}
	f.gives(f.conn, 0, "SET XACT_ABORT OFF")
	f.gives(f.conn, 0, "USE master")
	f.gives(f.conn, 0, dropUserSQL("facts_fill", "facts_b"))
	f.gives(f.conn, 0, dropLoginSQL("facts_fill"))
}

// copies: a backup is restored under another name, is of the same family, and is written over.
func (f factFinder) copies() {
	folder := f.one(`SELECT COALESCE(CONVERT(nvarchar(260), SERVERPROPERTY('InstanceDefaultBackupPath')) + N'/',
		CONVERT(nvarchar(260), SERVERPROPERTY('InstanceDefaultDataPath')))`)
	file := folder + "genarch_facts.bak"
	var files []catalog.Values
	rows, err := f.conn.QueryContext(f.Context(), "SELECT name, physical_name FROM sys.master_files "+
		"WHERE database_id = DB_ID(N'facts_b')")
	if err != nil {
		f.Fatal(err)
	}
	for rows.Next() {
		var name, path string
		if err := rows.Scan(&name, &path); err != nil {
			f.Fatal(err)
		}
		files = append(files, catalog.Values{"name": name, "path": path + "_copy"})
	}
	f.gives(f.conn, 0, backupSQL("facts_b", file))
	f.gives(f.conn, 0, restoreSQL("facts_c", file, files))
	if n := f.one("SELECT CONVERT(varchar(9), COUNT(DISTINCT r.family_guid)) FROM sys.database_recovery_status r " +
		"JOIN sys.databases d ON d.database_id = r.database_id WHERE d.name IN (N'facts_b', N'facts_c')"); n != "1" {
		f.Errorf("a copy and its template are of %s families", n)
	}
	f.gives(f.conn, 0, backupSQL("model", file))
	f.gives(f.conn, 0, "DROP DATABASE facts_c")
}

// gate: who is inside SINGLE_USER renames and takes offline, and nobody else gets in.
func (f factFinder) gate() {
	other, err := f.db.Conn(f.Context())
	if err != nil {
		f.Fatal(err)
	}
	defer other.Close()
	key := "SELECT CONCAT(database_id, ' ', CONVERT(varchar(23), create_date, 126)) FROM sys.databases WHERE name = "
	before := f.one(key + "N'facts_a'")
	f.gives(f.conn, 0, "USE facts_a")
	f.gives(f.conn, 0, "ALTER DATABASE facts_a SET SINGLE_USER WITH ROLLBACK IMMEDIATE")
	f.gives(other, 924, "USE facts_a")
	f.gives(f.conn, 0, "ALTER DATABASE facts_a MODIFY NAME = facts_b")
	if f.one("SELECT DB_NAME()") != "facts_b" {
		f.Error("a rename from within leaves the database")
	}
	if after := f.one(key + "N'facts_b'"); after != before {
		f.Errorf("a rename made %s of %s, by which a database is told from others", after, before)
	}
	f.gives(f.conn, 0, "ALTER DATABASE facts_b SET OFFLINE WITH ROLLBACK IMMEDIATE")
	if is := f.one("SELECT CONCAT(state_desc, ' ', user_access_desc) FROM sys.databases WHERE name = N'facts_b'"); is !=
		"OFFLINE SINGLE_USER" {
		f.Errorf("offline from within: %s", is)
	}
	f.gives(f.conn, 0, "USE master")
	f.gives(f.conn, 0, "ALTER DATABASE facts_b SET ONLINE")
	f.gives(f.conn, 0, "ALTER DATABASE facts_b SET MULTI_USER")
	if is := f.one("SELECT DATABASEPROPERTYEX(N'facts_b', 'Status')"); is != "ONLINE" {
		f.Errorf("brought online: %s", is)
	}
}

// people: hashes, numbers, denials, and what runs in another database.
func (f factFinder) people() {
	hash := binary(passwordHash("Berth-1234", [saltLength]byte{1, 2, 3, 4}))
	f.gives(f.conn, 0, "CREATE LOGIN facts WITH PASSWORD = "+hash+" HASHED, CHECK_POLICY = OFF, CHECK_EXPIRATION = OFF")
	if f.one("SELECT PWDCOMPARE(N'Berth-1234', password_hash) FROM sys.sql_logins WHERE name = N'facts'") != "1" {
		f.Error("the server does not take a computed hash for the password")
	}
	f.gives(f.conn, 15021, "CREATE LOGIN facts_policy WITH PASSWORD = 0x0100AABB HASHED")
	in := func(text string) string { return inDatabase("facts_b", text) }
	f.gives(f.conn, 0, in("CREATE USER facts FOR LOGIN facts"))
	if f.one("SELECT DB_NAME()") != "master" {
		f.Error("what was run in a database left the session there")
	}
	state := "SELECT COALESCE(MAX(p.state), '-') FROM facts_b.sys.database_permissions p JOIN " +
		"facts_b.sys.database_principals u ON u.principal_id = p.grantee_principal_id WHERE u.name = N'facts' " +
		"AND p.permission_name = 'SELECT'"
	for _, step := range []struct{ text, want string }{{"GRANT SELECT TO facts", "G"}, {"DENY SELECT TO facts", "D"},
		{"GRANT SELECT TO facts", "G"}, {"REVOKE SELECT FROM facts", "-"}} {
		f.gives(f.conn, 0, in(step.text))
		if is := f.one(state); is != step.want {
			f.Errorf("after %s: %s, want %s", step.text, is, step.want)
		}
	}
	f.gives(f.conn, 0, "DROP LOGIN facts")
	if n := f.one("SELECT CONVERT(varchar(9), COUNT(*)) FROM facts_b.sys.database_principals WHERE name = " +
		"N'facts'"); n !=
		"1" {
		f.Error("a user went with its login")
	}
}

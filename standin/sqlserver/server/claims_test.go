package server

import (
	"context"
	"errors"
	"fmt"
	"testing"

	mssql "github.com/microsoft/go-mssqldb"
)

// TestClaims holds what the fact sheet marks as seen and no other test shows.
func TestClaims(t *testing.T) {
	_, addr := scene(t)
	c := conn(t, addr, "sa", saPassword, "")
	ctx := context.Background()

	// The error's number is the last one's; all of them are in All.
	_, err := c.ExecContext(ctx, "ALTER DATABASE absent SET ONLINE")
	e, _ := errors.AsType[mssql.Error](err)
	if e.Number != 5069 || e.All[0].Number != 5011 || e.All[0].Class != 14 {
		t.Error(e.Number, e.All)
	}

	// Who holds the one place renames and drops; others do not get in meanwhile.
	must(
		t,
		c,
		"USE wiki; ALTER DATABASE wiki SET SINGLE_USER WITH ROLLBACK IMMEDIATE",
		"ALTER DATABASE [wiki] MODIFY NAME = [wiki2]",
	)
	if _, err := open(t, addr, "sa", saPassword, "wiki2"); err == nil {
		t.Error("let in")
	}
	if got := scalar[string](t, c, "SELECT DB_NAME()"); got != "wiki2" {
		t.Error(got)
	}
	must(t, c, "ALTER DATABASE wiki2 SET OFFLINE WITH ROLLBACK IMMEDIATE")
	if got := scalar[string](t, c, "SELECT DB_NAME()"); got != "master" {
		t.Error(got)
	}
	must(t, c, "ALTER DATABASE wiki2 SET ONLINE; USE wiki2", "USE master; DROP DATABASE wiki2")

	// Without XACT_ABORT half is committed.
	must(t, c, "USE tickets_prod")
	refused(
		t,
		c,
		"BEGIN TRAN; INSERT sales.lines VALUES (41); INSERT dbo.orders VALUES (1, N'again', 1); INSERT sales.lines "+
			"VALUES (42); COMMIT",
		2627,
	)
	if got := lines(t, c, "SELECT id FROM sales.lines ORDER BY id"); fmt.Sprint(got) != "[41 42]" {
		t.Error(got)
	}

	// What a call with parameters sets ends with it.
	if _, err := c.ExecContext(ctx, "USE master; SET LOCK_TIMEOUT 7; SELECT @p1", 1); err != nil {
		t.Error(err)
	}
	if got := lines(t, c, "SELECT DB_NAME(), @@LOCK_TIMEOUT"); fmt.Sprint(got) != "[tickets_prod|-1]" {
		t.Error(got)
	}

	// CREATE TABLE alone is not enough; UPDATE with WHERE needs SELECT too.
	must(
		t,
		c,
		"CREATE USER builder WITHOUT LOGIN; GRANT CREATE TABLE TO builder; CREATE USER writer WITHOUT LOGIN; GRANT "+
			"UPDATE TO writer",
	)
	as := func(user, stmt string, want ...int32) {
		t.Helper()
		must(t, c, "EXECUTE AS USER = '"+user+"'")
		if len(want) == 0 {
			must(t, c, stmt)
		} else {
			refused(t, c, stmt, want...)
		}
		must(t, c, "REVERT")
	}
	as("builder", "CREATE TABLE dbo.made (a int)", 2760)
	must(t, c, "GRANT ALTER ON SCHEMA::dbo TO builder")
	as("builder", "CREATE TABLE dbo.made (a int)")
	if got := lines(t, c, "SELECT name, principal_id FROM sys.tables WHERE name = N'made'"); fmt.Sprint(
		got,
	) != "[made|<nil>]" {
		t.Error(got) // it is the schema's owner's
	}
	as("writer", "UPDATE dbo.orders SET amount = 1")
	as("writer", "UPDATE dbo.orders SET amount = 1 WHERE id = 1", 229)

	// A denial against a grant of the same grantee takes its place, and REVOKE takes the denial away.
	must(t, c, "GRANT SELECT ON dbo.orders TO writer; DENY SELECT ON dbo.orders TO writer")
	if got := lines(t, c, "SELECT permission_name, state_desc FROM sys.database_permissions WHERE class = 1 AND "+
		"grantee_principal_id = USER_ID(N'writer')"); fmt.Sprint(
		got,
	) != "[SELECT|DENY]" {
		t.Error(got)
	}
	// A column's grant beats the denial of its table.
	must(t, c, "GRANT SELECT ON dbo.orders (id) TO writer")
	if got := lines(t, c, "EXECUTE AS USER = 'writer'; SELECT HAS_PERMS_BY_NAME(N'dbo.orders', 'OBJECT', 'SELECT'), "+
		"HAS_PERMS_BY_NAME(N'dbo.orders', 'OBJECT', 'SELECT', N'id', 'COLUMN'); REVERT"); fmt.Sprint(
		got,
	) != "[0|1]" {
		t.Log("column against table:", got)
	}
	must(t, c, "REVOKE SELECT ON dbo.orders TO writer")

	// Open sessions outlive DISABLE.
	must(t, c, "USE master")
	app := conn(t, addr, "app", "App-123456", "tickets_prod")
	must(t, c, "ALTER LOGIN app DISABLE")
	must(t, app, "SELECT 1")
}

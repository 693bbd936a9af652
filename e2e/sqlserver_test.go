package e2e

import (
	"database/sql"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"example.com/genarch/localdb"
	"example.com/genarch/testutil"
)

// customs is a server of the fourth engine with a client of its own.
type customs struct {
	*service
	srv *localdb.Server
	db  *sql.DB
}

func (c customs) exec(t *testing.T, texts ...string) {
	t.Helper()
	for _, text := range texts {
		if _, err := c.db.ExecContext(t.Context(), text); err != nil {
			t.Fatalf("%s: %v", text, err)
		}
	}
}

func (c customs) one(t *testing.T, text string) (out string) {
	t.Helper()
	if err := c.db.QueryRowContext(t.Context(), text).Scan(&out); err != nil {
		t.Errorf("%s: %v", text, err)
	}
	return out
}

// TestSQLServer looks after a server of the fourth engine as people do: by the CLI, the API and the
// console. It is a stand-in: what only a real one can show is in docs/engines.md.
func TestSQLServer(t *testing.T) {
	t.Parallel()
	c := customs{service: newServiceOf(t, commands), srv: testutil.SQLServer(t, "16.0.4125.3")}
	c.add("customs", "sqlserver", "production", c.srv)
	var err error
	if c.db, err = sql.Open("sqlserver", c.srv.DSN("")); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { c.db.Close() })
	has(t, "the check", c.run(0, "server", "check", "customs").out, "server_name", "16.0.4125", "may end sessions",
		"defaults", "SQL_Latin1_General_CP1_CI_AS")
	has(t, "the engine", c.run(0, "engine", "show", "sqlserver").out, "SQL Server", "2016 and later",
		"files.NAME", "SQL Server lets only the client itself stop its statement")
	c.exec(t, "CREATE LOGIN harbour_app WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF")
	t.Run("made", func(t *testing.T) { testMadeSQLServer(t, c) })
	t.Run("altered", func(t *testing.T) { testAlteredSQLServer(t, c) })
	t.Run("renamed and dropped", func(t *testing.T) { testTakenSQLServer(t, c) })
	t.Run("set aside", func(t *testing.T) { testHoldingSQLServer(t, c) })
	t.Run("logins", func(t *testing.T) { testLoginsSQLServer(t, c) })
	t.Run("cut lines", func(t *testing.T) { testCutSQLServer(t, c) })
	t.Run("cut lines at logins", func(t *testing.T) { testCutLoginsSQLServer(t, c) })
	t.Run("copies", func(t *testing.T) { testCopySQLServer(t, c) })
	t.Run("copies that are stopped", func(t *testing.T) { testCopyStoppedSQLServer(t, c) })
	t.Run("scripts", func(t *testing.T) { testFillSQLServer(t, c) })
	t.Run("cut lines at scripts", func(t *testing.T) { testCutFillSQLServer(t, c) })
	t.Run("console", func(t *testing.T) { testConsoleSQLServer(t, c) })
	t.Run("scripts that are stopped", func(t *testing.T) { testFillStoppedSQLServer(t, c) })
	has(t, "journal check", c.run(0, "journal", "check").out, "WHOLE", "yes")
}

// testMadeSQLServer makes a database with an owner and files, which are shown with sizes.
func testMadeSQLServer(t *testing.T, c customs) {
	has(t, "what is settled", c.run(0, "database", "create", "customs/tickets_prod", "--owner", "harbour_app", "--set",
		"recovery=simple", "--set", "files.tickets.size=64 MB", "--set", "files.tickets.growth=32 MB", "--set",
		"files.trail.kind=log", "--yes").err,
		"ON PRIMARY (NAME = N'tickets'", "RECOVERY SIMPLE", "ALTER AUTHORIZATION ON DATABASE::[tickets_prod]",
		"(default, from database model)")
	has(t, "too large", c.run(1, "database", "create", "customs/piles_prod", "--set", "files.piles.size=15 TB",
		"--yes").err, "disk.full", "would take 15.0 TiB on / of the server")
	has(t, "shown", c.run(0, "database", "show", "customs/tickets_prod").out, "harbour_app", "simple",
		"tickets, kind data, filegroup PRIMARY, path /var/opt/mssql/data/tickets_prod.mdf, size 64.0 MiB",
		"grows by 32 MB")
	has(t, "listed", c.run(0, "database", "list", "customs").out, "tickets_prod", "harbour_app", "simple")
	team := c.run(0, "database", "create", "customs/vaults_prod", "--for-team", "vaults", "--yes")
	has(t, "for a team", team.err, "CREATE ROLE [vaults_owner]", "CREATE LOGIN [vaults_app] WITH PASSWORD = '••••••' "+
		"HASHED",
		"vaults_app may insert", "vaults_read is refused to insert", "vaults_app is refused to make a table")
	has(t, "handed over", team.out, "Server=tcp:127.0.0.1,", "Database=vaults_prod")
}

func testAlteredSQLServer(t *testing.T, c customs) {
	c.exec(t, "CREATE DATABASE lounges_prod")
	has(t, "at once", c.run(0, "database", "alter", "customs/lounges_prod", "--set", "recovery=simple", "--yes").err,
		"recovery model")
	conn, err := c.client(t, "lounges_prod")
	if err != nil {
		t.Fatal(err)
	}
	has(t, "alone", c.run(0, "database", "alter", "customs/lounges_prod", "--set", "read_only=yes", "--yes").err,
		"SET SINGLE_USER WITH ROLLBACK IMMEDIATE", "SET READ_ONLY", "1 session is open")
	if _, err := conn.ExecContext(t.Context(), "SELECT 1"); err == nil {
		t.Error("whoever was in it is there still")
	}
	if got := c.one(t, `SELECT CONCAT(recovery_model_desc, is_read_only, user_access_desc) FROM sys.databases
		WHERE name = N'lounges_prod'`); got != "SIMPLE1MULTI_USER" {
		t.Error(got)
	}
	c.run(2, "database", "alter", "customs/lounges_prod", "--set", "recovery=sometimes", "--yes")
	has(t, "risky", c.run(3, "database", "alter", "customs/lounges_prod", "--set", "auto_close=yes", "--yes").err,
		"option.risky")
}

func (c customs) client(t *testing.T, database string) (*sql.Conn, error) {
	db, err := sql.Open("sqlserver", c.srv.DSN(database))
	if err != nil {
		return nil, err
	}
	t.Cleanup(func() { db.Close() })
	db.SetMaxOpenConns(1)
	return db.Conn(t.Context())
}

func testTakenSQLServer(t *testing.T, c customs) {
	c.exec(t, "CREATE DATABASE gangways_prod", "ALTER LOGIN harbour_app WITH DEFAULT_DATABASE = gangways_prod")
	conn, err := c.client(t, "gangways_prod")
	if err != nil {
		t.Fatal(err)
	}
	for _, text := range []string{"CREATE TABLE t (id int)", "BEGIN TRANSACTION", "INSERT INTO t VALUES (1)"} {
		if _, err := conn.ExecContext(t.Context(), text); err != nil {
			t.Fatal(err)
		}
	}
	c.exec(t, "CREATE DATABASE shipped_prod", "EXEC master.dbo.sp_add_log_shipping_primary_database @database = "+
		"N'shipped_prod'")
	has(t, "its log is sent elsewhere", c.run(1, "database", "drop", "customs/shipped_prod", "--yes").err,
		"replication.running", "log shipping")
	has(t, "written", c.run(3, "database", "rename", "customs/gangways_prod", "--to", "piers_prod", "--yes").err,
		"work.lost", "harbour_app, whose default database it is", "bytes of log, since")
	has(t, "how much", c.run(0, "session", "list", "customs").out, "WRITTEN", " B ")
	c.run(0, "database", "rename", "customs/gangways_prod", "--to", "piers_prod", "--yes", "--accept", "work.lost",
		"--accept", "drop.breaks")
	if got := c.one(t, "SELECT user_access_desc FROM sys.databases WHERE name = N'piers_prod'"); got != "MULTI_USER" {
		t.Error(got)
	}
	has(t, "dropped", c.run(0, "database", "drop", "customs/piers_prod", "--for-good", "--confirm", "piers_prod").err,
		"DROP DATABASE [piers_prod]", "no record of a whole backup")
	has(t, "gone", c.run(1, "database", "drop", "customs/piers_prod", "--for-good", "--confirm", "piers_prod").err,
		"database.absent")
}

func testHoldingSQLServer(t *testing.T, c customs) {
	c.exec(t, "CREATE DATABASE loyalty_prod",
		"EXEC loyalty_prod.sys.sp_executesql N'CREATE USER harbour_app FOR LOGIN harbour_app'")
	has(t, "set aside", c.run(0, "database", "drop", "customs/loyalty_prod", "--confirm", "loyalty_prod").err,
		"SET OFFLINE WITH ROLLBACK IMMEDIATE", "is kept whole until")
	has(t, "waiting", c.run(0, "holding", "list").out, "customs/loyalty_prod")
	if out := c.run(0, "database", "list", "customs").out; strings.Contains(out, "loyalty_prod") {
		t.Errorf("it is listed among the others: %s", out)
	}
	c.run(0, "holding", "bring-back", "customs/loyalty_prod", "--yes")
	if got := c.one(t, `SELECT CONCAT(state_desc, user_access_desc,
		(SELECT COUNT(*) FROM loyalty_prod.sys.database_principals WHERE name = N'harbour_app')) FROM sys.databases
		WHERE name = N'loyalty_prod'`); got != "ONLINEMULTI_USER1" {
		t.Error(got)
	}
}

// testCutSQLServer cuts the line right after each statement that alters something: what was done is
// found out, and nothing stays halfway.
func testCutSQLServer(t *testing.T, c customs) {
	cut := func(text string) {
		t.Helper()
		if err := os.WriteFile(filepath.Join(c.srv.Dir, "cut"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	state := func(name string) string {
		t.Helper()
		var out string
		_ = c.db.QueryRowContext(t.Context(), "SELECT CONCAT(state_desc, ' ', user_access_desc) FROM sys.databases "+
			"WHERE name = @p1", name).Scan(&out)
		return out
	}
	for i, text := range []string{"CREATE DATABASE", "SET RECOVERY", "ALTER AUTHORIZATION"} {
		name := fmt.Sprintf("made%d_prod", i)
		cut(text)
		c.run(0, "database", "create", "customs/"+name, "--owner", "harbour_app", "--set", "recovery=simple", "--yes")
		if got := c.one(t, "SELECT CONCAT(recovery_model_desc, SUSER_SNAME(owner_sid)) FROM sys.databases "+
			"WHERE name = N'"+name+"'"); got != "SIMPLEharbour_app" {
			t.Errorf("cut after %s: %s", text, got)
		}
	}
	for i, text := range []string{"SET SINGLE_USER", "SET READ_ONLY", "SET MULTI_USER"} {
		name := fmt.Sprintf("made%d_prod", i)
		cut(text)
		c.cli("", "database", "alter", "customs/"+name, "--set", "read_only=yes", "--yes")
		if got := state(name); got != "ONLINE MULTI_USER" {
			t.Errorf("cut after %s: %s", text, got)
		}
	}
	for i, text := range []string{"SET SINGLE_USER", "DROP DATABASE"} {
		name := fmt.Sprintf("made%d_prod", i)
		cut(text)
		c.cli("", "database", "drop", "customs/"+name, "--for-good", "--confirm", name)
		if got := state(name); got != "" && got != "ONLINE MULTI_USER" {
			t.Errorf("cut after %s: %s", text, got)
		}
	}
	for _, text := range []string{"sp_addextendedproperty", "MODIFY NAME", "SET OFFLINE"} {
		cut(text)
		c.cli("", "database", "drop", "customs/made2_prod", "--confirm", "made2_prod")
		switch list := c.run(0, "holding", "list").out; {
		case strings.Contains(list, "made2_prod"):
			c.run(0, "holding", "bring-back", "customs/made2_prod", "--yes")
		case state("made2_prod") != "ONLINE MULTI_USER":
			t.Errorf("cut after %s: %q", text, state("made2_prod"))
		}
	}
}

func lacks(tb testing.TB, what, text, unwanted string) {
	tb.Helper()
	if strings.Contains(text, unwanted) {
		tb.Errorf("%s: %q stands in\n%s", what, unwanted, text)
	}
}

// signIn signs in as a login.
func (c customs) signIn(t *testing.T, login, password, database string) *sql.DB {
	t.Helper()
	address, err := url.Parse(c.srv.DSN(database))
	if err != nil {
		t.Fatal(err)
	}
	address.User = url.UserPassword(login, password)
	db, err := sql.Open("sqlserver", address.String())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { db.Close() })
	return db
}

// testLoginsSQLServer: a login gets a bundle, and with it a user; a denial beats it; a user whose login was
// made anew is mended; a login goes with its users.
func testLoginsSQLServer(t *testing.T, c customs) {
	c.exec(t, "CREATE DATABASE seals_prod", "USE seals_prod; CREATE TABLE dbo.seals (id int)",
		"USE seals_prod; CREATE TABLE dbo.keys (id int)", "USE master")
	secret := filepath.Join(t.TempDir(), "password")
	if err := os.WriteFile(secret, []byte("Berth-12'34 über\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	made := c.run(0, "account", "create", "customs/account:sealer", "--password-file", secret, "--yes")
	has(t, "made", made.err, "HASHED, CHECK_POLICY = OFF", "sealer signed in")
	lacks(t, "the password", made.err+made.out, "Berth-12")
	has(t, "a bundle", c.run(0, "privilege", "grant", "customs/seals_prod", "--to", "sealer", "--bundle", "write",
		"--yes").err, "CREATE USER [sealer] FOR LOGIN [sealer]", "GRANT SELECT, INSERT, UPDATE, DELETE, EXECUTE TO "+
		"[sealer]")
	try := func(text string) error {
		t.Helper()
		_, err := c.signIn(t, "sealer", "Berth-12'34 über", "seals_prod").ExecContext(t.Context(), text)
		return err
	}
	if err := try("INSERT dbo.seals VALUES (1)"); err != nil {
		t.Errorf("with the bundle write: %v", err)
	}
	has(t, "denied", c.run(0, "privilege", "grant", "customs/seals_prod", "--to", "sealer", "--privilege", "INSERT",
		"--table", "dbo.seals", "--set", "deny=yes", "--yes").err, "DENY INSERT ON OBJECT::[dbo].[seals] TO [sealer]")
	if err := try("INSERT dbo.seals VALUES (2)"); err == nil {
		t.Error("what is denied was done")
	}
	if err := try("INSERT dbo.keys VALUES (2)"); err != nil {
		t.Errorf("what is denied on another table was refused: %v", err)
	}
	has(t, "why", c.run(0, "privilege", "why", "customs/account:sealer", "INSERT",
		"seals_prod/dbo.seals").out, "no", "denied")
	c.exec(t, "USE seals_prod; EXEC (N'CREATE TRIGGER watch ON DATABASE FOR DDL_DATABASE_LEVEL_EVENTS AS SELECT 1')",
		"USE master")
	has(t, "code of a tenant", c.run(3, "role", "create", "customs/seals_prod/role:keepers", "--yes").err,
		"database.triggers", "seals_prod: watch", "as Genarch's login sa, which may do everything")
	c.exec(t, "USE seals_prod; DROP TRIGGER watch", "USE master")
	c.run(0, "role", "create", "customs/seals_prod/role:keepers", "--yes")
	has(t, "a member", c.run(0, "role", "grant", "customs/seals_prod/role:keepers", "--to", "sealer", "--yes").err,
		"ALTER ROLE [keepers] ADD MEMBER [sealer]")
	has(t, "listed", c.run(0, "account", "list", "customs").out, "sealer", "user", "login", "database role")

	c.exec(t, "CREATE LOGIN mender WITH PASSWORD = N'Berth-1234', CHECK_POLICY = OFF",
		"USE seals_prod; CREATE USER mender FOR LOGIN mender", "USE master; DROP LOGIN mender")
	has(t, "without its login", c.run(0, "account", "list", "customs").out, "orphan")
	c.run(0, "account", "create", "customs/account:mender", "--password-file", secret, "--yes")
	has(t, "the same name is not enough", c.run(1, "privilege", "grant", "customs/seals_prod", "--to", "mender",
		"--bundle", "read", "--yes").err, "a user is known by a number", "--set login=mender")
	has(t, "mended", c.run(0, "account", "alter", "customs/seals_prod/account:mender", "--set", "login=mender",
		"--yes").err, "ALTER USER [mender] WITH LOGIN = [mender]")
	lacks(t, "mended", c.run(0, "account", "list", "customs").out, "orphan")

	c.run(0, "account", "rename", "customs/account:sealer", "--to", "stamper", "--yes")
	open := c.signIn(t, "stamper", "Berth-12'34 über", "seals_prod")
	if err := open.PingContext(t.Context()); err != nil {
		t.Errorf("by its new name: %v", err)
	}
	c.exec(t, "USE seals_prod; CREATE ROLE cutters AUTHORIZATION sealer", "USE master")
	has(t, "an owner of a role", c.run(1, "account", "drop", "customs/account:stamper", "--yes", "--confirm",
		"stamper").err, "seals_prod/sealer owns roles", "cutters")
	c.exec(t, "USE seals_prod; DROP ROLE cutters", "USE master")
	has(t, "dropped", c.run(0, "account", "drop", "customs/account:stamper", "--yes", "--confirm", "stamper").err,
		"DROP USER [sealer]", "DROP LOGIN [stamper]")
	if n := c.one(t, "SELECT CONVERT(varchar(9), COUNT(*)) FROM seals_prod.sys.database_principals WHERE name = "+
		"N'sealer'"); n != "0" {
		t.Error("its user is left")
	}
}

// testCutLoginsSQLServer cuts the line after each statement on people.
func testCutLoginsSQLServer(t *testing.T, c customs) {
	for i, text := range []string{"CREATE LOGIN", "CREATE USER", "GRANT SELECT", "ADD MEMBER", "WITH PASSWORD", "DENY",
		"REVOKE"} {
		name := fmt.Sprintf("cut%d_app", i)
		if err := os.WriteFile(filepath.Join(c.srv.Dir, "cut"), []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
		c.run(0, "account", "create", "customs/account:"+name, "--yes")
		c.run(0, "privilege", "grant", "customs/seals_prod", "--to", name, "--bundle", "read", "--yes")
		c.run(0, "role", "grant", "customs/seals_prod/role:keepers", "--to", name, "--yes")
		c.run(0, "account", "password", "customs/account:"+name, "--yes")
		c.run(0, "privilege", "grant", "customs/seals_prod", "--to", name, "--privilege", "DELETE", "--set", "deny=yes",
			"--yes")
		if got := c.one(t, "SELECT STRING_AGG(CONCAT(p.state, p.permission_name), ' ') FROM "+
			"seals_prod.sys.database_permissions "+
			"p JOIN seals_prod.sys.database_principals u ON u.principal_id = p.grantee_principal_id WHERE u.name = "+
			"N'"+name+
			"'"); len(strings.Fields(got)) != 3 {
			t.Errorf("cut after %s: %s", text, got)
		}
		c.run(0, "privilege", "revoke", "customs/seals_prod", "--from", name, "--yes")
		c.run(0, "account", "drop", "customs/account:"+name, "--yes", "--confirm", name)
		if _, err := os.Stat(filepath.Join(c.srv.Dir, "cut")); err == nil {
			t.Errorf("nothing was sent with %s", text)
		}
	}
}

// testConsoleSQLServer looks at a database's page: its files stand there with sizes.
func testConsoleSQLServer(t *testing.T, c customs) {
	p := testutil.NewBrowser(t).Page(t, c.url)
	p.SignIn("keeper", password)
	p.Open("/servers/customs")
	p.WaitText("tickets_prod")
	p.Axe("the databases of a server of the fourth engine")
	p.Open("/servers/customs/databases/tickets_prod/properties")
	p.WaitText("tickets, kind data, filegroup PRIMARY")
	p.WaitText("64.0 MiB")
	p.Open("/servers/customs/new-database")
	p.Type("input[name=name]", "letters_prod")
	p.WaitText("CREATE DATABASE [letters_prod]")
	p.Open("/servers/customs/databases/tickets_prod/drop")
	p.WaitText("SET OFFLINE WITH ROLLBACK IMMEDIATE")
	p.Axe("dropping a database of it")
	p.Open("/servers/customs/accounts")
	p.WaitText("seals_prod/mender")
	p.WaitText("database role")
	p.Axe("logins, users and roles")
	p.Open("/servers/customs/databases/seals_prod/accounts/mender")
	p.WaitText("Grant or revoke privileges")
	if text := p.EvalText("document.body.innerText"); strings.Contains(text, "New "+
		"password") || strings.Contains(text, "may sign in") {
		t.Errorf("a user in a database is shown as one who signs in:\n%s", text)
	}
	p.Open("/servers/customs/new-account?database=seals_prod")
	p.WaitText("This is a user")
	p.Type("input[name=name]", "guard")
	p.Type("input[name=login]", "harbour_app")
	p.WaitText("CREATE USER [guard] FOR LOGIN [harbour_app]")
	p.Axe("a user in a database")
	p.Open("/servers/customs/new-account")
	p.WaitText("This is a login")
	p.Type("input[name=name]", "guard")
	p.WaitText("CREATE LOGIN [guard] WITH PASSWORD = '••••••' HASHED")
	p.Open("/servers/customs/new-grant?database=seals_prod")
	p.Type("input[name=who]", "mender")
	p.WaitText("GRANT SELECT")
	p.Axe("a grant to a login")
}

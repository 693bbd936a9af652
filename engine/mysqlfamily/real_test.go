package mysqlfamily

import (
	"context"
	"database/sql"
	"errors"
	"os"
	"strings"
	"testing"

	"github.com/go-sql-driver/mysql"

	"example.com/genarch/engine/enginetest"
	"example.com/genarch/engine/mysql/mysqllocal"
	"example.com/genarch/testutil/rigs"
)

// TestRealMySQL runs the suite on a server that somebody has: make check-engine ENGINE=mysql URL=…
// First come the facts that only such a server can show, and that the adapter rests on.
func TestRealMySQL(t *testing.T) {
	address := os.Getenv("GENARCH_CHECK_MYSQL")
	if address == "" {
		t.Skip("no server was named")
	}
	s, err := mysqllocal.At(t.Context(), address)
	if err != nil {
		t.Fatal(err)
	}
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	t.Run("facts", func(t *testing.T) { testFactsOfMySQL(t, db) })
	enginetest.Run(t, mysql8{}, s, enginetest.AllNames)
	enginetest.RunAccounts(t, mysql8{}, s, enginetest.AllNames)
	enginetest.RunSessions(t, rigs.Of(mysql8{}, s), enginetest.AllNames)
}

// testFactsOfMySQL tries what the manual says, or leaves open.
func testFactsOfMySQL(t *testing.T, db *sql.DB) {
	ctx := t.Context()
	conn, err := db.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	run := func(c *sql.Conn, want uint16, text string) {
		t.Helper()
		_, err := c.ExecContext(ctx, text)
		if got := numberOf(err); got != want {
			t.Errorf("%s\n  gave %d (%v), want %d", text, got, err, want)
		}
	}
	one := func(text string) (out string) {
		t.Helper()
		if err := conn.QueryRowContext(ctx, text).Scan(&out); err != nil {
			t.Errorf("%s: %v", text, err)
		}
		return out
	}
	defer func() {
		for _, text := range []string{"ALTER DATABASE `facts-a` READ ONLY = 0", "DROP DATABASE IF EXISTS `facts-a`",
			"DROP DATABASE IF EXISTS facts_b", "DROP USER IF EXISTS 'facts'@'%'", "DROP ROLE IF EXISTS 'facts_role'@'%'"} {
			_, _ = conn.ExecContext(context.WithoutCancel(ctx), text)
		}
	}()
	run(conn, 0, mySQL.setUp)
	run(conn, 0, "CREATE DATABASE `facts-a`")
	run(conn, 0, "CREATE TABLE `facts-a`.t (id INT PRIMARY KEY)")
	if name := one("SELECT NAME FROM information_schema.INNODB_TABLESPACES WHERE NAME LIKE 'facts%'"); name != "facts@002da/t" {
		t.Errorf("the name of a tablespace is %q: sizes are looked up by another form", name)
	}
	// A drop that fails has taken nothing.
	run(conn, 0, "CREATE DATABASE facts_b")
	run(conn, 0, "CREATE TABLE facts_b.c (t INT, FOREIGN KEY (t) REFERENCES `facts-a`.t (id))")
	run(conn, 3730, "DROP DATABASE `facts-a`")
	run(conn, 0, "DROP TABLE facts_b.c")
	other, err := db.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	defer other.Close()
	run(other, 0, "BEGIN")
	run(other, 0, "INSERT INTO `facts-a`.t VALUES (1)")
	run(conn, 0, "SET SESSION lock_wait_timeout = 1")
	run(conn, 1205, "DROP DATABASE `facts-a`")
	if n := one("SELECT COUNT(*) FROM information_schema.TABLES WHERE TABLE_SCHEMA = 'facts-a'"); n != "1" {
		t.Errorf("after a drop that waited in vain there are %s tables", n)
	}
	if n := one("SELECT COUNT(*) FROM performance_schema.metadata_locks WHERE OBJECT_SCHEMA = 'facts-a'" +
		" AND LOCK_STATUS = 'GRANTED'"); n == "0" {
		t.Error("the lock of an open transaction does not show")
	}
	run(other, 0, "ROLLBACK")
	run(conn, 0, "ALTER DATABASE `facts-a` READ ONLY = 1")
	run(conn, 3989, "DROP DATABASE `facts-a`")
	run(conn, 0, "ALTER DATABASE `facts-a` READ ONLY = 0")
	// Verifiers, roles, and the right that shadows a pattern.
	run(conn, 0, "CREATE USER 'facts'@'%' IDENTIFIED WITH caching_sha2_password AS '"+sha2Verifier("a long one")+"'")
	run(conn, 1827, "ALTER USER 'facts'@'%' IDENTIFIED WITH caching_sha2_password AS 'short'")
	run(conn, 0, "ALTER USER 'facts'@'%' IDENTIFIED WITH caching_sha2_password AS '"+mysqlNobody+"'")
	run(conn, 0, "CREATE ROLE 'facts_role'@'%'")
	if is := one("SELECT CONCAT(account_locked, password_expired, authentication_string) FROM mysql.user" +
		" WHERE User = 'facts_role'"); is != "YY" {
		t.Errorf("a new role is kept as %q, and would not be told from an account", is)
	}
	run(conn, 0, "GRANT LOCK TABLES ON `facts\\-a`.* TO 'facts'@'%'")
	run(conn, 1410, "GRANT SELECT ON facts_b.* TO 'nobody_is_called_so'@'%'")
	one("SELECT COUNT(*) FROM information_schema.APPLICABLE_ROLES WHERE IS_MANDATORY = 'YES'")
	if one("SELECT @@partial_revokes") != "1" {
		t.Log("partial_revokes is off: that a partial revoke is taken back whole was not tried")
		return
	}
	const restricted = "SELECT CONCAT((SELECT COUNT(*) FROM mysql.db WHERE User = 'facts' AND Select_priv = 'Y'), " +
		"JSON_CONTAINS_PATH(COALESCE(User_attributes, '{}'), 'one', '$.Restrictions')) FROM mysql.user " +
		"WHERE User = 'facts'"
	run(conn, 0, "GRANT SELECT ON *.* TO 'facts'@'%'")
	run(conn, 0, "REVOKE SELECT ON facts_b.* FROM 'facts'@'%'")
	if is := one(restricted); is != "01" {
		t.Errorf("after a partial revoke: %q", is)
	}
	run(conn, 0, "REVOKE SELECT ON facts_b.* FROM 'facts'@'%'") // a gate may be closed twice
	run(conn, 0, "GRANT SELECT ON facts_b.* TO 'facts'@'%'")
	if is := one(restricted); is != "00" {
		t.Errorf("after it was granted back: %q", is)
	}
}

func numberOf(err error) uint16 {
	if me, ok := errors.AsType[*mysql.MySQLError](err); ok {
		return me.Number
	}
	if err != nil && !strings.Contains(err.Error(), "context") {
		return 1
	}
	return 0
}

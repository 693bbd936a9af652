package mysql

import (
	"context"
	"crypto/tls"
	"database/sql"
	"errors"
	"net"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"
)

// address is where the stand-in of the test listens.
var address string

func open(user, password string) *sql.DB {
	cfg := mysql.NewConfig()
	cfg.User, cfg.Passwd, cfg.Net, cfg.Addr = user, password, "tcp", address
	cfg.InterpolateParams = true
	cfg.TLS = &tls.Config{InsecureSkipVerify: true}
	c, _ := mysql.NewConnector(cfg)
	return sql.OpenDB(c)
}

func code(err error) uint16 {
	if e, ok := errors.AsType[*mysql.MySQLError](err); ok {
		return e.Number
	}
	if err != nil {
		return 1
	}
	return 0
}

func TestStandIn(t *testing.T) {
	for _, version := range []string{"8.0.36", "8.4.3"} {
		t.Run(version, func(t *testing.T) { standIn(t, version) })
	}
}

func standIn(t *testing.T, version string) {
	b, err := startBehind(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	defer b.stop()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	address = l.Addr().String()
	l.Close()
	f, err := newFace(b, t.TempDir(), version, "222d11d3-fc39-48bf-8c14-000000000001", address, false)
	if err != nil {
		t.Fatal(err)
	}
	if err := f.addAdmin("root", "rootpw"); err != nil {
		t.Fatal(err)
	}
	stopped := make(chan struct{})
	served := make(chan error, 1)
	go func() { served <- f.serve(address, filepath.Join(t.TempDir(), "ca.pem"), stopped) }()
	defer func() { close(stopped); <-served }()
	db := open("root", "rootpw")
	defer db.Close()
	for deadline := time.Now().Add(time.Minute); db.Ping() != nil; {
		if time.Now().After(deadline) {
			t.Fatal("it does not answer: ", db.Ping())
		}
	}
	ctx := t.Context()
	admin, err := db.Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	do := func(want uint16, q string) {
		t.Helper()
		if _, err := admin.ExecContext(ctx, q); code(err) != want {
			t.Errorf("%s\n  got %v, want %d", q, err, want)
		}
	}
	value := func(q string) (out string) {
		t.Helper()
		if err := admin.QueryRowContext(ctx, q).Scan(&out); err != nil {
			t.Errorf("%s\n  %v", q, err)
		}
		return out
	}
	is := func(what, want string) {
		t.Helper()
		if what != want {
			t.Errorf("got %q, want %q", what, want)
		}
	}
	// The connection is set up; MariaDB's words are refused.
	do(0, "SET SESSION sql_mode='STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION', sql_quote_show_create=1, lock_wait_timeout=1, innodb_lock_wait_timeout=5, max_execution_time=30000, print_identified_with_as_hex=1, information_schema_stats_expiry=86400, @genarch_began=(SELECT UNIX_TIMESTAMP()-CAST(VARIABLE_VALUE AS SIGNED) FROM performance_schema.global_status WHERE VARIABLE_NAME='Uptime')")
	do(1231, "SET SESSION sql_mode='STRICT_TRANS_TABLES,NO_AUTO_CREATE_USER'")
	do(1193, "SET SESSION max_statement_time=30")
	do(1109, "SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS")
	do(1146, "SELECT User FROM mysql.global_priv")
	do(1064, "SET STATEMENT lock_wait_timeout=2 FOR DROP DATABASE d1")
	do(1064, "KILL SOFT CONNECTION 5")
	do(1064, "CREATE USER 'v'@'%' IDENTIFIED VIA mysql_native_password USING '*D821809F681A40A6E379B50D0463EFAE20BDD122'")
	do(1064, "CREATE DATABASE d9 CHARACTER SET utf8mb4 COLLATE utf8mb4_bin COMMENT 'x'")
	do(1064, "CREATE ROLE rr WITH ADMIN CURRENT_USER")
	do(1064, "SET DEFAULT ROLE r FOR 'a'@'%'")
	is(value("SELECT VERSION()"), version)
	if version == "8.4.3" {
		do(0, "SHOW BINARY LOG STATUS")
		do(1064, "SHOW MASTER STATUS")
	} else {
		do(1064, "SHOW BINARY LOG STATUS")
	}
	// Databases; a drop is atomic and waits.
	do(0, "CREATE DATABASE `d1` CHARACTER SET utf8mb4 COLLATE utf8mb4_0900_ai_ci")
	is(value("SELECT DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME='d1'"),
		"utf8mb4_0900_ai_ci")
	do(1049, "ALTER DATABASE `nope` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
	do(0, "CREATE TABLE d1.t (id INT PRIMARY KEY)")
	do(0, "CREATE DATABASE `d2` CHARACTER SET utf8mb4 COLLATE utf8mb4_bin")
	do(0, "CREATE TABLE d2.c (id INT PRIMARY KEY, t INT, CONSTRAINT k FOREIGN KEY (t) REFERENCES d1.t (id))")
	do(3730, "DROP DATABASE `d1`")
	do(0, "DROP TABLE d2.c")
	do(0, "ALTER DATABASE `d1` READ ONLY=1")
	is(value("SELECT OPTIONS FROM information_schema.SCHEMATA_EXTENSIONS WHERE SCHEMA_NAME='d1'"), "READ ONLY=1")
	do(3989, "DROP DATABASE `d1`")
	do(3989, "INSERT INTO d1.t VALUES (1)")
	do(3989, "CREATE TABLE `d1`.`u` (id INT)")
	do(0, "CREATE TABLE d2.e (id INT)")
	do(0, "SELECT * FROM d1.t")
	do(0, "ALTER DATABASE `d1` READ ONLY=0")
	// Accounts: a verifier, the lock, a second password, a role.
	v := sha2Verifier("pä55", printableSalt(), 5)
	do(0, "CREATE USER 'app'@'127.0.0.1' IDENTIFIED WITH caching_sha2_password AS '"+v+"' ACCOUNT UNLOCK COMMENT 'of the test'")
	is(value("SELECT authentication_string FROM mysql.user WHERE User='app'"), v)
	is(value("SELECT ATTRIBUTE FROM information_schema.USER_ATTRIBUTES WHERE USER='app'"), `{"comment": "of the test"}`)
	do(1827, "ALTER USER 'app'@'127.0.0.1' IDENTIFIED WITH caching_sha2_password AS 'short'")
	do(1410, "GRANT SELECT ON d1.* TO 'nobody'@'%'")
	app := open("app", "pä55")
	if err := app.Ping(); err != nil {
		t.Fatal(err)
	}
	if err := open("app", "wrong").Ping(); code(err) != 1045 {
		t.Error(err)
	}
	do(0, "ALTER USER 'app'@'127.0.0.1' ACCOUNT LOCK")
	if err := open("app", "pä55").Ping(); code(err) != 3118 {
		t.Error(err)
	}
	do(0, "ALTER USER 'app'@'127.0.0.1' ACCOUNT UNLOCK")
	do(0, "ALTER USER 'app'@'127.0.0.1' IDENTIFIED WITH caching_sha2_password AS '"+sha2Verifier("new",
		printableSalt(), 5)+"' RETAIN CURRENT PASSWORD")
	for _, pw := range []string{"new", "pä55"} {
		if err := open("app", pw).Ping(); err != nil {
			t.Error(pw, err)
		}
	}
	do(0, "ALTER USER 'app'@'127.0.0.1' DISCARD OLD PASSWORD")
	if err := open("app", "pä55").Ping(); code(err) != 1045 {
		t.Error(err)
	}
	if version == "8.4.3" {
		do(1524, "CREATE USER 'n'@'%' IDENTIFIED WITH mysql_native_password AS '*D821809F681A40A6E379B50D0463EFAE20BDD122'")
	}
	do(0, "CREATE ROLE 'readers'@'%'")
	do(0, "GRANT SELECT ON `d1`.* TO 'readers'@'%'")
	do(0, "GRANT 'readers'@'%' TO 'app'@'127.0.0.1'")
	is(value("SELECT GROUP_CONCAT(CONCAT_WS(',', FROM_HOST, FROM_USER, TO_HOST, TO_USER, WITH_ADMIN_OPTION)) FROM mysql.role_edges"), "%,readers,127.0.0.1,app,N")
	do(3523, "GRANT 'nope'@'%' TO 'app'@'127.0.0.1'")
	do(0, "SET DEFAULT ROLE 'readers'@'%' TO 'app'@'127.0.0.1'")
	is(value("SELECT CONCAT_WS(',', account_locked, password_expired) FROM mysql.user WHERE User='readers'"), "Y,Y")
	// Several default roles hold at once, until one of them is gone.
	const defaults = "SELECT GROUP_CONCAT(DEFAULT_ROLE_USER ORDER BY 1) FROM mysql.default_roles WHERE USER='app'"
	do(0, "CREATE ROLE 'writers'@'%'")
	do(3530, "SET DEFAULT ROLE 'readers'@'%', 'writers'@'%' TO 'app'@'127.0.0.1'")
	do(0, "GRANT 'writers'@'%' TO 'app'@'127.0.0.1'")
	do(0, "GRANT INSERT ON `d1`.* TO 'writers'@'%'")
	do(0, "SET DEFAULT ROLE 'readers'@'%', 'writers'@'%' TO 'app'@'127.0.0.1'")
	is(value(defaults), "readers,writers")
	is(value("SELECT GROUP_CONCAT(FROM_USER ORDER BY 1) FROM mysql.role_edges WHERE TO_USER='app'"), "readers,writers")
	for _, q := range []string{"INSERT INTO d1.t VALUES (7)", "SELECT * FROM d1.t"} {
		if _, err := open("app", "new").Exec(q); err != nil {
			t.Error(q, err)
		}
	}
	do(0, "DROP ROLE 'writers'@'%'")
	is(value(defaults), "readers")
	if _, err := open("app", "new").Exec("INSERT INTO d1.t VALUES (8)"); code(err) != 1142 {
		t.Error("a role that is gone", err)
	}
	if !strings.Contains(value("SHOW GRANTS FOR 'app'@'127.0.0.1'"), "GRANT `readers`@`%` TO") {
		t.Error(value("SHOW GRANTS FOR 'app'@'127.0.0.1'"))
	}
	// A session in a transaction: seen, waited for, ended.
	conn, err := open("app", "new").Conn(ctx)
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"BEGIN", "SELECT * FROM d1.t"} {
		if _, err := conn.ExecContext(ctx, q); err != nil {
			t.Fatal(q, err)
		}
	}
	do(1205, "DROP DATABASE `d1`")
	is(value("SELECT DEFAULT_COLLATION_NAME FROM information_schema.SCHEMATA WHERE SCHEMA_NAME='d1'"),
		"utf8mb4_0900_ai_ci")
	id := value("SELECT t.PROCESSLIST_ID FROM performance_schema.metadata_locks m JOIN performance_schema.threads t ON t.THREAD_ID=m.OWNER_THREAD_ID WHERE m.OBJECT_SCHEMA='d1' AND m.LOCK_STATUS='GRANTED'")
	is(value("SELECT USER FROM performance_schema.processlist WHERE ID="+id), "app")
	do(0, "KILL CONNECTION "+id)
	if _, err := conn.ExecContext(context.Background(), "SELECT 1"); err == nil {
		t.Error("the killed session goes on")
	}
	do(1094, "KILL 999999")
	do(0, "DROP DATABASE `d1`")
	do(1008, "DROP DATABASE `d1`")
	do(0, "DROP ROLE 'readers'@'%'")
	do(0, "DROP USER 'app'@'127.0.0.1'")
	do(1396, "DROP USER 'app'@'127.0.0.1'")
}

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

// client is an administrator's session of a stand-in that the test has started.
type client struct {
	*testing.T
	conn *sql.Conn
}

// do runs a statement, which is to end with an error number, or with 0.
func (c client) do(want uint16, q string) {
	c.Helper()
	if _, err := c.conn.ExecContext(c.Context(), q); code(err) != want {
		c.Errorf("%s\n  got %v, want %d", q, err, want)
	}
}

// value reads one.
func (c client) value(q string) (out string) {
	c.Helper()
	if err := c.conn.QueryRowContext(c.Context(), q).Scan(&out); err != nil {
		c.Errorf("%s\n  %v", q, err)
	}
	return out
}

func (c client) is(what, want string) {
	c.Helper()
	if what != want {
		c.Errorf("got %q, want %q", what, want)
	}
}

// start starts a stand-in, and signs in as its administrator.
func start(t *testing.T, version string) client {
	b, err := startBehind(t.TempDir())
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(b.stop)
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
	for name, system := range map[string]bool{"root": true, "genarch": false} {
		if err := f.addAdmin(name, "rootpw", system); err != nil {
			t.Fatal(err)
		}
	}
	stopped := make(chan struct{})
	served := make(chan error, 1)
	go func() { served <- f.serve(address, filepath.Join(t.TempDir(), "ca.pem"), stopped) }()
	t.Cleanup(func() { close(stopped); <-served })
	db := open("root", "rootpw")
	t.Cleanup(func() { db.Close() })
	for deadline := time.Now().Add(time.Minute); db.Ping() != nil; {
		if time.Now().After(deadline) {
			t.Fatal("it does not answer: ", db.Ping())
		}
	}
	conn, err := db.Conn(t.Context())
	if err != nil {
		t.Fatal(err)
	}
	return client{t, conn}
}

func standIn(t *testing.T, version string) {
	c := start(t, version)
	do, value, is, ctx := c.do, c.value, c.is, t.Context()
	// The connection is set up; MariaDB's words are refused.
	do(0, "SET SESSION sql_mode='STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION', sql_quote_show_create=1, lock_wait_timeout=1, innodb_lock_wait_timeout=5, max_execution_time=30000, print_identified_with_as_hex=1, information_schema_stats_expiry=86400, @genarch_began=(SELECT UNIX_TIMESTAMP()-CAST(VARIABLE_VALUE AS SIGNED) FROM performance_schema.global_status WHERE VARIABLE_NAME='Uptime')")
	do(1231, "SET SESSION sql_mode='STRICT_TRANS_TABLES,NO_AUTO_CREATE_USER'")
	do(1193, "SET SESSION max_statement_time=30")
	do(1109, "SELECT VARIABLE_VALUE FROM information_schema.GLOBAL_STATUS")
	do(1146, "SELECT User FROM mysql.global_priv")
	do(1064, "SET STATEMENT lock_wait_timeout=2 FOR DROP DATABASE d1")
	do(1064, "KILL SOFT CONNECTION 5")
	do(1064, "CREATE USER 'v'@'%' IDENTIFIED VIA mysql_native_password "+
		"USING '*D821809F681A40A6E379B50D0463EFAE20BDD122'")
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
	do(0, "CREATE USER 'app'@'127.0.0.1' IDENTIFIED WITH caching_sha2_password AS '"+v+
		"' ACCOUNT UNLOCK COMMENT 'of the test'")
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
		do(1524, "CREATE USER 'n'@'%' IDENTIFIED WITH mysql_native_password "+
			"AS '*D821809F681A40A6E379B50D0463EFAE20BDD122'")
	}
	do(0, "CREATE ROLE 'readers'@'%'")
	do(0, "GRANT SELECT ON `d1`.* TO 'readers'@'%'")
	do(0, "GRANT 'readers'@'%' TO 'app'@'127.0.0.1'")
	is(value("SELECT GROUP_CONCAT(CONCAT_WS(',', FROM_HOST, FROM_USER, TO_HOST, TO_USER, WITH_ADMIN_OPTION)) "+
		"FROM mysql.role_edges"), "%,readers,127.0.0.1,app,N")
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
	id := value("SELECT t.PROCESSLIST_ID FROM performance_schema.metadata_locks m " +
		"JOIN performance_schema.threads t ON t.THREAD_ID=m.OWNER_THREAD_ID WHERE m.OBJECT_SCHEMA='d1' AND m.LOCK_STATUS='GRANTED'")
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

// TestAbove: what everybody has, what one is kept from although he has it everywhere, and who is
// above the rest.
func TestAbove(t *testing.T) {
	c := start(t, "8.0.36")
	do, value, is := c.do, c.value, c.is
	v := sha2Verifier("pw", printableSalt(), 5)
	as := func(user, q string) uint16 {
		t.Helper()
		db := open(user, map[bool]string{true: "rootpw", false: "pw"}[user == "genarch"])
		defer db.Close()
		_, err := db.Exec(q)
		return code(err)
	}
	want := func(number uint16, user, q string) {
		t.Helper()
		if got := as(user, q); got != number {
			t.Errorf("%s: %s\n  got %d, want %d", user, q, got, number)
		}
	}
	for _, q := range []string{"CREATE DATABASE d1", "CREATE TABLE d1.t (id INT)", "CREATE DATABASE d2",
		"CREATE TABLE d2.t (id INT)", "CREATE ROLE 'all'@'%'", "GRANT SELECT ON `d1`.* TO 'all'@'%'",
		"CREATE USER 'app'@'127.0.0.1' IDENTIFIED WITH caching_sha2_password AS '" + v + "'"} {
		do(0, q)
	}
	// Mandatory roles hold where all roles do, or by default.
	want(1142, "app", "SELECT * FROM d1.t")
	do(0, "SET PERSIST mandatory_roles = '`all`@`%`, nobody'")
	is(value("SELECT GROUP_CONCAT(ROLE_NAME) FROM information_schema.APPLICABLE_ROLES"), "all")
	want(1142, "app", "SELECT * FROM d1.t")
	do(0, "SET GLOBAL activate_all_roles_on_login = ON")
	want(0, "app", "SELECT * FROM d1.t")
	is(value("SELECT COUNT(*) FROM mysql.role_edges"), "0")
	do(3628, "DROP ROLE 'all'@'%'")
	do(3628, "REVOKE 'all'@'%' FROM 'app'@'127.0.0.1'")
	do(0, "SET PERSIST mandatory_roles = ''")
	want(1142, "app", "SELECT * FROM d1.t")
	// A role that is taken is gone with the next statement.
	do(0, "GRANT 'all'@'%' TO 'app'@'127.0.0.1'")
	do(0, "SET DEFAULT ROLE 'all'@'%' TO 'app'@'127.0.0.1'")
	app := open("app", "pw")
	defer app.Close()
	app.SetMaxOpenConns(1)
	if _, err := app.Exec("SELECT * FROM d1.t"); err != nil {
		t.Error(err)
	}
	do(0, "REVOKE 'all'@'%' FROM 'app'@'127.0.0.1'")
	if _, err := app.Exec("SELECT * FROM d1.t"); code(err) != 1142 {
		t.Error("a role that was taken holds on:", err)
	}
	// A partial revoke.
	do(0, "GRANT SELECT, INSERT ON *.* TO 'app'@'127.0.0.1'")
	do(1141, "REVOKE SELECT ON `d1`.* FROM 'app'@'127.0.0.1'")
	do(0, "SET GLOBAL partial_revokes = ON")
	do(0, "REVOKE SELECT, INSERT ON `d1`.* FROM 'app'@'127.0.0.1'")
	is(value("SELECT JSON_EXTRACT(User_attributes, '$.Restrictions') FROM mysql.user WHERE User = 'app'"),
		`[{"Database": "d1", "Privileges": ["INSERT", "SELECT"]}]`)
	want(1142, "app", "SELECT * FROM d1.t")
	want(1044, "app", "USE d1")
	want(0, "app", "SELECT * FROM d2.t")
	do(3896, "SET GLOBAL partial_revokes = OFF")
	do(0, "GRANT SELECT, INSERT ON `d1`.* TO 'app'@'127.0.0.1'")
	is(value("SELECT COUNT(*) FROM mysql.db WHERE User = 'app'"), "0")
	want(0, "app", "SELECT * FROM d1.t")
	// Who has SYSTEM_USER is above who has not.
	do(0, "GRANT SYSTEM_USER ON *.* TO 'app'@'127.0.0.1'")
	want(1227, "genarch", "ALTER USER 'app'@'127.0.0.1' ACCOUNT LOCK")
	want(1227, "genarch", "REVOKE SELECT ON *.* FROM 'app'@'127.0.0.1'")
	want(1095, "genarch", "KILL "+value("SELECT MAX(ID) FROM performance_schema.processlist WHERE USER = 'app'"))
	// Values are put into a prepared statement.
	db := open("root", "rootpw")
	defer db.Close()
	st, err := db.Prepare("SELECT ?, '?', ?, COALESCE(?, 7)")
	if err != nil {
		t.Fatal(err)
	}
	defer st.Close()
	var a, b, x string
	var n int
	if err := st.QueryRow("it's", 41, nil).Scan(&a, &b, &n, &x); err != nil || a != "it's" || b != "?" || n != 41 ||
		x != "7" {
		t.Error(a, b, n, x, err)
	}
	// A server that is offline.
	do(0, "SET GLOBAL offline_mode = ON")
	want(3032, "app", "SELECT 1")
	want(0, "genarch", "SELECT 1")
}

package mysql

import (
	"context"
	"crypto/sha1"
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"sync/atomic"

	"github.com/dolthub/vitess/go/mysql"
	"github.com/dolthub/vitess/go/sqltypes"
	querypb "github.com/dolthub/vitess/go/vt/proto/query"
	"github.com/dolthub/vitess/go/vt/sqlparser"
)

// face takes clients as a MySQL server would, and asks the MariaDB behind.
type face struct {
	version   string
	dir       string // where a file cut asks for lines to be cut
	host      string
	port      int
	native    bool // mysql_native_password is there
	variables map[string]string
	mu        sync.Mutex // guards root and fast
	root      *mysql.Conn
	fast      map[string][]byte      // what makes later logins quick: SHA256(SHA256(password))
	clients   map[string]*mysql.Conn // by the number of the session behind
	frozen    atomic.Bool            // whether some database may be read only
}

// login is who a client is, and his own session behind.
type login struct {
	user, host string
	conn       *mysql.Conn
}

// Get serves the protocol's library.
func (l *login) Get() *querypb.VTGateCallerID { return &querypb.VTGateCallerID{Username: l.user} }

// ask runs a statement as the administrator behind.
func (f *face) ask(q string) (*sqltypes.Result, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.root.ExecuteFetch(q, 100000, true)
}

func (f *face) addAdmin(name, password string) error {
	back := secret()
	who := quote(name) + "@'127.0.0.1'"
	for _, q := range []string{"CREATE USER IF NOT EXISTS " + who, "ALTER USER " + who + " IDENTIFIED VIA " +
		"mysql_native_password USING '" + nativeHash(back) + "'",
		"GRANT ALL PRIVILEGES ON *.* TO " + who + " WITH GRANT OPTION",
		"REPLACE INTO mysql8.accounts (User, Host, plugin, verifier, backend) VALUES (" + quote(name) + ", " +
			"'127.0.0.1', 'caching_sha2_password', " + quote(sha2Verifier(password, printableSalt(), 5)) + ", '" +
			back + "')",
		"INSERT IGNORE INTO mysql8.global_grants VALUES " + dynamics(name)} {
		if _, err := f.ask(q); err != nil {
			return err
		}
	}
	return nil
}

func dynamics(name string) string {
	var rows []string
	for _, p := range []string{"CONNECTION_ADMIN", "ROLE_ADMIN", "XA_RECOVER_ADMIN", "BACKUP_ADMIN", "SHOW_ROUTINE",
		"SYSTEM_VARIABLES_ADMIN", "SET_USER_ID", "SET_ANY_DEFINER"} {
		rows = append(rows, "("+quote(name)+", '127.0.0.1', '"+p+"', 'Y')")
	}
	return strings.Join(rows, ", ")
}

// AuthMethods: caching_sha2_password alone.
func (f *face) AuthMethods() []mysql.AuthMethod {
	return []mysql.AuthMethod{mysql.NewSha2CachingAuthMethod(f, f, f)}
}

// DefaultAuthMethodDescription is announced in the handshake.
func (f *face) DefaultAuthMethodDescription() mysql.AuthMethodDescription {
	return mysql.CachingSha2Password
}

// HandleUser takes every name: who does not exist fails later, as on a server.
func (f *face) HandleUser(string, net.Addr) bool { return true }

// find picks the account that a client gets.
func (f *face) find(user string, remote net.Addr) (host, plugin, verifier, second, back string, locked, expired,
	found bool) {
	client, _, _ := net.SplitHostPort(remote.String())
	r, err := f.ask(`SELECT a.Host, a.plugin, a.verifier, a.second, a.backend, COALESCE(JSON_VALUE(p.Priv,
			'$.account_locked'), 0), COALESCE(JSON_VALUE(p.Priv, '$.password_last_changed'), 1) = 0
		FROM mysql8.accounts a JOIN mysql.global_priv p ON p.User = a.User AND p.Host = a.Host WHERE a.User = ` +
		quote(user) + ` AND ` + quote(client) + ` LIKE a.Host
		ORDER BY LOCATE('%', a.Host) = 0 AND LOCATE('_', a.Host) = 0 DESC, LENGTH(a.Host) DESC LIMIT 1`)
	if err != nil || len(r.Rows) == 0 {
		return
	}
	c := r.Rows[0]
	return c[0].ToString(), c[1].ToString(), c[2].ToString(), c[3].ToString(), c[4].ToString(),
		c[5].ToString() == "1", c[6].ToString() == "1", true
}

func denied(user string, remote net.Addr) error {
	client, _, _ := net.SplitHostPort(remote.String())
	return refuse(1045, "28000", "Access denied for user '%s'@'%s' (using password: YES)", user, client)
}

// let ends a login: the account's state, then the session behind.
func (f *face) let(user string, remote net.Addr) (mysql.Getter, error) {
	host, plugin, _, _, back, locked, expired, found := f.find(user, remote)
	switch {
	case !found:
		return nil, denied(user, remote)
	case locked:
		return nil, refuse(3118, "HY000", "Access denied for user '%s'@'%s'. Account is locked.", user, host)
	case plugin == "mysql_native_password" && !f.native:
		return nil, refuse(1524, "HY000", "Plugin 'mysql_native_password' is not loaded")
	case expired:
		return nil, refuse(1862, "HY000", "Your password has expired. To log in you must change it using a "+
			"client that supports expired passwords.")
	}
	c, err := f.connect(user, back)
	if err != nil {
		return nil, err
	}
	return &login{user, host, c}, nil
}

// UserEntryWithCacheHash is the quick login of who was here before.
func (f *face) UserEntryWithCacheHash(_ []*x509.Certificate, salt []byte, user string, response []byte,
	remote net.Addr) (mysql.Getter, mysql.CacheState, error) {
	host, plugin, verifier, second, _, _, _, found := f.find(user, remote)
	if found && verifier == "" && len(response) == 0 {
		g, err := f.let(user, remote)
		return g, mysql.AuthAccepted, err
	}
	if len(response) == 0 {
		return nil, mysql.AuthRejected, denied(user, remote)
	}
	if plugin == "mysql_native_password" && !f.native {
		return nil, mysql.AuthRejected, refuse(1524, "HY000", "Plugin 'mysql_native_password' is not loaded")
	}
	f.mu.Lock()
	hash := f.fast[user+"@"+host+verifier+second]
	f.mu.Unlock()
	if hash != nil && mysql.VerifyHashedCachingSha2Password(response, salt, hash) {
		g, err := f.let(user, remote)
		return g, mysql.AuthAccepted, err
	}
	return nil, mysql.AuthNeedMoreData, nil
}

// UserEntryWithPassword is the full login, over TLS.
func (f *face) UserEntryWithPassword(_ []*x509.Certificate, user, password string, remote net.Addr) (mysql.Getter,
	error) {
	host, plugin, verifier, second, _, _, _, found := f.find(user, remote)
	fits := func(v string) bool {
		if plugin == "mysql_native_password" {
			return v != "" && v == nativeHash(password)
		}
		var n int
		if len(v) != 70 {
			return false
		}
		fmt.Sscanf(v[3:6], "%X", &n)
		return sha2Verifier(password, []byte(v[7:27]), n) == v
	}
	if !found || !fits(verifier) && !fits(second) {
		return nil, denied(user, remote)
	}
	a := sha256.Sum256([]byte(password))
	b := sha256.Sum256(a[:])
	f.mu.Lock()
	if f.fast == nil {
		f.fast = map[string][]byte{}
	}
	f.fast[user+"@"+host+verifier+second] = b[:]
	f.mu.Unlock()
	return f.let(user, remote)
}

// The protocol's events.

func (f *face) NewConnection(*mysql.Conn) {}
func (f *face) ConnectionClosed(c *mysql.Conn) {
	if l, ok := c.UserData.(*login); ok && l.conn != nil {
		f.mu.Lock()
		delete(f.clients, fmt.Sprint(l.conn.ConnectionID))
		f.mu.Unlock()
		l.conn.Close()
	}
}
func (f *face) ConnectionAborted(*mysql.Conn, string) error { return nil }
func (f *face) WarningCount(*mysql.Conn) uint16             { return 0 }
func (f *face) ComResetConnection(*mysql.Conn) error        { return nil }
func (f *face) ParserOptionsForConnection(*mysql.Conn) (sqlparser.ParserOptions, error) {
	return sqlparser.ParserOptions{}, nil
}
func (f *face) ComPrepare(context.Context, *mysql.Conn, string, *mysql.PrepareData) ([]*querypb.Field, error) {
	return nil, refuse(1295, "HY000", "This command is not supported in the prepared statement protocol yet "+
		"(stand-in: interpolate parameters)")
}
func (f *face) ComStmtExecute(context.Context, *mysql.Conn, *mysql.PrepareData, func(*sqltypes.Result) error) error {
	return refuse(1295, "HY000", "This command is not supported in the prepared statement protocol yet")
}

// ComInitDB is USE.
func (f *face) ComInitDB(c *mysql.Conn, name string) error {
	_, err := f.run(c, "USE `"+strings.ReplaceAll(name, "`", "``")+"`")
	return err
}

// note remembers whose session behind a client has.
func (f *face) note(c *mysql.Conn) {
	f.mu.Lock()
	defer f.mu.Unlock()
	if f.clients == nil {
		f.clients = map[string]*mysql.Conn{}
	}
	f.clients[fmt.Sprint(c.UserData.(*login).conn.ConnectionID)] = c
}

// cuts reports whether the answer to a statement is to be lost: one that holds the text of the
// file cut, once.
func (f *face) cuts(q string) bool {
	file := filepath.Join(f.dir, "cut")
	text, err := os.ReadFile(file)
	return err == nil && strings.Contains(q, string(text)) && os.Remove(file) == nil
}

var kill = regexp.MustCompile(`(?i)^KILL\s+(?:CONNECTION\s+)?(\d+)$`)

// ComQuery runs one statement.
func (f *face) ComQuery(_ context.Context, c *mysql.Conn, q string, give mysql.ResultSpoolFn) error {
	f.note(c)
	q = strings.TrimSpace(strings.Clone(q))
	r, err := f.do(c, q)
	if f.cuts(q) {
		c.Close()
		return errors.New("the line is cut")
	}
	if err != nil {
		return err
	}
	if m := kill.FindStringSubmatch(q); m != nil {
		f.mu.Lock()
		ended := f.clients[m[1]]
		f.mu.Unlock()
		if ended != nil && ended != c {
			ended.Close() // its line ends at once
		}
	}
	return give(r, false)
}

// ComMultiQuery takes the whole text as one statement.
func (f *face) ComMultiQuery(ctx context.Context, c *mysql.Conn, q string, give mysql.ResultSpoolFn) (string, error) {
	return "", f.ComQuery(ctx, c, q, give)
}

// run sends a statement to the client's own session behind.
func (f *face) run(c *mysql.Conn, q string) (*sqltypes.Result, error) {
	l := c.UserData.(*login)
	r, err := l.conn.ExecuteFetch(q, 1000000, true)
	if e, ok := err.(*mysql.SQLError); ok {
		switch {
		case e.Num == mysql.CRServerLost || e.Num == mysql.CRServerGone:
			c.Close() // killed: the client's line ends as well
			return nil, err
		case e.Num == 1927:
			return nil, refuse(1317, "70100", "Query execution was interrupted")
		case e.Num == 1133:
			return nil, refuse(1410, "42000", "You are not allowed to create a user with GRANT")
		case e.Num == 1959:
			return nil, refuse(3523, "HY000", "Unknown authorization ID")
		case e.Num == 1698:
			return nil, refuse(1227, "42000", "Access denied; you need (at least one of) the WITH ADMIN, "+
				"ROLE_ADMIN, SUPER privilege(s) for this operation")
		case e.Num == 1205 && nowait.MatchString(q):
			return nil, refuse(3572, "HY000", "Statement aborted because lock(s) could not be acquired "+
				"immediately and NOWAIT is set.")
		}
	}
	return r, err
}

var (
	nowait   = regexp.MustCompile(`(?i)\bFOR\s+(UPDATE|SHARE)\s+.*NOWAIT`)
	database = "(`(?:[^`]|``)+`|[A-Za-z0-9_$]+)"
	dropDB   = regexp.MustCompile(`(?is)^DROP\s+(?:DATABASE|SCHEMA)\s+(IF\s+EXISTS\s+)?` + database + `\s*;?$`)
	alterRO  = regexp.MustCompile(`(?is)^ALTER\s+(?:DATABASE|SCHEMA)\s+` + database +
		`\s+READ\s+ONLY\s*=?\s*(0|1|DEFAULT)\s*;?$`)
	createDB = regexp.MustCompile(`(?is)^(CREATE|ALTER)\s+(?:DATABASE|SCHEMA)\s+(?:IF\s+NOT\s+EXISTS\s+)?` +
		database + `(.*)$`)
	encryption = regexp.MustCompile(`(?i)\s+(DEFAULT\s+)?ENCRYPTION\s*=?\s*'[YyNn]'`)
	userStmt   = regexp.MustCompile(`(?is)^(CREATE|ALTER)\s+USER\s+(IF\s+(?:NOT\s+)?EXISTS\s+)?` + part +
		`\s*@\s*` + part + `\s*(.*)$`)
	identified = regexp.MustCompile(`(?is)^IDENTIFIED\s+(?:WITH\s+'?(\w+)'?\s*)?(?:(AS|BY)\s+('(?:[^'\\]|''|\\.)*'` +
		`|0x[0-9A-Fa-f]+))?`)
	metadata = regexp.MustCompile(`(?is)\s*\b(COMMENT|ATTRIBUTE)\s+('(?:[^'\\]|''|\\.)*')`)
	policy   = regexp.MustCompile(`(?is)\s*\b(FAILED_LOGIN_ATTEMPTS|PASSWORD_LOCK_TIME|PASSWORD\s+HISTORY|` +
		`PASSWORD\s+REUSE\s+INTERVAL)\s+(\w+)(\s+DAY)?`)
	retain      = regexp.MustCompile(`(?i)\s*\bRETAIN\s+CURRENT\s+PASSWORD\b`)
	ownPassword = regexp.MustCompile(`(?is)^SET\s+PASSWORD\s*=\s*('(?:[^'\\]|''|\\.)*')$`)
	defaultTo   = regexp.MustCompile(`(?is)^SET\s+DEFAULT\s+ROLE\s+(.*?)\s+TO\s+` + part + `\s*@\s*` + part + `\s*;?$`)
	dropUser    = regexp.MustCompile(`(?is)^DROP\s+USER\s+(?:IF\s+EXISTS\s+)?` + part + `\s*@\s*` + part)
	renameUser  = regexp.MustCompile(`(?is)^RENAME\s+USER\s+` + part + `\s*@\s*` + part + `\s+TO\s+` + part +
		`\s*@\s*` + part)
	dynamic = regexp.MustCompile(`(?is)^(GRANT` +
		`|REVOKE)\s+([A-Z]+_[A-Z_]+(?:\s*,\s*[A-Z]+_[A-Z_]+)*)\s+ON\s+\*\.\*\s+(?:TO|FROM)\s+` + part + `\s*@\s*` +
		part)
	roleStmt   = regexp.MustCompile(`(?i)^(GRANT|REVOKE)\s`)
	onWord     = regexp.MustCompile(`(?i)\sON\s|\bALL\b`)
	accountish = regexp.MustCompile(`(?i)^(CREATE\s+ROLE|DROP\s+ROLE|GRANT|REVOKE|SHOW\s+GRANTS|SET\s+ROLE` +
		`|DROP\s+USER)\b`)
)

func name(id string) string {
	if strings.HasPrefix(id, "`") {
		return strings.ReplaceAll(id[1:len(id)-1], "``", "`")
	}
	return id
}

// do carries a statement out as MySQL would.
//
// Long: one case after another of what is another statement behind.
func (f *face) do(c *mysql.Conn, q string) (*sqltypes.Result, error) {
	if err := checkWords(q); err != nil {
		return nil, err
	}
	upper := strings.ToUpper(strings.Join(strings.Fields(q[:min(len(q), 60)]), " "))
	upper = strings.TrimSuffix(upper, ";")
	if f.frozen.Load() && writes.MatchString(q) && !alterRO.MatchString(q) {
		if err := f.thaw(c, q); err != nil {
			return nil, err
		}
	}
	switch m := []string(nil); {
	case upper == "LOCK INSTANCE FOR BACKUP":
		for _, s := range []string{"BACKUP STAGE START", "BACKUP STAGE BLOCK_DDL"} {
			if r, err := f.run(c, s); err != nil {
				return r, err
			}
		}
		return &sqltypes.Result{}, nil
	case upper == "XA RECOVER CONVERT XID":
		return f.run(c, "XA RECOVER FORMAT='SQL'")
	case upper == "UNLOCK INSTANCE":
		return f.run(c, "BACKUP STAGE END")
	case upper == "SHOW BINARY LOG STATUS":
		if mysqlVersion(f.version) < 80200 {
			return nil, refuse(1064, "42000", "You have an error in your SQL syntax; check the manual that "+
				"corresponds to your MySQL server version for the right syntax to use near 'LOG STATUS' at line 1")
		}
		return f.run(c, "SHOW MASTER STATUS")
	case mysqlVersion(f.version) >= 80400 && (strings.HasPrefix(upper, "SHOW MASTER "+
		"STATUS") || strings.HasPrefix(upper, "SHOW SLAVE")):
		return nil, refuse(1064, "42000", "You have an error in your SQL syntax; check the manual that "+
			"corresponds to your MySQL server version for the right syntax to use near 'MASTER STATUS' at line 1")
	case match(&m, alterRO, q):
		return f.readOnly(name(m[1]), m[2])
	case match(&m, dropDB, q):
		return f.drop(c, name(m[2]), q)
	case match(&m, createDB, q):
		if m[1] != "" && strings.EqualFold(m[1], "ALTER") {
			if err := f.exists(name(m[2])); err != nil {
				return nil, err
			}
			if err := f.writable(name(m[2])); err != nil {
				return nil, err
			}
		}
		q = encryption.ReplaceAllString(q, "")
		return f.run(c, strings.ReplaceAll(q, "utf8mb4_0900_ai_ci", "utf8mb4_uca1400_ai_ci"))
	case strings.HasPrefix(upper, "RENAME TABLE"):
		r, _ := f.ask("SELECT name FROM mysql8.read_only")
		for _, row := range r.Rows {
			if n := row[0].ToString(); strings.Contains(q, "`"+n+"`.") || strings.Contains(q, " "+n+".") {
				return nil, f.writable(n)
			}
		}
	case match(&m, userStmt, q):
		return f.user(c, m)
	case match(&m, ownPassword, q):
		l := c.UserData.(*login)
		_, err := f.ask("UPDATE mysql8.accounts SET verifier = " + quote(sha2Verifier(unquote(m[1]),
			printableSalt(), 5)) +
			" WHERE User = " + quote(l.user) + " AND Host = " + quote(l.host))
		return &sqltypes.Result{}, err
	case match(&m, dynamic, q):
		return f.dynamic(m)
	case match(&m, defaultTo, q):
		return f.defaultRole(m)
	case match(&m, renameUser, q):
		r, err := f.run(c, q)
		if err == nil {
			_, err = f.ask("UPDATE mysql8.accounts SET User = " + quote(unquote(m[3])) + ", Host = " +
				"" + quote(unquote(m[4])) + " WHERE User = " + quote(unquote(m[1])) + " AND Host = " +
				quote(unquote(m[2])))
		}
		if err == nil {
			_, err = f.ask("UPDATE mysql8.defaults SET User = " + quote(unquote(m[3])) + ", Host = " +
				quote(unquote(m[4])) + " WHERE User = " + quote(unquote(m[1])) + " AND Host = " + quote(unquote(m[2])))
		}
		return r, err
	case match(&m, dropUser, q):
		r, err := f.run(c, f.roles(q))
		if err == nil {
			where := " WHERE User = " + quote(unquote(m[1])) + " AND Host = " + quote(unquote(m[2]))
			_, _ = f.ask("DELETE FROM mysql8.accounts" + where)
			_, _ = f.ask("DELETE FROM mysql8.global_grants" + where)
			err = f.forget()
		}
		return r, err
	case strings.HasPrefix(upper, "CREATE ROLE"):
		// Nobody becomes a member with MySQL; behind, only the stand-in does.
		return f.ask(account.ReplaceAllString(q, "$1"))
	case roleStmt.MatchString(q) && !onWord.MatchString(blankTexts(q)):
		return f.roleTo(c, q)
	case strings.HasPrefix(upper, "SHOW GRANTS"):
		return f.showGrants(c, q)
	case strings.HasPrefix(upper, "SHOW CREATE TRIGGER"), strings.HasPrefix(upper, "SHOW CREATE FUNCTION"),
		strings.HasPrefix(upper, "SHOW CREATE PROCEDURE"), strings.HasPrefix(upper, "SHOW CREATE EVENT"):
		r, err := f.run(c, q)
		return altered(r, withoutMode), err
	case strings.HasPrefix(upper, "SELECT") && strings.Contains(upper, "SQL_MODE"):
		r, err := f.run(c, f.rewrite(q))
		return altered(r, withoutMode), err
	case strings.HasPrefix(upper, "SHOW CREATE DATABASE"), strings.HasPrefix(upper, "SHOW CREATE SCHEMA"):
		r, err := f.run(c, q)
		return altered(r, func(s string) string {
			return strings.ReplaceAll(s, "utf8mb4_uca1400_ai_ci",
				"utf8mb4_0900_ai_ci")
		}), err
	case strings.HasPrefix(upper, "DROP ROLE"):
		r, err := f.run(c, f.rewrite(f.roles(q)))
		if err == nil {
			err = f.forget()
		}
		return r, err
	case accountish.MatchString(q):
		q = f.roles(q)
	}
	return f.run(c, f.rewrite(q))
}

// withoutMode takes the mode out that only the MariaDB behind has.
func withoutMode(s string) string {
	if s == "NO_AUTO_CREATE_USER" {
		return ""
	}
	return strings.NewReplacer(",NO_AUTO_CREATE_USER", "", "NO_AUTO_CREATE_USER,", "").Replace(s)
}

func match(m *[]string, r *regexp.Regexp, q string) bool {
	*m = r.FindStringSubmatch(q)
	return *m != nil
}

// roles writes 'r'@'%' as MariaDB's r wherever r is a role.
func (f *face) roles(q string) string {
	known := map[string]bool{}
	if r, err := f.ask("SELECT User FROM mysql.global_priv WHERE Host = '' AND COALESCE(JSON_VALUE(Priv, " +
		"'$.is_role'), 0) = 1"); err == nil {
		for _, row := range r.Rows {
			known[row[0].ToString()] = true
		}
	}
	dropRole := strings.HasPrefix(strings.ToUpper(q), "DROP ROLE")
	q = account.ReplaceAllStringFunc(q, func(a string) string {
		m := account.FindStringSubmatch(a)
		if n := unquote(m[1]); unquote(m[2]) == "%" && (known[n] || dropRole) {
			return "`" + strings.ReplaceAll(n, "`", "``") + "`"
		}
		return a
	})
	if i := strings.Index(strings.ToUpper(q), " USING "); i > 0 && strings.HasPrefix(strings.ToUpper(q), "SHOW "+
		"GRANTS") {
		q = q[:i]
	}
	return q
}

func (f *face) exists(n string) error {
	if r, err := f.ask("SELECT 1 FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = " +
		"" + quote(n)); err == nil && len(r.Rows) == 0 {
		return refuse(1049, "42000", "Unknown database '%s'", n)
	}
	return nil
}

func (f *face) writable(n string) error {
	if r, err := f.ask("SELECT 1 FROM mysql8.read_only WHERE name = " + quote(n)); err == nil && len(r.Rows) > 0 {
		return refuse(3989, "HY000", "Schema '%s' is in read only mode.", n)
	}
	return nil
}

func (f *face) readOnly(n, to string) (*sqltypes.Result, error) {
	if err := f.exists(n); err != nil {
		return nil, err
	}
	q := "DELETE FROM mysql8.read_only WHERE name = " + quote(n)
	if to == "1" {
		q = "INSERT IGNORE INTO mysql8.read_only VALUES (" + quote(n) + ")"
	}
	_, err := f.ask(q)
	f.frozen.Store(true)
	return &sqltypes.Result{RowsAffected: 1}, err
}

// writes are statements that alter something in a database; tables of a session alone may.
var writes = regexp.MustCompile(`(?i)^\s*(INSERT|UPDATE|DELETE|REPLACE|LOAD|TRUNCATE|` +
	`(CREATE|ALTER|DROP)\s+(OR\s+REPLACE\s+)?(\S+\s+)*?(TABLE|VIEW|INDEX|TRIGGER|EVENT|FUNCTION|PROCEDURE))\b`)

// thaw refuses what would alter something in a database that is read only: the one that the
// statement names, or else the one that the session is in.
func (f *face) thaw(c *mysql.Conn, q string) error {
	r, err := f.ask("SELECT name FROM mysql8.read_only")
	if err != nil {
		return err
	}
	in, err := f.run(c, "SELECT DATABASE()")
	if err != nil {
		return err
	}
	f.frozen.Store(len(r.Rows) > 0)
	for _, row := range r.Rows {
		n := row[0].ToString()
		named := strings.Contains(q, "`"+strings.ReplaceAll(n, "`", "``")+"`.") || strings.Contains(q, " "+n+".")
		if named || !strings.Contains(q, ".") && in.Rows[0][0].ToString() == n {
			return refuse(3989, "HY000", "Schema '%s' is in read only mode.", n)
		}
	}
	return nil
}

// drop is atomic: keys from outside are looked for before, and what a failure
// behind has lost is put back.
func (f *face) drop(c *mysql.Conn, n, q string) (*sqltypes.Result, error) {
	if err := f.writable(n); err != nil {
		return nil, err
	}
	r, err := f.run(c, "SELECT @@foreign_key_checks")
	if err != nil {
		return nil, err
	}
	if r.Rows[0][0].ToString() == "1" {
		k, err := f.ask("SELECT REFERENCED_TABLE_NAME, CONSTRAINT_NAME, TABLE_NAME FROM " +
			"information_schema.REFERENTIAL_CONSTRAINTS WHERE UNIQUE_CONSTRAINT_SCHEMA = " + quote(n) +
			" AND CONSTRAINT_SCHEMA <> " + quote(n))
		if err == nil && len(k.Rows) > 0 {
			x := k.Rows[0]
			return nil, refuse(3730, "HY000", "Cannot drop table '%s' referenced by a foreign key constraint "+
				"'%s' on table '%s'.", x[0].ToString(), x[1].ToString(), x[2].ToString())
		}
	}
	was, _ := f.ask("SELECT DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME FROM " +
		"information_schema.SCHEMATA WHERE SCHEMA_NAME = " + quote(n))
	r, err = f.run(c, q)
	if err != nil && was != nil && len(was.Rows) > 0 {
		_, _ = f.ask("ALTER DATABASE `" + strings.ReplaceAll(n, "`", "``") + "` CHARACTER SET " +
			was.Rows[0][0].ToString() + " COLLATE " + was.Rows[0][1].ToString())
	}
	return r, err
}

// user is CREATE USER and ALTER USER: the verifier stays here, and the account
// behind has a secret of the stand-in.
//
// Long: each option is taken out of the text before the next is looked for.
func (f *face) user(c *mysql.Conn, m []string) (*sqltypes.Result, error) {
	create := strings.EqualFold(m[1], "CREATE")
	user, host, rest := unquote(m[3]), unquote(m[4]), strings.TrimSuffix(strings.TrimSpace(m[5]), ";")
	if len([]rune(user)) > 32 {
		return nil, refuse(1470, "HY000", "String '%s' is too long for user name (should be no longer than 32)", user)
	}
	who := quote(user) + "@" + quote(host)
	where := " WHERE User = " + quote(user) + " AND Host = " + quote(host)
	keep := retain.MatchString(rest)
	rest = retain.ReplaceAllString(rest, "")
	if strings.EqualFold(rest, "DISCARD OLD PASSWORD") {
		_, err := f.ask("UPDATE mysql8.accounts SET second = ''" + where)
		return &sqltypes.Result{}, err
	}
	var note string
	if x := metadata.FindStringSubmatch(rest); x != nil {
		rest = metadata.ReplaceAllString(rest, "")
		note = unquote(x[2])
		if strings.EqualFold(x[1], "COMMENT") {
			note = `{"comment": "` + strings.NewReplacer(`\`, `\\`, `"`, `\"`).Replace(note) + `"}`
		}
	}
	var policies []string
	for _, x := range policy.FindAllStringSubmatch(rest, -1) {
		column := map[byte]string{'F': "attempts", 'L': "days", 'H': "history", 'R': "reuse"}
		word := strings.TrimLeft(strings.TrimPrefix(strings.ToUpper(x[1]), "PASSWORD"), "_ \t\n")
		value := strings.NewReplacer("DEFAULT", "NULL", "UNBOUNDED", "-1").Replace(strings.ToUpper(x[2]))
		policies = append(policies, column[word[0]]+" = "+value)
	}
	rest = policy.ReplaceAllString(rest, "")
	plugin, verifier, back := "caching_sha2_password", "", ""
	if x := identified.FindStringSubmatch(rest); x != nil || create {
		if x != nil {
			rest = rest[len(x[0]):]
			if x[1] != "" {
				plugin = strings.ToLower(x[1])
			}
			value := ""
			if strings.HasPrefix(x[3], "0x") {
				raw, _ := hex.DecodeString(x[3][2:])
				value = string(raw)
			} else if x[3] != "" {
				value = unquote(x[3])
			}
			switch {
			case plugin == "mysql_native_password" && !f.native:
				return nil, refuse(1524, "HY000", "Plugin 'mysql_native_password' is not loaded")
			case plugin != "caching_sha2_password" && plugin != "mysql_native_password":
				return nil, refuse(1524, "HY000", "Plugin '%s' is not loaded", plugin)
			case strings.EqualFold(x[2], "AS") && value != "" && !shaped(plugin, value):
				return nil, refuse(1827, "HY000", "The password hash doesn't have the expected format.")
			case strings.EqualFold(x[2], "AS"), value == "":
				verifier = value
			case plugin == "mysql_native_password":
				verifier = nativeHash(value)
			default:
				verifier = sha2Verifier(value, printableSalt(), 5)
			}
		}
		back = secret()
	}
	q := strings.ToUpper(m[1]) + " USER " + m[2] + who
	if back != "" {
		q += " IDENTIFIED VIA mysql_native_password USING '" + nativeHash(back) + "'"
	}
	r := &sqltypes.Result{}
	if rest = strings.TrimSpace(rest); rest != "" || back != "" {
		var err error
		if r, err = f.run(c, q+" "+rest); err != nil {
			return r, err
		}
	}
	var err error
	if back != "" {
		second := "''"
		if keep {
			second = "COALESCE((SELECT verifier FROM mysql8.accounts a" + where + "), '')"
		}
		_, err = f.ask("INSERT INTO mysql8.accounts (User, Host, plugin, verifier, second, backend) VALUES " +
			"(" + quote(user) + ", " + quote(host) + ", '" + plugin + "', " + quote(verifier) + ", '', '" + back +
			"') ON DUPLICATE KEY UPDATE " +
			map[bool]string{true: "second = verifier, ", false: "second = second, "}[keep] + "plugin = " +
			"VALUES(plugin), verifier = VALUES(verifier), backend = VALUES(backend)")
		_ = second
	}
	if len(policies) > 0 && err == nil {
		_, err = f.ask("UPDATE mysql8.accounts SET " + strings.Join(policies, ", ") + where)
	}
	if note != "" && err == nil {
		_, err = f.ask("UPDATE mysql8.accounts SET metadata = JSON_MERGE_PATCH(COALESCE(metadata, '{}'), " +
			"" + quote(note) + ")" + where)
	}
	return r, err
}

func shaped(plugin, v string) bool {
	if plugin == "mysql_native_password" {
		return len(v) == 41 && v[0] == '*'
	}
	return len(v) == 70 && strings.HasPrefix(v, "$A$") && v[6] == '$' && !strings.ContainsAny(v[7:27], "$\x00")
}

// dynamic is GRANT and REVOKE of dynamic privileges: kept in a table; only
// CONNECTION_ADMIN means anything behind.
func (f *face) dynamic(m []string) (*sqltypes.Result, error) {
	user, host := unquote(m[3]), unquote(m[4])
	for _, p := range strings.Split(m[2], ",") {
		p = strings.ToUpper(strings.TrimSpace(p))
		q := "DELETE FROM mysql8.global_grants WHERE USER = " + quote(user) + " AND HOST = " +
			"" + quote(host) + " AND PRIV = " + quote(p)
		if strings.EqualFold(m[1], "GRANT") {
			q = "REPLACE INTO mysql8.global_grants VALUES (" + quote(user) + ", " + quote(host) + ", " +
				"" + quote(p) + ", 'N')"
		}
		if _, err := f.ask(q); err != nil {
			return nil, err
		}
		if p == "CONNECTION_ADMIN" {
			to := map[bool]string{true: " TO ", false: " FROM "}[strings.EqualFold(m[1], "GRANT")]
			if _, err := f.ask(strings.ToUpper(m[1]) + " CONNECTION ADMIN ON " +
				"*.*" + to + quote(user) + "@" + quote(host)); err != nil {
				return nil, err
			}
		}
	}
	return &sqltypes.Result{}, nil
}

// defaultRole is SET DEFAULT ROLE. Behind, an account has one default role: where there are to be
// several, it is a role of the stand-in's that has all of them, and shows nowhere.
func (f *face) defaultRole(m []string) (*sqltypes.Result, error) {
	user, host := quote(unquote(m[2])), quote(unquote(m[3]))
	held, err := f.ask("SELECT Role FROM mysql.roles_mapping WHERE User = " + user + " AND Host = " + host +
		" AND Role NOT LIKE '" + together + "%'")
	if err != nil {
		return nil, err
	}
	var has, want []string
	for _, row := range held.Rows {
		has = append(has, row[0].ToString())
	}
	switch list := strings.TrimSpace(m[1]); strings.ToUpper(list) {
	case "NONE":
	case "ALL":
		want = has
	default:
		for _, x := range account.FindAllStringSubmatch(list, -1) {
			role := unquote(x[1])
			if !slices.Contains(has, role) {
				return nil, refuse(3530, "HY000", "`%s`@`%%` is not granted to %s@%s", role, user, host)
			}
			want = append(want, role)
		}
	}
	return &sqltypes.Result{}, f.setDefaults(user, host, want)
}

// together begins the names of roles that stand for several.
const together = "standin:"

// setDefaults settles the default roles of an account, whose name and host are quoted.
func (f *face) setDefaults(user, host string, roles []string) error {
	who := user + "@" + host
	where := " WHERE User = " + user + " AND Host = " + host
	all := "`" + together + fmt.Sprintf("%x", sha1.Sum([]byte(who))) + "`"
	do := []string{"DELETE FROM mysql8.defaults" + where}
	ident := func(role string) string { return "`" + strings.ReplaceAll(role, "`", "``") + "`" }
	for _, r := range roles {
		do = append(do, "INSERT INTO mysql8.defaults VALUES ("+user+", "+host+", "+quote(r)+")")
	}
	switch len(roles) {
	case 0:
		do = append(do, "SET DEFAULT ROLE NONE FOR "+who)
	case 1:
		do = append(do, "SET DEFAULT ROLE "+ident(roles[0])+" FOR "+who)
	default:
		do = append(do, "DROP ROLE IF EXISTS "+all, "CREATE ROLE "+all)
		for _, r := range roles {
			do = append(do, "GRANT "+ident(r)+" TO "+all)
		}
		do = append(do, "GRANT "+all+" TO "+who, "SET DEFAULT ROLE "+all+" FOR "+who)
	}
	for _, q := range do {
		if _, err := f.ask(q); err != nil {
			return err
		}
	}
	return nil
}

// forget takes roles out of the default roles of whoever has them no longer.
func (f *face) forget() error {
	gone, err := f.ask("SELECT DISTINCT d.User, d.Host FROM mysql8.defaults d LEFT JOIN mysql.roles_mapping m" +
		" ON m.User = d.User AND m.Host = d.Host AND m.Role = d.Role WHERE m.Role IS NULL")
	if err != nil {
		return err
	}
	for _, row := range gone.Rows {
		user, host := quote(row[0].ToString()), quote(row[1].ToString())
		kept, err := f.ask("SELECT d.Role FROM mysql8.defaults d JOIN mysql.roles_mapping m ON m.User = d.User AND" +
			" m.Host = d.Host AND m.Role = d.Role WHERE d.User = " + user + " AND d.Host = " + host)
		if err != nil {
			return err
		}
		var roles []string
		for _, r := range kept.Rows {
			roles = append(roles, r[0].ToString())
		}
		there, err := f.ask("SELECT 1 FROM mysql.global_priv WHERE User = " + user + " AND Host = " + host)
		if err == nil && len(there.Rows) == 0 {
			_, err = f.ask("DELETE FROM mysql8.defaults WHERE User = " + user + " AND Host = " + host)
		} else if err == nil {
			err = f.setDefaults(user, host, roles)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// roleTo is GRANT and REVOKE of roles: who has ROLE_ADMIN, or the role WITH ADMIN
// OPTION, may; behind, the stand-in does it.
func (f *face) roleTo(c *mysql.Conn, q string) (*sqltypes.Result, error) {
	l := c.UserData.(*login)
	var roles []string
	before, _, _ := strings.Cut(strings.ToUpper(q), " TO ")
	if strings.HasPrefix(before, "REVOKE") {
		before, _, _ = strings.Cut(strings.ToUpper(q), " FROM ")
	}
	for _, m := range account.FindAllStringSubmatch(q[:len(before)], -1) {
		roles = append(roles, quote(unquote(m[1])))
	}
	if len(roles) == 0 {
		return nil, refuse(1235, "42000", "stand-in: write roles as 'name'@'host'")
	}
	who := "User = " + quote(l.user) + " AND Host = " + quote(l.host)
	r, err := f.ask("SELECT (SELECT COUNT(*) FROM mysql8.global_grants WHERE PRIV = 'ROLE_ADMIN' AND " +
		"" + who + ") + (SELECT COUNT(*) FROM mysql.roles_mapping WHERE Admin_option = 'Y' AND " + who +
		" AND Role IN (" + strings.Join(roles, ", ") +
		")), (SELECT COUNT(*) FROM mysql.global_priv WHERE Host = '' AND User IN (" + strings.Join(roles, ", ") + "))")
	if err != nil {
		return nil, err
	}
	if r.Rows[0][1].ToString() == "0" {
		return nil, refuse(3523, "HY000", "Unknown authorization ID `%s`@`%%`", strings.Trim(roles[0], "'"))
	}
	if r.Rows[0][0].ToString() == "0" {
		return nil, refuse(1227, "42000", "Access denied; you need (at least one of) the WITH ADMIN, "+
			"ROLE_ADMIN, SUPER privilege(s) for this operation")
	}
	r, err = f.ask(f.roles(q))
	if e, ok := err.(*mysql.SQLError); ok && e.Num == 1959 {
		return nil, refuse(3523, "HY000", "Unknown authorization ID")
	}
	if err == nil {
		err = f.forget()
	}
	return r, err
}

func altered(r *sqltypes.Result, f func(string) string) *sqltypes.Result {
	if r == nil {
		return nil
	}
	for _, row := range r.Rows {
		for i, v := range row {
			if !v.IsNull() {
				row[i] = sqltypes.MakeTrusted(v.Type(), []byte(f(v.ToString())))
			}
		}
	}
	return r
}

var (
	mariaOnly = regexp.MustCompile(` IDENTIFIED (BY PASSWORD|VIA) .*?( WITH GRANT OPTION| REQUIRE .*|$)`)
	mariaWord = regexp.MustCompile(`(, )?\b(DELETE HISTORY|CONNECTION ADMIN|READ_ONLY ADMIN|SET USER|BINLOG MONITOR)\b`)
	roleLine  = regexp.MustCompile("^GRANT (`(?:[^`]|``)*`) TO ")
)

// showGrants writes the lines as MySQL does: no verifier, roles with a host,
// dynamic privileges in a line of their own.
func (f *face) showGrants(c *mysql.Conn, q string) (*sqltypes.Result, error) {
	m := account.FindStringSubmatch(q)
	r, err := f.run(c, f.roles(q))
	if err != nil {
		return r, err
	}
	rows := r.Rows[:0]
	for _, row := range altered(r, func(s string) string {
		s = mariaWord.ReplaceAllString(mariaOnly.ReplaceAllString(s, "$2"), "")
		s = strings.Replace(s, "GRANT  ON *.*", "GRANT USAGE ON *.*", 1)
		return roleLine.ReplaceAllString(s, "GRANT $1@`%` TO ")
	}).Rows {
		if line := row[0].ToString(); !strings.HasPrefix(line, "SET DEFAULT ROLE") &&
			!strings.Contains(line, " TO `PUBLIC`") && !strings.Contains(line, "`"+together) {
			rows = append(rows, row)
		}
	}
	if m != nil {
		if d, err := f.ask("SELECT GROUP_CONCAT(PRIV ORDER BY PRIV SEPARATOR ',') FROM mysql8.global_grants " +
			"WHERE USER = " + quote(unquote(m[1])) + " AND HOST = " + quote(unquote(m[2]))); err == nil &&
			!d.Rows[0][0].IsNull() {
			rows = append(rows, []sqltypes.Value{sqltypes.NewVarChar("GRANT " + d.Rows[0][0].ToString() +
				" ON *.* TO `" + unquote(m[1]) + "`@`" + unquote(m[2]) + "`")})
		}
	}
	r.Rows = rows
	return r, nil
}

package mysql

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"regexp"
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
	native    bool         // mysql_native_password is there
	settings  sync.RWMutex // guards variables
	variables map[string]string
	mu        sync.Mutex // guards root and fast
	root      *mysql.Conn
	fast      map[string][]byte      // what makes later logins quick: SHA256(SHA256(password))
	clients   map[string]*mysql.Conn // by the number of the session behind
	frozen    atomic.Bool            // whether some database may be read only

	restrictions atomic.Bool // whether some account may have a partial revoke
	lent         atomic.Bool // whether some account may have had roles active that it has not itself
}

// login is who a client is, and his own session behind.
type login struct {
	user, host string
	conn       *mysql.Conn
	stale      atomic.Bool // its roles may have been taken since it has signed in
}

// Get serves the protocol's library.
func (l *login) Get() *querypb.VTGateCallerID { return &querypb.VTGateCallerID{Username: l.user} }

// ask runs a statement as the administrator behind.
func (f *face) ask(q string) (*sqltypes.Result, error) {
	f.mu.Lock()
	defer f.mu.Unlock()
	return f.root.ExecuteFetch(q, 100000, true)
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
	if l := c.UserData.(*login); l.stale.Swap(false) {
		if err := f.refresh(l); err != nil {
			return err
		}
	}
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
	encryption = regexp.MustCompile(`(?i)\s+(DEFAULT\s+)?ENCRYPTION\s*=?\s*'([YyNn])'`)
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
	if m := kill.FindStringSubmatch(q); m != nil {
		if err := f.mayEnd(c, m[1]); err != nil {
			return nil, err
		}
	}
	if err := f.mayAlter(c, q); err != nil {
		return nil, err
	}
	if f.restrictions.Load() {
		if err := f.mayUse(c, q); err != nil {
			return nil, err
		}
	}
	if f.frozen.Load() && writes.MatchString(q) && !alterRO.MatchString(q) {
		if err := f.mayWrite(c, q); err != nil {
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
	case match(&m, settable, q):
		return f.set(m)
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
		asked := encryption.FindStringSubmatch(m[3])
		q = encryption.ReplaceAllString(q, "")
		r, err := f.run(c, strings.ReplaceAll(q, "utf8mb4_0900_ai_ci", "utf8mb4_uca1400_ai_ci"))
		if err == nil && (asked != nil || !strings.EqualFold(m[1], "ALTER")) {
			note := "DELETE FROM mysql8.encrypted WHERE name = " + quote(name(m[2]))
			if asked != nil && strings.EqualFold(asked[2], "Y") {
				note = "REPLACE INTO mysql8.encrypted VALUES (" + quote(name(m[2])) + ")"
			}
			_, err = f.ask(note)
		}
		return r, err
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
	case match(&m, onDatabase, q) && f.variable("partial_revokes") == "1":
		if done, err := f.restricted(m); done || err != nil {
			return &sqltypes.Result{}, err
		}
		return f.run(c, f.rewrite(f.roles(q)))
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
			_, _ = f.ask("DELETE FROM mysql8.restrictions" + where)
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
		for _, m := range account.FindAllStringSubmatch(q, -1) {
			if err := f.optional([]string{quote(unquote(m[1]))}); err != nil {
				return nil, err
			}
		}
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

// mayWrite refuses what would alter something in a database that is read only: the one that the
// statement names, or else the one that the session is in.
func (f *face) mayWrite(c *mysql.Conn, q string) error {
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

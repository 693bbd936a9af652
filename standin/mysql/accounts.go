package mysql

import (
	"crypto/sha256"
	"crypto/x509"
	"encoding/hex"
	"fmt"
	"net"
	"strings"

	"github.com/dolthub/vitess/go/mysql"
	"github.com/dolthub/vitess/go/sqltypes"
)

// addAdmin makes an account that may do everything. system: it has SYSTEM_USER.
func (f *face) addAdmin(name, password string, system bool) error {
	back := secret()
	who := quote(name) + "@'127.0.0.1'"
	for _, q := range []string{"CREATE USER IF NOT EXISTS " + who, "ALTER USER " + who + " IDENTIFIED VIA " +
		"mysql_native_password USING '" + nativeHash(back) + "'",
		"GRANT ALL PRIVILEGES ON *.* TO " + who + " WITH GRANT OPTION",
		"REPLACE INTO mysql8.accounts (User, Host, plugin, verifier, backend) VALUES (" + quote(name) + ", " +
			"'127.0.0.1', 'caching_sha2_password', " + quote(sha2Verifier(password, printableSalt(), 5)) + ", '" +
			back + "')",
		"INSERT IGNORE INTO mysql8.global_grants VALUES " + dynamics(name, system)} {
		if _, err := f.ask(q); err != nil {
			return err
		}
	}
	return nil
}

func dynamics(name string, system bool) string {
	var rows []string
	list := []string{"CONNECTION_ADMIN", "ROLE_ADMIN", "XA_RECOVER_ADMIN", "BACKUP_ADMIN", "SHOW_ROUTINE",
		"SYSTEM_VARIABLES_ADMIN", "SET_USER_ID", "SET_ANY_DEFINER"}
	if system {
		list = append(list, "SYSTEM_USER")
	}
	for _, p := range list {
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
	case f.variable("offline_mode") == "1" && !f.exempt(user, host):
		return nil, refuse(3032, "HY000", "The server is currently in offline mode")
	case expired:
		return nil, refuse(1862, "HY000", "Your password has expired. To log in you must change it using a "+
			"client that supports expired passwords.")
	}
	if err := f.activate(user, host); err != nil {
		return nil, err
	}
	c, err := f.connect(user, back)
	if err != nil {
		return nil, err
	}
	return &login{user: user, host: host, conn: c}, nil
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
		_, err = f.ask("INSERT INTO mysql8.accounts (User, Host, plugin, verifier, second, backend) VALUES " +
			"(" + quote(user) + ", " + quote(host) + ", '" + plugin + "', " + quote(verifier) + ", '', '" + back +
			"') ON DUPLICATE KEY UPDATE " +
			map[bool]string{true: "second = verifier, ", false: "second = second, "}[keep] + "plugin = " +
			"VALUES(plugin), verifier = VALUES(verifier), backend = VALUES(backend)")
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

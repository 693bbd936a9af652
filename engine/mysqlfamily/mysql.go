package mysqlfamily

import (
	"maps"
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// mysqlID names it on the wire, in the records and in the CLI.
const mysqlID catalog.Engine = "mysql"

// mysqlOldest is the oldest version whose catalogues are read: performance_schema.processlist
// and SHOW REPLICA STATUS came with it.
const mysqlOldest = "8.0.22"

// mySQL is MySQL, versions 8.0.22 and later.
var mySQL = product{description: &mysqlDescription, limits: mysqlLimits, accountLimits: mysqlAccountLimits,
	abilities: mysqlAbilities, fresh: " IDENTIFIED WITH " + methodSHA2 + " AS '" + mysqlNobody + "'",
	// As for MariaDB; there is no limit for statements but those that only read.
	hosts: hosts{lengths: true}, administrator: "SYSTEM_USER",
	setUp: "SET SESSION character_set_client=utf8mb4, character_set_results=utf8mb4, " +
		"collation_connection=utf8mb4_general_ci, sql_mode='STRICT_TRANS_TABLES,NO_ENGINE_SUBSTITUTION', " +
		"sql_quote_show_create=1, lock_wait_timeout=5, innodb_lock_wait_timeout=5, max_execution_time=30000, " +
		"print_identified_with_as_hex=1, information_schema_stats_expiry=86400, @genarch_began = " +
		"(SELECT UNIX_TIMESTAMP() - CAST(VARIABLE_VALUE AS SIGNED) FROM performance_schema.global_status " +
		"WHERE VARIABLE_NAME = 'Uptime')",
	recognises: func(version string) bool { return !strings.Contains(version, "MariaDB") },
	oldest:     80022,
	identity:   mysqlIdentity,
	instance: `SELECT VERSION(), CURRENT_USER(), CASE WHEN @@innodb_read_only THEN 'innodb_read_only is on'
			WHEN @@read_only OR @@super_read_only THEN 'read_only is on (it may be a replica)'
			WHEN @@offline_mode THEN 'offline_mode is on: only administrators sign in, so somebody works on the server alone'
			ELSE '' END,
		@@max_connections, @@character_set_server, @@collation_server,
		(SELECT VARIABLE_VALUE FROM performance_schema.global_status WHERE VARIABLE_NAME = 'Threads_connected'),
		(SELECT VARIABLE_VALUE FROM performance_schema.global_status WHERE VARIABLE_NAME = 'Uptime'),
		(SELECT COUNT(*) FROM performance_schema.replication_connection_status
			WHERE CHANNEL_NAME NOT LIKE 'group\_replication\_%'),
		COALESCE((SELECT VARIABLE_VALUE FROM performance_schema.session_status WHERE VARIABLE_NAME = 'Ssl_cipher'),
				'')`,
	processlist: "performance_schema.processlist",
	comment:     noComment,
	states: `SELECT s.SCHEMA_NAME, COALESCE(e.OPTIONS LIKE '%READ ONLY=1%', 0), s.DEFAULT_ENCRYPTION = 'YES'
		FROM information_schema.SCHEMATA s
		LEFT JOIN information_schema.SCHEMATA_EXTENSIONS e ON e.SCHEMA_NAME = s.SCHEMA_NAME WHERE TRUE`,
	tablespaces: "information_schema.INNODB_TABLESPACES",
	outsideKeys: `SELECT FOR_NAME, REF_NAME FROM information_schema.INNODB_FOREIGN
		WHERE REF_NAME LIKE CONCAT(?, '/%') AND FOR_NAME NOT LIKE CONCAT(?, '/%') LIMIT 200`,
	collationName: mysqlCollationName,
	entries:       mysqlEntries,
	accountNames: `SELECT u.User, u.Host FROM mysql.user u WHERE NOT ` + isRoleSQL + `
		AND u.User NOT IN ('', 'mysql.sys', 'mysql.session', 'mysql.infoschema') ORDER BY 1, 2 LIMIT 20000`,
	owner: `SELECT u.User, u.Host FROM mysql.user u WHERE u.User = ? AND (? = '' OR u.Host = ?) AND NOT ` + isRoleSQL +
		` ORDER BY 2`,
	memberships:     mysqlMemberships,
	member:          `SELECT COUNT(*) FROM mysql.role_edges WHERE TO_USER = ? AND TO_HOST = ? AND FROM_USER = ?`,
	holders:         mysqlHolders,
	restrictions:    mysqlRestrictions,
	plainNames:      "SELECT @@partial_revokes",
	databaseColumns: mysqlDatabaseColumns,
	lines: "SELECT p.ID, p.USER, p.HOST, COALESCE(p.DB, ''), p.COMMAND, p.TIME * 1000, COALESCE(p.STATE, ''), " +
		"LEFT(COALESCE(p.INFO, ''), 4000), " + beganSQL + " FROM performance_schema.processlist p LIMIT 50000",
	rowWaits: `SELECT DISTINCT r.PROCESSLIST_ID, b.PROCESSLIST_ID FROM performance_schema.data_lock_waits w
		JOIN performance_schema.threads r ON r.THREAD_ID = w.REQUESTING_THREAD_ID
		JOIN performance_schema.threads b ON b.THREAD_ID = w.BLOCKING_THREAD_ID LIMIT 5000`,
	shows: `SELECT @@performance_schema, @@performance_schema`,
	metadataLocks: `SELECT t.PROCESSLIST_ID, m.LOCK_TYPE, m.OBJECT_TYPE, COALESCE(m.OBJECT_SCHEMA, ''),
		COALESCE(m.OBJECT_NAME, '') FROM performance_schema.metadata_locks m
		JOIN performance_schema.threads t ON t.THREAD_ID = m.OWNER_THREAD_ID
		WHERE m.LOCK_STATUS = 'GRANTED' AND t.PROCESSLIST_ID IS NOT NULL
		AND t.PROCESSLIST_ID <> CONNECTION_ID() LIMIT 100000`,
	locksHidden: "Sessions that use a database without having it as their default do not show: the performance " +
		"schema is off.",
	prepared: mysqlPrepared, isBackup: mysqlBackup,
	kill: "KILL CONNECTION ", killStatement: "KILL QUERY ",
	copies: "A copy of the server's data folder has its number too.",
	// With one primary, a drop waits for locks as on one server, and the others are read only.
	cluster: `SELECT COUNT(*) > 1 FROM performance_schema.replication_group_members
		WHERE MEMBER_STATE IN ('ONLINE', 'RECOVERING') AND MEMBER_ROLE = 'PRIMARY'`,
	clusterText:   "There a drop waits for local locks only, and undoes what others commit at the same time",
	bounded:       "SET SESSION lock_wait_timeout=2, innodb_lock_wait_timeout=2",
	looksForLocks: true, atomicDrop: true,
	uncheckedFirst: "SET SESSION foreign_key_checks = 0",
	generated:      "IF(EXTRA LIKE '%VIRTUAL GENERATED%' OR EXTRA LIKE '%STORED GENERATED%', 'ALWAYS', 'NEVER')",
	upToDate:       "SET SESSION information_schema_stats_expiry = 0",
	dumps:          []string{"mysqldump", "mariadb-dump"},
	clients: clientWords{scheme: "mysql", tls: "ssl-mode",
		modes:   [3]string{"DISABLED", "REQUIRED", "VERIFY_IDENTITY"},
		options: [2]string{"ssl-mode=REQUIRED\n", "ssl-mode=VERIFY_IDENTITY\n"}, client: "mysql"},
	bundles: mysqlBundles, placeholder: may.LockTables,
	roleHost: "%", grantsRoles: func(login catalog.Login) bool { return login.May("grant_roles") }, defaultOf: "TO",
	method:     mysqlMethod,
	credential: func(method string) string { return "IDENTIFIED WITH " + method + " AS " },
	verifier:   func(_, password string) (string, error) { return sha2Verifier(password), nil },
	matches:    func(kept, _, password string) bool { return sha2Matches(kept, password) },
	marked:     func(mark string) string { return mark }, isMarked: sha2Matches,
	countWithin: "SELECT /*+ MAX_EXECUTION_TIME(%d) */ COUNT(*) FROM ", onlyTables: true,
	plainMethod: methodSHA2, nobody: mysqlNobody,
	signIn: `SELECT SUBSTRING_INDEX(USER(), '@', -1), COALESCE((SELECT VALUE = 'Yes'
		FROM performance_schema.tls_channel_status WHERE CHANNEL = 'mysql_main' AND PROPERTY = 'Enabled'), 0), 0`}

// mysqlLimits: as for MariaDB.
var mysqlLimits = naming.Limits{MaxLength: 48, Counted: naming.Characters, BMPOnly: true,
	Reserved: append(append([]string{}, system...), markerDatabase)}

// mysqlAccountLimits: what the server takes of an account's name.
var mysqlAccountLimits = naming.Limits{MaxLength: 32, Counted: naming.Characters, BMPOnly: true,
	Reserved: []string{"public", "none", "current_user", "current_role", "mysql.sys", "mysql.session",
		"mysql.infoschema"}}

var mysqlBundles = bundlesWith(privilege.Set{})

// mysqlAbilities are those that Genarch's work needs. SYSTEM_USER is not among them: without
// it, the server itself keeps Genarch off the administrators.
var mysqlAbilities = []ability{
	{code: "create_database", title: "create databases", privileges: []string{"CREATE"}},
	{code: "see_databases", title: "see all databases", privileges: []string{"SHOW DATABASES"}},
	{code: "see_sessions", title: "see all sessions and sizes", privileges: []string{"PROCESS"}},
	{code: "end_sessions", title: "end sessions", privileges: []string{"CONNECTION_ADMIN"}},
	{code: "manage_accounts", title: "create and alter accounts", privileges: []string{"CREATE USER"}},
	{code: "read_grants", title: "read the grants of all accounts, and locks", privileges: []string{"SELECT"}},
	{code: "give_bundles", title: "grant privileges on databases",
		privileges: append(mysqlBundles[access.BundleOwn].Names(), grantOption)},
	{code: "grant_roles", title: "grant roles", privileges: []string{"ROLE_ADMIN"}},
	{code: "see_prepared", title: "see prepared transactions", privileges: []string{"XA_RECOVER_ADMIN"}},
	{code: "set_definers", title: "keep what runs with the privileges of others theirs",
		privileges: []string{"SET_USER_ID"}, until: 80200},
	{code: "set_definers", title: "keep what runs with the privileges of others theirs",
		privileges: []string{"SET_ANY_DEFINER"}, since: 80200},
	{code: "drop_database", title: "drop databases", privileges: []string{"DROP"}},
	{code: "alter_database", title: "alter databases", privileges: []string{"ALTER"}},
	{code: "alter_administrators", title: "alter and end those who have SYSTEM_USER",
		privileges: []string{"SYSTEM_USER"}, unneeded: true},
}

// mysqlWithout are options of MariaDB that MySQL has not.
var mysqlWithout = []string{"comment", runAs}

// mysqlAccountFields are what MySQL keeps of accounts and Genarch shows alone.
var mysqlAccountFields = []engine.Field{
	{Name: "blocked_after", Title: "Blocked after", Type: engine.Text, Show: engine.InDetail, For: []string{"account"},
		Decides: "after how many wrong passwords in a row nobody signs in as it, and for how long"},
	{Name: "password_reuse", Title: "Reuse of passwords", Type: engine.Text, Show: engine.InDetail,
		For: []string{"account"}, Decides: "which former passwords cannot be set again, where that is its own"},
}

// mysqlDescription is MariaDB's, but for what MySQL has otherwise.
var mysqlDescription = func() engine.Description {
	d := mariaDescription
	d.ID, d.Title, d.Versions, d.Releases = mysqlID, "MySQL", mysqlOldest+" and later", nil
	d.Names, d.AddressMarks = mysqlLimits, []string{"port"}
	d.Fields = map[change.Part][]engine.Field{}
	for part, fields := range mariaDescription.Fields {
		for _, f := range fields {
			if slices.Contains(mysqlWithout, f.Name) {
				continue
			}
			switch f.Name {
			case planning.ExportFirst:
				f = planning.ExportField("mysqldump or mariadb-dump")
			case "owner":
				f.Default = "nobody: MySQL has no owners"
			case "connection_limit":
				f.Min = engine.N(1)
			case "method":
				f.Default, f.Decides = methodSHA2, "how it proves itself: "+methodSHA2
			}
			d.Fields[part] = append(d.Fields[part], f)
		}
		if part == change.PartDatabase {
			d.Fields[part] = append(d.Fields[part], readOnlyField, encryptionField)
		}
		if part == change.PartAccount {
			d.Fields[part] = append(append(d.Fields[part], secondPasswordFields...), mysqlAccountFields...)
		}
	}
	d.Intents = maps.Clone(d.Intents)
	d.Intents[change.RenameDatabase] = engine.Form{Why: "MySQL has no statement that renames a database.",
		Instead: mariaDescription.Intents[change.RenameDatabase].Instead}
	d.Intents[change.EndSessions] = engine.Form{Says: "KILL or KILL QUERY, by number, account, address and port."}
	d.Intents[change.SetAsideAccount] = engine.Form{Why: "Genarch sets no accounts of MySQL aside yet.",
		Instead: "Lock it, or drop it for good."}
	d.Principals = slices.Clone(d.Principals)
	for i := range d.Principals {
		d.Principals[i].Names = mysqlAccountLimits
		if d.Principals[i].Role {
			d.Principals[i].In, d.Principals[i].Default = engine.FromHost, "%"
			d.Principals[i].Decides = "a set of privileges that is granted to accounts: an account that nobody " +
				"signs in as"
		}
	}
	d.Privileges = engine.ParsePrivileges(`
		server database table column: SELECT, INSERT, UPDATE, REFERENCES
		server database table: DELETE, CREATE, DROP, INDEX, ALTER, CREATE VIEW, SHOW VIEW, TRIGGER
		server database: CREATE TEMPORARY TABLES, LOCK TABLES, CREATE ROUTINE, EVENT
		server database routine: ALTER ROUTINE, EXECUTE
		server: RELOAD, SHUTDOWN, PROCESS, FILE, SHOW DATABASES, SUPER, REPLICATION SLAVE
		server: BINLOG MONITOR=REPLICATION CLIENT, CREATE USER, CREATE TABLESPACE`)
	d.Bundles = slices.Clone(d.Bundles)
	for i := range d.Bundles {
		d.Bundles[i].On = onDatabase(mysqlBundles[access.Bundle(d.Bundles[i].Name)])
	}
	d.Script.Client = "mysql"
	return d
}()

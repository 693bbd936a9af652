package postgres

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/jackc/pgx/v5"
	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/planning"
)

// interiors keeps what was read inside databases: each takes a login of its own.
type interiors struct {
	mu   sync.Mutex
	kept map[string]*catalog.ObjectGrants
}

// interiorAge is how old a kept reading may be for an overview; a question
// about one database always reads it anew.
const interiorAge = 30 * time.Second

// insideTime bounds looking into all databases of a server for one overview.
const insideTime = 8 * time.Second

func (k *interiors) get(database string) (*catalog.ObjectGrants, bool) {
	k.mu.Lock()
	defer k.mu.Unlock()
	in, ok := k.kept[database]
	return in, ok && time.Since(in.Read) < interiorAge
}

func (k *interiors) put(database string, in *catalog.ObjectGrants) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.kept == nil {
		k.kept = map[string]*catalog.ObjectGrants{}
	}
	k.kept[database] = in
}

func (k *interiors) forget() {
	k.mu.Lock()
	defer k.mu.Unlock()
	k.kept = nil
}

// accountColumns reads roles. rolpassword shows only in pg_authid, which only
// superusers may read; elsewhere it is unknown whether there is a password.
const accountColumns = `SELECT r.oid::int8, r.rolname::text, r.rolsuper, r.rolinherit, r.rolcreaterole, r.rolcreatedb, r.rolcanlogin,
	r.rolreplication, r.rolbypassrls, r.rolconnlimit, CASE WHEN isfinite(r.rolvaliduntil) THEN r.rolvaliduntil END,
	coalesce(r.rolvaliduntil < now(), false), coalesce(d.description, ''), coalesce(a.n, 0)::int,
	%s FROM %s r
	LEFT JOIN pg_catalog.pg_shdescription d ON d.objoid = r.oid AND d.classoid = 'pg_catalog.pg_authid'::pg_catalog.regclass
	LEFT JOIN (SELECT usesysid, count(*) AS n FROM pg_catalog.pg_stat_activity WHERE usesysid IS NOT NULL AND leader_pid IS NULL GROUP BY usesysid) a
		ON a.usesysid = r.oid`

const methodColumn = `CASE WHEN r.rolpassword IS NULL THEN '' WHEN r.rolpassword LIKE 'SCRAM-SHA-256$%' THEN 'scram-sha-256'
	WHEN r.rolpassword LIKE 'md5%' THEN 'md5' ELSE 'unknown' END`

// isNamed finds the role of one name.
const isNamed = `r.rolname::text = $1::text`

// readAccounts reads all roles, the engine's own among them. where narrows it; empty: nothing does.
func (s *server) readAccounts(ctx context.Context, q querier, where string, args ...any) (list []catalog.Account,
	unknown string, err error) {
	var sees, monitor bool
	if err := q.QueryRow(ctx, `SELECT pg_catalog.has_table_privilege('pg_catalog.pg_authid', 'SELECT'), pg_catalog.pg_has_role('pg_read_all_stats', 'USAGE')`).Scan(&sees, &monitor); err != nil {
		return nil, "", wrap("read accounts", err)
	}
	text := fmt.Sprintf(accountColumns, "'?'", "pg_catalog.pg_roles")
	if sees {
		text = fmt.Sprintf(accountColumns, methodColumn, "pg_catalog.pg_authid")
	} else {
		unknown = "whether an account has a password, and how it is kept: only a superuser sees that"
	}
	if where != "" {
		text += ` WHERE ` + where
	}
	list, err = collect(ctx, q, "read accounts", func(row pgx.CollectableRow) (catalog.Account, error) {
		var a catalog.Account
		var key int64
		var createrole, createdb, replication, bypass bool
		var expires *time.Time
		var sessions int
		var method string
		err := row.Scan(&key, &a.Name, &a.Super, &a.Inherit, &createrole, &createdb, &a.Login, &replication, &bypass,
			&a.ConnectionLimit,
			&expires, &a.Expired, &a.Comment, &sessions, &method)
		a.Key, a.Bootstrap = keyOf(key), key == bootstrap
		if a.Held = planning.ReadNote(a.Name, a.Comment); a.Held != nil {
			a.Held.Opened = a.Login
		}
		a.System = a.Bootstrap || strings.HasPrefix(a.Name, "pg_")
		if expires != nil {
			a.Expires = expires.UTC()
		}
		if method != "?" {
			has := method != ""
			a.Password, a.Method = &has, method
			// A role that nobody signs in as needs no password: with one, it is
			// an account that was locked.
			a.Locked = has && !a.Login
		}
		a.Sessions = &sessions
		for _, attr := range []struct {
			has  bool
			name string
		}{{a.Super, "SUPERUSER"}, {createrole, "CREATEROLE"}, {createdb, "CREATEDB"}, {replication, "REPLICATION"},
			{bypass, "BYPASSRLS"}} {
			if attr.has {
				a.Attributes = append(a.Attributes, attr.name)
			}
		}
		return a, err
	}, text, args...)
	return list, unknown, err
}

// bootstrap is the number of the superuser that a server is born with.
const bootstrap = 10

// readMemberships reads who belongs to which role. Before version 16 whether a
// role's privileges hold at once is a matter of the member (rolinherit).
func (s *server) readMemberships(ctx context.Context, q querier, number int) ([]catalog.Membership, error) {
	options := `m.inherit_option, m.set_option`
	if number < 160000 {
		options = `u.rolinherit, true`
	}
	return collect(ctx, q, "read memberships", func(row pgx.CollectableRow) (m catalog.Membership, err error) {
		err = row.Scan(&m.Role.Name, &m.Member.Name, &m.Grantor, &m.Admin, &m.Inherit, &m.Set)
		return m, err
	}, `SELECT r.rolname::text, u.rolname::text, coalesce(g.rolname::text, ''), m.admin_option, `+options+`
		FROM pg_catalog.pg_auth_members m JOIN pg_catalog.pg_roles r ON r.oid = m.roleid JOIN pg_catalog.pg_roles u ON u.oid = m.member
		LEFT JOIN pg_catalog.pg_roles g ON g.oid = m.grantor`)
}

func (s *server) readAccessDatabases(ctx context.Context, q querier) ([]catalog.AccessDatabase, error) {
	return collect(ctx, q, "read who may enter databases",
		func(row pgx.CollectableRow) (d catalog.AccessDatabase, err error) {
			var items []string
			var builtin bool
			err = row.Scan(&d.Name, &d.Owner, &d.Closed, &builtin, &items)
			d.System = slices.Contains(limits.Reserved, d.Name)
			d.Entries = parseACL(items, builtin)
			return d, err
		}, `SELECT datname::text, pg_catalog.pg_get_userbyid(datdba)::text, NOT datallowconn OR datconnlimit = -2, datacl IS NULL,
		coalesce(datacl, pg_catalog.acldefault('d', datdba))::text[] FROM pg_catalog.pg_database d
		WHERE NOT `+isHeld+` ORDER BY 1`)
}

// Access reads roles, memberships and the access lists of databases, which the
// whole server shows, and looks into the databases that q names.
func (s *server) Access(ctx context.Context, q catalog.AccessQuery) (catalog.Access, error) {
	a := catalog.Access{Read: time.Now().UTC()}
	group, gctx := errgroup.WithContext(ctx)
	group.Go(func() error {
		list, unknown, err := s.readAccounts(gctx, s.pool, "")
		if a.Accounts = list; unknown != "" {
			a.Unknown = append(a.Unknown, unknown)
		}
		return err
	})
	group.Go(func() error {
		number, err := s.version(gctx)
		if err != nil {
			return err
		}
		a.Number = number
		a.Memberships, err = s.readMemberships(gctx, s.pool, number)
		return err
	})
	group.Go(func() (err error) {
		a.Databases, err = s.readAccessDatabases(gctx, s.pool)
		return err
	})
	if err := group.Wait(); err != nil {
		return a, err
	}
	s.lookInside(ctx, q, &a)
	return a, nil
}

// version is the server's version number; it is read once for each opening.
func (s *server) version(ctx context.Context) (int, error) {
	if n := s.number.Load(); n > 0 {
		return int(n), nil
	}
	var n int
	if err := s.pool.QueryRow(ctx, `SELECT current_setting('server_version_num')::int`).Scan(&n); err != nil {
		return 0, wrap("read the version", err)
	}
	s.number.Store(int64(n))
	return n, nil
}

// lookInside reads the interiors of the databases that q names. What could not
// be read is said, never shown as empty.
func (s *server) lookInside(ctx context.Context, q catalog.AccessQuery, a *catalog.Access) {
	ctx, cancel := context.WithTimeout(ctx, insideTime)
	defer cancel()
	var group errgroup.Group
	group.SetLimit(2)
	for i := range a.Databases {
		d := &a.Databases[i]
		if !q.All && !slices.Contains(q.Inside, d.Name) {
			d.Why = "it was not looked into"
			continue
		}
		if d.Closed {
			d.Why = "it allows no connections"
			continue
		}
		named := slices.Contains(q.Inside, d.Name)
		if kept, ok := s.interiors.get(d.Name); ok && !named && !q.Fresh {
			d.Interior = kept
			continue
		}
		group.Go(func() error {
			in, err := s.readInterior(ctx, d.Name, q.Object)
			if err != nil {
				d.Why = err.Error()
				return nil
			}
			d.Interior = in
			return nil
		})
	}
	_ = group.Wait()
	for i := range a.Databases {
		if d := &a.Databases[i]; d.Interior == nil && (q.All || slices.Contains(q.Inside, d.Name)) && !d.System {
			a.Unknown = append(a.Unknown, "what is inside "+naming.Show(d.Name)+": "+d.Why)
		}
	}
}

// userSchemas leaves out the schemas of the engine itself.
const userSchemas = `n.nspname !~ '^pg_' AND n.nspname <> 'information_schema'`

// interiorColumns reads the access lists of everything in a database, objects
// that are alike together. A column has a list only when something was granted
// on it alone.
var interiorColumns = `SELECT 'schema', n.nspname::text, n.nspname::text, '', 1::int, pg_catalog.pg_get_userbyid(n.nspowner)::text, n.nspacl IS NULL,
		coalesce(n.nspacl, pg_catalog.acldefault('n', n.nspowner))::text[], '', ''
	FROM pg_catalog.pg_namespace n WHERE ` + userSchemas + `
	UNION ALL
	SELECT k, nspname, min(relname), '', count(*)::int, pg_catalog.pg_get_userbyid(relowner)::text, builtin, acl, '', '' FROM (
		SELECT CASE c.relkind WHEN 'S' THEN 'sequence' ELSE 'table' END AS k, n.nspname::text, c.relname::text, c.relowner, c.relacl IS NULL AS builtin,
			coalesce(c.relacl, pg_catalog.acldefault(CASE c.relkind WHEN 'S' THEN 's' ELSE 'r' END::"char", c.relowner))::text[] AS acl,
			` + byOther("c.oid", "c.relacl", "c.relowner") + ` AS alone
		FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
		WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S') AND ` + userSchemas +
	`) o GROUP BY k, nspname, relowner, builtin, acl, alone
	UNION ALL
	SELECT 'routine', nspname, min(proname), '', count(*)::int, pg_catalog.pg_get_userbyid(proowner)::text, builtin, acl, '', min(args) FROM (
		SELECT n.nspname::text, p.proname::text, ` + routineArgs + ` AS args, p.proowner, p.proacl IS NULL AS builtin,
			coalesce(p.proacl, pg_catalog.acldefault('f', p.proowner))::text[] AS acl, ` +
	byOther("p.oid", "p.proacl", "p.proowner") + ` AS alone
		FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace WHERE ` + userSchemas +
	`) o GROUP BY nspname, proowner, builtin, acl, alone
	UNION ALL
	SELECT 'column', n.nspname::text, c.relname::text, c.relname::text, 1::int, pg_catalog.pg_get_userbyid(c.relowner)::text, false,
		t.attacl::text[], t.attname::text, ''
	FROM pg_catalog.pg_attribute t JOIN pg_catalog.pg_class c ON c.oid = t.attrelid JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
	WHERE t.attacl IS NOT NULL AND NOT t.attisdropped AND ` + userSchemas + `
	ORDER BY 1, 2, 3 LIMIT 20000`

// routineArgs writes the argument types of a routine (p) in parentheses. The
// engine quotes each type's name, so the text can stand in a statement.
const routineArgs = `'(' || coalesce((SELECT string_agg(pg_catalog.format_type(a.type, NULL), ', ' ORDER BY a.at)
	FROM unnest(p.proargtypes) WITH ORDINALITY a(type, at)), '') || ')'`

// byOther sets an object by itself on whose list somebody else than its owner
// has given something: that can only be taken object by object.
func byOther(oid, acl, owner string) string {
	return `CASE WHEN EXISTS (SELECT FROM pg_catalog.aclexplode(` + acl + `) x WHERE x.grantor <> ` + owner +
		`) THEN ` + oid + ` END`
}

// objectColumns reads the access list of one object by itself. A routine is
// found by its name, or by its name and argument types, each compared whole.
const objectColumns = `SELECT CASE c.relkind WHEN 'S' THEN 'sequence' ELSE 'table' END, n.nspname::text, c.relname::text, c.relname::text, 1::int,
		pg_catalog.pg_get_userbyid(c.relowner)::text, c.relacl IS NULL,
		coalesce(c.relacl, pg_catalog.acldefault(CASE c.relkind WHEN 'S' THEN 's' ELSE 'r' END::"char", c.relowner))::text[], '', ''
	FROM pg_catalog.pg_class c JOIN pg_catalog.pg_namespace n ON n.oid = c.relnamespace
	WHERE c.relkind IN ('r', 'p', 'v', 'm', 'f', 'S') AND n.nspname::text = $1 AND c.relname::text = $2
	UNION ALL
	SELECT 'routine', n.nspname::text, p.proname::text, p.proname::text, 1::int, pg_catalog.pg_get_userbyid(p.proowner)::text, p.proacl IS NULL,
		coalesce(p.proacl, pg_catalog.acldefault('f', p.proowner))::text[], '', ` + routineArgs + `
	FROM pg_catalog.pg_proc p JOIN pg_catalog.pg_namespace n ON n.oid = p.pronamespace
	WHERE n.nspname::text = $1 AND (p.proname::text = $2 OR p.proname || ` + routineArgs + ` = $2) LIMIT 100`

func scanClass(row pgx.CollectableRow) (catalog.Class, error) {
	var c catalog.Class
	var builtin bool
	var items []string
	err := row.Scan(&c.Scope, &c.Schema, &c.Example, &c.Name, &c.Count, &c.Owner, &builtin, &items, &c.Column, &c.Args)
	if c.Count > 1 {
		c.Args = ""
	}
	c.Entries = parseACL(items, builtin)
	return c, err
}

// readInterior logs in to a database and reads its access lists. What it finds
// without a single object is kept for overviews.
func (s *server) readInterior(ctx context.Context, database string, object *catalog.Object) (*catalog.ObjectGrants,
	error) {
	s.counts.Looking.RLock()
	defer s.counts.Looking.RUnlock()
	conn, err := s.dialDatabase(ctx, database)
	if err != nil {
		return nil, err
	}
	defer conn.Close(context.WithoutCancel(ctx))
	in, err := readInterior(ctx, conn, database)
	if err != nil {
		return nil, err
	}
	kept := *in
	s.interiors.put(database, &kept)
	if object == nil || object.Schema == "" || object.Name == "" {
		return in, nil
	}
	own, err := collect(ctx, conn, "read the object", scanClass, objectColumns, object.Schema, object.Name)
	for i := range own {
		own[i].Database = database
	}
	in.Classes = append(slices.Clone(in.Classes), own...)
	return in, err
}

// readInterior reads on a connection that is in the database.
func readInterior(ctx context.Context, q querier, database string) (*catalog.ObjectGrants, error) {
	in := &catalog.ObjectGrants{Read: time.Now().UTC()}
	var err error
	if in.Classes, err = collect(ctx, q, "read privileges in "+naming.Show(database), scanClass,
		interiorColumns); err != nil {
		return nil, err
	}
	for i := range in.Classes {
		c := &in.Classes[i]
		c.Database = database
		if c.Scope == catalog.ScopeSchema {
			c.Example = ""
		}
	}
	in.Futures, err = collect(ctx, q, "read default privileges",
		func(row pgx.CollectableRow) (f catalog.DefaultPrivilege, err error) {
			var items []string
			err = row.Scan(&f.Maker, &f.On, &f.Schema, &items)
			f.Entries = parseACL(items, false)
			return f, err
		}, `SELECT pg_catalog.pg_get_userbyid(d.defaclrole)::text, CASE d.defaclobjtype WHEN 'r' THEN 'table' WHEN 'S' THEN 'sequence' WHEN 'f' THEN 'routine'
		WHEN 'n' THEN 'schema' ELSE 'type' END, coalesce(n.nspname::text, ''), d.defaclacl::text[]
		FROM pg_catalog.pg_default_acl d LEFT JOIN pg_catalog.pg_namespace n ON n.oid = d.defaclnamespace ORDER BY 1, 2, 3 LIMIT 20000`)
	return in, err
}

// readBelongings says what a role has in every database without connecting to
// any. Source: pg_shdepend; deptype o is ownership, a an access list, r a policy.
func (s *server) readBelongings(ctx context.Context, key string) ([]belonging, error) {
	type line struct {
		database, deptype, class string
		closed                   bool
		n                        int
	}
	lines, err := collect(ctx, s.pool, "read what the role has", func(row pgx.CollectableRow) (l line, err error) {
		err = row.Scan(&l.database, &l.closed, &l.deptype, &l.class, &l.n)
		return l, err
	}, `SELECT coalesce(d.datname::text, ''), coalesce(NOT d.datallowconn OR d.datconnlimit = -2, false), s.deptype::text, coalesce(c.relname::text, '?'), count(*)::int
		FROM pg_catalog.pg_shdepend s LEFT JOIN pg_catalog.pg_database d ON d.oid = s.dbid LEFT JOIN pg_catalog.pg_class c ON c.oid = s.classid
		WHERE s.refclassid = 'pg_catalog.pg_authid'::pg_catalog.regclass AND s.refobjid = $1::oid GROUP BY 1, 2, 3, 4 ORDER BY 1, 3, 4`, oidOf(key))
	if err != nil {
		return nil, err
	}
	var out []belonging
	for _, l := range lines {
		if len(out) == 0 || out[len(out)-1].Database != l.database {
			out = append(out, belonging{Database: l.database, Closed: l.closed})
		}
		h := &out[len(out)-1]
		switch l.deptype {
		case "o":
			h.Owned += l.n
			if h.Kinds != "" {
				h.Kinds += ", "
			}
			h.Kinds += naming.CountWord(l.n, ownedWords(l.class))
		case "a":
			h.Granted += l.n
		default:
			h.Policies += l.n
		}
	}
	for i := range out {
		if out[i].Database == "" && out[i].Owned > 0 {
			out[i].Databases, err = collect(ctx, s.pool, "read the role's databases", pgx.RowTo[string],
				`SELECT datname::text FROM pg_catalog.pg_database WHERE datdba = $1::oid ORDER BY 1`, oidOf(key))
		}
	}
	return out, err
}

// ownedWords says what the objects of a catalogue are.
func ownedWords(class string) string {
	words := map[string]string{"pg_class": "tables, views or sequences", "pg_database": "databases",
		"pg_namespace": "schemas", "pg_proc": "routines", "pg_type": "types",
		"pg_default_acl": "default privileges", "pg_tablespace": "tablespaces", "pg_largeobject": "large objects",
		"pg_extension": "extensions"}[class]
	if words == "" {
		return "in " + class
	}
	return words
}

// readSessionsOf says who is connected as a role: database, client, program.
func (s *server) readSessionsOf(ctx context.Context, key string) ([]string, error) {
	return collect(ctx, s.pool, "look for its sessions", func(row pgx.CollectableRow) (string, error) {
		var pid int
		var database, client, program string
		err := row.Scan(&pid, &database, &client, &program)
		return sessionText(pid, database, client, program), err
	}, `SELECT pid, coalesce(datname::text, ''), coalesce(host(client_addr), ''), coalesce(application_name, '')
		FROM pg_catalog.pg_stat_activity WHERE usesysid = $1::oid AND leader_pid IS NULL ORDER BY backend_start LIMIT 50`, oidOf(key))
}

func sessionText(pid int, database, client, program string) string {
	text := fmt.Sprintf("session %d", pid)
	if database != "" {
		text += " in " + naming.Show(database)
	}
	if client != "" {
		text += " from " + client
	}
	if program != "" {
		text += " (" + naming.Show(program) + ")"
	}
	return text
}

// find returns the account of that name in a list.
func find(list []catalog.Account, name string) (catalog.Account, bool) {
	i := slices.IndexFunc(list, func(a catalog.Account) bool { return a.Name == name })
	if i < 0 {
		return catalog.Account{}, false
	}
	return list[i], true
}

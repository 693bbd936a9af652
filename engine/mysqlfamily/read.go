package mysqlfamily

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

var versionText = regexp.MustCompile(`^(?:5\.5\.5-)?(\d+)\.(\d+)\.(\d+)`)

// query runs a query and scans each row.
func (s *server) query(ctx context.Context, op, text string, scan func(*sql.Rows) error, args ...any) error {
	return query(ctx, s.db, op, text, scan, args...)
}

// queryFresh does it where the server would show statistics of yesterday else.
func (s *server) queryFresh(ctx context.Context, op, text string, scan func(*sql.Rows) error, args ...any) error {
	if s.product.upToDate == "" {
		return s.query(ctx, op, text, scan, args...)
	}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return wrap(op, err)
	}
	c := &sender{Conn: conn}
	defer c.Close()
	defer c.Spend()
	if err := exec(ctx, c, op, s.product.upToDate); err != nil {
		return err
	}
	return query(ctx, conn, op, text, scan, args...)
}

func query(ctx context.Context, on interface {
	QueryContext(ctx context.Context, text string, args ...any) (*sql.Rows, error)
}, op, text string, scan func(*sql.Rows) error, args ...any) error {
	rows, err := on.QueryContext(ctx, text, args...)
	if err != nil {
		return wrap(op, err)
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return wrap(op, err)
		}
	}
	return wrap(op, rows.Err())
}

// another is the error of a server that is another product.
func (p *product) another(version string) error {
	return &engine.Error{Op: "read the server", Kind: engine.Refused,
		Text: "this is no " + p.description.Title + ": it calls itself " + version,
		Next: "Register it with the engine that it is."}
}

// Inspect reads what the instance says of itself and what the login may do.
// Sources: system variables, GLOBAL_STATUS, USER_PRIVILEGES of the login.
func (s *server) Inspect(ctx context.Context) (catalog.Instance, error) {
	in := catalog.Instance{Engine: s.product.id(), Read: time.Now().UTC()}
	conn, err := s.db.Conn(ctx)
	if err != nil {
		return in, wrap("connect", err)
	}
	defer conn.Close()
	if err := conn.Raw(func(c any) error {
		in.Identity, err = identityOf(ctx, s.product, c.(driver.Conn))
		in.Identity = s.transport.Marked(in.Identity)
		return err
	}); err != nil {
		return in, wrap("read the identity", err)
	}
	var version, cipher string
	var uptime, replicas int64
	err = conn.QueryRowContext(ctx,
		s.product.instance).
		Scan(&version, &in.Login.Name, &in.ReadOnly, &in.Sessions.Allowed, &in.Encoding, &in.Collation,
			&in.Sessions.Open, &uptime, &replicas, &cipher)
	if err != nil {
		return in, wrap("read the server", err)
	}
	m := versionText.FindStringSubmatch(version)
	if m == nil || !s.product.recognises(version) {
		return in, s.product.another(version)
	}
	in.Version = strings.Join(m[1:], ".")
	for _, part := range m[1:] {
		n, _ := strconv.Atoi(part)
		in.Number = in.Number*100 + n
	}
	if in.Number < s.product.oldest {
		return in, &engine.Error{Op: "read the server", Kind: engine.Refused, Text: "this is version " + in.Version +
			"; Genarch looks after " + s.product.description.Title + " " + s.product.description.Versions,
			Next: "Upgrade the server first."}
	}
	in.Started = in.Read.Add(-time.Duration(uptime) * time.Second).Truncate(time.Second)
	in.TLS = cipher != "" || s.config.TLS != nil // else it would not have connected
	if in.ReadOnly == "" && replicas > 0 {
		in.ReadOnly = "it is a replica: what is altered here is not altered on its primary"
	}
	return in, s.readAbilities(ctx, conn, in.Number, &in.Login)
}

// readAbilities reads the global privileges of the login, its own row only:
// that needs no right on the grant tables.
func (s *server) readAbilities(ctx context.Context, conn *sql.Conn, number int, login *catalog.Login) error {
	at := strings.LastIndexByte(login.Name, '@')
	account := quoteAccount(login.Name[:at], login.Name[at+1:])
	held := map[string]bool{}
	rows, err := conn.QueryContext(ctx,
		`SELECT PRIVILEGE_TYPE, IS_GRANTABLE FROM information_schema.USER_PRIVILEGES WHERE GRANTEE = ?`,
		"'"+login.Name[:at]+"'@'"+login.Name[at+1:]+"'")
	if err != nil {
		return wrap("read the login's rights", err)
	}
	defer rows.Close()
	for rows.Next() {
		var privilege, grantable string
		if err := rows.Scan(&privilege, &grantable); err != nil {
			return wrap("read the login's rights", err)
		}
		held[privilege] = true
		held["GRANT OPTION"] = held["GRANT OPTION"] || grantable == "YES"
	}
	for _, a := range s.product.abilitiesOf(number) {
		missing := slices.DeleteFunc(slices.Clone(a.privileges), func(p string) bool { return held[p] })
		ability := catalog.Ability{Code: a.code, Title: a.title, Allowed: len(missing) == 0, Unneeded: a.unneeded}
		switch {
		case a.unneeded && ability.Allowed:
			ability.Remedy = "REVOKE " + strings.Join(a.privileges, ", ") + " ON *.* FROM " + account
		case !a.unneeded && !ability.Allowed:
			ability.Remedy = a.statement(account, missing)
		}
		login.Abilities = append(login.Abilities, ability)
	}
	login.Superuser = held[s.product.administrator]
	return wrap("read the login's rights", rows.Err())
}

// Databases lists all databases with tables, sizes and sessions: four readings
// of the whole server side by side, never one question a database.
func (s *server) Databases(ctx context.Context) (catalog.Listing, error) {
	out := catalog.Listing{Read: time.Now().UTC(), Databases: []catalog.Database{}}
	tables, sizes, sessions := map[string]int{}, map[string]int64{}, map[string]int{}
	var owners map[string][]string
	var sizesErr, ownersErr error
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(engine.Readers)
	group.Go(func() error {
		err := s.query(gctx, "list databases",
			`SELECT SCHEMA_NAME, DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME, `+s.product.comment+`
			FROM information_schema.SCHEMATA`, func(r *sql.Rows) error {
				var d catalog.Database
				err := r.Scan(&d.Name, &d.Encoding, &d.Collation, &d.Comment)
				d.System = slices.Contains(system, d.Name) || d.Name == markerDatabase
				out.Databases = append(out.Databases, d)
				return err
			})
		if err != nil {
			return err
		}
		return s.setStates(gctx, out.Databases, "")
	})
	group.Go(func() error {
		err := s.query(gctx, "count tables", `SELECT TABLE_SCHEMA, COUNT(*) FROM information_schema.TABLES
			WHERE TABLE_TYPE NOT IN ('VIEW', 'SYSTEM VIEW') GROUP BY TABLE_SCHEMA`, scanCount(tables))
		if err != nil {
			return err
		}
		return s.query(gctx, "count sessions",
			`SELECT DB, COUNT(*) FROM `+s.product.processlist+` WHERE DB IS NOT NULL GROUP BY DB`,
			scanCount(sessions))
	})
	group.Go(func() error {
		sizesErr = s.readSizes(gctx, sizes)
		owners, ownersErr = s.readOwners(gctx, "")
		return nil
	})
	if err := group.Wait(); err != nil {
		return out, err
	}
	if sizesErr != nil {
		out.Partial = append(out.Partial, "sizes could not be read: "+sizesErr.Error())
	}
	if ownersErr != nil {
		out.Partial = append(out.Partial, "owners could not be read: "+ownersErr.Error())
	}
	for i := range out.Databases {
		d := &out.Databases[i]
		d.Owner = strings.Join(owners[d.Name], ", ")
		complete(d, tables, sizes, sessions, sizesErr == nil)
	}
	slices.SortFunc(out.Databases, func(a, b catalog.Database) int { return strings.Compare(a.Name, b.Name) })
	s.setHeld(ctx, &out)
	return out, nil
}

func scanCount(into map[string]int) func(*sql.Rows) error {
	return func(r *sql.Rows) error {
		var name string
		var n int
		err := r.Scan(&name, &n)
		into[name] = n
		return err
	}
}

func complete(d *catalog.Database, tables map[string]int, sizes map[string]int64, sessions map[string]int, sized bool) {
	t, n := tables[d.Name], sessions[d.Name]
	d.Tables, d.Sessions = &t, &n
	if dir, certain := directoryName(d.Name); sized && certain && d.Name != "information_schema" &&
		d.Name != "performance_schema" {
		size := sizes[dir]
		d.Size = &size
	}
}

// readSizes sums the files of InnoDB tables by database folder. TABLES would
// open every single table for it (a second for 2,000), this takes milliseconds.
func (s *server) readSizes(ctx context.Context, into map[string]int64) error {
	return s.query(ctx, "read sizes", `SELECT SUBSTRING_INDEX(NAME, '/', 1), CAST(SUM(FILE_SIZE) AS SIGNED)
		FROM `+s.product.tablespaces+` WHERE NAME LIKE '%/%' GROUP BY 1`, func(r *sql.Rows) error {
		var dir string
		var size int64
		err := r.Scan(&dir, &size)
		into[dir] = size
		return err
	})
}

// directoryName is the name of a database's folder: as [directoryLength] says.
// Characters with a letter code of their own (é is @0p) are not worked out
// here: for them it is not certain, and their size is shown as unknown.
func directoryName(name string) (dir string, certain bool) {
	var b strings.Builder
	certain = true
	for _, c := range name {
		switch {
		case c == '_' || c >= '0' && c <= '9' || c >= 'A' && c <= 'Z' || c >= 'a' && c <= 'z':
			b.WriteRune(c)
		default:
			certain = certain && c < 0x80
			fmt.Fprintf(&b, "@%04x", c)
		}
	}
	return b.String(), certain
}

// Database reads one database with everything about it.
func (s *server) Database(ctx context.Context, name string) (catalog.Database, error) {
	d, err := s.readDatabase(ctx, name)
	if err != nil {
		return d, err
	}
	tables, sizes, sessions := map[string]int{}, map[string]int64{}, map[string]int{}
	if err := s.query(ctx, "count tables", `SELECT TABLE_SCHEMA, COUNT(*) FROM information_schema.TABLES
		WHERE TABLE_SCHEMA = ? AND TABLE_TYPE NOT IN ('VIEW', 'SYSTEM VIEW') GROUP BY TABLE_SCHEMA`, scanCount(tables),
		d.Name); err != nil {
		return d, err
	}
	if err := s.query(ctx, "count sessions",
		`SELECT DB, COUNT(*) FROM `+s.product.processlist+` WHERE DB = ? GROUP BY DB`, scanCount(sessions),
		d.Name); err != nil {
		return d, err
	}
	sized := s.readSizes(ctx, sizes) == nil
	complete(&d, tables, sizes, sessions, sized)
	// Who may not read the grant tables sees no owners: unknown is no error.
	owners, _ := s.readOwners(ctx, d.Name)
	d.Owner = strings.Join(owners[d.Name], ", ")
	return d, nil
}

// storable reports whether the server can store a name at all. Compared with one
// that it cannot (beyond U+FFFF, or no text), it gives an error about collations.
func storable(name string) bool {
	return utf8.ValidString(name) && !strings.ContainsFunc(name, func(r rune) bool { return r == 0 || r > 0xffff })
}

// readDatabase reads the catalogue row alone. Names are compared byte by byte.
func (s *server) readDatabase(ctx context.Context, name string) (catalog.Database, error) {
	if !storable(name) {
		return catalog.Database{}, fmt.Errorf("database %s on %s: %w", naming.Show(name), s.target.Server.Name,
			engine.ErrNotFound)
	}
	var found []catalog.Database
	err := s.query(ctx, "read database "+naming.Show(name),
		`SELECT SCHEMA_NAME, DEFAULT_CHARACTER_SET_NAME, DEFAULT_COLLATION_NAME, `+s.product.comment+`
		FROM information_schema.SCHEMATA WHERE SCHEMA_NAME = ?`, func(r *sql.Rows) error {
			var d catalog.Database
			err := r.Scan(&d.Name, &d.Encoding, &d.Collation, &d.Comment)
			d.System = slices.Contains(system, d.Name) || d.Name == markerDatabase
			found = append(found, d)
			return err
		}, name)
	if err == nil {
		err = s.setStates(ctx, found, name)
	}
	if err != nil {
		return catalog.Database{}, err
	}
	for _, d := range found {
		if d.Name == name || len(found) == 1 && strings.EqualFold(d.Name, name) {
			d.Held, err = s.heldNote(ctx, d.Name)
			return d, err
		}
	}
	return catalog.Database{}, fmt.Errorf("database %s on %s: %w", naming.Show(name), s.target.Server.Name,
		engine.ErrNotFound)
}

// setStates notes of databases whether they are read only, and encrypted; only empty: all are looked
// at. Sources: information_schema.SCHEMATA and SCHEMATA_EXTENSIONS.
func (s *server) setStates(ctx context.Context, list []catalog.Database, only string) error {
	if s.product.states == "" {
		return nil
	}
	of := map[string]catalog.Values{}
	err := s.query(ctx, "read which databases are read only", s.product.states+" AND (? = '' OR s.SCHEMA_NAME = ?)",
		func(r *sql.Rows) error {
			var name string
			var locked, encrypted bool
			err := r.Scan(&name, &locked, &encrypted)
			of[name] = catalog.Values{readOnly: locked, encryption: encrypted}
			return err
		}, only, only)
	for i := range list {
		list[i].Properties = of[list[i].Name]
	}
	return err
}

// readOwners reads who holds everything on databases, by their names; only empty: on
// all. The name of a grant is a pattern, so only one that is plain names a database.
// Source: mysql.db.
func (s *server) readOwners(ctx context.Context, only string) (map[string][]string, error) {
	out := map[string][]string{}
	err := s.query(ctx, "read the owners",
		`SELECT Db, User, Host FROM mysql.db WHERE (? = '' OR Db IN (?, ?)) AND Create_priv = 'Y' AND Drop_priv = 'Y'
		AND Alter_priv = 'Y' AND Create_routine_priv = 'Y' AND Event_priv = 'Y' AND Trigger_priv = 'Y' ORDER BY 1, 2, 3`, func(r *sql.Rows) error {
			var db, user, host string
			err := r.Scan(&db, &user, &host)
			if host != "" {
				user += "@" + host
			}
			// Most people do not escape what they mean as a name: such a pattern counts for
			// the database that is called so.
			if !isPattern(db) {
				db = plain(db)
			}
			if !slices.Contains(out[db], user) {
				out[db] = append(out[db], user)
			}
			return err
		}, only, only, escaped(only))
	return out, err
}

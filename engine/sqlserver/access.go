package sqlserver

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/errgroup"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
)

// A login signs in to the server; in each database it acts as a user, which is another principal: the
// two belong together by their number (SID), never by their names. So users and the roles of a
// database are principals that lie in it, and a login is a member, so to say, of its users.

// actsAs is the grantor of such a membership.
const actsAs = "its login"

// Access reads who may do what: logins and server roles, and in each database that the login may enter
// users, roles and what was granted, denied and owned. Sources: sys.server_principals,
// sys.server_role_members, sys.server_permissions; in each database sys.database_principals,
// sys.database_role_members, sys.database_permissions, sys.schemas, sys.objects.
//
// Long: what is read of the server and of each database is put together.
func (s *server) Access(ctx context.Context, _ catalog.AccessQuery) (catalog.Access, error) {
	out := catalog.Access{Read: time.Now().UTC()}
	bySID, err := s.readServerPrincipals(ctx, &out)
	if err != nil {
		return out, err
	}
	list, err := s.readDatabases(ctx, "")
	if err != nil {
		return out, err
	}
	notes, err := s.readNotes(ctx)
	if err != nil {
		return out, err
	}
	var mu sync.Mutex // guards out
	group, gctx := errgroup.WithContext(ctx)
	group.SetLimit(engine.Readers)
	inside := make([]*within, len(list))
	for i, d := range list {
		if heldAs(d.Name, notes) != nil {
			continue
		}
		group.Go(func() error {
			w := &within{database: catalog.AccessDatabase{Name: d.Name, Owner: d.Owner, System: d.System,
				Closed: d.Closed}}
			inside[i] = w
			if d.Closed {
				w.database.Why = "it is not online"
				return nil
			}
			err := s.readWithin(gctx, d.Name, bySID, w)
			if e, ok := err.(*engine.Error); ok && e.Kind == engine.Refused {
				w.database.Why, w.database.Interior = e.Text, nil
				mu.Lock()
				defer mu.Unlock()
				out.Unknown = append(out.Unknown, "what is in "+shown(d.Name)+": "+e.Text)
				return nil
			}
			return err
		})
	}
	if err := group.Wait(); err != nil {
		return out, err
	}
	for _, w := range inside {
		if w == nil {
			continue
		}
		out.Databases = append(out.Databases, w.database)
		out.Accounts = append(out.Accounts, w.accounts...)
		out.Memberships = append(out.Memberships, w.memberships...)
	}
	if err := s.countLogins(ctx, out.Accounts); err != nil {
		return out, err
	}
	if slices.ContainsFunc(out.Accounts, func(a catalog.Account) bool { return a.Method == "Windows group" }) {
		out.Unknown = append(out.Unknown, "who belongs to the groups of Windows that are logins")
	}
	slices.Sort(out.Unknown)
	return out, nil
}

// countLogins counts the sessions of each login, where the login of Genarch may see those of others.
func (s *server) countLogins(ctx context.Context, list []catalog.Account) error {
	counts, sees := map[string]int{}, false
	err := s.query(ctx, "count sessions", `SELECT login_name, COUNT(*),
		HAS_PERMS_BY_NAME(NULL, NULL, 'VIEW SERVER STATE')
		FROM sys.dm_exec_sessions WHERE is_user_process = 1 GROUP BY login_name`, func(r *sql.Rows) error {
		var login string
		var n int
		err := r.Scan(&login, &n, &sees)
		counts[login] = n
		return err
	})
	for i := range list {
		if a := &list[i]; sees && a.Login && a.Database == "" {
			n := counts[a.Name]
			a.Sessions = &n
		}
	}
	return err
}

// methods say how a principal proves itself, by the letter of its type.
var methods = map[string]string{"S": "password", "U": "Windows", "G": "Windows group", "E": "Entra", "X": "Entra group",
	"C": "certificate", "K": "key", "R": ""}

// readServerPrincipals reads logins and server roles, who is in which, and what they hold on the
// server. It gives the logins by their numbers.
//
// Long: a query and its rows for each catalogue view.
func (s *server) readServerPrincipals(ctx context.Context, out *catalog.Access) (map[string]string, error) {
	bySID, byID := map[string]string{}, map[int]*catalog.Account{}
	var order []int
	err := s.query(ctx, "read logins", `SELECT p.principal_id, p.name, p.type,
		CONVERT(varchar(200), p.sid, 2), p.is_disabled,
		COALESCE(p.default_database_name, N''), COALESCE(l.is_policy_checked, 0), COALESCE(l.is_expiration_checked, 0)
		FROM sys.server_principals p LEFT JOIN sys.sql_logins l ON l.principal_id = p.principal_id
		WHERE p.type IN ('S', 'U', 'G', 'E', 'X', 'R') ORDER BY p.name`, func(r *sql.Rows) error {
		var a catalog.Account
		var id int
		var kind, sid, database string
		var policy, expires bool
		err := r.Scan(&id, &a.Name, &kind, &sid, &a.Locked, &database, &policy, &expires)
		a.Role, a.Key, a.Method = kind == "R", sid, methods[kind]
		a.Login = !a.Role
		a.System = strings.HasPrefix(a.Name, "##") || a.Role && id <= 10
		a.Bootstrap, a.Inherit, a.ConnectionLimit = id == 1, true, -1
		if a.Role {
			a.Locked = false
			a.Global = serverRoles[a.Name]
		} else {
			bySID[sid] = a.Name
			has := kind == "S"
			a.Password = &has
			a.Properties = catalog.Values{"policy": policy, "expiration": expires}.With("default_database", database)
		}
		byID[id] = &a
		order = append(order, id)
		return err
	})
	if err != nil {
		return nil, err
	}
	err = s.query(ctx, "read the members of server roles", `SELECT role_principal_id, member_principal_id
		FROM sys.server_role_members`, func(r *sql.Rows) error {
		var role, member int
		err := r.Scan(&role, &member)
		if byID[role] != nil && byID[member] != nil {
			out.Memberships = append(out.Memberships, catalog.Membership{Role: byID[role].Principal,
				Member: byID[member].Principal, Inherit: true, Set: true})
		}
		return err
	})
	if err != nil {
		return nil, err
	}
	err = s.query(ctx, "read what is granted on the server", `SELECT grantee_principal_id, state, permission_name
		FROM sys.server_permissions WHERE class = 100`, func(r *sql.Rows) error {
		var grantee int
		var state, name string
		err := r.Scan(&grantee, &state, &name)
		a, set := byID[grantee], privilege.Set{}
		if one, known := table.Named(name); known {
			set = one
		}
		switch {
		case a == nil:
		case state == "D":
			a.Attributes = append(a.Attributes, "DENY "+name)
		default:
			a.Global = a.Global.Or(set)
			if name != "CONNECT SQL" {
				a.Attributes = append(a.Attributes, name)
			}
		}
		return err
	})
	// Nothing is refused to who is in it, by whatever way.
	supers := catalog.WithMembers(map[catalog.Principal]bool{{Name: "sysadmin", Role: true}: true}, out.Memberships)
	for _, id := range order {
		a := byID[id]
		a.Super = id == 1 || supers[a.Principal]
		out.Accounts = append(out.Accounts, *a)
	}
	return bySID, err
}

// within is what was read in one database.
type within struct {
	database    catalog.AccessDatabase
	accounts    []catalog.Account
	memberships []catalog.Membership
}

// readWithin reads one database. Three-part names go there without leaving the session's own.
//
// Long: a query and its rows for each catalogue view.
func (s *server) readWithin(ctx context.Context, name string, bySID map[string]string, w *within) error {
	in := quoteIdent(name) + ".sys."
	byID := map[int]catalog.Principal{}
	err := s.query(ctx, "read its users", `SELECT principal_id, name, type, COALESCE(CONVERT(varchar(200), sid, 2), ''),
		authentication_type, COALESCE(default_schema_name, N''), CONVERT(varchar(23), create_date, 126)
		FROM `+in+`database_principals ORDER BY name`,
		func(r *sql.Rows) error {
			var a catalog.Account
			var id, signs int
			var kind, sid, schema, made string
			err := r.Scan(&id, &a.Name, &kind, &sid, &signs, &schema, &made)
			a.Key = fmt.Sprint(id, " ", made)
			a.Database, a.Role, a.Method = name, kind == "R" || kind == "A", methods[kind]
			a.System = id <= 4 || id >= 16384 || id == 0
			a.Inherit, a.ConnectionLimit = true, -1
			if kind == "S" && signs != 2 {
				a.Method = "" // its login signs in
			}
			byID[id] = a.Principal
			switch {
			case id == 3 || id == 4: // INFORMATION_SCHEMA and sys
				return err
			case a.Role:
			case id == 1:
				a.Properties = catalog.Values{"kind": "owner"}
				if owner, there := bySID[sid]; there {
					w.memberships = append(w.memberships, catalog.Membership{Role: a.Principal,
						Member: catalog.Principal{Name: owner}, Inherit: true, Grantor: actsAs})
				}
			case signs == 2: // a password of its own
				a.Login = true
			case signs == 0 && id > 4:
				a.Properties = catalog.Values{"kind": "without a login"}
			case id > 4:
				if login, there := bySID[sid]; there {
					w.memberships = append(w.memberships, catalog.Membership{Role: a.Principal,
						Member: catalog.Principal{Name: login}, Inherit: true, Grantor: actsAs})
					a.Properties = catalog.Values{"login": login}
				} else if kind == "S" {
					a.Properties = catalog.Values{"kind": orphan}
				}
			}
			a.Properties = a.Properties.With("default_schema", schema)
			w.accounts = append(w.accounts, a)
			return err
		})
	if err != nil {
		return err
	}
	err = s.query(ctx, "read the members of its roles", "SELECT role_principal_id, member_principal_id FROM "+in+
		"database_role_members", func(r *sql.Rows) error {
		var role, member int
		err := r.Scan(&role, &member)
		w.memberships = append(w.memberships, catalog.Membership{Role: byID[role], Member: byID[member], Inherit: true,
			Set: true})
		return err
	})
	if err != nil {
		return err
	}
	w.database.Interior = &catalog.ObjectGrants{Read: time.Now().UTC()}
	classes := map[string]*catalog.Class{}
	var keys []string
	class := func(o catalog.Object, owner string) *catalog.Class {
		key := fmt.Sprintf("%q", []string{string(o.Scope), o.Schema, o.Name, o.Column})
		if classes[key] == nil {
			classes[key] = &catalog.Class{Object: o, Example: o.Name, Count: 1, Owner: owner}
			keys = append(keys, key)
		}
		return classes[key]
	}
	err = s.query(ctx, "read its schemas", "SELECT name, principal_id FROM "+in+
		"schemas WHERE schema_id NOT IN (2, 3, 4) AND schema_id < 16384 ORDER BY name", func(r *sql.Rows) error {
		var schema string
		var owner int
		err := r.Scan(&schema, &owner)
		class(catalog.Object{Scope: catalog.ScopeSchema, Database: name, Schema: schema}, byID[owner].Name)
		return err
	})
	if err != nil {
		return err
	}
	err = s.query(ctx, "read what is granted in it", `SELECT p.class, p.grantee_principal_id,
		p.grantor_principal_id, p.state,
		p.permission_name, COALESCE(sc.name, os.name, N''), COALESCE(o.name, N''), COALESCE(o.type, ''),
		COALESCE(o.principal_id, os.principal_id, 0), COALESCE(c.name, N'') FROM `+in+`database_permissions p
		LEFT JOIN `+in+`schemas sc ON p.class = 3 AND sc.schema_id = p.major_id
		LEFT JOIN `+in+`objects o ON p.class = 1 AND o.object_id = p.major_id
		LEFT JOIN `+in+`schemas os ON os.schema_id = o.schema_id
		LEFT JOIN `+in+`columns c ON p.class = 1 AND p.minor_id > 0 AND c.object_id = p.major_id
			AND c.column_id = p.minor_id
		WHERE p.class IN (0, 1, 3) AND p.major_id >= 0`, func(r *sql.Rows) error {
		var kind, grantee, grantor, owner int
		var state, word, schema, object, form, column string
		if err := r.Scan(&kind, &grantee, &grantor, &state, &word, &schema, &object, &form, &owner,
			&column); err != nil {
			return err
		}
		set, known := table.Named(word)
		e := catalog.Entry{Grantee: byID[grantee], Grantor: byID[grantor].Name}
		switch {
		case !known:
			return nil // one that Genarch does not speak of
		case state == "D":
			e.Denied = set
		case state == "W":
			e.Privileges, e.Grantable = set, set
		default:
			e.Privileges = set
		}
		o := catalog.Object{Database: name, Schema: schema, Name: object, Column: column}
		switch {
		case kind == 0:
			w.database.Entries = append(w.database.Entries, e)
			return nil
		case kind == 3:
			o.Scope = catalog.ScopeSchema
		case object == "":
			return nil
		case column != "":
			o.Scope = catalog.ScopeColumn
		case strings.Contains("P FN IF TF PC FS FT X", strings.TrimSpace(form)):
			o.Scope = catalog.ScopeRoutine
		default:
			o.Scope = catalog.ScopeTable
		}
		c := class(o, byID[owner].Name)
		c.Entries = append(c.Entries, e)
		return nil
	})
	for _, key := range keys {
		w.database.Interior.Classes = append(w.database.Interior.Classes, *classes[key])
	}
	return err
}

// orphan is the kind of a user whose login is gone.
const orphan = "orphan"

// Rules prepares the engine's judgement of a reading.
func (Engine) Rules(g *access.Graph) access.Rules { return newRules(g) }

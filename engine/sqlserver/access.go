package sqlserver

import (
	"context"
	"database/sql"
	"io"
	"strings"
	"time"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/script"
)

// Access reads who may do what: logins, server roles and their members, what they hold on the server.
// Sources: sys.server_principals, sys.sql_logins, sys.server_role_members, sys.server_permissions.
func (s *server) Access(ctx context.Context, _ catalog.AccessQuery) (catalog.Access, error) {
	out := catalog.Access{Read: time.Now().UTC()}
	err := s.query(ctx, "read logins", `SELECT p.name, p.type, p.is_disabled, p.principal_id
		FROM sys.server_principals p WHERE p.type IN ('S', 'U', 'G', 'E', 'X', 'R') ORDER BY p.name`,
		func(r *sql.Rows) error {
			var a catalog.Account
			var kind string
			var disabled bool
			var id int
			err := r.Scan(&a.Name, &kind, &disabled, &id)
			a.Role = kind == "R"
			a.Login, a.Locked = !a.Role, disabled && kind != "R"
			a.System = strings.HasPrefix(a.Name, "##") || id == 1 || a.Role && id < 260
			a.Bootstrap, a.Inherit, a.ConnectionLimit = id == 1, true, -1
			a.Super = id == 1
			out.Accounts = append(out.Accounts, a)
			return err
		})
	if err != nil {
		return out, err
	}
	err = s.query(ctx, "read the members of server roles", `SELECT r.name, m.name, m.type FROM sys.server_role_members x
		JOIN sys.server_principals r ON r.principal_id = x.role_principal_id
		JOIN sys.server_principals m ON m.principal_id = x.member_principal_id`, func(r *sql.Rows) error {
		var role, member, kind string
		err := r.Scan(&role, &member, &kind)
		out.Memberships = append(out.Memberships, catalog.Membership{Role: catalog.Principal{Name: role, Role: true},
			Member: catalog.Principal{Name: member, Role: kind == "R"}, Inherit: true, Set: true})
		return err
	})
	if err != nil {
		return out, err
	}
	names, err := s.readNames(ctx)
	for _, n := range names {
		out.Databases = append(out.Databases, catalog.AccessDatabase{Name: n})
	}
	out.Unknown = append(out.Unknown, "what logins may do within databases: Genarch does not read that on SQL Server "+
		"yet")
	return out, err
}

// Script takes no scripts apart yet.
func (Engine) Script(io.Reader) script.Splitter { return script.None{} }

// Rules prepares the engine's judgement of a reading.
func (Engine) Rules(g *access.Graph) access.Rules { return &rules{g} }

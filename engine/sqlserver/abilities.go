package sqlserver

import (
	"context"
	"database/sql"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine"
)

// ability is one thing that Genarch's login may do, and the permission on the whole server that it
// takes.
type ability struct{ code, title, permission string }

// abilities are those that Genarch's work needs.
var abilities = []ability{
	{"create_database", "create databases", "CREATE ANY DATABASE"},
	{"alter_database", "alter and drop the databases of others", "ALTER ANY DATABASE"},
	{"see_databases", "see all databases", "VIEW ANY DATABASE"},
	{"see_definitions", "see files, logins and definitions", "VIEW ANY DEFINITION"},
	{"see_sessions", "see all sessions", "VIEW SERVER STATE"},
	{"end_sessions", "end sessions", "ALTER ANY CONNECTION"},
	{"manage_accounts", "create and alter logins", "ALTER ANY LOGIN"},
	{"enter_databases", "look into every database", "CONNECT ANY DATABASE"},
}

func (a ability) statement(login string) string {
	return "USE master; GRANT " + a.permission + " TO " + quoteIdent(login)
}

// readLogin reads what Genarch's login may do on the whole server. Sources: HAS_PERMS_BY_NAME,
// IS_SRVROLEMEMBER.
func readLogin(ctx context.Context, c *sql.Conn) (catalog.Login, error) {
	var out catalog.Login
	const op = "read what the login may do"
	err := c.QueryRowContext(ctx, "SELECT SUSER_SNAME(), COALESCE(IS_SRVROLEMEMBER('sysadmin'), 0)").
		Scan(&out.Name, &out.Superuser)
	if err != nil {
		return out, wrap(op, err)
	}
	for _, a := range abilities {
		x := catalog.Ability{Code: a.code, Title: a.title}
		err := c.QueryRowContext(ctx, "SELECT COALESCE(HAS_PERMS_BY_NAME(NULL, NULL, "+quoteText(a.permission)+"), 0)").
			Scan(&x.Allowed)
		if err != nil {
			return out, wrap(op, err)
		}
		if !x.Allowed {
			x.Remedy = a.statement(out.Name)
		}
		out.Abilities = append(out.Abilities, x)
	}
	return out, nil
}

// Prepare writes the statements that make a login for Genarch. It gets a password that nobody knows
// until one is set: a login without any cannot be.
func (Engine) Prepare(login catalog.Principal) []engine.Right {
	out := []engine.Right{{For: "sign in", Statement: "CREATE LOGIN " + quoteIdent(login.Name) +
		" WITH PASSWORD = 0x" + nobody + " HASHED, CHECK_POLICY = OFF"}}
	for _, a := range abilities {
		out = append(out, engine.Right{For: a.title, Statement: a.statement(login.Name)})
	}
	return out
}

// nobody is a verifier that no password has: version, salt, and a hash of nothing that is known.
const nobody = "0200000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000000" +
	"0000000000000000000000000000000000000000"

package postgres

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/engine"
)

// ability is one thing that Genarch's login may do, and the statement that lets a role,
// which is quoted already.
type ability struct {
	code, title string
	statement   func(role string) string
}

// abilities are those that Genarch's work needs. anyOwner is none of them: only a
// superuser has it, and a single owner can be given by itself.
var (
	abilities = []ability{
		{"create_database", "create databases", func(role string) string { return "ALTER ROLE " + role + " CREATEDB" }},
		{"see_sessions", "see all sessions and sizes",
			func(role string) string { return "GRANT pg_monitor TO " + role }},
		{"end_sessions", "end sessions", func(role string) string { return "GRANT pg_signal_backend TO " + role }},
		{"manage_accounts", "create and alter roles",
			func(role string) string { return "ALTER ROLE " + role + " CREATEROLE" }},
	}
	anyOwner = ability{"any_owner", "assign a database to any role", func(role string) string {
		return "ALTER ROLE " + role + " SUPERUSER -- or, for one role: GRANT owner TO " + role
	}}
)

// Prepare writes the statements that make a login for Genarch.
func (Engine) Prepare(login catalog.Principal) []engine.Right {
	role := quoteIdent(login.Name)
	out := []engine.Right{{For: "sign in", Statement: "CREATE ROLE " + role + " LOGIN"}}
	for _, a := range abilities {
		out = append(out, engine.Right{For: a.title, Statement: a.statement(role)})
	}
	return out
}

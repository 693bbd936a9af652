package postgres

import (
	"context"
	"strings"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/planning"
)

// A database that was set aside waits under a name of ours, closed, with what it was in
// its comment, which survives with the data: a lost store loses nothing of it.

// isHeld finds those that wait in pg_database AS d, as [planning.ReadNote] does.
var isHeld = `(d.datname LIKE '` + strings.ReplaceAll(planning.HeldPrefix, "_", `\_`) + `%' AND
	coalesce(pg_catalog.shobj_description(d.oid, 'pg_database'), '') LIKE '` + planning.NoteStart + `%')`

// isHeldRole finds those that wait among roles, read as accountColumns does.
var isHeldRole = `(r.rolname LIKE '` + strings.ReplaceAll(planning.HeldPrefix, "_", `\_`) + `%' AND
	d.description LIKE '` + planning.NoteStart + `%')`

// heldAccounts reads the accounts that wait.
func (s *server) heldAccounts(ctx context.Context) ([]catalog.Account, error) {
	list, _, err := s.readAccounts(ctx, s.pool, isHeldRole)
	return list, err
}

// heldName is the name under which a database waits. Its number makes it the only one
// of that name, and the rest tells people what it was, as far as it fits.
func heldName(d catalog.Database) string { return fitting(planning.HeldPrefix + d.Key + "_" + d.Name) }

// heldAccountName is the name under which an account waits.
func heldAccountName(a catalog.Account) string {
	return fitting(planning.HeldPrefix + "account_" + a.Key + "_" + a.Name)
}

// fitting cuts a name to the length that the server keeps, between characters.
func fitting(name string) string {
	for len(name) > limits.MaxLength {
		_, n := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-n]
	}
	return name
}

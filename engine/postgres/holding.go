package postgres

import (
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

// heldName is the name under which a database waits. Its number makes it the only one
// of that name, and the rest tells people what it was, as far as it fits.
func heldName(d catalog.Database) string {
	name := planning.HeldPrefix + d.Key + "_" + d.Name
	for len(name) > limits.MaxLength {
		_, n := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-n]
	}
	return name
}

package sqlserver

import (
	"context"
	"database/sql"
	"strings"
	"unicode/utf16"

	"example.com/genarch/core/catalog"
	"example.com/genarch/engine/planning"
)

// A database that was set aside is offline, where nobody can look into it: what it was is noted in an
// extended property of master, under the name by which it waits.

// notePrefix begins the names of those properties.
const notePrefix = "genarch.held."

// readNotes reads what is noted of databases that were set aside, by the names under which they wait.
// Source: sys.extended_properties of master.
func (s *server) readNotes(ctx context.Context) (map[string]string, error) {
	out := map[string]string{}
	err := s.query(ctx, "read what was set aside", `SELECT name, CONVERT(nvarchar(3500), value)
		FROM master.sys.extended_properties WHERE class = 0 AND name LIKE N'genarch.held.%'`, func(r *sql.Rows) error {
		var name, note string
		err := r.Scan(&name, &note)
		out[strings.TrimPrefix(name, notePrefix)] = note
		return err
	})
	return out, err
}

// heldAs is what a database was that waits under a name; nil: nothing was set aside under it.
func heldAs(name string, notes map[string]string) *catalog.Holding {
	note, noted := notes[name]
	if !noted {
		return nil
	}
	return planning.ReadNote(name, note)
}

// heldName is the name under which a database waits: its number makes it the only one.
func heldName(d catalog.Database) string {
	id, _, _ := strings.Cut(d.Key, " ")
	name := planning.HeldPrefix + id + "_" + d.Name
	for len(utf16.Encode([]rune(name))) > noteNameLimit {
		r := []rune(name)
		name = string(r[:len(r)-1])
	}
	return name
}

// noteNameLimit leaves room for the prefix in the name of a property, which has 128 units.
const noteNameLimit = 128 - len(notePrefix)

// The statements on a note. Source: sp_addextendedproperty, sp_updateextendedproperty,
// sp_dropextendedproperty.
func addProperty(name, value string) string {
	return "EXEC master.sys.sp_addextendedproperty @name = " + quoteText(name) + ", @value = " + quoteText(value)
}

func updateProperty(name, value string) string {
	return "EXEC master.sys.sp_updateextendedproperty @name = " + quoteText(name) + ", @value = " + quoteText(value)
}

func dropProperty(name string) string {
	return "EXEC master.sys.sp_dropextendedproperty @name = " + quoteText(name)
}

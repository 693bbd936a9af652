package postgres

import (
	"encoding/json"
	"strings"
	"time"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
)

// A database that was set aside waits under a name of ours, closed, with what it was in
// its comment, which survives with the data: a lost store loses nothing of it.

// heldPrefix begins the name under which a database waits.
const heldPrefix = "genarch_held_"

// isHeld finds those that wait in pg_database AS d, as readNote does.
const isHeld = `(d.datname LIKE 'genarch\_held\_%' AND
	coalesce(pg_catalog.shobj_description(d.oid, 'pg_database'), '') LIKE '{"set_aside_by":"Genarch"%')`

// heldName is the name under which a database waits. Its number makes it the only one
// of that name, and the rest tells people what it was, as far as it fits.
func heldName(d catalog.Database) string {
	name := heldPrefix + d.Key + "_" + d.Name
	for len(name) > limits.MaxLength {
		_, n := utf8.DecodeLastRuneInString(name)
		name = name[:len(name)-n]
	}
	return name
}

// heldNote is what the comment of a database says while it waits, as JSON.
type heldNote struct {
	// SetAside marks the comment as one of ours.
	SetAside string `json:"set_aside_by"`
	Name     string `json:"name"`
	Since    string `json:"since"`
	Until    string `json:"kept_until"`
	Open     bool   `json:"open"`
	Tables   *int   `json:"tables,omitempty"`
	Hold     string `json:"hold,omitempty"`
	Comment  string `json:"comment,omitempty"`
}

// noteAuthor is who writes such a comment.
const noteAuthor = "Genarch"

func writeNote(h catalog.Holding) string {
	text, err := json.Marshal(heldNote{SetAside: noteAuthor, Name: h.Name, Since: h.Since.Format(time.DateOnly),
		Until: h.Until.Format(time.DateOnly), Open: h.Open, Tables: h.Tables, Hold: h.Hold, Comment: h.Comment})
	if err != nil {
		panic("a note is plain data: " + err.Error())
	}
	return string(text)
}

// readNote reads the comment of a database that waits; nil where it is none.
func readNote(name, comment string) *catalog.Holding {
	if !strings.HasPrefix(name, heldPrefix) {
		return nil
	}
	var n heldNote
	if json.Unmarshal([]byte(comment), &n) != nil || n.SetAside != noteAuthor || n.Name == "" {
		return nil
	}
	since, err := time.Parse(time.DateOnly, n.Since)
	until, errUntil := time.Parse(time.DateOnly, n.Until)
	if err != nil || errUntil != nil {
		return nil
	}
	return &catalog.Holding{Name: n.Name, Since: since, Until: until, Open: n.Open, Tables: n.Tables, Hold: n.Hold,
		Comment: n.Comment}
}

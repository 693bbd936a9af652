package planning

import (
	"encoding/json"
	"strings"
	"time"

	"example.com/genarch/core/catalog"
)

// HeldPrefix begins the name under which a database waits that was set aside.
const HeldPrefix = "genarch_held_"

// NoteStart is how each note begins.
const NoteStart = `{"set_aside_by":"Genarch"`

// note is what is kept with a database that was set aside, as JSON.
type note struct {
	SetAside string            `json:"set_aside_by"` // the first, see NoteStart
	Name     string            `json:"name"`
	Since    string            `json:"since"`
	Until    string            `json:"kept_until"`
	Open     bool              `json:"open"`
	Tables   *int              `json:"tables,omitempty"`
	Discard  bool              `json:"then_discard,omitempty"`
	Hold     string            `json:"hold,omitempty"`
	Comment  string            `json:"comment,omitempty"`
	Kept     map[string]string `json:"kept,omitempty"`
}

// noteAuthor is who writes a note.
const noteAuthor = "Genarch"

// WriteNote writes what is kept with a database that was set aside.
func WriteNote(h catalog.Holding) string {
	text, err := json.Marshal(note{SetAside: noteAuthor, Name: h.Name, Since: h.Since.Format(time.DateOnly),
		Until: h.Until.Format(time.DateOnly), Open: h.Open, Tables: h.Tables, Discard: h.Discard, Hold: h.Hold,
		Comment: h.Comment, Kept: h.Kept})
	if err != nil {
		panic("a note is plain data: " + err.Error())
	}
	return string(text)
}

// ReadNote reads the note of a database of this name; nil where it is none.
func ReadNote(name, text string) *catalog.Holding {
	if !strings.HasPrefix(name, HeldPrefix) {
		return nil
	}
	var n note
	if json.Unmarshal([]byte(text), &n) != nil || n.SetAside != noteAuthor || n.Name == "" {
		return nil
	}
	since, err := time.Parse(time.DateOnly, n.Since)
	until, errUntil := time.Parse(time.DateOnly, n.Until)
	if err != nil || errUntil != nil {
		return nil
	}
	return &catalog.Holding{Name: n.Name, Since: since, Until: until, Open: n.Open, Tables: n.Tables,
		Discard: n.Discard, Hold: n.Hold, Comment: n.Comment, Kept: n.Kept}
}

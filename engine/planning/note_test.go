package planning

import (
	"reflect"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"example.com/genarch/core/catalog"
)

// FuzzNote: what is noted comes back, whatever the names are, and another comment is none.
func FuzzNote(f *testing.F) {
	f.Add(`a"; --`, "it's", "", true)
	f.Add("x", `{"set_aside_by":"Genarch"}`, "the audit", false)
	const waits = HeldPrefix + "7_tickets_prod"
	f.Fuzz(func(t *testing.T, name, comment, hold string, open bool) {
		if name == "" || !utf8.ValidString(name+comment+hold) {
			return
		}
		h := catalog.Holding{Name: name, Comment: comment, Hold: hold, Open: open,
			Since: time.Date(2026, 1, 2, 0, 0, 0, 0, time.UTC),
			Until: time.Date(2027, 1, 2, 0, 0, 0, 0, time.UTC)}
		got := ReadNote(waits, WriteNote(h))
		if !reflect.DeepEqual(got, &h) {
			t.Errorf("%+v comes back as %+v", h, got)
		}
		if ReadNote(name, WriteNote(h)) != nil && !strings.HasPrefix(name, HeldPrefix) {
			t.Errorf("%q is taken for a holding", name)
		}
		if n := ReadNote(waits, comment); n != nil && !strings.Contains(comment, noteAuthor) {
			t.Errorf("%q is taken for a note: %+v", comment, n)
		}
	})
}

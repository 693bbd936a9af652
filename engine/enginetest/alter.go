package enginetest

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// Altered carries an alteration out, looks that the database is as asked, takes every
// step back in reverse order, and looks that it is as it was; then it carries it out
// once more. It returns the brief.
func Altered(t *testing.T, e engine.Engine, s engine.Server, name string, options catalog.Values) change.Brief {
	t.Helper()
	in := change.Intent{Kind: change.AlterDatabase, Database: &change.DatabaseSpec{Name: name, Options: options}}
	before := ValuesOf(t, s, name)
	b := BriefOf(t, e, s, in)
	done, err := Carry(t, s, b)
	if err != nil {
		t.Fatalf("%s: %v\n%v", b.Summary, err, b.Statements())
	}
	for _, step := range done {
		if took, err := s.Probe(t.Context(), step); err != nil || !took {
			t.Errorf("%s: probed as %v, %v right after it", step.Title, took, err)
		}
	}
	after := ValuesOf(t, s, name)
	if again := BriefOf(t, e, s, in); again.Outcome != change.Nothing || len(again.Steps) > 0 {
		t.Errorf("what was altered would be altered again: %v %+v", again.Statements(), again.Findings)
	}
	for _, step := range slices.Backward(done) {
		if step.ReadOnly || step.Irreversible || step.Undo == "" {
			continue
		}
		if _, err := s.Undo(t.Context(), step); err != nil {
			t.Fatalf("roll back: %s: %v", step.Title, err)
		}
		if _, err := s.Undo(t.Context(), step); err != nil {
			t.Errorf("rolled back twice: %s: %v", step.Title, err)
		}
		if took, err := s.Probe(t.Context(), step); err != nil || took {
			t.Errorf("%s: probed as %v, %v after it was rolled back", step.Title, took, err)
		}
	}
	if now := ValuesOf(t, s, name); written(now) != written(before) {
		t.Errorf("rolled back it is %v; it was %v", now, before)
	}
	if _, err := Carry(t, s, BriefOf(t, e, s, in)); err != nil {
		t.Fatal(err)
	}
	if now := ValuesOf(t, s, name); written(now) != written(after) {
		t.Errorf("the second time it is %v; the first time it was %v", now, after)
	}
	return b
}

// written is how values are written, to compare them.
func written(v catalog.Values) string { return catalog.WriteValue([]catalog.Values{v}) }

// ValuesOf reads the properties of a database.
func ValuesOf(t *testing.T, s engine.Server, name string) catalog.Values {
	t.Helper()
	d, err := s.Database(t.Context(), name)
	if err != nil {
		t.Fatal(err)
	}
	return d.Values()
}

// Findings checks what a brief has found, as level:code, and that one of the findings
// says the remedy.
func Findings(t *testing.T, b change.Brief, want, remedy string) {
	t.Helper()
	var got []string
	remedies := ""
	for _, f := range b.Findings {
		got = append(got, string(f.Level)+":"+f.Code)
		remedies += fmt.Sprintln(f.Next, f.Actions)
	}
	if strings.Join(got, " ") != want || !strings.Contains(strings.ToLower(remedies), strings.ToLower(remedy)) {
		t.Errorf("findings %v; want %q with the remedy %q; got %s", got, want, remedy, remedies)
	}
}

package enginetest

import (
	"reflect"
	"strings"
	"testing"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
)

// Hostile are texts that a tenant can make a name of, or a part of one: each ends
// a quote, opens a comment or begins a statement in some dialect.
var Hostile = []string{
	"\"'\\`;\n--()/*", `() from public;reset role;alter role mal superuser--`, `"; DROP ROLE x; --`,
	"`; DROP USER x; -- ", `'; DROP ROLE x; --`,
	`\'; DROP ROLE x; #`, `\`, `/*`, `*/; SELECT 1; /*`, `$$; SELECT 1; $$`, `";`, "';", "`;", `/*!99999 */;x`,
	"縗\\';x", "\u202e;x", "’;x", "%'; x", "x(integer); y",
}

// Renamed copies a value and gives every string in it that is among names a
// hostile end, the same one everywhere, so that what belonged together still does.
func Renamed[T any](v T, names []string, end string) T {
	out := reflect.New(reflect.TypeFor[T]()).Elem()
	rename(out, reflect.ValueOf(v), func(s string) string {
		for _, n := range names {
			if s == n {
				return n + end
			}
		}
		return s
	})
	return out.Interface().(T)
}

func rename(to, from reflect.Value, f func(string) string) {
	switch from.Kind() {
	case reflect.String:
		to.SetString(f(from.String()))
	case reflect.Pointer:
		if !from.IsNil() {
			to.Set(reflect.New(from.Type().Elem()))
			rename(to.Elem(), from.Elem(), f)
		}
	case reflect.Slice:
		if !from.IsNil() {
			to.Set(reflect.MakeSlice(from.Type(), from.Len(), from.Len()))
			for i := range from.Len() {
				rename(to.Index(i), from.Index(i), f)
			}
		}
	case reflect.Interface:
		if !from.IsNil() {
			held := reflect.New(from.Elem().Type()).Elem()
			rename(held, from.Elem(), f)
			to.Set(held)
		}
	case reflect.Map:
		if !from.IsNil() {
			to.Set(reflect.MakeMapWithSize(from.Type(), from.Len()))
			for _, key := range from.MapKeys() {
				value := reflect.New(from.Type().Elem()).Elem()
				rename(value, from.MapIndex(key), f)
				to.SetMapIndex(key, value)
			}
		}
	case reflect.Struct:
		to.Set(from) // what is not exported stays
		for i := range from.NumField() {
			if from.Type().Field(i).IsExported() {
				rename(to.Field(i), from.Field(i), f)
			}
		}
	default:
		to.Set(from)
	}
}

// OneCommand checks that whatever the names are, each text that a step would send
// is exactly one command to the engine's own lexer. Every intent is planned once
// with plain names, and has to have steps; then once for each hostile text. It
// returns how many statements were looked at.
func OneCommand(t *testing.T, e engine.Engine, commands func(string) (int, error), names []string,
	snap catalog.Snapshot, intents map[string]change.Intent) int {
	t.Helper()
	looked := 0
	for title, in := range intents {
		b, err := e.Plan(in, snap)
		if err != nil || len(b.Steps) == 0 {
			t.Errorf("%s with plain names has no steps: %v %+v", title, err, b.Findings)
			continue
		}
		ran := 0
		for _, end := range append([]string{""}, Hostile...) {
			b, err := e.Plan(Renamed(in, names, end), Renamed(snap, names, end))
			if err != nil {
				t.Errorf("%s with %q: %v", title, end, err)
				continue
			}
			if len(b.Steps) > 0 && end != "" {
				ran++
			}
			for _, text := range Sent(b) {
				looked++
				if n, err := commands(text); n != 1 || err != nil {
					t.Errorf("%s with %q sends %d commands (%v) in one text:\n%s", title, end, n, err, text)
				}
			}
		}
		if ran < len(Hostile)/3 {
			t.Errorf("%s was refused with nearly every hostile name (%d of %d planned): the property is not looked at",
				title, ran, len(Hostile))
		}
	}
	return looked
}

// EachKnown checks that every kind of step that the planners write for some intents can be
// done and looked for, and that what a brief says to be rolled back can be.
func EachKnown[S any](t *testing.T, e engine.Engine, kinds engine.StepKinds[S], snap catalog.Snapshot,
	intents map[string]change.Intent) {
	t.Helper()
	for title, in := range intents {
		b, err := e.Plan(in, snap)
		if err != nil {
			t.Errorf("%s: %v", title, err)
		}
		for _, s := range b.Steps {
			k, known := kinds[s.Kind]
			switch {
			case s.Kind == change.ClearSessions:
			case !known || k.Do == nil || k.Probe == nil:
				t.Errorf("%s writes a step %s, which nobody can do or look for", title, s.Kind)
			case (s.Undo != "" || s.Repair != "") && k.Undo == nil:
				t.Errorf("%s promises to roll back a step %s, which nobody can", title, s.Kind)
			case s.ReadOnly && k.Undo != nil:
				t.Errorf("%s has a step %s that only reads, and can be rolled back", title, s.Kind)
			}
		}
	}
}

// Sent lists every text that the steps of a brief would send by itself. A step
// that sends several keeps them in its arguments, one by one.
func Sent(b change.Brief) []string {
	var out []string
	for _, s := range b.Steps {
		several := false
		for _, arg := range []string{"do", "undo", "again", "statements"} {
			if list, ok := s.Args[arg]; ok {
				out, several = append(out, engine.DecodeList(list)...), true
			}
		}
		for _, text := range []string{s.Statement, s.Undo, s.Repair} {
			if text != "" && !several && s.Kind != change.ClearSessions {
				out = append(out, text)
			}
		}
	}
	return out
}

// QuotedWhole checks that a quoted name is one token in a statement, whatever the
// name: what stands behind it is still seen as a second command.
func QuotedWhole(t *testing.T, commands func(string) (int, error), quoted string) {
	t.Helper()
	if n, err := commands("SELECT " + quoted); n != 1 || err != nil {
		t.Errorf("%s: %d commands, %v", quoted, n, err)
	}
	if n, err := commands("SELECT " + quoted + "; SELECT 2"); n != 2 || err != nil {
		t.Errorf("%s swallows what follows: %d commands, %v", quoted, n, err)
	}
	if strings.TrimSpace(quoted) == "" {
		t.Error("an empty quotation")
	}
}

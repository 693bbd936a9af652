package catalog

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
)

// Values are what was asked for, or what was read, by the names of an engine's
// fields. What is absent was not asked for, or is not known. Each value is one of
// five kinds, whatever it came from: string, int64, bool, []string, and []Values
// for the rows of a table.
type Values map[string]any

// Has reports whether there is a value.
func (v Values) Has(name string) bool { _, ok := v[name]; return ok }

// Text is a value of the kind string; empty if there is none.
func (v Values) Text(name string) string { s, _ := v[name].(string); return s }

// Int is a value of the kind int64.
func (v Values) Int(name string) (n int64, ok bool) { n, ok = v[name].(int64); return n, ok }

// Bool is a value of the kind bool; false if there is none.
func (v Values) Bool(name string) bool { b, _ := v[name].(bool); return b }

// List is a value of the kind []string.
func (v Values) List(name string) []string { l, _ := v[name].([]string); return l }

// Rows is a value of the kind []Values.
func (v Values) Rows(name string) []Values { r, _ := v[name].([]Values); return r }

// Names lists what there is, sorted.
func (v Values) Names() []string { return slices.Sorted(maps.Keys(v)) }

// With is a copy with one value more. A value that is nil, or empty, adds nothing.
func (v Values) With(name string, value any) Values {
	out := maps.Clone(v)
	if out == nil {
		out = Values{}
	}
	if value != nil && value != "" {
		out[name] = value
	}
	return out
}

// Put adds a value where nobody else has these yet. One that is nil, or empty, adds nothing.
func (v Values) Put(name string, value any) {
	if value != nil && value != "" {
		v[name] = value
	}
}

// UnmarshalJSON reads an object, and refuses what is none of the five kinds.
func (v *Values) UnmarshalJSON(text []byte) error {
	d := json.NewDecoder(bytes.NewReader(text))
	d.UseNumber()
	var raw map[string]any
	if err := d.Decode(&raw); err != nil {
		return err
	}
	out, err := ValuesOf(raw)
	*v = out
	return err
}

// ValuesOf turns what was decoded from JSON into values. A number is a
// [json.Number], or a float64 that is a whole number.
func ValuesOf(raw map[string]any) (Values, error) {
	if raw == nil {
		return nil, nil
	}
	out := make(Values, len(raw))
	for name, x := range raw {
		value, err := valueOf(x)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", name, err)
		}
		out[name] = value
	}
	return out, nil
}

func valueOf(x any) (any, error) {
	switch x := x.(type) {
	case string, bool:
		return x, nil
	case json.Number:
		n, err := strconv.ParseInt(x.String(), 10, 64)
		if err != nil {
			return nil, fmt.Errorf("%s is no whole number", x)
		}
		return n, nil
	case float64:
		if n := int64(x); float64(n) == x {
			return n, nil
		}
		return nil, fmt.Errorf("%v is no whole number", x)
	case []any:
		return listOf(x)
	}
	return nil, fmt.Errorf("%v is neither a text, a number, yes or no, a list nor a table", x)
}

func listOf(list []any) (any, error) {
	texts, rows := []string{}, []Values{}
	for _, e := range list {
		switch e := e.(type) {
		case string:
			texts = append(texts, e)
		case map[string]any:
			row, err := ValuesOf(e)
			if err != nil {
				return nil, err
			}
			rows = append(rows, row)
		default:
			return nil, fmt.Errorf("%v is neither a text nor a row", e)
		}
	}
	switch {
	case len(rows) == 0:
		return texts, nil
	case len(texts) == 0:
		return rows, nil
	}
	return nil, errors.New("texts and rows stand together in one list")
}

// WriteValue writes a value for people, as a brief and a list show it.
func WriteValue(value any) string {
	switch x := value.(type) {
	case nil:
		return ""
	case bool:
		if x {
			return "yes"
		}
		return "no"
	case []string:
		return strings.Join(x, ", ")
	case []Values:
		var rows []string
		for _, row := range x {
			var cells []string
			for _, name := range row.Names() {
				cells = append(cells, name+" "+WriteValue(row[name]))
			}
			rows = append(rows, strings.Join(cells, ", "))
		}
		return strings.Join(rows, "; ")
	}
	return fmt.Sprint(value)
}

package engine

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

// Type says what kind of value a field has.
type Type string

// The types. Text, Long (several lines) and Pick are strings; Size is a number of
// bytes; List is texts; Table is rows of columns.
const (
	Text   Type = "text"
	Long   Type = "long"
	Pick   Type = "pick" // one of Values, or of the choices From
	Number Type = "number"
	Size   Type = "size"
	Yes    Type = "bool"
	List   Type = "list"
	Table  Type = "table"
)

// Show says where a property is shown.
type Show string

// Where. An option that is Nowhere is no property: it says how something is done, once.
const (
	Nowhere  Show = ""
	InDetail Show = "detail"
	InList   Show = "list"
)

// Field is one option, one property, or both: the same name means the same value
// wherever it is asked for or read.
type Field struct {
	Name    string `json:"name"` // in JSON, in --set, in a brief: lower-case letters and _
	Title   string `json:"title"`
	Decides string `json:"decides,omitempty"` // one line, as in a form's help and a brief
	Type    Type   `json:"type"`
	// Values are the only ones that a Pick can have; for a Number or Size, words that
	// can stand in its place ("none").
	Values []Value `json:"values,omitempty"`
	// From is the key of the choices that are offered. A Pick has to be one of them, or
	// with Free is cautioned about when it is not; for a Text they are suggestions.
	From string `json:"from,omitempty"`
	Free bool   `json:"free,omitempty"`
	// By is the option whose value narrows the choices: those whose For is another one
	// are left out. With is the option without which this one means nothing.
	By   string `json:"by,omitempty"`
	With string `json:"with,omitempty"`
	// Columns are a table's; Key is the column that tells its rows apart.
	Columns []Field `json:"columns,omitempty"`
	Key     string  `json:"key,omitempty"`
	// In are the kinds of intents that take it; none: it can only be read.
	In       []change.Kind `json:"in,omitempty"`
	Required bool          `json:"required,omitempty"`
	// For are the kinds of principals that have it; none: all.
	For []string `json:"for,omitempty"`
	// Default says in words what holds when it is not asked for.
	Default string `json:"default,omitempty"`
	// Fixed says what to do instead of altering it, where it is settled for good when
	// the object is made.
	Fixed string `json:"fixed,omitempty"`
	// Careful says what is open to others while a Yes of a registration is on.
	Careful string `json:"careful,omitempty"`
	// Alone: nobody else may be in the database while it is altered.
	Alone bool   `json:"alone,omitempty"`
	Since string `json:"since,omitempty"`
	Show  Show   `json:"show,omitempty"`
	// Group is the part of a form; an option that has one is folded away at first.
	Group string `json:"group,omitempty"`
	Min   *int64 `json:"min,omitempty"`
	Max   *int64 `json:"max,omitempty"` // of a text: characters
}

// Value is one that a field can have.
type Value struct {
	Name  string `json:"name"`
	Title string `json:"title,omitempty"`
	Since string `json:"since,omitempty"`
}

// Titled makes values of names that say it all.
func Titled(names ...string) []Value {
	var out []Value
	for _, n := range names {
		out = append(out, Value{Name: n})
	}
	return out
}

// N is a bound of a field.
func N(n int64) *int64 { return &n }

// The kinds that most fields are for.
var (
	AtCreate = []change.Kind{change.CreateDatabase}
	AtBoth   = []change.Kind{change.CreateDatabase, change.AlterDatabase}

	AtAccountBoth = []change.Kind{change.CreateAccount, change.AlterAccount}
)

// More is the title of the folded part of a form.
const More = "More settings"

// Parse checks one value, and writes it as its type says: a text "64 MB" becomes a
// number of bytes.
func (f Field) Parse(value any) (any, error) {
	switch f.Type {
	case Number, Size:
		return f.number(value)
	case Yes:
		switch value {
		case true, "true", "yes", "on":
			return true, nil
		case false, "false", "no", "off":
			return false, nil
		}
		return nil, fmt.Errorf("%s is neither yes nor no", catalog.WriteValue(value))
	case List:
		return f.list(value)
	case Table:
		rows, ok := value.([]catalog.Values)
		if l, isList := value.([]string); !ok && (!isList || len(l) > 0) {
			return nil, fmt.Errorf("%s is no table of %s", catalog.WriteValue(value),
				strings.Join(f.columnNames(), ", "))
		}
		return f.rows(rows)
	}
	return f.text(value)
}

func (f Field) text(value any) (any, error) {
	s, ok := value.(string)
	switch {
	case !ok:
		return nil, fmt.Errorf("%s is no text", catalog.WriteValue(value))
	case f.Max != nil && int64(len([]rune(s))) > *f.Max:
		return nil, fmt.Errorf("it has %d characters; at most %d fit", len([]rune(s)), *f.Max)
	case f.Type != Pick || f.From != "" || f.Free:
		return s, nil
	}
	i := slices.IndexFunc(f.Values, func(v Value) bool { return strings.EqualFold(v.Name, s) })
	if i < 0 {
		return nil, fmt.Errorf("there is no %q; there are %s", s, strings.Join(f.words(), ", "))
	}
	return f.Values[i].Name, nil
}

func (f Field) list(value any) (any, error) {
	list, ok := value.([]string)
	if s, one := value.(string); one {
		list, ok = strings.Split(s, ","), true
	}
	if !ok {
		return nil, fmt.Errorf("%s is no list", catalog.WriteValue(value))
	}
	if len(list) > MaxList {
		return nil, fmt.Errorf("%d are too many; at most %d", len(list), MaxList)
	}
	return list, nil
}

// MaxList bounds the members of a list and the rows of a table.
const MaxList = 200

func (f Field) words() []string {
	var out []string
	for _, v := range f.Values {
		out = append(out, v.Name)
	}
	return out
}

func (f Field) number(value any) (any, error) {
	n, ok := value.(int64)
	if s, isText := value.(string); isText {
		if slices.Contains(f.words(), s) {
			return s, nil
		}
		var err error
		if n, err = parseNumber(s, f.Type == Size); err != nil {
			return nil, err
		}
		ok = true
	}
	switch {
	case !ok:
		return nil, fmt.Errorf("%s is no number", catalog.WriteValue(value))
	case f.Min != nil && n < *f.Min, f.Max != nil && n > *f.Max:
		return nil, fmt.Errorf("%d is out of bounds%s", n, f.bounds())
	}
	return n, nil
}

func (f Field) bounds() string {
	text := ""
	if f.Min != nil {
		text += fmt.Sprintf("; at least %d", *f.Min)
	}
	if f.Max != nil {
		text += fmt.Sprintf("; at most %d", *f.Max)
	}
	if len(f.Values) > 0 {
		text += "; or " + strings.Join(f.words(), ", ")
	}
	return text
}

// ParseSize reads a size, as "64 MB".
func ParseSize(text string) (int64, error) { return parseNumber(text, true) }

// parseNumber reads 64, and with size "64 MB", "1.5GiB": all sizes are binary.
func parseNumber(text string, size bool) (int64, error) {
	digits := strings.TrimRight(text, " KMGTPBkmgtpib")
	unit := strings.ToUpper(strings.TrimSpace(text[len(digits):]))
	if unit == "" || !size {
		n, err := strconv.ParseInt(strings.TrimSpace(text), 10, 64)
		if err != nil {
			return 0, fmt.Errorf("%q is no number", text)
		}
		return n, nil
	}
	power := strings.Index("BKMGTP", unit[:1])
	n, err := strconv.ParseFloat(strings.TrimSpace(digits), 64)
	bytes := n * float64(int64(1)<<(10*max(power, 0)))
	if err != nil || power < 0 || bytes < 0 || bytes >= 1<<63 {
		return 0, fmt.Errorf("%q is no size; write 64 MB", text)
	}
	return int64(bytes), nil
}

func (f Field) rows(rows []catalog.Values) (any, error) {
	if len(rows) > MaxList {
		return nil, fmt.Errorf("%d rows are too many; at most %d", len(rows), MaxList)
	}
	seen := map[string]bool{}
	out := make([]catalog.Values, 0, len(rows))
	for i, row := range rows {
		clean := catalog.Values{}
		for _, name := range row.Names() {
			c := slices.IndexFunc(f.Columns, func(c Field) bool { return c.Name == name })
			if c < 0 {
				return nil, fmt.Errorf("row %d has no column %s; there are %s", i+1, name,
					strings.Join(f.columnNames(), ", "))
			}
			value, err := f.Columns[c].Parse(row[name])
			if err != nil {
				return nil, fmt.Errorf("row %d, %s: %w", i+1, name, err)
			}
			clean[name] = value
		}
		for _, c := range f.Columns {
			if c.Required && !clean.Has(c.Name) {
				return nil, fmt.Errorf("row %d needs %s", i+1, c.Name)
			}
		}
		if key := clean.Text(f.Key); f.Key != "" {
			if seen[key] {
				return nil, fmt.Errorf("two rows have the %s %s", f.Key, key)
			}
			seen[key] = true
		}
		out = append(out, clean)
	}
	return out, nil
}

func (f Field) columnNames() []string {
	var out []string
	for _, c := range f.Columns {
		out = append(out, c.Name)
	}
	return out
}

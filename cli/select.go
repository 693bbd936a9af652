package cli

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/dustin/go-humanize"
	"github.com/urfave/cli/v3"
)

// listFlags are the flags of a command that lists: the form of the result, and which rows
// and columns of it.
func listFlags(more ...cli.Flag) []cli.Flag {
	return append([]cli.Flag{outputFlag(),
		&cli.StringSliceFlag{Name: "columns",
			Usage: "only these columns, by their `NAMES` with commas between; with json and yaml, rows of these"},
		&cli.StringSliceFlag{Name: "sort", Usage: "by these columns, by their `NAMES`; -NAME: descending"},
		&cli.GenericFlag{Name: "where", Value: &texts{},
			Usage: "only rows in which it holds: `NAME=VALUE`, also with !=, <, <=, >, >=, and ~ for a part of it; " +
				"given twice, both have to hold"}}, more...)
}

// limitFlag bounds how many rows are read.
func limitFlag(most int) cli.Flag {
	return &cli.IntFlag{Name: "limit", Value: most, Usage: "maximum number of rows to read"}
}

// sayBounded says that a list was not read to its end. Conditions and the order apply to
// what was read, so it is said in every form of output.
func (a app) sayBounded(read, total int) {
	if read < total {
		a.say("Only %d of %d were read, and only these are searched and sorted; see --limit.", read, total)
	}
}

// selected reports whether rows or columns were chosen.
func selected(c *cli.Command) bool {
	where, _ := c.Generic("where").(*texts)
	return c.IsSet("columns") || c.IsSet("sort") || where != nil && len(*where) > 0
}

// name is how a column is called in options, in CSV and in JSON.
func (c column[T]) name() string { return strings.ReplaceAll(strings.ToLower(c.title), " ", "_") }

// value is a row's exact text in a column.
func (c column[T]) value(row T) string {
	if c.exact != nil {
		return c.exact(row)
	}
	return c.text(row)
}

// choose applies --where, --sort and --columns.
func choose[T any](c *cli.Command, rows []T, columns []column[T]) ([]T, []column[T], error) {
	byName := map[string]column[T]{}
	for _, col := range columns {
		byName[col.name()] = col
	}
	if _, there := byName["name"]; !there && len(columns) > 0 {
		byName["name"] = columns[0] // what a row is called
	}
	find := func(name string) (column[T], error) {
		col, known := byName[strings.ReplaceAll(strings.ToLower(strings.TrimSpace(name)), " ", "_")]
		if !known {
			return col, usage("There is no column %q; there are %s.", name,
				strings.Join(slices.Sorted(maps.Keys(byName)), ", "))
		}
		return col, nil
	}
	rows = slices.Clone(rows)
	where, _ := c.Generic("where").(*texts)
	if where != nil {
		for _, text := range *where {
			name, op, want, err := condition(text)
			if err != nil {
				return nil, nil, err
			}
			col, err := find(name)
			if err != nil {
				return nil, nil, err
			}
			rows = slices.DeleteFunc(rows, func(row T) bool { return !holds(col.value(row), op, want) })
		}
	}
	by := c.StringSlice("sort")
	for _, name := range slices.Backward(by) {
		name, descending := strings.CutPrefix(name, "-")
		col, err := find(name)
		if err != nil {
			return nil, nil, err
		}
		slices.SortStableFunc(rows, func(x, y T) int {
			order := compareTexts(col.value(x), col.value(y))
			if descending && col.value(x) != "" && col.value(y) != "" {
				return -order
			}
			return order
		})
	}
	if !c.IsSet("columns") {
		return rows, slices.DeleteFunc(slices.Clone(columns), func(col column[T]) bool { return col.asked }), nil
	}
	var chosen []column[T]
	for _, name := range c.StringSlice("columns") {
		col, err := find(name)
		if err != nil {
			return nil, nil, err
		}
		col.chosen = true
		chosen = append(chosen, col)
	}
	return rows, chosen, nil
}

// operators are what can stand between a column and a value; the longer ones first.
var operators = []string{"!=", "<=", ">=", "=", "<", ">", "~"}

// condition reads NAME=VALUE and its like.
func condition(text string) (name, op, value string, err error) {
	at := strings.IndexAny(text, "!=<>~")
	if at > 0 {
		for _, op := range operators {
			if strings.HasPrefix(text[at:], op) {
				return text[:at], op, text[at+len(op):], nil
			}
		}
	}
	return "", "", "", usage("Write a condition as --where NAME=VALUE, or with %s, not %q.",
		strings.Join(operators, " "), text)
}

// holds reports whether a value fits. Texts are compared without case; of what is not
// known nothing holds but that it is another.
func holds(value, op, want string) bool {
	if (value == unknown || value == "") && strings.ContainsAny(op, "<>") {
		return false
	}
	order := compareTexts(value, want)
	switch op {
	case "=":
		return order == 0
	case "!=":
		return order != 0
	case "<":
		return order < 0
	case "<=":
		return order <= 0
	case ">":
		return order > 0
	case ">=":
		return order >= 0
	}
	return strings.Contains(strings.ToLower(value), strings.ToLower(want))
}

// compareTexts puts numbers and sizes by what they come to, and texts by the alphabet
// without case; what is empty or not known comes last.
func compareTexts(x, y string) int {
	none := func(s string) int {
		if s == "" || s == unknown {
			return 1
		}
		return 0
	}
	if order := cmp.Compare(none(x), none(y)); order != 0 {
		return order
	}
	a, aNumber := number(x)
	b, bNumber := number(y)
	if aNumber && bNumber {
		return cmp.Compare(a, b)
	}
	return strings.Compare(strings.ToLower(x), strings.ToLower(y))
}

// number reads a number, or a size with its unit: 20 GiB.
func number(text string) (float64, bool) {
	if n, err := strconv.ParseFloat(text, 64); err == nil {
		return n, true
	}
	if text == "" || text[0] < '0' || text[0] > '9' {
		return 0, false
	}
	if n, err := humanize.ParseBytes(text); err == nil {
		return float64(n), true
	}
	return 0, false
}

// asObjects is the rows as objects of their columns, for JSON and YAML.
func asObjects[T any](rows []T, columns []column[T]) []map[string]any {
	out := []map[string]any{}
	for _, row := range rows {
		object := map[string]any{}
		for _, col := range columns {
			var value any = col.value(row)
			if n, err := strconv.ParseInt(fmt.Sprint(value), 10, 64); err == nil && col.right {
				value = n
			}
			object[col.name()] = value
		}
		out = append(out, object)
	}
	return out
}

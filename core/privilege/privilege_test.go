package privilege

import (
	"fmt"
	"slices"
	"testing"
)

// large fills a table to the brim: the names of a word's edges are in it.
func large() *Table {
	var names []string
	for i := range MaxNames {
		names = append(names, fmt.Sprintf("RIGHT %d", i))
	}
	return NewTable(names...)
}

func TestNames(t *testing.T) {
	table := NewTable("SELECT", "CREATE TEMPORARY TABLES", "TEMPORARY=TEMP", "SHOW VIEW")
	for text, want := range map[string]string{" create   temporary tables ": "CREATE TEMPORARY TABLES",
		"temp": "TEMPORARY", "Show view": "SHOW VIEW", "select": "SELECT"} {
		if got, ok := table.Named(text); !ok || got.String() != want {
			t.Errorf("%q reads as %q; want %s", text, got, want)
		}
	}
	for _, text := range []string{"", "FLY", "SELECT, SHOW VIEW", "SELECT;"} {
		if s, ok := table.Named(text); ok {
			t.Errorf("%q passes for %s", text, s)
		}
	}
	if s, err := table.Parse([]string{"temp", "select"}); err != nil || s.String() != "SELECT, TEMPORARY" {
		t.Errorf("parsed as %s, %v", s, err)
	}
	if _, err := table.Parse([]string{"select", "fly"}); err == nil {
		t.Error("fly passes for a privilege")
	}
	if all := table.All().Names(); !slices.Equal(all, table.Names()) || len(all) != 4 {
		t.Errorf("all are %v", all)
	}
	for _, names := range [][]string{{"A", "A"}, {"A=B", "B"}, {"a"}, {""}} {
		func() {
			defer func() { _ = recover() }()
			NewTable(names...)
			t.Errorf("%v make a table", names)
		}()
	}
}

// TestSets holds the algebra to that of lists, over every pair of a full table.
func TestSets(t *testing.T) {
	table := large()
	names := table.Names()
	some := func(every, from int) (Set, []string) {
		var list []string
		for i := from; i < len(names); i += every {
			list = append(list, names[i])
		}
		return table.Of(list...), list
	}
	for _, x := range [][2]int{{1, 0}, {2, 0}, {2, 1}, {63, 62}, {64, 63}, {97, 5}, {1000, 253}} {
		for _, y := range [][2]int{{1, 0}, {3, 1}, {64, 0}, {65, 1}, {1000, 192}} {
			a, in := some(x[0], x[1])
			b, also := some(y[0], y[1])
			both, only := []string{}, []string{}
			for _, name := range in {
				if slices.Contains(also, name) {
					both = append(both, name)
				} else {
					only = append(only, name)
				}
			}
			if got := a.And(b); !slices.Equal(got.Names(), both) || a.Any(b) != (len(both) > 0) ||
				got.Empty() != (len(both) == 0) {
				t.Errorf("%v and %v: %v", x, y, got)
			}
			if got := a.Minus(b); !slices.Equal(got.Names(), only) || b.Has(a) != (len(only) == 0) {
				t.Errorf("%v without %v: %v", x, y, got)
			}
			if got := a.Minus(b).Or(a.And(b)); got != a {
				t.Errorf("%v taken apart and put together is %v", x, got)
			}
			if a.Or(b) != b.Or(a) || !a.Or(b).Has(a) {
				t.Errorf("%v or %v: %v", x, y, a.Or(b))
			}
		}
	}
}

func TestOwning(t *testing.T) {
	table := large()
	all := table.All()
	if all.Any(Own.Or(Below)) || Own.Or(Below).String() != "" || len(Own.Or(table.Of("RIGHT 253")).Names()) != 1 {
		t.Error("owning an object passes for a privilege that can be granted")
	}
	if Own.Or(all).Minus(all) != Own || Own.Or(all).Granted() != all || !Own.Granted().Empty() {
		t.Error("sets of the same privileges are not equal")
	}
	if (Set{}) != all.And(Own) || (Set{}) != all.Minus(all) {
		t.Error("there are two empty sets")
	}
	defer func() {
		if recover() == nil {
			t.Error("privileges of two engines are in one set")
		}
	}()
	all.Or(NewTable("SELECT").All())
}

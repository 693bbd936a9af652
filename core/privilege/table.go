package privilege

import (
	"fmt"
	"slices"
	"strings"
)

// Table has the privileges of one engine by name.
type Table struct {
	names []string
	by    map[string]int
	all   Set
}

// NewTable makes a table of names, in the order in which sets list them. NAME=OTHER
// says that a privilege is also known as OTHER. It panics on what cannot be: tables
// are constants.
func NewTable(names ...string) *Table {
	t := &Table{by: make(map[string]int, len(names))}
	if len(names) > MaxNames {
		panic(fmt.Sprintf("%d privileges, and a set holds %d", len(names), MaxNames))
	}
	for i, entry := range names {
		for j, name := range strings.Split(entry, "=") {
			if _, twice := t.by[name]; twice || name != normal(name) || name == "" {
				panic(fmt.Sprintf("the privilege %q stands twice in a table, or is not written as it has to be", name))
			}
			t.by[name] = i
			if j == 0 {
				t.names = append(t.names, name)
			}
		}
	}
	for i := range t.names {
		t.all.Add(t.at(i))
	}
	return t
}

// normal is how a name stands in a table.
func normal(name string) string { return strings.ToUpper(strings.Join(strings.Fields(name), " ")) }

func (t *Table) at(i int) Set {
	s := Set{table: t}
	s.bits[i/64] = 1 << (i % 64)
	return s
}

// All is every privilege of the table.
func (t *Table) All() Set { return t.all }

// Of is the set of some privileges. It panics on a name that the table does not have:
// it is for constants; [Table.Parse] reads what people write.
func (t *Table) Of(names ...string) Set {
	s, err := t.Parse(names)
	if err != nil {
		panic(err)
	}
	return s
}

// Named finds one privilege by its name, in any case. No table has none.
func (t *Table) Named(name string) (Set, bool) {
	if t == nil {
		return Set{}, false
	}
	i, ok := t.by[normal(name)]
	if !ok {
		return Set{}, false
	}
	return t.at(i), true
}

// Parse reads names; the error says which one is no privilege.
func (t *Table) Parse(list []string) (Set, error) {
	var out Set
	for _, name := range list {
		s, ok := t.Named(name)
		if !ok {
			return Set{}, fmt.Errorf("there is no privilege %q", name)
		}
		out.Add(s)
	}
	return out, nil
}

// Names lists the names of all privileges.
func (t *Table) Names() []string { return slices.Clone(t.names) }

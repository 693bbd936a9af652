package privilege

import (
	"slices"
	"testing"
)

func TestNames(t *testing.T) {
	if got := All.Names(); len(got) != len(names) || slices.Contains(got, "") {
		t.Errorf("%d names for all privileges: %v", len(got), got)
	}
	for i, name := range names {
		if s, ok := Named(name); !ok || s != 1<<i || s.String() != name {
			t.Errorf("%s reads as %s", name, s)
		}
	}
	for text, want := range map[string]Set{" create   temporary tables ": CreateTemporaryTables, "temp": Temporary, "Show view": ShowView, "replication client": BinlogMonitor} {
		if got, ok := Named(text); !ok || got != want {
			t.Errorf("%q reads as %s; want %s", text, got, want)
		}
	}
	for _, text := range []string{"", "FLY", "SELECT, INSERT", "SELECT;"} {
		if s, ok := Named(text); ok {
			t.Errorf("%q passes for %s", text, s)
		}
	}
}

func TestSets(t *testing.T) {
	s, err := Parse([]string{"update", "SELECT", "update"})
	if err != nil || s != Select|Update || s.String() != "SELECT, UPDATE" {
		t.Errorf("Parse = %s, %v", s, err)
	}
	if _, err := Parse([]string{"SELECT", "FLY"}); err == nil {
		t.Error("FLY passes")
	}
	if !s.Has(Select) || s.Has(Select|Insert) || !s.Has(0) {
		t.Error("Has")
	}
	// What stands beside the privileges is none that could be granted.
	if All&(Own|Below) != 0 || (Own|Below).String() != "" || len((Own|Select).Names()) != 1 {
		t.Error("Own or Below passes for a privilege")
	}
}

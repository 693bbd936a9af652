package cli

import (
	"bytes"
	"context"
	"strings"
	"testing"

	"charm.land/lipgloss/v2"
	ucli "github.com/urfave/cli/v3"
)

type row struct {
	name string
	n    int64
}

var columns = []column[row]{
	{title: "name", text: func(r row) string { return r.name }},
	{title: "size", text: func(r row) string { return sizeText(r.n) },
		exact: func(r row) string { return numberText(&r.n) }, right: true},
	{title: "never said", text: func(row) string { return "" }},
}

// printed runs print as a command does.
func printed(t *testing.T, form string, rows []row) string {
	t.Helper()
	var out bytes.Buffer
	a := app{Streams{Out: newTerminal(&out), Err: newTerminal(&out)}}
	c := &ucli.Command{Flags: []ucli.Flag{outputFlag()}, Action: func(_ context.Context, c *ucli.Command) error {
		return print(a, c, map[string]any{"rows": len(rows)}, rows, columns)
	}}
	if err := c.Run(t.Context(), []string{"x", "-o", form}); err != nil {
		t.Fatal(err)
	}
	return out.String()
}

func TestPrint(t *testing.T) {
	rows := []row{{"tickets_prod", 9551872}, {"日本", 0}, {"new\nline \x1b[31m", 1023}}
	for form, want := range map[string]string{
		"table": "NAME                         SIZE\ntickets_prod             9.11 MiB\n日本                          0 B\nnew\\u{a}line \\u{1b}[31m    1023 B\n",
		"csv":   "name,size,never_said\ntickets_prod,9551872,\n日本,0,\n\"new\nline \\u{1b}[31m\",1023,\n",
		"json":  "{\n  \"rows\": 3\n}\n",
		"yaml":  "rows: 3\n",
	} {
		if got := printed(t, form, rows); got != want {
			t.Errorf("-o %s:\n%q\nwant\n%q", form, got, want)
		}
	}
	if got := printed(t, "table", nil); got != "" {
		t.Errorf("an empty table prints %q", got)
	}
	for _, line := range strings.Split(printed(t, "table", rows), "\n") {
		if strings.Contains(line, "\x1b") || lipgloss.Width(line) > 40 {
			t.Errorf("a line in a pipe: %q", line)
		}
	}
}

func TestSizeText(t *testing.T) {
	for n, want := range map[int64]string{0: "0 B", 1023: "1023 B", 1024: "1.00 KiB", 10240: "10.0 KiB",
		1 << 20: "1.00 MiB", 123 << 30: "123 GiB", 1 << 60: "1024 PiB"} {
		if got := sizeText(n); got != want {
			t.Errorf("sizeText(%d) = %s; want %s", n, got, want)
		}
	}
}

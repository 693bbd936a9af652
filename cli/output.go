package cli

import (
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"time"
	"unicode/utf16"

	"charm.land/lipgloss/v2"
	"charm.land/lipgloss/v2/table"
	"github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"
	"golang.org/x/term"
)

// outputFlag chooses the form of a result.
func outputFlag() cli.Flag {
	return &cli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "table, json, yaml or csv", Value: "table",
		Validator: func(v string) error {
			switch v {
			case "table", "json", "yaml", "csv":
				return nil
			}
			return fmt.Errorf("the output is one of table, json, yaml, csv, not %q", v)
		}}
}

// column is one column of a result: its title, its text for a row, and the
// exact value for CSV where the text is rounded.
type column[T any] struct {
	title string
	text  func(T) string
	exact func(T) string
	right bool // numbers are aligned to the right
	// asked: shown only when it is asked for; chosen: it was, so it is shown even if empty.
	asked, chosen bool
}

// print writes a list in the form asked for. whole is what JSON and YAML show, unless rows
// or columns were chosen: then they show those.
func print[T any](a app, c *cli.Command, whole any, rows []T, columns []column[T]) error {
	chosen := selected(c)
	rows, columns, err := choose(c, rows, columns)
	if err != nil {
		return err
	}
	switch {
	case c.IsSet("columns"):
		whole = asObjects(rows, columns)
	case chosen:
		whole = rows
	}
	switch c.String("output") {
	case "json":
		return a.printJSON(whole)
	case "yaml":
		return a.printYAML(whole)
	case "csv":
		return printCSV(a, rows, columns)
	}
	if len(rows) == 0 {
		return nil
	}
	return printTable(a, rows, columns)
}

// printJSON writes JSON in which hidden characters are escaped, not only those that
// JSON itself asks for.
func (a app) printJSON(whole any) error {
	var text strings.Builder
	enc := json.NewEncoder(&text)
	enc.SetIndent("", "  ")
	enc.SetEscapeHTML(false)
	if err := enc.Encode(whole); err != nil {
		return err
	}
	_, err := io.WriteString(a.Out, escapeHidden(text.String(), jsonEscape))
	return err
}

// jsonEscape and yamlEscape write a character as the two forms do.
func jsonEscape(r rune) string {
	if r > 0xffff {
		high, low := utf16.EncodeRune(r)
		return fmt.Sprintf("\\u%04x\\u%04x", high, low)
	}
	return fmt.Sprintf("\\u%04x", r)
}

func yamlEscape(r rune) string { return fmt.Sprintf("\\U%08x", r) }

// escapeHidden writes hidden characters of JSON, or of double-quoted YAML, as
// their escapes. Outside of strings there are none.
func escapeHidden(text string, escape func(rune) string) string {
	var b strings.Builder
	for _, r := range text {
		if r == '\n' || !hidden(r) {
			b.WriteRune(r)
		} else {
			b.WriteString(escape(r))
		}
	}
	return b.String()
}

// printYAML goes through JSON, so that both forms have the same names.
func (a app) printYAML(whole any) error {
	text, err := json.Marshal(whole)
	if err != nil {
		return err
	}
	var node yaml.Node
	if err := yaml.Unmarshal([]byte(escapeHidden(string(text), yamlEscape)), &node); err != nil {
		return err
	}
	plainStyle(&node)
	var out strings.Builder
	enc := yaml.NewEncoder(&out)
	enc.SetIndent(2)
	if err := enc.Encode(&node); err != nil {
		return err
	}
	if err := enc.Close(); err != nil {
		return err
	}
	_, err = io.WriteString(a.Out, escapeHidden(out.String(), yamlEscape))
	return err
}

// plainStyle drops JSON's braces and needless quotes; what holds a hidden character
// keeps them, for only there it can be escaped.
func plainStyle(n *yaml.Node) {
	n.Style = 0
	if strings.ContainsFunc(n.Value, hidden) {
		n.Style = yaml.DoubleQuotedStyle
	}
	for _, c := range n.Content {
		plainStyle(c)
	}
}

func printCSV[T any](a app, rows []T, columns []column[T]) error {
	w := csv.NewWriter(a.Out)
	record := make([]string, len(columns))
	for i, col := range columns {
		record[i] = col.name()
	}
	w.Write(record)
	for _, row := range rows {
		for i, col := range columns {
			record[i] = noFormula(col.value(row))
		}
		w.Write(record)
	}
	w.Flush()
	return w.Error()
}

// noFormula keeps a spreadsheet from running a name as a formula: it takes a text
// that begins with one of these for one, unless it is a number.
func noFormula(text string) string {
	if text == "" || !strings.ContainsRune("=+-@\t\r", rune(text[0])) {
		return text
	}
	if _, err := strconv.ParseFloat(text, 64); err == nil {
		return text
	}
	return "'" + text
}

// printTable writes a table that fits the terminal; in a pipe nothing is cut.
func printTable[T any](a app, rows []T, columns []column[T]) error {
	cell := lipgloss.NewStyle().PaddingRight(2)
	// Columns that say nothing in any row are left out.
	var shown []column[T]
	for i, col := range columns {
		said := i == 0 || col.chosen
		for _, row := range rows {
			said = said || col.text(row) != ""
		}
		if said {
			shown = append(shown, col)
		}
	}
	t := table.New().Border(lipgloss.HiddenBorder()).BorderTop(false).BorderBottom(false).BorderLeft(false).
		BorderRight(false).
		BorderColumn(false).BorderHeader(false).Wrap(false).
		StyleFunc(func(_, col int) lipgloss.Style {
			style := cell
			if shown[col].right {
				style = style.Align(lipgloss.Right)
			}
			return style
		})
	titles := make([]string, len(shown))
	for i, col := range shown {
		titles[i] = bold.Render(visible(strings.ToUpper(col.title)))
	}
	t.Headers(titles...)
	width := 0
	cells := make([][]string, len(rows))
	for r, row := range rows {
		for _, col := range shown {
			cells[r] = append(cells[r], visible(col.text(row)))
		}
	}
	for i := range shown {
		w := lipgloss.Width(titles[i])
		for _, row := range cells {
			w = max(w, lipgloss.Width(row[i]))
		}
		width += w + 2
	}
	if limit := terminalWidth(a.Out); limit > 0 && width > limit {
		t.Width(limit)
	}
	t.Rows(cells...)
	var out strings.Builder
	for line := range strings.Lines(t.String()) {
		out.WriteString(strings.TrimRight(line, " \n") + "\n")
	}
	_, err := fmt.Fprint(a.Out, out.String())
	return err
}

// terminalWidth is that of a terminal; 0 when the output is none.
func terminalWidth(out io.Writer) int {
	if t, ours := out.(*terminal); ours {
		out = t.out
	}
	f, ok := out.(*os.File)
	if !ok || !term.IsTerminal(int(f.Fd())) {
		return 0
	}
	w, _, err := term.GetSize(int(f.Fd()))
	if err != nil || w < 20 {
		return 80
	}
	return w
}

// say writes a line to standard error.
func (a app) say(format string, args ...any) {
	fmt.Fprintln(a.Err, fmt.Sprintf(format, args...))
}

// environmentText is the word of an environment in its colour.
func environmentText(env string) string {
	switch env {
	case "production":
		return strict.Render(env)
	case "staging":
		return calm.Render(env)
	}
	return env
}

// sizeText writes bytes in binary units, three figures.
func sizeText(bytes int64) string {
	units := []string{"B", "KiB", "MiB", "GiB", "TiB", "PiB"}
	v, i := float64(bytes), 0
	for v >= 1024 && i < len(units)-1 {
		v, i = v/1024, i+1
	}
	switch {
	case i == 0:
		return fmt.Sprintf("%d B", bytes)
	case v < 10:
		return fmt.Sprintf("%.2f %s", v, units[i])
	case v < 100:
		return fmt.Sprintf("%.1f %s", v, units[i])
	}
	return fmt.Sprintf("%.0f %s", v, units[i])
}

// timeText is an exact time.
func timeText(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format("2006-01-02 15:04:05Z")
}

func timePtrText(t *time.Time) string {
	if t == nil {
		return ""
	}
	return timeText(*t)
}

// unknown is what stands for a value that the server does not tell.
const unknown = "?"

func numberText[N int | int64](n *N) string {
	if n == nil {
		return unknown
	}
	return fmt.Sprint(*n)
}

func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

package cli

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/urfave/cli/v3"

	"example.com/genarch/api/wire"
)

// otherOptions says how to ask for what has no flag of its own.
const otherOptions = "Other options of the engine: --set NAME=VALUE; genarch engine show ENGINE lists them with their meaning."

// commonOptions have flags of their own: they mean the same on every engine that has
// them. Which they are, GET /engines says too.
var commonOptions = map[string]cli.Flag{
	"owner": &cli.StringFlag{Name: "owner",
		Usage: "who owns it, or where there are no owners who gets all privileges on it"},
	"template": &cli.StringFlag{Name: "template", Usage: "database to copy"},
	"encoding": &cli.StringFlag{Name: "encoding", Aliases: []string{"character-set"},
		Usage: "encoding or character set"},
	"collation":        &cli.StringFlag{Name: "collation", Usage: "how text is sorted and compared"},
	"tablespace":       &cli.StringFlag{Name: "tablespace", Usage: "where on disk"},
	"connection-limit": &cli.StringFlag{Name: "connection-limit", Usage: "sessions at once: a number, or none"},
	"comment":          &cli.StringFlag{Name: "comment", Usage: "a remark that others on the server can read"},
	"expires": &cli.StringFlag{Name: "expires",
		Usage: "until when the password is good: never, or as the engine has it, such as 2027-01-31 or 90d"},
	"locked":      &cli.BoolFlag{Name: "locked", Usage: "sign-in is refused"},
	"reassign-to": &cli.StringFlag{Name: "reassign-to", Usage: "who gets what it owns, where accounts own things"},
}

// optionFlags are some of the common options, and --set for all others.
func optionFlags(names ...string) []cli.Flag {
	var out []cli.Flag
	for _, n := range names {
		// A flag keeps what was given, so each command has its own.
		switch f := commonOptions[n].(type) {
		case *cli.StringFlag:
			own := *f
			out = append(out, &own)
		case *cli.BoolFlag:
			own := *f
			out = append(out, &own)
		}
	}
	return append(out, &cli.GenericFlag{Name: "set",
		Usage: "another option of the engine, as `NAME=VALUE`; given twice, it is a list", Value: &texts{}})
}

// texts are the values of a flag that may be given several times, each as it is: the
// library's own would break them at commas.
type texts []string

// Set adds one.
func (t *texts) Set(text string) error {
	*t = append(*t, text)
	return nil
}

func (t *texts) String() string { return strings.Join(*t, " ") }

// Get is for the library.
func (t *texts) Get() any { return t }

// options reads what optionFlags took. The service knows the types, so all are texts;
// an option that is given twice by --set is a list.
func options(c *cli.Command) (map[string]any, error) {
	out := map[string]any{}
	for flag, kind := range commonOptions {
		if !slices.Contains(c.LocalFlagNames(), flag) || !c.IsSet(flag) {
			continue
		}
		name := strings.ReplaceAll(flag, "-", "_")
		if _, yes := kind.(*cli.BoolFlag); yes {
			out[name] = c.Bool(flag)
		} else {
			out[name] = c.String(flag)
		}
	}
	set, _ := c.Generic("set").(*texts)
	if set == nil {
		set = &texts{}
	}
	for _, text := range *set {
		name, value, ok := strings.Cut(text, "=")
		if !ok || name == "" {
			return nil, usage("Write an option as --set NAME=VALUE, not %q.", text)
		}
		switch had := out[name].(type) {
		case nil:
			out[name] = value
		case string:
			out[name] = []any{had, value}
		case []any:
			out[name] = append(had, value)
		default:
			return nil, usage("%s is given twice: by --%s and by --set.", name, strings.ReplaceAll(name, "_", "-"))
		}
	}
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// property is a property of a database by the name of the engine's field; nil: it
// has none, or it is not known.
func property(d wire.Database, name string) any {
	switch name {
	case "owner":
		return d.Owner
	case "encoding":
		return d.Encoding
	case "collation":
		return d.Collation
	case "comment":
		return d.Comment
	}
	return d.Properties[name]
}

// fieldText writes a property in a list: the default of a rare one says nothing, so
// that a column in which nothing is out of the ordinary is left out.
func fieldText(f wire.Field, value any) string {
	if f.Group != "" && valueText(value) == f.Default {
		return ""
	}
	return typedText(f, value)
}

// typedText writes a value as the type of its field says: a size in its units.
func typedText(f wire.Field, value any) string {
	if size, ok := value.(float64); ok && f.Type == "size" {
		return sizeText(int64(size))
	}
	return valueText(value)
}

// rowText writes a row of a table: of two columns "name = value", of more each with its title.
func rowText(f wire.Field, row any) string {
	values, _ := row.(map[string]any)
	var cells []string
	for i, c := range f.Columns {
		text := visible(typedText(c, values[c.Name]))
		switch {
		case text == "":
			continue
		case i > 0 && len(f.Columns) > 2:
			text = strings.ToLower(c.Title) + " " + text
		}
		cells = append(cells, text)
	}
	if len(f.Columns) > 2 {
		return strings.Join(cells, ", ")
	}
	return strings.Join(cells, " = ")
}

// valueText writes what came as JSON.
func valueText(value any) string {
	switch x := value.(type) {
	case nil:
		return ""
	case bool:
		return yes(x)
	case []any:
		var out []string
		for _, e := range x {
			out = append(out, valueText(e))
		}
		return strings.Join(out, ", ")
	case map[string]any:
		var out []string
		for _, name := range slices.Sorted(maps.Keys(x)) {
			out = append(out, name+" "+valueText(x[name]))
		}
		return strings.Join(out, ", ")
	}
	return fmt.Sprint(value)
}

// addField adds one property of a thing, a line for each row of a table. What it has
// none of is told by the field's own words.
func addField(p *properties, f wire.Field, value any) {
	if f.Show == "" {
		return
	}
	title, rows := strings.ToLower(f.Title), []any{}
	if f.Type == "table" {
		rows, _ = value.([]any)
	}
	for i, row := range rows {
		if i > 0 {
			title = ""
		}
		p.add(title, rowText(f, row))
	}
	text := typedText(f, value)
	switch {
	case len(rows) > 0:
	case text == "" && len(f.In) == 0 || f.Group != "" && text == "":
	case text == "":
		p.add(title, f.Default)
	default:
		p.add(title, visible(text))
	}
}

package engine

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
)

// OptionError is one option that an intent cannot have. It wraps [change.ErrIntent].
type OptionError struct {
	Engine catalog.Engine
	Part   change.Part
	Option string
	Text   string
	Next   string
	// Actions are ways to do what Next says.
	Actions []remedy.Action
	// Suggestion is the name that was probably meant; empty: there is none.
	Suggestion string
}

// Error says what is wrong with the option.
func (e *OptionError) Error() string { return e.Text }

// Unwrap says that the intent is malformed.
func (e *OptionError) Unwrap() error { return change.ErrIntent }

// CheckIntent is what is done with every intent before a server is read: its own
// check, and every option by name, type and value, against what the engine says of
// itself. It comes back with the values as their types say: sizes as bytes, words as
// the engine writes them. Whether the engine has such an intent at all is a finding
// of the brief.
func CheckIntent(in change.Intent, d *Description) (change.Intent, error) {
	if err := in.Check(); err != nil {
		return in, err
	}
	if d.Intents[in.Kind].Why != "" {
		return in, nil
	}
	// The intent is the caller's: each part that has options is copied.
	var errs []error
	in, err := placed(in, d)
	errs = append(errs, err)
	check := func(part change.Part, options *catalog.Values) {
		checked, err := checkOptions(in, d, part, *options)
		*options = checked
		errs = append(errs, err)
	}
	if in.Database != nil {
		own := *in.Database
		in.Database = &own
		check(change.PartDatabase, &own.Options)
	}
	if in.Account != nil {
		own := *in.Account
		in.Account = &own
		check(change.PartAccount, &own.Options)
	}
	if in.Member != nil {
		own := *in.Member
		in.Member = &own
		check(change.PartMember, &own.Options)
	}
	if in.Grant != nil {
		if _, err := d.Table.Parse(in.Grant.Privileges); err != nil {
			errs = append(errs, fmt.Errorf("%w: %w", change.ErrIntent, err))
		}
		own := *in.Grant
		in.Grant = &own
		check(change.PartGrant, &own.Options)
	}
	if in.Clearing != nil {
		own := *in.Clearing
		in.Clearing = &own
		check(change.PartClearing, &own.Options)
	}
	return in, errors.Join(errs...)
}

// seeEngine is the next step of whoever asked for what there is not.
const seeEngine = "See what the engine has."

func showEngine(d *Description) []remedy.Action {
	return []remedy.Action{remedy.Command("engine.show", string(d.ID))}
}

// placed says of accounts that lie in databases in which one: that of a grant, when
// nothing else was said.
func placed(in change.Intent, d *Description) (change.Intent, error) {
	if _, roles := d.Principal(true); in.Account != nil && in.Account.Role && !roles {
		return in, fmt.Errorf("%w: %s has no roles", change.ErrIntent, d.Title)
	}
	if a := in.Account; a != nil {
		everywhere, inside := d.places(a.Role)
		switch {
		case a.Database == "" && !everywhere:
			return in, fmt.Errorf("%w: on %s an account lies in a database: say which, SERVER/DATABASE/account:NAME",
				change.ErrIntent, d.Title)
		case a.Database != "" && !inside:
			return in, fmt.Errorf("%w: on %s an account is the whole server's: SERVER/account:NAME", change.ErrIntent,
				d.Title)
		case in.Kind == change.CreateAccount && a.Password == change.Generated && !principalOf(in, d).SignsIn:
			own := *a // nobody asked for one that it could not use
			own.Password = change.NoPassword
			in.Account = &own
		}
	}
	if g := in.Grant; g != nil && g.To != catalog.Public {
		everywhere, inside := d.places(g.To.Role)
		switch {
		case !everywhere && g.To.Database == "":
			own := *g
			own.To.Database = g.Database
			in.Grant = &own
		case !inside && g.To.Database != "":
			return in, fmt.Errorf("%w: on %s an account is the whole server's", change.ErrIntent, d.Title)
		}
	}
	return in, nil
}

func checkOptions(in change.Intent, d *Description, part change.Part, options catalog.Values) (catalog.Values, error) {
	var errs []error
	k, fields := in.Kind, d.OptionsOf(part, in.Kind)
	bad := func(name, next, format string, args ...any) *OptionError {
		e := &OptionError{Engine: d.ID, Part: part, Option: name, Next: next, Text: fmt.Sprintf(format, args...)}
		errs = append(errs, e)
		return e
	}
	options = inRows(d.Fields[part], options)
	var out catalog.Values
	for _, name := range options.Names() {
		i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == name })
		if i < 0 {
			errs = append(errs, unknownOption(k, d, part, name))
			continue
		}
		if who, only := principalOf(in, d), fields[i].For; part == change.PartAccount && len(only) > 0 &&
			!slices.Contains(only, who.Kind) {
			bad(name, "Leave it out.", "%s is nothing that %s have", name, who.Many)
			continue
		}
		value, err := fields[i].Parse(options[name])
		if err != nil {
			bad(name, seeEngine, "%s: %v", name, err).Actions = showEngine(d)
			continue
		}
		if out == nil {
			out = catalog.Values{}
		}
		out[name] = value
	}
	for _, f := range fields {
		switch {
		case f.With != "" && options.Has(f.Name) && !options.Has(f.With):
			bad(f.Name, "Give both, or leave it out.", "%s means nothing without %s", f.Name, f.With)
		case f.Required && !options.Has(f.Name):
			bad(f.Name, "Give it.", "%s needs %s: %s", k, f.Name, f.Decides).
				Actions = []remedy.Action{remedy.Option("options."+f.Name, "")}
		}
	}
	return out, errors.Join(errs...)
}

// CheckRegistration does the same with the options of a registration. One that is
// empty is left out, so that what the engine does without it holds.
func CheckRegistration(d *Description, options catalog.Values) (catalog.Values, error) {
	var errs []error
	out := catalog.Values{}
	for _, name := range options.Names() {
		f, known := d.Option(PartServer, name)
		if !known {
			errs = append(errs, &OptionError{Engine: d.ID, Part: PartServer, Option: name, Next: seeEngine,
				Actions: showEngine(d),
				Text:    fmt.Sprintf("a registration of %s has no option %s", d.Title, naming.Show(name))})
			continue
		}
		value, err := f.Parse(options[name])
		if err != nil {
			errs = append(errs, &OptionError{Engine: d.ID, Part: PartServer, Option: name, Next: seeEngine,
				Actions: showEngine(d),
				Text:    fmt.Sprintf("%s: %v", name, err)})
			continue
		}
		if value != "" {
			out[name] = value
		}
	}
	for _, f := range d.Fields[PartServer] {
		if f.Required && !out.Has(f.Name) {
			errs = append(errs, &OptionError{Engine: d.ID, Part: PartServer, Option: f.Name,
				Next: "Give it.", Actions: []remedy.Action{remedy.Option("options."+f.Name, "")},
				Text: fmt.Sprintf("a registration of %s needs %s: %s", d.Title, f.Name, f.Decides)})
		}
	}
	return out, errors.Join(errs...)
}

// principalOf is the kind of whom an intent about an account is about.
func principalOf(in change.Intent, d *Description) Principal {
	if in.Account == nil {
		return Principal{}
	}
	return d.PrincipalOf(in.Account.Role, in.Account.Database != "")
}

// places says where accounts, or roles, lie: on the whole server, in databases, or both.
func (d *Description) places(role bool) (everywhere, inside bool) {
	for _, p := range d.Principals {
		if p.Role == role {
			everywhere, inside = everywhere || p.In != InDatabase, inside || p.In == InDatabase
		}
	}
	return everywhere, inside
}

// inRows makes rows of options that are written FIELD.KEY, where the table has one column beside its
// key, or FIELD.KEY.COLUMN: whatever stands between is the key. An empty value leaves it out.
func inRows(fields []Field, options catalog.Values) catalog.Values {
	out := maps.Clone(options)
	for _, name := range options.Names() {
		table, key, dotted := strings.Cut(name, ".")
		i := slices.IndexFunc(fields, func(f Field) bool { return f.Name == table && f.Type == Table && f.Key != "" })
		if !dotted || i < 0 {
			continue
		}
		f := fields[i]
		column := f.otherColumn()
		if at := strings.LastIndexByte(key, '.'); column == "" && at > 0 {
			key, column = key[:at], key[at+1:]
		}
		if !slices.Contains(f.columnNames(), column) {
			continue // it is told as an option that there is not
		}
		delete(out, name)
		rows := slices.Clone(out.Rows(table))
		r := slices.IndexFunc(rows, func(row catalog.Values) bool { return row.Text(f.Key) == key })
		if r < 0 {
			r, rows = len(rows), append(rows, catalog.Values{f.Key: key})
		}
		rows[r] = rows[r].With(column, options[name])
		out[table] = rows
	}
	return out
}

// otherColumn is the one beside the key of a table that has two; "": it has more.
func (f Field) otherColumn() string {
	if len(f.Columns) != 2 {
		return ""
	}
	for _, c := range f.Columns {
		if c.Name != f.Key {
			return c.Name
		}
	}
	return ""
}

// unknownOption says which option it is that the engine does not have, and what is
// nearest: the same one in another kind, or one of a like name.
func unknownOption(k change.Kind, d *Description, part change.Part, name string) error {
	e := &OptionError{Engine: d.ID, Part: part, Option: name, Next: seeEngine,
		Actions: showEngine(d)}
	var names []string
	for _, f := range d.Fields[part] {
		switch {
		case f.Name != name:
			names = append(names, f.Name)
		case f.Fixed != "":
			e.Text = fmt.Sprintf("%s is fixed once the %s is made", name, d.Word(Noun(part)).One)
			e.Next = f.Fixed
			return e
		case len(f.In) > 0:
			e.Text = fmt.Sprintf("%s is no option of %s; it is one of %s", name, k, kindList(f.In))
			return e
		default:
			e.Text = fmt.Sprintf("%s can be read and not be set", name)
			return e
		}
	}
	e.Text = fmt.Sprintf("%s has no option %s for %s", d.Title, naming.Show(name), k)
	if near, ok := naming.Nearest(name, names); ok {
		e.Suggestion, e.Actions, e.Next = near, nil, "Did you mean "+near+"?"
	}
	return e
}

// kindList writes kinds as people read a list.
func kindList(kinds []change.Kind) string {
	var out []string
	for _, k := range kinds {
		out = append(out, string(k))
	}
	return strings.Join(out, ", ")
}

package engine

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
)

var plainName = regexp.MustCompile(`^[a-z][a-z0-9_]*$`)

// Validate says everything that is wrong with a description. The suite calls it, so
// every engine passes it.
func (d *Description) Validate() error {
	v := &validation{d: d}
	v.basics()
	for part, fields := range d.Fields {
		v.fields(part, fields)
	}
	v.intents()
	v.principals()
	v.privileges()
	v.bundles()
	v.clearing()
	return errors.Join(v.errs...)
}

type validation struct {
	d    *Description
	errs []error
}

func (v *validation) bad(format string, args ...any) {
	v.errs = append(v.errs, fmt.Errorf(string(v.d.ID)+": "+format, args...))
}

// sentence checks a text that stands as a whole sentence somewhere.
func (v *validation) sentence(what, text string) {
	if text == "" || !strings.HasSuffix(text, ".") || text[:1] != strings.ToUpper(text[:1]) {
		v.bad("%s is no sentence: %q", what, text)
	}
}

func (v *validation) basics() {
	d := v.d
	if !plainName.MatchString(string(d.ID)) || d.Title == "" || d.Versions == "" || d.Port == 0 {
		v.bad("it needs an id, a title, versions and a port")
	}
	for _, n := range Nouns {
		if _, ok := d.Nouns[n]; !ok {
			v.bad("it has no word for %s", n)
		}
	}
	if d.Names.MaxLength == 0 || d.Names.Counted == "" {
		v.bad("the limits of names are not whole")
	}
	if s := d.Script; s.Comment == "" || s.End == "" || s.Media == "" || s.File == "" || s.Client == "" {
		v.bad("the form of a script is not whole")
	}
}

func (v *validation) fields(part change.Part, fields []Field) {
	seen := map[string]bool{}
	for _, f := range fields {
		where := string(part) + "." + f.Name
		if seen[f.Name] {
			v.bad("%s is there twice", where)
		}
		seen[f.Name] = true
		v.field(where, f, false)
		if part == PartServer {
			continue
		}
		if t, ok := Common[part][f.Name]; ok && f.Type != t && !(t == Pick && f.Type == Text) {
			v.bad("%s means the same everywhere and is a %s, not a %s", where, t, f.Type)
		}
		for _, k := range f.In {
			switch {
			case change.PartOf(k) != part && !(part == change.PartClearing && change.Clears(k)):
				v.bad("%s is for %s, which is about another part", where, k)
			case v.d.Intents[k].Why != "":
				v.bad("%s is for %s, which is not possible: %s", where, k, v.d.Intents[k].Why)
			}
		}
		v.fixed(where, part, f)
		for _, other := range []string{f.By, f.With} {
			if _, ok := v.d.Option(part, other); other != "" && !ok {
				v.bad("%s goes by %s, which there is not", where, other)
			}
		}
	}
}

// fixed holds what a form promises: what is settled once says so, and what can be
// altered does not.
func (v *validation) fixed(where string, part change.Part, f Field) {
	made, alters := change.CreateDatabase, []change.Kind{change.AlterDatabase}
	switch part {
	case change.PartDatabase:
	case change.PartAccount:
		made, alters = change.CreateAccount, []change.Kind{change.AlterAccount}
	default:
		return
	}
	can := slices.ContainsFunc(alters, func(k change.Kind) bool { return slices.Contains(f.In, k) })
	switch {
	case f.Show != Nowhere && slices.Contains(f.In, made) && !can:
		v.sentence(where+" is settled once and its Fixed", f.Fixed)
	case f.Fixed != "" && can:
		v.bad("%s is fixed and can be altered", where)
	case len(f.In) == 0 && f.Show == Nowhere:
		v.bad("%s is neither asked for nor shown", where)
	}
}

func (v *validation) field(where string, f Field, column bool) {
	switch {
	case !plainName.MatchString(f.Name) || f.Title == "":
		v.bad("%s needs a plain name and a title", where)
	case !column && f.Decides == "":
		v.bad("%s says not what it decides", where)
	case strings.HasSuffix(f.Decides, "."):
		v.bad("%s: what it decides is one line without a full stop", where)
	case f.Type == Pick && len(f.Values) == 0 && f.From == "":
		v.bad("%s is to be picked, from nothing", where)
	case f.From != "" && v.d.Choices[f.From] == "":
		v.bad("%s is picked from %s, which the server is not asked for", where, f.From)
	case f.Type == Table && (len(f.Columns) == 0 || f.Key != "" && !slices.Contains(f.columnNames(), f.Key)):
		v.bad("%s needs columns, and its key among them", where)
	case column && f.Type == Table:
		v.bad("%s: no table within a table", where)
	}
	if f.Title != "" && f.Title[:1] != strings.ToUpper(f.Title[:1]) {
		v.bad("%s: the title %q stands alone, so it begins with a capital", where, f.Title)
	}
	v.release(where, f.Since)
	seen := map[string]bool{}
	for _, x := range f.Values {
		v.release(where+"="+x.Name, x.Since)
		if seen[x.Name] || x.Name == "" {
			v.bad("%s has the value %q twice", where, x.Name)
		}
		seen[x.Name] = true
	}
	for _, k := range f.For {
		if !slices.ContainsFunc(v.d.Principals, func(p Principal) bool { return p.Kind == k }) {
			v.bad("%s is for the principal %s, which there is not", where, k)
		}
	}
	for _, c := range f.Columns {
		v.field(where+"."+c.Name, c, true)
	}
}

// release checks that a version that is spoken of is one of the table.
func (v *validation) release(what, name string) {
	if _, ok := v.d.Releases[name]; name != "" && !ok {
		v.bad("%s is of the release %s, which has no number", what, name)
	}
}

func (v *validation) form(what string, f Form) {
	v.release(what, f.Since)
	switch {
	case (f.Says == "") == (f.Why == ""):
		v.bad("%s needs either a form or a reason why not", what)
	case f.Why != "":
		v.sentence(what+": why not", f.Why)
		if f.Undo != "" {
			v.bad("%s is not possible, and has an undo", what)
		}
	default:
		v.sentence(what, f.Says)
	}
}

func (v *validation) intents() {
	kinds := change.Kinds()
	for _, k := range kinds {
		form, ok := v.d.Intents[k]
		if !ok {
			v.bad("%s has neither a form nor a reason", k)
			continue
		}
		v.form(string(k), form)
	}
	for k := range v.d.Intents {
		if !slices.Contains(kinds, k) {
			v.bad("there is no kind %s", k)
		}
	}
}

func (v *validation) principals() {
	signs := false
	type address struct{ role, inDatabase bool }
	kinds := map[address]string{}
	for _, p := range v.d.Principals {
		if !plainName.MatchString(p.Kind) || p.Title == "" || p.Many == "" || p.Decides == "" ||
			p.Names.MaxLength == 0 || p.Names.Counted == "" {
			v.bad("the principal %s is not whole", p.Kind)
		}
		signs = signs || p.SignsIn
		at := address{p.Role, p.In == InDatabase}
		if other := kinds[at]; other != "" {
			v.bad("an address cannot tell %s from %s", p.Kind, other)
		}
		kinds[at] = p.Kind
	}
	if !signs {
		v.bad("nobody signs in")
	}
}

func (v *validation) privileges() {
	d := v.d
	scopes := map[catalog.Scope]bool{}
	for _, s := range d.Scopes {
		if scopes[s.Name] || s.Title == "" || s.Within != "" && !scopes[s.Within] {
			v.bad("the scope %s is not whole: the wider one comes first", s.Name)
		}
		scopes[s.Name] = true
		for _, p := range s.Parts {
			if !slices.Contains([]string{"database", "schema", "name", "column"}, p) {
				v.bad("the scope %s has a part %s", s.Name, p)
			}
		}
		if len(d.PrivilegesOn(s.Name)) == 0 {
			v.bad("no privilege is on the scope %s", s.Name)
		}
	}
	for _, p := range d.Privileges {
		v.release(p.Name, p.Since)
		if _, ok := d.Table.Named(p.Name); !ok {
			v.bad("the table has no privilege %s", p.Name)
		}
		for i, s := range p.On {
			if !scopes[s] || slices.Contains(p.On[:i], s) {
				v.bad("the privilege %s is on %s, which is no scope, or twice", p.Name, s)
			}
		}
	}
	v.sentence("objects made later", d.Granting.Later)
	v.sentence("when it reaches open sessions", d.Granting.AtOnce)
}

func (v *validation) bundles() {
	var names []string
	for i, b := range v.d.Bundles {
		names = append(names, b.Name)
		v.sentence("bundle "+b.Name, b.Decides)
		for scope, list := range b.On {
			for _, p := range list {
				if !slices.Contains(v.d.PrivilegesOn(scope), p) {
					v.bad("the bundle %s has %s on %s, where there is no such privilege", b.Name, p, scope)
				}
			}
		}
		for _, smaller := range v.d.Bundles[:i] {
			for scope, list := range smaller.On {
				for _, p := range list {
					if len(b.On) > 0 && !slices.Contains(b.On[scope], p) {
						v.bad("the bundle %s lacks %s on %s of %s", b.Name, p, scope, smaller.Name)
					}
				}
			}
		}
		if b.Careful != "" {
			v.sentence("what to be careful of with the bundle "+b.Name, b.Careful)
		}
	}
	var all []string
	for _, b := range access.Bundles {
		all = append(all, string(b))
	}
	if !slices.Equal(names, all) {
		v.bad("the bundles are %v, not %v", names, all)
	}
}

func (v *validation) clearing() {
	for _, e := range []catalog.Ending{catalog.EndSession, catalog.EndStatement} {
		v.form("ending a "+string(e), v.d.Endings[e])
	}
	g := v.d.Gate
	v.sentence("the gate", g.Says)
	if g.Keeps != KeepsAll && (g.Keeps != KeepsRights && g.Keeps != KeepsNobody || g.Leaks == "") {
		v.bad("the gate keeps out %q and says not whom it does not", g.Keeps)
	}
	v.form("a team", v.d.Team)
}

package planning

import (
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
)

// Alteration is one option that is to be otherwise.
type Alteration struct {
	engine.Field
	// Is is what it is now; nil where there is no value, or none that can be seen.
	Is, Will any
}

// Alterations lists what is not as asked already, as settings "is → will be". What
// only says how something is done is always one. When there is nothing to alter, the
// brief says so.
func (p *Draft) Alterations() []Alteration {
	d := p.Snap.Target
	shown := naming.Show(d.Name)
	p.Set(change.Setting{Name: "name", Title: "Name", Value: d.Name, Asked: true, Decides: "which database"})
	values := d.Values()
	var out []Alteration
	for _, f := range p.D.OptionsOf(change.PartDatabase, p.In.Kind) {
		will, asked := p.Settled[f.Name]
		is := values[f.Name]
		if !asked || f.Show != engine.Nowhere && p.equal(f.Name, will, is) ||
			f.Show == engine.Nowhere && will == false {
			continue
		}
		out = append(out, Alteration{f, is, will})
		s := change.Setting{Name: f.Name, Title: f.Title, Value: catalog.WriteValue(will), Asked: true,
			Decides: f.Decides}
		if f.Show != engine.Nowhere {
			was := catalog.WriteValue(is)
			s.Was = &was
		}
		p.Set(s)
	}
	if len(out) == 0 && !p.Stopped() {
		Done(&p.Brief, change.DatabaseSame, "%s is so already.", shown)
	}
	var titles []string
	for _, a := range out {
		titles = append(titles, strings.ToLower(a.Title))
	}
	if len(titles) > 0 {
		p.Summary = "alter " + strings.Join(titles, ", ") + " of " + shown + " on " + p.Snap.Server.Name
	}
	return out
}

// Drop takes a setting out of the brief, for a planner that tells more of it.
func (p *Draft) Drop(setting string) {
	p.Brief.Settings = slices.DeleteFunc(slices.Clone(p.Brief.Settings),
		func(s change.Setting) bool { return s.Name == setting })
}

// Take removes one alteration from a list, for a planner that has steps of its own for it.
func Take(list []Alteration, name string) (found *Alteration, rest []Alteration) {
	for i, a := range list {
		if a.Name == name {
			return &list[i], slices.Concat(list[:i], list[i+1:])
		}
	}
	return nil, list
}

// Words say what an alteration does.
func (a Alteration) Words() string {
	title, will := strings.ToLower(a.Title), catalog.WriteValue(a.Will)
	if will == "" {
		return title + ": none"
	}
	return title + ": " + naming.Show(will)
}

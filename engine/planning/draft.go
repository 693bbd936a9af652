// Package planning is what the planners of all engines share: what does not depend
// on an engine, or only on what its description says. It has no branch on an engine.
package planning

import (
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
)

// Draft is a brief in the making.
type Draft struct {
	change.Brief
	In   change.Intent
	Snap catalog.Snapshot
	D    *engine.Description
	// Asked are the options of the intent; Settled is what they come to, defaults
	// included.
	Asked, Settled catalog.Values

	equal  Same
	source map[string]string
}

// Same compares what was asked for with what is, for one option, as the server does:
// UTF8 is utf-8.
type Same func(option string, want, have any) bool

// New starts a brief with what it says for every engine: the target, whether the
// engine has such an intent at all, whether the server can be altered, and what the
// fields themselves say of the options. It reports false where there is nothing more
// to plan. The error says that the intent is malformed.
func New(in change.Intent, snap catalog.Snapshot, d *engine.Description, equal Same) (*Draft, bool, error) {
	in, err := engine.CheckIntent(in, d)
	if err != nil {
		return nil, false, err
	}
	p := &Draft{Brief: NewBrief(in, snap), In: in, Snap: snap, D: d, Settled: catalog.Values{}, equal: equal,
		source: map[string]string{}}
	form := d.Intents[in.Kind]
	if in.Sessions != nil && in.Sessions.StatementOnly && form.Why == "" {
		form = d.Endings[catalog.EndStatement]
	}
	if form.Why != "" {
		p.Summary = d.Title + " cannot: " + string(in.Kind)
		p.Find(change.Stop, change.KindUnsupported, form.Instead, "%s", form.Why)
		return p, false, nil
	}
	if in.Database != nil && in.Database.Team != nil && d.Team.Why != "" {
		p.Summary = d.Title + " cannot make a team's database"
		p.Find(change.Stop, change.KindUnsupported, d.Team.Instead, "%s", d.Team.Why)
		return p, false, nil
	}
	for _, g := range optionsIn(in) {
		if g.part == change.PartOf(in.Kind) {
			p.Asked = g.options
		}
		p.options(g)
	}
	return p, true, nil
}

// given are the options of one part of an intent.
type given struct {
	part    change.Part
	options catalog.Values
}

// optionsIn are the options of each part of an intent.
func optionsIn(in change.Intent) []given {
	var out []given
	if in.Database != nil {
		out = append(out, given{change.PartDatabase, in.Database.Options})
	}
	if in.Account != nil {
		out = append(out, given{change.PartAccount, in.Account.Options})
	}
	if in.Member != nil {
		out = append(out, given{change.PartMember, in.Member.Options})
	}
	if in.Grant != nil {
		out = append(out, given{change.PartGrant, in.Grant.Options})
	}
	if in.Clearing != nil {
		out = append(out, given{change.PartClearing, in.Clearing.Options})
	}
	return out
}

// options judges each option that was asked for by what its field says: the version,
// and the choices that the server offers. Every engine gets these findings from its data.
func (p *Draft) options(g given) {
	number, version := p.Snap.Instance.Number, p.D.Title+" "+p.Snap.Instance.Version
	for _, f := range p.D.OptionsOf(g.part, p.In.Kind) {
		value, asked := g.options[f.Name]
		if !asked {
			continue
		}
		p.Settled[f.Name] = value
		if !p.D.Has(number, f.Since) {
			p.About(f.Name, change.Stop, change.OptionUnsupported, "Leave it out.", "%s has no %s.", version,
				strings.ToLower(f.Title))
		}
		for _, v := range f.Values {
			if v.Name == value && !p.D.Has(number, v.Since) {
				delete(p.Settled, f.Name)
				p.About(f.Name, change.Stop, change.OptionUnsupported, "Choose another.", "%s has no %s %s.", version,
					strings.ToLower(f.Title), v.Name)
			}
		}
		if name, ok := value.(string); ok && f.From != "" && f.Type == engine.Pick {
			p.choice(f, name)
		}
	}
}

// choice looks one up among those that the server offers, as the engine compares
// names, and writes it as the server does.
func (p *Draft) choice(f engine.Field, name string) {
	server, title := p.Snap.Server.Name, strings.ToLower(f.Title)
	found, ok := p.Snap.Choices.Find(f.From, name, func(x, y string) bool { return p.equal(f.Name, y, x) })
	next, list := "Choose one of the list.", remedy.Choices(server, f.From)
	switch {
	case ok:
		if !f.Free {
			p.Settled[f.Name] = found.Name
		}
		if found.Why != "" {
			p.About(f.Name, change.Stop, change.OptionUnusable, "Choose another.", "%s cannot be chosen as %s: %s.",
				naming.Show(name), title, found.Why)
		}
	case f.Free:
		p.About(f.Name, change.Caution, change.OptionUnlisted, next,
			"The server does not list a %s %s; it may have been installed later, and then works, else the server "+
				"refuses it and nothing happens.", title, naming.Show(name)).
			Offer(list)
	default:
		delete(p.Settled, f.Name)
		w := p.About(f.Name, change.Stop, change.OptionAbsent, next, "There is no %s %s on %s.", title,
			naming.Show(name), server).Offer(list)
		if d, ok := p.Snap.Choices.Default(f.From); ok {
			w.Suggestion = d.Name
		}
	}
}

// About adds a finding about an option.
func (p *Draft) About(option string, level change.Level, code, next, format string, args ...any) *change.Finding {
	f := p.Find(level, code, next, format, args...)
	f.Option = option
	return f
}

// Finding is what was found about an option under a code; nil: nothing.
func (p *Draft) Finding(option, code string) *change.Finding {
	for i := range p.Findings {
		if f := &p.Findings[i]; f.Option == option && f.Code == code {
			return f
		}
	}
	return nil
}

// Default settles what was not asked for, and says where the value comes from.
func (p *Draft) Default(name string, value any, source string) {
	if !p.Asked.Has(name) && !p.Settled.Has(name) && value != nil && value != "" {
		p.Settled[name], p.source[name] = value, source
	}
}

// Settle overrules what was asked for, with the server's way of writing it.
func (p *Draft) Settle(name string, value any) { p.Settled[name] = value }

// Settings lists every property of a new database with its value, where a default
// comes from, what it decides, and whether it is fixed: all of it from the
// description. What it gives is what verifying compares.
func (p *Draft) Settings(fixedName bool) (want map[string]string) {
	name := p.In.Database.Name
	want = map[string]string{"name": name}
	decides := "how every client finds it"
	if !fixedName {
		decides += "; can be changed while nobody is connected"
	}
	p.Set(change.Setting{Name: "name", Title: "Name", Value: name, Asked: true, Decides: decides, Fixed: fixedName})
	for _, f := range p.D.OptionsOf(change.PartDatabase, p.In.Kind) {
		value, known := p.Settled[f.Name]
		if !p.D.Has(p.Snap.Instance.Number, f.Since) || !known && f.Group != "" || !known && f.Show == engine.Nowhere {
			continue
		}
		s := change.Setting{Name: f.Name, Title: f.Title, Value: catalog.WriteValue(value), Asked: p.Asked.Has(f.Name),
			Source:  p.source[f.Name],
			Decides: f.Decides, Fixed: f.Fixed != ""}
		if !known {
			s.Value, s.Source = f.Default, ""
		}
		p.Set(s)
		if f.Show != engine.Nowhere && known {
			want[f.Name] = catalog.WriteValue(value)
		}
	}
	return want
}

// Existing ends a brief for a database that is there: nothing to do, and every option
// in which it is not as asked. What decides only while it is made cannot be told.
func (p *Draft) Existing() {
	d := p.Snap.Target.Values()
	p.Outcome, p.Summary = change.Nothing, p.Target+" is there already, as asked"
	var words []string
	for _, f := range p.D.OptionsOf(change.PartDatabase, p.In.Kind) {
		want, asked := p.Settled[f.Name]
		have := d[f.Name]
		if !asked || !p.Asked.Has(f.Name) || f.Show == engine.Nowhere || p.equal(f.Name, want, have) {
			continue
		}
		x := change.Difference{Name: f.Name, Asked: catalog.WriteValue(want), Actual: catalog.WriteValue(have)}
		p.Differences = append(p.Differences, x)
		words = append(words, f.Name+" is "+naming.Show(x.Actual)+", asked "+naming.Show(x.Asked))
	}
	if len(words) == 0 {
		p.Find(change.Note, change.ExistsAsAsked, "", "%s exists already, as asked, so nothing will be done.", p.Target)
		return
	}
	p.Summary = p.Target + " is there already, but not as asked"
	p.Find(change.Note, change.ExistsDifferent, "Alter it.",
		"%s exists already and differs: %s. Nothing will be done.",
		p.Target, strings.Join(words, "; ")).Offer(remedy.Command("database.alter", p.Target))
}

// Step adds steps.
func (p *Draft) Step(s ...change.Step) { p.Steps = append(p.Steps, s...) }

package postgres

import (
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/planning"
)

// stepCopySetting gives a copy a setting that its template has.
const stepCopySetting = "copy_setting"

// likeTemplate takes from the template what CREATE DATABASE does not, where nothing else is
// asked for: owner, comment, connection limit; and, by steps after it is there, settings.
func likeTemplate(p *planning.Draft) (after []change.Step) {
	d, name := p.Snap.Source, p.In.Database.Name
	if d == nil || !p.Asked.Bool("as_template") {
		return nil
	}
	from := "template " + d.Name
	if p.In.Database.Team == nil {
		p.Default("owner", d.Owner, from)
	}
	p.Default("comment", d.Comment, from)
	p.Default("connection_limit", d.Properties["connection_limit"], from)
	for _, row := range d.Properties.Rows("settings") {
		setting, value := row.Text("name"), row.Text("value")
		after = append(after, change.Step{Kind: stepCopySetting,
			Title:     "set " + naming.Show(setting) + " to " + naming.Show(value) + ", as in the template",
			Statement: setParameter(name, setting, value, true), Undo: setParameter(name, setting, "", false),
			Args: map[string]string{"name": name, "setting": setting, "will": value}})
	}
	return after
}

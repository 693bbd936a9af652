package postgres

import (
	"slices"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/planning"
)

// copyGrants is the option by which a copy has the grants on the template itself; those on what
// is in it are copied by the server.
const copyGrants = "copy_grants"

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

// grantsLikeTemplate gives everybody on a copy what they hold on the template itself, and takes
// from everybody what nobody has there by default.
func grantsLikeTemplate(p *planning.Draft) []change.Step {
	template, name := p.Settled.Text("template"), p.In.Database.Name
	if !p.Asked.Bool(copyGrants) || p.Snap.Access == nil {
		return nil
	}
	i := slices.IndexFunc(p.Snap.Access.Databases, func(d catalog.AccessDatabase) bool { return d.Name == template })
	if i < 0 {
		return nil
	}
	d, on := p.Snap.Access.Databases[i], " ON DATABASE "+quoteIdent(name)
	if slices.ContainsFunc(d.Entries, func(e catalog.Entry) bool { return e.Builtin }) {
		return nil // nothing was ever granted or revoked there
	}
	give := []string{"REVOKE CONNECT, TEMPORARY" + on + " FROM PUBLIC"}
	undo := []string{"GRANT CONNECT, TEMPORARY" + on + " TO PUBLIC"}
	who := []string{catalog.Public.Name}
	for _, e := range d.Entries {
		if e.Grantee.Name == d.Owner && e.Grantee != catalog.Public || e.Privileges.Empty() {
			continue // an owner has it by that
		}
		to := grantee(e.Grantee)
		give = append(give, "GRANT "+e.Privileges.String()+on+" TO "+to)
		if !e.Grantable.Empty() {
			give = append(give, "GRANT "+e.Grantable.String()+on+" TO "+to+" WITH GRANT OPTION")
		}
		if e.Grantee != catalog.Public {
			undo = append([]string{"REVOKE " + e.Privileges.String() + on + " FROM " + to}, undo...)
			who = append(who, e.Grantee.Name)
		}
	}
	step := accessStep("grant on it what is granted on "+naming.Show(template), name, give, undo, who...)
	step.Args["check"], step.Args["database"] = "like_template", name
	step.Args["template"] = template
	return []change.Step{step}
}

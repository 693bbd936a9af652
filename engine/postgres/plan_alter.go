package postgres

import (
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

// stepAlter sets one thing of a database that has sessions in it.
const stepAlter = "alter_database"

// planAlter briefs altering what can be altered. What takes effect at once comes
// first, then the owner, then moving the files, which needs the database empty of
// sessions: once it is opened again, nothing that could fail may follow.
//
// Long: its cases stand in the order in which their findings are read.
func planAlter(p *planning.Draft) {
	b, spec := &p.Brief, *p.In.Database
	p.Summary = "alter database " + naming.Show(spec.Name) + " on " + p.Snap.Server.Name
	if !planning.DatabaseThere(b, spec, p.Snap, planning.Altered) {
		return
	}
	d := *p.Snap.Target
	if d.Broken {
		b.Find(change.Stop, change.DatabaseBroken, "Drop it.",
			"%s was left over by an interrupted drop, and can only be dropped again.", naming.Show(d.Name)).
			Offer(remedy.Command("database.drop", p.Target))
		return
	}
	list := p.Alterations()
	tablespace, list := planning.Take(list, "tablespace")
	owner, list := planning.Take(list, "owner")
	refresh, list := planning.Take(list, "refresh_collation")
	settings, list := planning.Take(list, "settings")
	if p.Asked.Has("owner") {
		planOwner(p)
	}
	planClosing(p, d, tablespace != nil)
	if refresh != nil && !planRefresh(p, d) {
		refresh = nil
	}
	if p.Outcome == change.Nothing {
		return
	}
	if tablespace == nil && p.In.Clearing != nil {
		b.Find(change.Stop, change.OptionInvalid, "Leave it out.",
			"Nobody has to leave %s for this, so no session is ended or waited for.", naming.Show(d.Name))
	}
	want := map[string]string{"name": d.Name, "key": d.Key}
	for _, a := range list {
		want[a.Name] = catalog.WriteValue(a.Will)
		p.Step(alterStep(d, a))
	}
	if settings != nil {
		want["settings"] = catalog.WriteValue(planSettings(p, d))
	}
	if owner != nil {
		want["owner"] = catalog.WriteValue(owner.Will)
		planning.Rights(b, p.Snap)
		if (tablespace != nil || refresh != nil) && !p.Snap.Instance.Login.Superuser {
			p.About("owner", change.Stop, change.OptionInvalid, "Alter the owner afterwards, by a change of its own.",
				"Genarch's login %s may not alter %s any more once it belongs to %s.", p.Snap.Instance.Login.Name,
				naming.Show(d.Name), naming.Show(want["owner"]))
		}
		p.Step(alterStep(d, *owner))
	}
	if tablespace != nil {
		want["tablespace"] = catalog.WriteValue(tablespace.Will)
		planMoving(p, d, want["tablespace"])
	}
	if refresh != nil {
		p.Step(change.Step{Kind: stepAlter, Title: "note the version of the collation that the system has now",
			Irreversible: true,
			Statement:    "ALTER DATABASE " + quoteIdent(d.Name) + " REFRESH COLLATION VERSION",
			Args: map[string]string{"name": d.Name, "key": d.Key, "option": "collation_version",
				"will": d.Properties.Text("system_collation_version")}})
	}
	p.Step(change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: want})
}

// alterStep sets one option; its undo is the former value.
func alterStep(d catalog.Database, a planning.Alteration) change.Step {
	if a.Name == "comment" {
		return commentDatabaseStep(d.Name, catalog.WriteValue(a.Will), catalog.WriteValue(a.Is))
	}
	return change.Step{Kind: stepAlter, Title: a.Words(), Statement: alterDatabase(d.Name, a.Name, a.Will),
		Undo: alterDatabase(d.Name, a.Name, a.Is),
		Args: map[string]string{"name": d.Name, "key": d.Key, "option": a.Name, "will": catalog.WriteValue(a.Will)}}
}

// planClosing says what altering who can connect does, and does not.
func planClosing(p *planning.Draft, d catalog.Database, moves bool) {
	open, asked := p.Asked["allow_connections"]
	closes := asked && open == false && !d.Closed
	if impact := p.Snap.DropImpact; closes && impact.Own != "" {
		p.About("allow_connections", change.Stop, change.DatabaseKept, "Leave it open.", "%s cannot be closed: %s.",
			naming.Show(d.Name), impact.Own)
	}
	if asked && moves {
		p.About("allow_connections", change.Stop, change.OptionInvalid, "Move it first, then alter who can connect.",
			"Moving %s closes and opens it by itself.", naming.Show(d.Name))
	}
	sessions := len(clearing.Target{Database: d.Name}.Of(p.Snap.Connected))
	if closes && sessions > 0 {
		p.About("allow_connections", change.Note, change.GateEffect, "End them afterwards.",
			"Whoever is connected stays (sessions: %d).", sessions).
			Offer(remedy.Command("session.end", p.Target)).Passing = true
	}
	if limit, ok := p.Asked.Int("connection_limit"); ok && int64(sessions) > limit {
		p.About("connection_limit", change.Note, change.GateEffect, "",
			"More than that are connected (sessions: %d); they stay, and nobody else gets in until enough have left.",
			sessions).Passing = true
	}
	if p.Asked.Bool("is_template") && !d.Properties.Bool("is_template") {
		p.About("is_template", change.Caution, change.TemplateOpen, "",
			"Whoever may create databases can copy a template, and so read all that is in %s.", naming.Show(d.Name))
	}
}

// planRefresh says what noting the version does not do. It reports whether there is
// anything to note.
func planRefresh(p *planning.Draft, d catalog.Database) bool {
	was, now := d.Properties.Text("collation_version"), d.Properties.Text("system_collation_version")
	if was == now {
		if len(p.Steps) == 0 && len(p.Brief.Settings) <= 2 {
			planning.Done(&p.Brief, change.DatabaseSame, "The collation of %s has the version of the system already.",
				naming.Show(d.Name))
		}
		return false
	}
	p.About("refresh_collation", change.Caution, change.CollationRefresh,
		"In each database: REINDEX DATABASE, or REINDEX INDEX CONCURRENTLY one by one.",
		"Indexes on text that were built with version %s may sort otherwise than version %s does, and queries then miss rows; this only ends the warning, so rebuild them first.", was, now)
	return true
}

// planMoving lays out clearing the database and moving its files.
func planMoving(p *planning.Draft, d catalog.Database, to string) {
	b, shown := &p.Brief, naming.Show(d.Name)
	if own := p.Snap.DropImpact.Own; own != "" {
		p.About("tablespace", change.Stop, change.DatabaseKept, "Leave it where it is.", "%s cannot be moved: %s.",
			shown, own)
	}
	planning.Prepared(b, p.Snap.DropImpact.Prepared,
		"connect to "+shown+" and run COMMIT PREPARED or ROLLBACK PREPARED")
	move := moveStep(b, d, to)
	clear := planning.Clearing(b, p.Snap, p.In.Clearing.Rules(clearing.Target{Database: d.Name}), shown, terminate)
	planning.SessionPolicy(b, p.In.Clearing)
	if !d.Closed {
		p.Step(planGate(b, d))
	}
	planning.Unseen(b, p.Snap)
	p.Step(clear, move)
	if !d.Closed {
		p.Step(openStep(d, d.Name))
	}
}

// planSettings sets, and takes away, settings with which new sessions begin. It comes
// back with all that there are then.
func planSettings(p *planning.Draft, d catalog.Database) []catalog.Values {
	p.Drop("settings")
	have := d.Properties.Rows("settings")
	after := append([]catalog.Values{}, have...)
	for _, row := range p.Asked.Rows("settings") {
		name, value, set := row.Text("name"), row.Text("value"), row.Has("value")
		was, there := setting(have, name)
		if why := detailsOf(p.Snap.Details).Refused[name]; set && why != "" {
			p.About("settings", change.Stop, change.SettingRefused,
				"Look at what there is.",
				"The server refuses %s for the setting %s: %s.", naming.Show(value), naming.Show(name), why).
				Offer(remedy.Choices(p.Snap.Server.Name, "settings"))
		}
		if set == there && sameSetting(name, was, value) {
			continue
		}
		shown := change.Setting{Name: name, Title: "Setting " + name, Value: value, Asked: true,
			Decides: "new sessions begin with it; those that are open keep what they have"}
		if !set {
			shown.Value, shown.Decides = "the server's", "new sessions begin with what the server or the account says"
		}
		before := was
		if !there {
			before = "the server's"
		}
		shown.Was = &before
		p.Set(shown)
		title := "set " + naming.Show(name) + " to " + naming.Show(value)
		if !set {
			title = "reset the setting " + naming.Show(name)
		}
		p.Step(change.Step{Kind: stepAlter, Title: title, Statement: setParameter(d.Name, name, value, set),
			Undo: setParameter(d.Name, name, was, there),
			Args: map[string]string{"name": d.Name, "key": d.Key, "option": "setting", "setting": name,
				"set": strconv.FormatBool(set), "will": value}})
		after = withSetting(after, name, value, set)
	}
	return after
}

// setting finds one among those that a database has.
func setting(rows []catalog.Values, name string) (value string, there bool) {
	for _, row := range rows {
		if strings.EqualFold(row.Text("name"), name) {
			return row.Text("value"), true
		}
	}
	return "", false
}

func withSetting(rows []catalog.Values, name, value string, set bool) []catalog.Values {
	var out []catalog.Values
	found := false
	for _, row := range rows {
		if !strings.EqualFold(row.Text("name"), name) {
			out = append(out, row)
			continue
		}
		if found = true; set {
			out = append(out, catalog.Values{"name": row.Text("name"), "value": value})
		}
	}
	if set && !found {
		out = append(out, catalog.Values{"name": name, "value": value})
	}
	return sortedSettings(out)
}

package sqlserver

import (
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// planSetAside is the act of setting a database aside: what it was is noted, it gets the name under
// which it waits, and goes offline.
func planSetAside(p *planning.Draft, d catalog.Database) (first []change.Step, act change.Step) {
	login := p.Snap.Instance.Login
	if !login.May("alter_database") {
		p.Find(change.Stop, change.RightsMissing, login.Remedy("alter_database"),
			"Genarch's login %s could not bring it online again: for that its rights within do not count.", login.Name)
	}
	planNotable(p)
	waits := heldName(d)
	h := planning.HoldingOf(p.In, p.Snap)
	h.Kept = map[string]string{"access": d.Properties.Text("access")}
	planning.SetAside(&p.Brief, p.In, p.Snap, h, waits, "The name "+shown(d.Name)+
		" and the connections are free afterwards; the disk is not: all files stay, closed, so that somebody on that "+
		"machine could delete them by mistake. Backup jobs pass it over, or fail on it.")
	p.Find(change.Note, change.HoldingKept, "",
		"Its owner, users, grants and options stay with it. What names it does not follow: jobs, default databases of "+
			"logins, synonyms, linked servers.")
	note := noteStep(waits, planning.WriteNote(h), "")
	each := []string{useDatabase(d.Name), setOption(d.Name, singleUser, atOnce), renameDatabase(d.Name, waits),
		setOption(waits, "OFFLINE", atOnce)}
	undo := []string{setOption(waits, "ONLINE", ""), renameDatabase(waits, d.Name), freeStatement(d.Name, d)}
	act = change.Step{Kind: stepAside, Title: "take it for Genarch's session alone, rename it to " + shown(waits) +
		", and take it offline", Statement: strings.Join(each, ";\n"), Undo: strings.Join(undo, ";\n"),
		Repair: freeStatement(d.Name, d), Restores: true, Seconds: longSeconds,
		Args: map[string]string{"name": d.Name, "key": d.Key, "access": d.Properties.Text("access"), "new": waits,
			"statements": engine.EncodeList(append(each, undo...))}}
	return []change.Step{note}, act
}

// planNotable stops where nothing could be noted.
func planNotable(p *planning.Draft) {
	if login := p.Snap.Instance.Login; !login.Superuser {
		p.Find(change.Stop, change.RightsMissing, "Have Genarch's login be a sysadmin, or drop it for good.",
			"What is set aside is noted in the database master, which Genarch's login %s may not alter.", login.Name)
	}
}

// noteStep notes what waits under a name; was is what was noted before, empty: nothing.
func noteStep(waits, note, was string) change.Step {
	name := notePrefix + waits
	step := change.Step{Kind: stepNote, Title: "note what it was, and how long it is kept",
		Args: map[string]string{"property": name, "value": note, "was": was}}
	switch {
	case note == "":
		step.Title, step.Statement, step.Undo = "remove the note", dropProperty(name), addProperty(name, was)
	case was == "":
		step.Statement, step.Undo = addProperty(name, note), dropProperty(name)
	default:
		step.Statement, step.Undo = updateProperty(name, note), updateProperty(name, was)
	}
	return step
}

// planHolding briefs what is done with a database that was set aside.
func planHolding(p *planning.Draft) {
	b, in, snap := &p.Brief, p.In, p.Snap
	action := map[change.Kind]string{change.BringBack: "brought back", change.Discard: "discarded",
		change.KeepHolding: "kept longer"}[in.Kind]
	b.Summary = "what was set aside as " + shown(in.Holding.ID)
	if !planning.HoldingThere(b, in, snap, action) {
		return
	}
	d := *snap.Target
	planNotable(p)
	was := planning.WriteNote(*d.Held)
	switch in.Kind {
	case change.BringBack:
		planBringBack(p, d, was)
	case change.Discard:
		planning.Discard(b, in, snap)
		drop := dropStep(d)
		drop.Args["ends"] = "yes"
		showAlone(&drop, d)
		p.Step(planOnline(b, d)...)
		planOpened(p, d, &drop)
		p.Step(drop, noteStep(d.Name, "", was),
			change.Step{Kind: change.Verify, Title: "read back that it is gone", ReadOnly: true, Args: goneArgs(d)})
	case change.KeepHolding:
		if h, differs := planning.KeepHolding(b, in, snap); differs {
			note := planning.WriteNote(h)
			p.Step(noteStep(d.Name, note, was),
				change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
					Args: map[string]string{"check": "property", "property": notePrefix + d.Name, "value": note}})
		}
	}
}

// planBringBack brings it online, and gives it its name back.
func planBringBack(p *planning.Draft, d catalog.Database, was string) {
	b, h := &p.Brief, *d.Held
	name := planning.BackAs(b, p.In, p.Snap, limits)
	b.Summary = "bring database " + shown(h.Name) + " back on " + p.Snap.Server.Name
	if name != h.Name {
		b.Summary += " as " + shown(name)
	}
	if name == d.Name {
		b.Find(change.Stop, change.NameTaken, "Choose another name.", "It waits under that name.").Option = "new_name"
	}
	b.Find(change.Note, change.HoldingBack, "Look for users without a login afterwards.",
		"Logins that were dropped meanwhile have left their users in it behind.")
	step := change.Step{Kind: stepBack, Title: "bring it online, and rename it to " + shown(name),
		Statement: setOption(d.Name, "ONLINE", "") + ";\n" + renameDatabase(d.Name, name),
		Undo:      renameDatabase(name, d.Name) + ";\n" + setOption(d.Name, "OFFLINE", atOnce), Restores: true,
		Seconds: longSeconds, Args: map[string]string{"name": d.Name, "key": d.Key, "new": name,
			"access": h.Kept["access"], "statements": engine.EncodeList([]string{setOption(d.Name, "ONLINE", ""),
				renameDatabase(d.Name, name), renameDatabase(name, d.Name), setOption(d.Name, "OFFLINE", atOnce)})}}
	planOpened(p, d, &step)
	p.Step(step, noteStep(d.Name, "", was), change.Step{Kind: change.Verify, Title: "read back and compare",
		ReadOnly: true, Args: map[string]string{"name": name, "key": d.Key, "offline": "no",
			"access": h.Kept["access"]}})
}

// planOpened clears a database that somebody brought online although it was set aside.
func planOpened(p *planning.Draft, d catalog.Database, act *change.Step) {
	if d.Closed {
		return
	}
	p.Find(change.Caution, change.HoldingOpened, "Find out who opened it, and what for.",
		"%s was opened outside Genarch since it was set aside; it may not be what it was.", shown(d.Name)).
		Offer(remedy.Command("session.list", p.Snap.Server.Name))
	p.Step(planClearing(p, d, act))
	planning.SessionPolicy(&p.Brief, p.In.Clearing)
}

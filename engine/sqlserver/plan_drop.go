package sqlserver

import (
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// planTakeAway briefs dropping, renaming or setting a database aside: sessions leave or are ended,
// then Genarch's own session takes it for itself alone, ends whoever came in between, and acts.
func planTakeAway(p *planning.Draft) {
	b, in, snap, spec := &p.Brief, p.In, p.Snap, *p.In.Database
	name := shown(spec.Name)
	action := map[change.Kind]string{change.DropDatabase: "dropped", change.RenameDatabase: "renamed",
		change.SetAside: "set aside"}[in.Kind]
	switch in.Kind {
	case change.SetAside:
		b.Summary, b.Confirm = "set database "+name+" aside on "+snap.Server.Name, spec.Name
	case change.DropDatabase:
		b.Summary, b.Confirm = "drop database "+name+" on "+snap.Server.Name, spec.Name
	case change.RenameDatabase:
		b.Summary = "rename database " + name + " to " + shown(spec.NewName) + " on " + snap.Server.Name
	}
	if !planning.DatabaseThere(b, spec, snap, action) {
		return
	}
	d := *snap.Target
	planTied(p, d)
	if d.Closed && in.Kind != change.DropDatabase {
		b.Find(change.Stop, change.DatabaseClosed, "Bring it online first.", "%s is not online.", name).
			Offer(remedy.Command("database.alter", b.Target).With("options.offline", "no"))
	}
	planning.Prepared(b, snap.DropImpact.Prepared,
		"find out whose it is, then KILL it by that number WITH COMMIT or WITH ROLLBACK")
	var first []change.Step
	var act change.Step
	verify := change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true}
	switch in.Kind {
	case change.DropDatabase:
		planning.Lost(b, snap)
		planBackup(b, d)
		first, act = planOnline(b, d), dropStep(d)
		verify.Title, verify.Args = "read back that it is gone", goneArgs(d)
	case change.RenameDatabase:
		act = planRename(p, d)
		verify.Args = map[string]string{"name": spec.NewName, "key": d.Key, "access": d.Properties.Text("access")}
	case change.SetAside:
		first, act = planSetAside(p, d)
		verify.Args = map[string]string{"name": act.Args["new"], "key": d.Key, "offline": "yes", "held_as": d.Name}
	}
	b.Set(change.Setting{Name: "name", Value: spec.Name, Asked: true,
		Decides: "which database; it is known by its number too, so another one of that name is left alone"})
	planning.SessionPolicy(b, in.Clearing)
	b.Find(change.Note, change.GateEffect, "",
		"%s is taken for one session, Genarch's own, at the last: whoever came back until then is ended with it, and "+
			"nobody gets in any more. If the change stops before its end, it is given free again.", name)
	clear := planClearing(p, d, &act)
	planning.Unseen(b, snap)
	p.Step(first...)
	p.Step(async(d)...)
	p.Step(clear, act, verify)
}

// planClearing ends the sessions of a database before acts that take it for Genarch's alone, and has
// these end whoever comes in between: but not where everybody was to leave by himself.
func planClearing(p *planning.Draft, d catalog.Database, acts ...*change.Step) change.Step {
	rules := p.In.Clearing.Rules(clearing.Target{Database: d.Name})
	rules.ActEnds = rules.WhenEmpty == 0
	clear := planning.Clearing(&p.Brief, p.Snap, rules, shown(d.Name), kill)
	for _, act := range acts {
		if rules.ActEnds {
			act.Args["ends"] = "yes"
		}
		if clear.Clear.AcceptLoss {
			act.Args["accept_loss"] = "yes"
		}
		if act.Args["act"] != "" {
			showAlone(act, d)
		}
	}
	return clear
}

// showAlone writes all that a step sends that takes a database for itself: its act is one of the
// statements.
func showAlone(step *change.Step, d catalog.Database) {
	termination := noWait
	if step.Args["ends"] == "yes" {
		termination = atOnce
	}
	take := setOption(d.Name, singleUser, termination)
	list := []string{useDatabase(d.Name), take}
	switch now := step.Args["now"]; now {
	case "":
		list = append(list, useDatabase(master), step.Args["act"])
	default:
		list = append(list, step.Args["act"], setOption(now, clause("access", step.Args["access"]), ""),
			useDatabase(master))
	}
	each := append(slices.Clone(list), step.Repair)
	if step.Undo != "" {
		each = append(each, step.Undo)
	}
	step.Statement, step.Args["statements"] = strings.Join(list, ";\n"), engine.EncodeList(each)
}

// async keeps the server's own work on statistics from taking the only place in a database.
func async(d catalog.Database) []change.Step {
	const option = "auto_update_statistics_async"
	if !d.Properties.Bool(option) || d.Closed {
		return nil
	}
	return []change.Step{{Kind: stepAlter, Title: "have statistics updated at once, so that the server's own work " +
		"on them does not take the only place", Statement: setOption(d.Name, clause(option, false), ""),
		Undo: setOption(d.Name, clause(option, true), ""),
		Args: map[string]string{"name": d.Name, "key": d.Key, option: "no"}}}
}

// planTied stops at what ties a database to other servers, or to snapshots of it.
func planTied(p *planning.Draft, d catalog.Database) {
	for _, what := range detailsOf(p.Snap.Details).Joined {
		p.Find(change.Stop, change.ReplicationRunning, "Take it out of that first.",
			"%s is part of %s, and the server neither drops nor moves it.", shown(d.Name), what)
	}
	if d.Properties.Text("snapshot_of") != "" && p.In.Kind != change.DropDatabase {
		p.Find(change.Stop, change.DatabaseKept, "Drop it, and make another one.",
			"%s is a snapshot of %s, and cannot be renamed.", shown(d.Name), shown(d.Properties.Text("snapshot_of")))
	}
	if strings.Contains(d.Properties.Text("replicated"), "change data capture") {
		p.Find(change.Note, change.DropBreaks, "",
			"Change data capture is on in it: its jobs of capture and cleaning up stay behind.")
	}
}

// planBackup says when it was backed up last.
func planBackup(b *change.Brief, d catalog.Database) {
	if at := d.Properties.Text("backed_up"); at != "" {
		b.Find(change.Note, change.DropFinal, "", "By the server's own records, a whole backup of it ended last at %s.",
			at)
		return
	}
	b.Find(change.Note, change.DropFinal, "Make a backup first, and test that it can be restored.",
		"The server has no record of a whole backup of it.")
}

// planOnline brings a database online before it is dropped: the files of one that is offline would
// stay on the disk.
func planOnline(b *change.Brief, d catalog.Database) []change.Step {
	if !d.Properties.Bool("offline") {
		return nil
	}
	b.Find(change.Note, change.GateEffect, "", "It is brought online first, so that no file of it stays behind.")
	return []change.Step{onlineStep(d)}
}

// goneArgs have a step look that a database is not there.
func goneArgs(d catalog.Database) map[string]string {
	return map[string]string{"check": "database_gone", "name": d.Name, "key": d.Key}
}

func dropStep(d catalog.Database) change.Step {
	return aloneStep(stepDrop, "take it for Genarch's session alone, and drop it", d, dropDatabase(d.Name), "")
}

// aloneStep is a step whose act needs a database alone, which is called now afterwards; "": it is there
// no more.
func aloneStep(kind, title string, d catalog.Database, act, now string) change.Step {
	step := change.Step{Kind: kind, Title: title, Repair: freeStatement(d.Name, d), Seconds: longSeconds,
		Args: map[string]string{"name": d.Name, "key": d.Key, "access": d.Properties.Text("access"), "act": act,
			"now": now}}
	showAlone(&step, d)
	return step
}

// freeStatement gives a database free again, as it was.
func freeStatement(name string, d catalog.Database) string {
	return setOption(name, clause("access", d.Properties.Text("access")), "")
}

// planRename says what speaks against the new name, and what goes on using the former.
func planRename(p *planning.Draft, d catalog.Database) change.Step {
	spec, snap := *p.In.Database, p.Snap
	rule := snap.Server.NameRule
	others := slices.DeleteFunc(slices.Clone(snap.Names), func(n string) bool { return n == d.Name })
	suggestion := rule.Suggest(spec.NewName, limits,
		func(n string) bool { _, _, found := naming.Clashes(n, others); return found })
	for _, x := range rule.Check(spec.NewName, limits) {
		p.Find(change.Stop, x.Code, "Choose another name.", "%s", x.Text).Suggestion = suggestion
	}
	planEdges(p, spec.NewName)
	if with, how, found := naming.Clashes(spec.NewName, others); found {
		level, code := change.Stop, change.NameTaken
		if how != naming.SameName && how != naming.SameButCase {
			level, code = change.Caution, change.NameLookalike
		}
		p.Find(level, code, "Choose another name.", "There is a database %s on %s already.", shown(with),
			snap.Server.Name).Suggestion = suggestion
	}
	planning.Dependents(&p.Brief, snap.DropImpact.Dependents, snap.DropImpact.PossibleDependents)
	p.Find(change.Caution, change.DropBreaks, "Tell the teams, and have the new name in their settings by then.",
		"Clients that connect by the name %s get an error afterwards. Owner, users, grants and files stay; its files "+
			"keep their names.", shown(d.Name))
	p.Set(change.Setting{Name: "new_name", Value: spec.NewName, Asked: true, Decides: "how every client finds it"})
	return renameStep(d, spec.NewName)
}

func renameStep(d catalog.Database, to string) change.Step {
	step := aloneStep(stepRename, "take it for Genarch's session alone, and rename it to "+shown(to), d,
		renameDatabase(d.Name, to), to)
	step.Undo, step.Args["new"] = renameDatabase(to, d.Name), to
	showAlone(&step, d)
	return step
}

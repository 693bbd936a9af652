package postgres

import (
	"slices"
	"strconv"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

// The kinds of steps that take a database away or move it. All but the last
// find it by its number, so that another one of that name is never touched.
const (
	stepGate   = "close_gate"
	stepOpen   = "open_gate"
	stepDrop   = "drop_database"
	stepRename = "rename_database"
	stepMove   = "move_database"
	stepNote   = "note_holding"
)

// dropSeconds bounds a drop and a move: a drop waits until the dirty pages of the
// whole server are written, a move copies all files.
const dropSeconds = 900

// planTakeAway briefs dropping or renaming a database: the gate is closed,
// the sessions go, the act, and where the database still exists, the gate opens.
func planTakeAway(p *planning.Draft) {
	b, in, snap, spec := &p.Brief, p.In, p.Snap, *p.In.Database
	shown := naming.Show(spec.Name)
	action := map[change.Kind]string{change.DropDatabase: "dropped", change.RenameDatabase: "renamed",
		change.SetAside: "set aside"}[in.Kind]
	switch in.Kind {
	case change.SetAside:
		b.Summary = "set database " + shown + " aside on " + snap.Server.Name
		b.Confirm = spec.Name
	case change.DropDatabase:
		b.Summary = "drop database " + shown + " on " + snap.Server.Name
		b.Confirm = spec.Name
	case change.RenameDatabase:
		b.Summary = "rename database " + shown + " to " + naming.Show(spec.NewName) + " on " + snap.Server.Name
	}
	if !planning.DatabaseThere(b, spec, snap, action) {
		return
	}
	d, impact := *snap.Target, *snap.DropImpact
	if d.Broken && in.Kind != change.DropDatabase {
		b.Find(change.Stop, change.DatabaseBroken, "Drop it.",
			"%s was left over by an interrupted drop, and can only be dropped again.", shown).
			Offer(remedy.Command("database.drop", b.Target))
	}
	planning.Prepared(b, impact.Prepared, "connect to "+shown+" and run COMMIT PREPARED or ROLLBACK PREPARED")
	var act []change.Step
	name, open := d.Name, false
	switch in.Kind {
	case change.DropDatabase:
		act = []change.Step{planDrop(b, d, impact, snap)}
	case change.RenameDatabase:
		act, name, open = []change.Step{planRename(b, spec, d, snap)}, spec.NewName, true
	case change.SetAside:
		act, name = planSetAside(b, in, d, snap)
	}
	clear := planning.Clearing(b, snap, in.Clearing.Rules(clearing.Target{Database: d.Name}), shown, terminate)
	b.Set(change.Setting{Name: "name", Value: spec.Name, Asked: true,
		Decides: "which database; it is known by its number too, so another one of that name is left alone"})
	planning.SessionPolicy(b, in.Clearing)
	if !d.Closed && !d.Broken {
		p.Step(planGate(b, d))
	}
	planning.Unseen(b, snap)
	b.Steps = append(append(b.Steps, clear), act...)
	if open && !d.Closed {
		b.Steps = append(b.Steps, openStep(d, name))
	}
	verify := readBackStep(d, name, yesNo(d.Closed))
	switch in.Kind {
	case change.DropDatabase:
		verify = goneStep(d)
	case change.SetAside:
		verify = readBackStep(d, name, "yes")
		verify.Args["held_as"] = d.Name
	}
	b.Steps = append(b.Steps, verify)
}

// readBackStep compares what a database is called afterwards, and whether it is closed.
func readBackStep(d catalog.Database, name, closed string) change.Step {
	return change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
		Args: map[string]string{"name": name, "key": d.Key, "closed": closed}}
}

func goneStep(d catalog.Database) change.Step {
	return change.Step{Kind: change.Verify, Title: "read back that it is gone", ReadOnly: true,
		Args: map[string]string{"check": "database_gone", "name": d.Name, "key": d.Key}}
}

// gateStep keeps everybody out: it is the only thing that stops superusers.
func gateStep(d catalog.Database) change.Step {
	alter := "ALTER DATABASE " + quoteIdent(d.Name) + " ALLOW_CONNECTIONS "
	return change.Step{Kind: stepGate,
		Title: "close the gate: let nobody connect to " + naming.Show(d.Name) + " any more", Statement: alter + "false",
		Undo: alter + "true",
		Args: map[string]string{"name": d.Name, "key": d.Key}}
}

// planGate closes the gate, and says what that does to whom.
func planGate(b *change.Brief, d catalog.Database) change.Step {
	b.Find(change.Note, change.GateEffect, "",
		"While the change runs nobody can connect to %s, superusers included; sessions that are open stay until they are ended. If the change stops before its end, connections are allowed again.",
		naming.Show(d.Name))
	return gateStep(d)
}

func openStep(d catalog.Database, name string) change.Step {
	return change.Step{Kind: stepOpen, Title: "open the gate: let everybody connect again",
		Statement: "ALTER DATABASE " + quoteIdent(name) + " ALLOW_CONNECTIONS true", Irreversible: true,
		Args: map[string]string{"name": name, "key": d.Key}}
}

// planDrop says what would be lost, and what forbids a drop and nothing else.
func planDrop(b *change.Brief, d catalog.Database, impact catalog.DropImpact, snap catalog.Snapshot) change.Step {
	if d.Properties.Bool("is_template") {
		b.Find(change.Stop, change.DatabaseTemplate,
			"If nobody copies it any more: ALTER DATABASE "+quoteIdent(d.Name)+" IS_TEMPLATE false",
			"%s is a template, and the server does not drop templates.", naming.Show(d.Name))
	}
	for _, x := range dropDetailsOf(impact.Details).Slots {
		if x.Active {
			b.Find(change.Stop, change.ReplicationRunning, "Stop the receiver; then the slot goes with the database.",
				"The logical replication slot %s is in use: a consumer receives what is written here.",
				naming.Show(x.Name)).Passing = true
			continue
		}
		b.Find(change.Caution, change.DropBreaks, "Find out which consumer uses it.",
			"The logical replication slot %s is dropped silently with the database.", naming.Show(x.Name))
	}
	for _, x := range dropDetailsOf(impact.Details).Subscriptions {
		b.Find(change.Stop, change.ReplicationRunning,
			"Connect to "+naming.Show(d.Name)+": ALTER SUBSCRIPTION "+quoteIdent(x)+" DISABLE; ALTER SUBSCRIPTION "+
				quoteIdent(x)+" SET (slot_name = NONE); DROP SUBSCRIPTION "+quoteIdent(x),
			"%s receives data through the subscription %s, and the server does not drop a database that has one.",
			naming.Show(d.Name), naming.Show(x))
	}
	planning.Lost(b, snap)
	return dropStep(d)
}

func dropStep(d catalog.Database) change.Step {
	return change.Step{Kind: stepDrop, Title: "drop database " + naming.Show(d.Name), Statement: dropDatabase(d.Name),
		Uncut: true, Seconds: dropSeconds, Args: map[string]string{"name": d.Name, "key": d.Key}}
}

func planRename(b *change.Brief, spec change.DatabaseSpec, d catalog.Database, snap catalog.Snapshot) change.Step {
	rule := snap.Server.NameRule
	others := slices.DeleteFunc(slices.Clone(snap.Names), func(n string) bool { return n == d.Name })
	suggestion := rule.Suggest(spec.NewName, limits,
		func(n string) bool { _, _, found := naming.Clashes(n, others); return found })
	for _, p := range rule.Check(spec.NewName, limits) {
		b.Find(change.Stop, p.Code, "Choose another name.", "%s", p.Text).Suggestion = suggestion
	}
	if with, how, found := naming.Clashes(spec.NewName, others); found {
		level, code := change.Stop, change.NameTaken
		if how != naming.SameName && how != naming.SameButCase {
			level, code = change.Caution, change.NameLookalike
		}
		b.Find(level, code, "Choose another name.", "There is a database %s on %s already.", naming.Show(with),
			snap.Server.Name).Suggestion = suggestion
	}
	if login := snap.Instance.Login; !login.May("create_database") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("create_database"),
			"A rename needs the right to create databases, which Genarch's login %s lacks.", login.Name)
	}
	for _, x := range dropDetailsOf(snap.DropImpact.Details).Slots {
		b.Find(change.Note, change.GateEffect, "", "The logical replication slot %s follows the new name.",
			naming.Show(x.Name))
	}
	planning.Dependents(b, snap.DropImpact.Dependents, snap.DropImpact.PossibleDependents)
	b.Find(change.Caution, change.DropBreaks, "Tell the teams, and have the new name in their settings by then.",
		"Clients that connect by the name %s get an error afterwards. Owner, grants, settings and contents stay.",
		naming.Show(d.Name))
	b.Set(change.Setting{Name: "new_name", Value: spec.NewName, Asked: true, Decides: "how every client finds it"})
	return renameStep(d, spec.NewName)
}

func renameStep(d catalog.Database, name string) change.Step {
	from, to := quoteIdent(d.Name), quoteIdent(name)
	return change.Step{Kind: stepRename, Title: "rename it to " + naming.Show(name),
		Statement: "ALTER DATABASE " + from + " RENAME TO " + to, Undo: "ALTER DATABASE " + to + " RENAME TO " + from,
		Args: map[string]string{"name": d.Name, "new": name, "key": d.Key}}
}

// moveStep copies all files of a database to another tablespace.
func moveStep(b *change.Brief, d catalog.Database, to string) change.Step {
	size, from := "", d.Properties.Text("tablespace")
	if d.Size != nil {
		size = " (" + strconv.FormatInt(*d.Size>>20, 10) + " MiB)"
	}
	b.Find(change.Note, change.GateEffect, "",
		"All files of the database%s are copied, which takes as long as the disks need. Nobody can use it meanwhile.",
		size).Passing = true
	move := "ALTER DATABASE " + quoteIdent(d.Name) + " SET TABLESPACE "
	return change.Step{Kind: stepMove, Title: "move its files to " + naming.Show(to), Statement: move + quoteIdent(to),
		Undo: move + quoteIdent(from), Seconds: dropSeconds,
		Args: map[string]string{"name": d.Name, "key": d.Key, "tablespace": to, "from": from}}
}

// planEndSessions briefs ending sessions.
func planEndSessions(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	statement := terminate
	if in.Sessions.StatementOnly {
		statement = cancelOnly
	}
	planning.EndSessions(b, in, snap, statement)
}

// clearTemplate lays out clearing a template that is in use: its gate is closed
// before the copy, and opened again right after it.
func clearTemplate(b *change.Brief, in change.Intent, snap catalog.Snapshot) (before, after []change.Step) {
	t := *snap.Source
	if !detailsOf(snap.Details).SourceMine {
		b.Find(change.Stop, change.DatabaseDenied,
			"GRANT "+quoteIdent(t.Owner)+" TO "+quoteIdent(snap.Instance.Login.Name),
			"Only its owner may keep others out of the template %s.", naming.Show(t.Name))
	}
	before = []change.Step{planning.Clearing(b, snap, in.Clearing.Rules(clearing.Target{Database: t.Name}),
		"the template "+naming.Show(t.Name), terminate)}
	if !t.Closed {
		b.Find(change.Note, change.GateEffect, "", "While %s is copied nobody can connect to it, superusers included.",
			naming.Show(t.Name))
		before, after = append([]change.Step{gateStep(t)}, before...), []change.Step{openStep(t, t.Name)}
		after[0].Title = strings.Replace(after[0].Title, "let everybody connect",
			"let everybody connect to "+naming.Show(t.Name), 1)
	}
	return before, after
}

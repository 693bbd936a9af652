package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// The kinds of steps by which a database is set aside and brought back.
const (
	stepSave    = "save_definitions"
	stepAside   = "move_aside"
	stepShell   = "drop_shell"
	stepBack    = "move_back"
	stepRegrant = "grant_again"
	stepHeld    = "drop_holding"
	stepNote    = "note_holding"
)

// planSetAside briefs setting a database aside: its tables are moved in one statement,
// everything else is saved, dropped, and made again when it comes back.
func planSetAside(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	spec := *in.Database
	spec.Name = folded(spec.Name, detailsOf(snap.Details).FoldsCase)
	shown := naming.Show(spec.Name)
	b.Summary, b.Confirm = "set database "+shown+" aside on "+snap.Server.Name, spec.Name
	if !planning.DatabaseThere(b, spec, snap, "set aside") || b.Stopped() {
		return
	}
	d, impact := *snap.Target, *snap.DropImpact
	has := dropDetailsOf(impact.Details).Objects
	planAsideBlockers(b, d, impact, snap)
	planReadOnly(b, d)
	g := planGate(d.Name, snap, true)
	people, exempt := g.leaks(snap)
	rules := in.Clearing.Rules(clearing.Target{Database: d.Name})
	rules.GateIncomplete = g.incomplete(people, exempt, in)
	waits := heldName(d.Name, snap.Names)
	h := planning.HoldingOf(in, snap)
	h.Kept = map[string]string{"encoding": d.Encoding, "collation": d.Collation}
	planning.SetAside(b, in, snap, h, waits, "The name "+shown+
		" and the connections are free afterwards; the disk is not: all files stay. "+
		"Grants on the name are kept with it.")
	clear := planning.Clearing(b, snap, rules, shown, productOf(snap).killEach())
	b.Set(change.Setting{Name: "name", Value: spec.Name, Asked: true, Decides: "which database"})
	planning.SessionPolicy(b, in.Clearing)
	planUnreached(b, g)
	planLeaks(b, in, people, exempt, rules.Target.Of(snap.Connected), snap, &g)
	if len(g.do) > 0 {
		b.Steps = append(b.Steps, gateStep(g, d.Name, snap.Self))
	}
	planning.Unseen(b, snap)
	b.Steps = append(b.Steps, clear, saveStep(d, waits, planning.WriteNote(h), snap),
		moveStep(stepAside, "move its tables to "+naming.Show(waits)+", and drop what was saved", d.Name, waits, has),
		change.Step{Kind: stepShell, Title: "drop what is left of " + shown + ", which is empty",
			Statement: dropDatabase(d.Name), Undo: createDatabase(d.Name, d.Encoding, d.Collation, d.Comment) +
				encrypted(d.Properties.Bool(encryption)),
			Args: map[string]string{"name": d.Name}})
	if len(g.after) > 0 {
		b.Steps = append(b.Steps, restoreStep(g, d.Name, true))
	}
	b.Steps = append(b.Steps, change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
		Args: map[string]string{"check": "held", "name": waits, "held_as": d.Name,
			"tables": fmt.Sprint(len(has.Tables))}})
}

// planAsideBlockers stops at what would keep a database from moving, or from coming back.
func planAsideBlockers(b *change.Brief, d catalog.Database, impact catalog.DropImpact, snap catalog.Snapshot) {
	planMoving(b, d, snap)
	details := dropDetailsOf(impact.Details)
	if keys := details.OutsideKeys; len(keys) > 0 {
		b.Find(change.Caution, change.KeysOutside, "Have the applications of those tables in mind.",
			"Foreign keys of other databases point into %s; they follow it, and hold on: %s.", naming.Show(d.Name),
			planning.Shorten(keys))
	}
	if broken := details.Objects.Broken; len(broken) > 0 {
		b.Find(change.Stop, change.HoldingBroken, "Drop these views first, or mend them; or drop it for good.",
			"Views that do not work as they are could not be made again: %s.", planning.Shorten(broken))
	}
	if slices.ContainsFunc(details.Objects.Tables, func(t string) bool { return strings.EqualFold(t, heldTable) }) {
		b.Find(change.Stop, change.NameTaken, "Rename that table first.",
			"A table of it is named %s, as the one in which Genarch keeps what it saves.", heldTable)
	}
	planning.Manage(b, snap)
}

// planMoving stops at what keeps tables from moving and definitions from being made again.
// Foreign keys of other databases do not: they follow.
func planMoving(b *change.Brief, d catalog.Database, snap catalog.Snapshot) {
	impact, details := *snap.DropImpact, *dropDetailsOf(snap.DropImpact.Details)
	details.OutsideKeys = nil
	impact.Details = &details
	planBlockers(b, d, impact, productOf(snap))
	planning.Rights(b, snap)
	for _, needed := range []string{"give_bundles", "drop_database", "set_definers"} {
		if login := snap.Instance.Login; !login.May(needed) {
			b.Find(change.Stop, change.RightsMissing, login.Remedy(needed),
				"Moving a database makes its definitions and grants again, which %s may not do.", login.Name)
		}
	}
}

func saveStep(d catalog.Database, waits, note string, snap catalog.Snapshot) change.Step {
	// Events that move there keep the collation of the database that they came from only if
	// it is the same.
	do := []string{createDatabase(waits, d.Encoding, d.Collation, productOf(snap).remark(heldComment)) +
		encrypted(d.Properties.Bool(encryption)),
		createHeldTable(waits)}
	undo := dropDatabase(waits)
	var events []string
	for _, e := range dropDetailsOf(snap.DropImpact.Details).Events {
		events = append(events, e.Name, e.Definer)
	}
	return change.Step{Kind: stepSave,
		Title:     "save definitions and grants in " + naming.Show(waits) + "." + heldTable,
		Statement: strings.Join(do, ";\n"), Undo: undo, Repair: undo, Seconds: 120,
		Args: map[string]string{"name": d.Name, "held": waits, "note": note, "do": engine.EncodeList(do),
			"undo": engine.EncodeList([]string{undo}), "events": engine.EncodeList(events),
			"grants": engine.EncodeList(writeGrants(grantsOn(d.Name, *snap.Access, snap.Self)))}}
}

// moveStep moves everything from one database into another, and back if it is undone.
func moveStep(kind, title, from, to string, has objects) change.Step {
	do, undo := has.moved(from, to), has.moved(to, from)
	if kind == stepBack { // what was saved is made, not dropped
		do = objects{Tables: has.Tables, Events: has.Events}.moved(from, to)
	} else {
		undo = objects{Tables: has.Tables, Events: has.Events}.moved(to, from)
	}
	back := strings.Join(undo, ";\n")
	return change.Step{Kind: kind, Title: title, Statement: strings.Join(do, ";\n"), Undo: back, Repair: back,
		Restores: len(undo) > 1, Seconds: dropSeconds,
		Args: map[string]string{"name": from, "to": to, "do": engine.EncodeList(do), "undo": engine.EncodeList(undo)}}
}

// planHolding briefs what is done with a database that was set aside.
func planHolding(b *change.Brief, in change.Intent, snap catalog.Snapshot) {
	action := map[change.Kind]string{change.BringBack: "brought back", change.Discard: "discarded",
		change.KeepHolding: "kept longer"}[in.Kind]
	b.Summary = "what was set aside as " + naming.Show(in.Holding.ID)
	if !planning.HoldingThere(b, in, snap, action) {
		return
	}
	d := *snap.Target
	switch in.Kind {
	case change.BringBack:
		planBringBack(b, in, d, snap)
	case change.Discard:
		planning.Discard(b, in, snap)
		planBlockers(b, d, *snap.DropImpact, productOf(snap))
		planHeldSessions(b, in, d, snap)
		b.Steps = append(b.Steps, change.Step{Kind: stepDrop,
			Title:     "check once more, and drop database " + naming.Show(d.Name),
			Statement: dropDatabase(d.Name), Repair: alterDatabase(d), Uncut: true, Seconds: dropSeconds,
			Args: map[string]string{"name": d.Name, "objects": fmt.Sprint(total(snap.DropImpact.Objects))}},
			change.Step{Kind: change.Verify, Title: "read back that it is gone", ReadOnly: true,
				Args: map[string]string{"check": "database_gone", "name": d.Name}})
	case change.KeepHolding:
		if h, differs := planning.KeepHolding(b, in, snap); differs {
			was, will := planning.WriteNote(*d.Held), planning.WriteNote(h)
			b.Steps = append(b.Steps, change.Step{Kind: stepNote, Title: "note it beside its tables",
				Statement: updateNote(d.Name, will), Undo: updateNote(d.Name, was),
				Args: map[string]string{"name": d.Name, "note": will}},
				change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
					Args: map[string]string{"check": "held", "name": d.Name, "note": will}})
		}
	}
}

// planHeldSessions ends sessions that are in what waits.
func planHeldSessions(b *change.Brief, in change.Intent, d catalog.Database, snap catalog.Snapshot) {
	if planning.IsConnected(snap) {
		b.Steps = append(b.Steps, planning.Clearing(b, snap, in.Clearing.Rules(clearing.Target{Database: d.Name}),
			naming.Show(d.Name), productOf(snap).killEach()))
		planning.SessionPolicy(b, in.Clearing)
	}
}

// planBringBack makes the database again, moves its tables back, makes again what was
// saved, and grants what was granted on it.
func planBringBack(b *change.Brief, in change.Intent, d catalog.Database, snap catalog.Snapshot) {
	h := *d.Held
	if in.Holding.NewName != "" {
		in.Holding.NewName = folded(in.Holding.NewName, detailsOf(snap.Details).FoldsCase)
	}
	name := planning.BackAs(b, in, snap, productOf(snap).limits)
	shown := naming.Show(name)
	b.Summary = "bring database " + naming.Show(h.Name) + " back on " + snap.Server.Name
	details := dropDetailsOf(snap.DropImpact.Details)
	if name != h.Name {
		b.Summary += " as " + shown
		b.Find(change.Caution, change.HoldingRenamed, "Look through them afterwards.",
			"What is written in routines, triggers and defaults with the name %s in front means that name still.",
			naming.Show(h.Name))
	}
	planMoving(b, d, snap)
	kept := details.Saved
	if n := len(kept.Definitions) + len(kept.Grants) + len(kept.Events); n > 0 && !kept.Sealed {
		b.Find(change.Caution, change.HoldingUnsealed,
			"Look through the table "+heldTable+" there: each text is sent as it stands.",
			"What was saved with it does not bear the seal of this Genarch: its key was lost, or somebody else wrote "+
				"it. %s would be made with the rights of Genarch's login.", naming.Count(n, "definition or grant",
				"definitions and grants"))
	}
	planHeldSessions(b, in, d, snap)
	has := comingBack(details)
	title := "move its tables back"
	if n := len(details.Saved.Definitions); n > 0 {
		title += ", and make again what was saved: " + naming.Count(n, "view, routine or trigger",
			"views, routines and triggers")
	}
	b.Steps = append(b.Steps,
		change.Step{Kind: stepCreate, Title: "create database " + shown,
			Statement: createDatabase(name, h.Kept["encoding"], h.Kept["collation"], h.Comment) +
				encrypted(d.Properties.Bool(encryption)), // as what waits is
			Undo: dropDatabase(name), Args: map[string]string{"name": name}},
		sealedStep(moveStep(stepBack, title, d.Name, name, has), details.Saved.Sealed))
	if step, any := planRegrant(b, name, details.Saved, snap); any {
		b.Steps = append(b.Steps, step)
	}
	args := map[string]string{"name": d.Name, "to": name, "definitions": h.Kept["definitions"],
		"tables": fmt.Sprint(len(has.Tables))}
	if name != h.Name {
		args["definitions"] = h.Kept["elsewhere"]
	}
	b.Steps = append(b.Steps, change.Step{Kind: stepHeld, Statement: dropDatabase(d.Name), Args: args,
		Irreversible: true,
		Title:        "compare what came back with what was saved, and drop " + naming.Show(d.Name)},
		change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true,
			Args: map[string]string{"name": name, "encoding": h.Kept["encoding"], "collation": h.Kept["collation"],
				"comment": h.Comment}})
}

// sealedStep notes on a step that what was saved bears no seal, which its brief said.
func sealedStep(step change.Step, sealed bool) change.Step {
	if !sealed {
		step.Args["unsealed"] = "accepted"
	}
	return step
}

// comingBack are the objects that a database has once it is back.
func comingBack(details *dropDetails) objects {
	has := details.Objects
	has.Tables = slices.DeleteFunc(slices.Clone(has.Tables), func(t string) bool { return t == heldTable })
	for _, x := range details.Saved.Definitions {
		switch x.Kind {
		case "view":
			has.Views = append(has.Views, x.Name)
		case "trigger":
			has.Triggers = append(has.Triggers, x.Name)
		default:
			has.Routines = append(has.Routines, routine{x.Kind, x.Name})
		}
	}
	return has
}

// planRegrant grants again what was granted on it, and enables the events that were.
func planRegrant(b *change.Brief, name string, kept saved, snap catalog.Snapshot) (change.Step, bool) {
	var do, undo, gone []string
	for _, g := range kept.Grants {
		there := g.Grantee == catalog.Public || slices.ContainsFunc(snap.Access.Accounts,
			func(a catalog.Account) bool { return a.Principal == g.Grantee })
		grant, revoke, err := g.sql(name)
		if !there || err != nil {
			gone = append(gone, g.Grantee.String())
			continue
		}
		do = append(do, grant)
		if revoke != "" {
			undo = append(undo, revoke)
		}
	}
	for _, e := range kept.Events {
		do, undo = append(do, alterEvent(name, e)+" ENABLE"), append(undo, alterEvent(name, e)+" DISABLE")
	}
	if len(gone) > 0 {
		b.Find(change.Caution, change.HoldingGrants, "Grant what is needed to others.",
			"Accounts and roles that are gone get nothing back: %s.", planning.Shorten(gone))
	}
	slices.Reverse(undo)
	back := strings.Join(undo, ";\n")
	return change.Step{Kind: stepRegrant, Title: "grant again what was granted on it, and enable its events",
		Statement: strings.Join(do, ";\n"), Undo: back, Restores: len(undo) > 1, Repair: back, Seconds: 60 + len(do),
		Args: map[string]string{"name": name, "do": engine.EncodeList(do),
			"undo": engine.EncodeList(undo)}}, len(do) > 0
}

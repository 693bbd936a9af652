package postgres

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/clearing"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine/planning"
)

// planSetAside is the act of setting a database aside, once it is closed and empty: what
// it was is noted in its comment, and it gets the name under which it waits. It stays
// closed.
func planSetAside(b *change.Brief, in change.Intent, d catalog.Database, snap catalog.Snapshot) (act []change.Step,
	waits string) {
	if login := snap.Instance.Login; !login.May("create_database") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("create_database"),
			"Setting it aside renames it, which needs the right to create databases; %s lacks it.", login.Name)
	}
	for _, x := range dropDetailsOf(snap.DropImpact.Details).Slots {
		if x.Active {
			b.Find(change.Stop, change.ReplicationRunning, "Stop the receiver.",
				"The logical replication slot %s is in use: a consumer receives what is written here.",
				naming.Show(x.Name)).Passing = true
			continue
		}
		b.Find(change.Caution, change.HoldingSlot, "Drop the slot first, if its consumer is gone for good.",
			"The logical replication slot %s waits with it, and the server keeps all its log from there on.",
			naming.Show(x.Name))
	}
	for _, x := range dropDetailsOf(snap.DropImpact.Details).Subscriptions {
		b.Find(change.Caution, change.HoldingSlot, "Drop the subscription first, if it is not to go on.",
			"The subscription %s receives nothing while the database waits, and its publisher keeps the log for it.",
			naming.Show(x))
	}
	waits = heldName(d)
	h := planning.HoldingOf(in, snap)
	planning.SetAside(b, in, snap, h, waits, "The name "+naming.Show(d.Name)+
		" and the connections are free afterwards; the disk is not: all files stay as they are.")
	return []change.Step{noteStep(d, "note in its comment what it was, and how long it is kept", planning.WriteNote(h)),
		renameStep(d, waits)}, waits
}

// noteStep sets the comment of a database that is known by its number.
func noteStep(d catalog.Database, title, comment string) change.Step {
	return change.Step{Kind: stepNote, Title: title, Statement: commentOnDatabase(d.Name, comment),
		Undo: commentOnDatabase(d.Name, d.Comment),
		Args: map[string]string{"name": d.Name, "key": d.Key, "comment": comment, "was": d.Comment}}
}

// planHolding briefs what is done with a database that was set aside.
func planHolding(p *planning.Draft) {
	b, in, snap := &p.Brief, p.In, p.Snap
	action := map[change.Kind]string{change.BringBack: "brought back", change.Discard: "discarded",
		change.KeepHolding: "kept longer"}[in.Kind]
	b.Summary = "what was set aside as " + naming.Show(in.Holding.ID)
	if !planning.HoldingThere(b, in, snap, action) {
		return
	}
	d := *snap.Target
	switch in.Kind {
	case change.BringBack:
		planBringBack(p, d)
	case change.Discard:
		planning.Discard(b, in, snap)
		for _, x := range dropDetailsOf(snap.DropImpact.Details).Subscriptions {
			b.Find(change.Stop, change.ReplicationRunning, "Bring it back, and drop the subscription there.",
				"The server does not drop a database that has a subscription: %s.", naming.Show(x)).
				Offer(remedy.Command("holding.bring-back", b.Target))
		}
		planEmpty(p, d)
		b.Steps = append(b.Steps, dropStep(d), goneStep(d))
	case change.KeepHolding:
		if h, differs := planning.KeepHolding(b, in, snap); differs {
			comment := planning.WriteNote(h)
			verify := readBackStep(d, d.Name, yesNo(d.Closed))
			verify.Args["comment"] = comment
			b.Steps = append(b.Steps, noteStep(d, "note it in its comment", comment), verify)
		}
	}
}

// planBringBack gives it its name and its comment back, and opens it if it was open.
func planBringBack(p *planning.Draft, d catalog.Database) {
	b, snap, h := &p.Brief, p.Snap, *d.Held
	if login := snap.Instance.Login; !login.May("create_database") {
		b.Find(change.Stop, change.RightsMissing, login.Remedy("create_database"),
			"Bringing it back renames it, which needs the right to create databases; %s lacks it.", login.Name)
	}
	name := planning.BackAs(b, p.In, snap, limits)
	b.Summary = "bring database " + naming.Show(h.Name) + " back on " + snap.Server.Name
	if name != h.Name {
		b.Summary += " as " + naming.Show(name)
	}
	if name == d.Name {
		b.Find(change.Stop, change.NameTaken, "Choose another name.", "It waits under that name.").Option = "new_name"
	}
	planEmpty(p, d)
	b.Steps = append(b.Steps, renameStep(d, name))
	back := d
	back.Name = name
	b.Steps = append(b.Steps, noteStep(back, "give it its comment back", h.Comment))
	if h.Open {
		b.Steps = append(b.Steps, openStep(d, name))
	}
	verify := readBackStep(d, name, yesNo(!h.Open))
	verify.Args["comment"] = h.Comment
	b.Steps = append(b.Steps, verify)
}

// planEmpty clears a database that somebody opened, or is in, although it was set aside.
func planEmpty(p *planning.Draft, d catalog.Database) {
	b, snap := &p.Brief, p.Snap
	if d.Closed && !planning.IsConnected(snap) {
		return
	}
	b.Find(change.Caution, change.HoldingOpened, "Find out who opened it, and what for.",
		"%s was opened outside Genarch since it was set aside; it may not be what it was.", naming.Show(d.Name))
	if !d.Closed && !d.Broken {
		p.Step(planGate(b, d))
	}
	b.Steps = append(b.Steps, planning.Clearing(b, snap, p.In.Clearing.Rules(clearing.Target{Database: d.Name}),
		naming.Show(d.Name), terminate))
	planning.SessionPolicy(b, p.In.Clearing)
}

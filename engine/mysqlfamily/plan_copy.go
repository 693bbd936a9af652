package mysqlfamily

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/remedy"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// The kinds of steps by which a database is copied.
const (
	stepCopyTables = "copy_tables"
	stepCopyRows   = "copy_rows"
	stepCopyRest   = "copy_definitions"
)

// checksums is the option by which the tables of a copy are compared with those of the template.
const checksums = "checksum"

// copySeconds bounds the copying of rows: half a day.
const copySeconds = 12 * 3600

// planCopy says what is copied from the template, and lays out the steps for it.
func planCopy(p *planning.Draft) []change.Step {
	b, snap, to := &p.Brief, p.Snap, p.In.Database.Name
	if snap.Source == nil {
		return nil // nothing was asked for, or the choice is not there, which was said
	}
	from := snap.Source.Name
	more := detailsOf(snap.Details)
	what, has := more.Copied, more.Objects
	shown := naming.Show(from)
	title := productOf(snap).description.Title
	p.Default("data", "all", title)
	p.Default("freeze", true, title)
	p.Default(checksums, false, title)
	p.Default("copy_grants", false, title)
	rows := p.Settled.Text("data") != "none"
	planCopyStops(p, what, has)
	text := naming.Count(len(what.Tables), "table") + " without rows"
	if rows {
		text = naming.Count(len(what.Tables), "table") + fmt.Sprintf(", about %d rows", what.rows())
	}
	b.Find(change.Note, change.CopyWhat, "", "%s is copied: %s. It goes on as it is.", shown, text).Passing = true
	if len(has.Events) > 0 {
		b.Find(change.Note, change.CopyEvents, "Enable those that the copy is to have.",
			"%s copied and disabled: in both databases they would do everything twice.",
			naming.Count(len(has.Events), "event is", "events are"))
	}
	if len(what.Naming) > 0 {
		b.Find(change.Caution, change.CopyNames, "Look through them afterwards.",
			"These have the name %s in front of something, and would mean %s in the copy too: %s.", shown, shown,
			planning.Shorten(what.Naming))
	}
	frozen := p.Settled.Bool("freeze")
	if p.Settled.Bool(checksums) && (!frozen || !rows) {
		p.About(checksums, change.Stop, change.OptionInvalid, "Hold writers up, and copy the rows; or do not compare.",
			"Checksums can be compared only where rows are copied and nobody writes meanwhile.").
			Offer(remedy.Option("options.freeze", remedy.Yes))
	}
	planWriters(b, shown, more.CopiedSessions, rows && len(what.Tables) > 0, frozen)
	steps := productOf(snap).copySteps(from, to, what, has, rows, frozen)
	for i := range steps {
		if steps[i].Kind == stepCopyRows && p.Settled.Bool(checksums) {
			steps[i].Title += ", and compare checksums"
			steps[i].Args[checksums] = "yes"
		}
	}
	return steps
}

// planWriters says what the copy means to those who write to the template meanwhile.
func planWriters(b *change.Brief, shown string, sessions int, rows, frozen bool) {
	switch connected := naming.Count(sessions, "session is", "sessions are"); {
	case !rows:
	case frozen && sessions > 0:
		f := b.Find(change.Caution, change.CopyFreezes, "Copy while nobody writes; or let them write.",
			"Nobody can write to the tables of %s while rows are copied; who tries waits, and %s connected.", shown,
			connected).Offer(remedy.Option("options.freeze", remedy.Off))
		f.Passing = true
	case frozen:
		b.Find(change.Note, change.CopyFreezes, "",
			"Nobody can write to the tables of %s while rows are copied; who tries waits. Reading goes on.",
			shown).Passing = true
	case sessions > 0:
		f := b.Find(change.Caution, change.CopyMoving, "Hold writers up meanwhile; or copy while nobody writes.",
			"%s connected to %s: what is written meanwhile may be in one table of the copy and not in another.",
			connected, shown).Offer(remedy.Option("options.freeze", remedy.Yes))
		f.Passing = true
	}
}

// planCopyStops stops at what could not be made in the copy.
func planCopyStops(p *planning.Draft, what copied, has objects) {
	if len(has.Broken) > 0 {
		p.About("template", change.Stop, change.HoldingBroken, "Drop these views first, or mend them.",
			"Views that do not work as they are could not be made again: %s.", planning.Shorten(has.Broken))
	}
	if login := p.Snap.Instance.Login; has.defined() > 0 && !login.May("set_definers") {
		p.Find(change.Stop, change.RightsMissing, login.Remedy("set_definers"),
			"Copying makes definitions of others again, which %s may not do.", login.Name)
	}
}

func (of *product) copySteps(from, to string, what copied, has objects, rows, frozen bool) []change.Step {
	var steps []change.Step
	args := func(more ...string) map[string]string {
		m := map[string]string{"from": from, "name": to, "tables": engine.EncodeList(what.tableNames())}
		for i := 0; i+1 < len(more); i += 2 {
			m[more[i]] = more[i+1]
		}
		return m
	}
	undo := of.unmake(to, what.tableNames())
	if n := len(what.tableNames()); n > 0 {
		do := what.make(from, to)
		steps = append(steps, change.Step{Kind: stepCopyTables, Title: "make " + naming.Count(n, "table and sequence",
			"tables and sequences") + ", still empty", Statement: strings.Join(do, ";\n"), Undo: undo, Repair: undo,
			Seconds: dropSeconds, Args: args("do", engine.EncodeList(do), "undo", engine.EncodeList([]string{undo}))})
		var lock string
		var fills []string
		if rows {
			fills = what.fills(from, to)
			if frozen {
				lock = what.freeze(from, to)
			}
		}
		// The next numbers are read when they are set.
		lines := slices.DeleteFunc(slices.Concat([]string{lock}, fills, what.keys(from, to)),
			func(text string) bool { return text == "" })
		const nothing = "SELECT 'the rows go with their tables'"
		steps = append(steps, change.Step{Kind: stepCopyRows,
			Title:     "copy rows, then set next numbers and foreign keys",
			Statement: strings.Join(lines, ";\n"), Undo: nothing, Repair: nothing, Halts: true, Seconds: copySeconds,
			Args: args("lock", lock, "do", engine.EncodeList(fills),
				"statements", engine.EncodeList(what.keys(from, to)))})
	}
	if n := has.defined(); n > 0 {
		drop := has.dropped(to)
		back := strings.Join(drop, ";\n")
		steps = append(steps, change.Step{Kind: stepCopyRest, Undo: back, Repair: back, Restores: len(drop) > 1,
			Title: "make " + naming.Count(n, "routine, view, trigger or event",
				"routines, views, triggers and events") + " as those of " + naming.Show(from), Seconds: dropSeconds,
			Args: args("objects", fmt.Sprint(n), "undo", engine.EncodeList(drop))})
	}
	return steps
}

// copyGrants gives everybody on the copy what is held on the template.
func copyGrants(p *planning.Draft) ([]change.Step, error) {
	if p.Snap.Source == nil || !p.Settled.Bool("copy_grants") || p.Snap.Access == nil {
		return nil, nil
	}
	var do, undo []string
	for _, g := range grantsOn(p.Snap.Source.Name, *p.Snap.Access, p.Snap.Self) {
		grant, revoke, err := g.sql(p.In.Database.Name)
		if err != nil {
			return nil, err
		}
		do = append(do, grant)
		if revoke != "" {
			undo = append([]string{revoke}, undo...)
		}
	}
	if len(do) == 0 {
		return nil, nil
	}
	back := strings.Join(undo, ";\n")
	return []change.Step{{Kind: stepRegrant, Title: "grant on it what is granted on " + naming.Show(p.Snap.Source.Name),
		Statement: strings.Join(do, ";\n"), Undo: back, Restores: len(undo) > 1, Repair: back, Seconds: 60 + len(do),
		Args: map[string]string{"name": p.In.Database.Name, "do": engine.EncodeList(do),
			"undo": engine.EncodeList(undo)}}}, nil
}

package sqlserver

import (
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/planning"
)

// planAlter briefs altering what can be altered. What takes effect at once comes first; then, by a
// session that has the database alone, the rest; the owner last.
//
// Long: its cases stand in the order in which their findings are read.
func planAlter(p *planning.Draft) {
	b, spec, snap := &p.Brief, *p.In.Database, p.Snap
	p.Summary = "alter database " + shown(spec.Name) + " on " + snap.Server.Name
	if !planning.DatabaseThere(b, spec, snap, planning.Altered) {
		return
	}
	d := *snap.Target
	planCautions(p, p.Asked)
	for _, f := range p.Asked.Rows("files") {
		if len(f) == 1 && slices.ContainsFunc(d.Properties.Rows("files"), func(x catalog.Values) bool {
			return strings.EqualFold(x.Text("name"), f.Text("name"))
		}) {
			p.About("files", change.Stop, change.OptionInvalid, "Leave it as it is.",
				"No file is taken away: %s.", shown(f.Text("name")))
		}
	}
	list := p.Alterations()
	if p.Outcome == change.Nothing {
		return
	}
	owner, list := planning.Take(list, "owner")
	files, list := planning.Take(list, "files")
	offline, list := planning.Take(list, "offline")
	if d.Closed && offline == nil {
		b.Find(change.Stop, change.DatabaseClosed, "Bring it online first: --set offline=no", "%s is not "+
			"online.", shown(d.Name))
		return
	}
	if offline != nil && (len(list) > 0 || owner != nil || files != nil) {
		p.About("offline", change.Stop, change.OptionInvalid, "Alter that by a change of its own.",
			"Nothing else can be altered while it goes offline, or before it is online.")
	}
	if p.Asked.Text("access") == "single_user" {
		p.About("access", change.Stop, change.OptionUnusable, "Take restricted_user, or set it aside.",
			"Left for a single session, it belongs to whoever comes first, and nobody else could alter it.")
	}
	want := map[string]string{"name": d.Name, "key": d.Key}
	var after []change.Step
	if access, rest := planning.Take(list, "access"); access != nil {
		list = append(rest, *access) // last: what comes before gives it free again as it was
	}
	for _, a := range list {
		want[a.Name] = catalog.WriteValue(a.Will)
		step := alterStep(d, a)
		if a.Alone {
			after = append(after, step)
		} else {
			p.Step(step)
		}
	}
	if files != nil {
		planAlterFiles(p, d)
		want["files"] = writeRows(p.Asked.Rows("files"))
	}
	if offline != nil {
		want["offline"] = catalog.WriteValue(offline.Will)
		after = append(after, planOffline(p, d, offline.Will == true))
	}
	alone := len(after) > 0 && !d.Closed
	switch {
	case alone:
		b.Find(change.Note, change.GateEffect, "",
			"%s is taken for one session, Genarch's own, while that is done: whoever is in it is ended, and nobody "+
				"gets in.",
			shown(d.Name))
		var acts []*change.Step
		for i := range after {
			acts = append(acts, &after[i])
		}
		clear := planClearing(p, d, acts...)
		planning.SessionPolicy(b, p.In.Clearing)
		p.Step(clear)
	case p.In.Clearing != nil:
		b.Find(change.Stop, change.OptionInvalid, "Leave it out.",
			"Nobody has to leave %s for this, so no session is ended or waited for.", shown(d.Name))
	}
	p.Step(after...)
	if owner != nil {
		want["owner"] = catalog.WriteValue(owner.Will)
		planOwner(p, d, want["owner"])
	}
	planning.Unseen(b, snap)
	p.Step(change.Step{Kind: change.Verify, Title: "read back and compare", ReadOnly: true, Args: want})
}

// alterStep sets one option; its undo is the former value.
func alterStep(d catalog.Database, a planning.Alteration) change.Step {
	step := change.Step{Kind: stepAlter, Title: a.Words(), Args: map[string]string{"name": d.Name, "key": d.Key,
		a.Name: catalog.WriteValue(a.Will)}}
	write := func(value any) string { return setOption(d.Name, clause(a.Name, value), "") }
	if a.Name == "collation" {
		write = func(value any) string {
			return "ALTER DATABASE " + quoteIdent(d.Name) + " COLLATE " + quoteWord(catalog.WriteValue(value))
		}
	}
	step.Statement, step.Undo = write(a.Will), write(a.Is)
	if a.Alone {
		step.Kind, step.Seconds, step.Repair = stepAlone, longSeconds, freeStatement(d.Name, d)
		step.Args["access"] = accessAfter(d, a)
		step.Args["former"] = d.Properties.Text("access")
		step.Args["act"], step.Args["now"] = step.Statement, d.Name
	}
	return step
}

// accessAfter is who gets in once a database is given free again.
func accessAfter(d catalog.Database, a planning.Alteration) string {
	if a.Name == "access" {
		return catalog.WriteValue(a.Will)
	}
	return d.Properties.Text("access")
}

// planOffline takes a database offline, or brings it back.
func planOffline(p *planning.Draft, d catalog.Database, off bool) change.Step {
	if !off {
		return onlineStep(d)
	}
	if login := p.Snap.Instance.Login; !login.May("alter_database") {
		p.About("offline", change.Stop, change.RightsMissing, login.Remedy("alter_database"),
			"Genarch's login %s could not bring it online again: for that its rights within do not count.", login.Name)
	}
	planning.Dependents(&p.Brief, p.Snap.DropImpact.Dependents, nil)
	title, termination := "take it offline, which ends whoever is in it", atOnce
	if c := p.In.Clearing; c != nil && c.WhenEmpty > 0 {
		title, termination = "take it offline", noWait
	}
	return change.Step{Kind: stepAlter, Title: title, Seconds: longSeconds,
		Statement: setOption(d.Name, "OFFLINE", termination), Undo: setOption(d.Name, "ONLINE", ""),
		Args: map[string]string{"name": d.Name, "key": d.Key, "offline": "yes"}}
}

// onlineStep brings a database online, which is recovered first.
func onlineStep(d catalog.Database) change.Step {
	return change.Step{Kind: stepOnline, Title: "bring it online", Seconds: longSeconds,
		Statement: setOption(d.Name, "ONLINE", ""), Undo: setOption(d.Name, "OFFLINE", atOnce),
		Args: map[string]string{"name": d.Name, "key": d.Key, "offline": "no"}}
}

// planOwner gives it to another login.
func planOwner(p *planning.Draft, d catalog.Database, to string) {
	login := p.Snap.Instance.Login
	if detailsOf(p.Snap.Details).OwnerUser {
		userOwns(p, to, d.Name)
	}
	if !login.Superuser && to != login.Name {
		p.About("owner", change.Caution, change.OwnerDenied,
			"GRANT IMPERSONATE ON LOGIN::"+quoteIdent(to)+" TO "+quoteIdent(login.Name),
			"To give it to %s, Genarch's login %s needs the right to act as that login.", shown(to), login.Name)
	}
	if d.Owner != "" {
		p.About("owner", change.Note, change.OwnerReplaced, "",
			"%s loses all rights in it that came with owning it, at once.", shown(d.Owner))
	}
	p.Step(ownerStep(d.Name, to, d.Owner))
}

// userOwns stops where a user would become the owner.
func userOwns(p *planning.Draft, to, database string) {
	p.About("owner", change.Stop, change.OwnerDenied, "Drop that user first: the owner is dbo, and needs none.",
		"%s is a user in %s already, and no user can be its owner.", shown(to), shown(database))
}

// planAlterFiles adds files, and makes those larger that are there. No file is made smaller or taken
// away.
func planAlterFiles(p *planning.Draft, d catalog.Database) {
	have := d.Properties.Rows("files")
	more := detailsOf(p.Snap.Details)
	groups := map[string]bool{strings.ToUpper(primary): true}
	for _, f := range have {
		groups[strings.ToUpper(f.Text("filegroup"))] = true
	}
	var grown []catalog.Values
	for _, f := range differentFiles(p.Asked["files"], have) {
		name := f.Text("name")
		var is catalog.Values
		for _, x := range have {
			if strings.EqualFold(x.Text("name"), name) {
				is = x
			}
		}
		alter := "ALTER DATABASE " + quoteIdent(d.Name) + " "
		if is == nil {
			if f.Text("kind") == "" {
				f = f.With("kind", "data")
			}
			if f.Text("path") == "" {
				f = f.With("path", defaultPath(more, f, d.Name, 2, 2))
			}
			grown = append(grown, f)
			add, group := "ADD FILE ", f.Text("filegroup")
			if f.Text("kind") == fileLog {
				add, group = "ADD LOG FILE ", ""
			}
			to := ""
			if group != "" {
				to = " TO FILEGROUP " + quoteIdent(group)
				if !groups[strings.ToUpper(group)] {
					groups[strings.ToUpper(group)] = true
					p.Step(change.Step{Kind: stepAlter, Title: "add the filegroup " + shown(group),
						Statement: alter + "ADD FILEGROUP " + quoteIdent(group),
						Undo:      alter + "REMOVE FILEGROUP " + quoteIdent(group),
						Args:      map[string]string{"name": d.Name, "key": d.Key, "filegroup": group}})
				}
			}
			p.Step(change.Step{Kind: stepAlter, Title: "add the file " + shown(name), Seconds: longSeconds,
				Statement: alter + add + fileSpec(f) + to, Undo: alter + "REMOVE FILE " + quoteIdent(name),
				Args: map[string]string{"name": d.Name, "key": d.Key, "files": writeRows([]catalog.Values{f})}})
			continue
		}
		if size, asked := f.Int("size"); asked {
			was, _ := is.Int("size")
			grown = append(grown, catalog.Values{"path": is.Text("path"), "size": size - was})
		}
		planGrow(p, d, f, is)
	}
	planRoom(p, grown)
}

// planGrow alters the sizes of a file.
func planGrow(p *planning.Draft, d catalog.Database, f, is catalog.Values) {
	name := f.Text("name")
	size, asked := f.Int("size")
	was, _ := is.Int("size")
	if asked && size < was {
		p.About("files", change.Stop, change.OptionInvalid, "Leave the size out.",
			"The file %s has %d MB already, and no file is made smaller.", shown(name), was>>20)
	}
	for _, column := range []string{"path", "filegroup"} {
		if f.Has(column) && !strings.EqualFold(f.Text(column), is.Text(column)) {
			p.About("files", change.Stop, change.OptionInvalid, "Leave it out.",
				"Where the file %s lies cannot be altered while it is in use.", shown(name))
		}
	}
	parts := catalog.Values{"name": name}
	back := catalog.Values{"name": name}
	for _, column := range []string{"size", "max_size", "growth"} {
		if f.Has(column) && !fileAsAsked(catalog.Values{"name": name, column: f[column]}, is) {
			parts[column] = f[column]
			if column != "size" {
				back[column] = is[column]
			}
		}
	}
	step := change.Step{Kind: stepAlter, Title: "alter the file " + shown(name), Seconds: longSeconds,
		Statement: "ALTER DATABASE " + quoteIdent(d.Name) + " MODIFY FILE " + fileSpec(parts),
		Args:      map[string]string{"name": d.Name, "key": d.Key, "files": writeRows([]catalog.Values{parts})}}
	if len(back) > 1 {
		step.Undo = "ALTER DATABASE " + quoteIdent(d.Name) + " MODIFY FILE " + fileSpec(back)
	} else {
		step.Irreversible = true // a file that has grown stays as large
	}
	p.Step(step)
}

package sqlserver

import (
	"fmt"
	"slices"
	"strings"

	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/engine/planning"
)

// A copy is a backup of the template that is restored under the new name: the one way in which the server
// itself makes a whole copy while the template goes on.

// The kinds of steps by which a database is copied.
const (
	stepBackup  = "back_up"
	stepRestore = "restore"
	stepEmpty   = "empty_backup"
)

// template is the option that says of which database a new one is a copy.
const template = "template"

// copySeconds bounds a backup, and what is restored of it: half a day.
const copySeconds = 12 * 3600

// copied is what planning needs of the template, beside its properties.
type copied struct {
	// MayBackUp: Genarch's login may back it up; MayEmpty: and the database model too.
	MayBackUp, MayEmpty bool
	// Folder is where the server puts backups when nothing is said; it ends with the separator.
	Folder string
	// Naming are views, procedures and the like in whose text its name stands.
	Naming []string
}

// backupSQL writes a backup into a file, over whatever lies there. It is no part of anybody's sequence of
// backups.
func backupSQL(database, file string) string {
	return "BACKUP DATABASE " + quoteIdent(database) + "\n  TO DISK = " + quoteText(file) +
		" WITH COPY_ONLY, FORMAT, CHECKSUM"
}

// restoreSQL makes a new database of a backup, with its files where they are said to lie.
func restoreSQL(database, file string, files []catalog.Values) string {
	text := "RESTORE DATABASE " + quoteIdent(database) + "\n  FROM DISK = " + quoteText(file) + " WITH CHECKSUM"
	for _, f := range files {
		text += ",\n  MOVE " + quoteText(f.Text("name")) + " TO " + quoteText(f.Text("path"))
	}
	return text
}

// base is what a new database has before anything is set: what the database model has, or the template.
func base(p *planning.Draft) (catalog.Values, string) {
	from := p.Snap.Source
	if from == nil {
		return detailsOf(p.Snap.Details).Model, "database model"
	}
	// The server never lets a restored one be trustworthy.
	return from.Properties.With("trustworthy", false), "template " + from.Name
}

// planCopy says what comes of a copy, and lays out the steps that make it; files are where those of the copy come
// to lie.
func planCopy(p *planning.Draft, files []catalog.Values) []change.Step {
	from, more := *p.Snap.Source, detailsOf(p.Snap.Details)
	name, login := p.In.Database.Name, p.Snap.Instance.Login
	for _, option := range []string{"files", "collation", "containment"} {
		if p.Asked.Has(option) {
			p.About(option, change.Stop, change.OptionUnusable, "Leave it out, and alter the copy afterwards.",
				"A copy has that of its template.")
		}
	}
	if !more.Copied.MayBackUp {
		p.Find(change.Stop, change.RightsMissing, "Have an administrator run it: "+
			ofMember("ADD", catalog.Principal{Name: "db_backupoperator", Database: from.Name, Role: true}, login.Name)+
			", once the login has a user there; or have the login be a sysadmin.",
			"Genarch's login %s may not back up %s.", shown(login.Name), shown(from.Name))
	}
	planCopied(p, from)
	file := more.Copied.Folder + "genarch_copy_" + fileStem(name) + ".bak"
	empty := backupSQL("model", file)
	if more.Copied.MayEmpty {
		p.Find(change.Note, change.CopyFile, "",
			"Meanwhile a backup lies in %s on the server. At the end it is written over with one of the database "+
				"model; that small file stays.", shown(file))
	} else {
		empty = "SELECT 'the backup stays'"
		p.Find(change.Caution, change.CopyFile, "Have it removed on that machine afterwards.",
			"A backup with all that is in %s stays in %s on the server: Genarch's login %s may not back up the "+
				"database model, by which it would be written over.", shown(from.Name), shown(file), shown(login.Name))
	}
	size, _ := from.Properties.Int("data_size")
	args := func() map[string]string {
		return map[string]string{"name": name, "from": from.Name, "key": from.Key, "size": fmt.Sprint(size)}
	}
	drop := dropDatabase(name)
	steps := []change.Step{
		{Kind: stepBackup, Title: "back up " + shown(from.Name), Statement: backupSQL(from.Name, file), Undo: empty,
			Repair: empty, Halts: true, Seconds: copySeconds, Args: args()},
		{Kind: stepRestore, Title: "restore the backup as " + shown(name), Statement: restoreSQL(name, file, files),
			Undo: drop, Repair: drop, Halts: true, Seconds: copySeconds, Args: args()}}
	if more.Copied.MayEmpty {
		steps = append(steps, change.Step{Kind: stepEmpty, Title: "write over the backup", Statement: empty,
			Seconds: longSeconds, Args: args()})
	}
	return steps
}

// planCopied says what is copied, and what in the copy would not be as in the template.
func planCopied(p *planning.Draft, from catalog.Database) {
	more := detailsOf(p.Snap.Details)
	text := "all that is in it"
	if from.Tables != nil {
		text = naming.Count(*from.Tables, "table") + " and all else that is in it"
	}
	if from.Size != nil {
		text += ", in files of " + naming.SizeText(*from.Size)
	}
	p.Find(change.Note, change.CopyWhat, "",
		"%s is copied as it is when its backup ends: %s. It goes on, and nobody is held up; its own backups are not "+
			"disturbed.", shown(from.Name), text).Passing = true
	p.Find(change.Note, change.CopyPeople, "Look through them afterwards.",
		"Users, roles and grants are copied too: whoever may read %s may read the copy.", shown(from.Name))
	if len(more.Copied.Naming) > 0 {
		p.Find(change.Caution, change.CopyNames, "Look through them afterwards.",
			"These have the name %s in their text, and may mean %s in the copy too: %s.", shown(from.Name),
			shown(from.Name), planning.Shorten(more.Copied.Naming))
	}
	if from.Properties.Bool("trustworthy") {
		p.Find(change.Note, change.OptionUnusable, "Alter the copy afterwards, if it has to be.",
			"%s is trustworthy; a restored database never is.", shown(from.Name))
	}
}

// planCopiedTeam stops where what a team gets would be in the copy already, under the same name.
func planCopiedTeam(p *planning.Draft, t change.TeamSpec) {
	for _, who := range []catalog.Principal{t.Owner(), t.App(), t.Reader()} {
		if slices.ContainsFunc(p.Snap.Access.Accounts, func(a catalog.Account) bool {
			return a.Database == p.Snap.Source.Name && strings.EqualFold(a.Name, who.Name)
		}) {
			p.Find(change.Stop, change.AccountExists, "Choose another name for the team, or leave the team out.",
				"%s has %s already, and so will the copy.", shown(p.Snap.Source.Name), shown(who.Name))
		}
	}
}

// copiedFiles are where the files of a copy come to lie: in the server's folders, by their own names.
func copiedFiles(p *planning.Draft) (out []catalog.Values) {
	more := detailsOf(p.Snap.Details)
	var sized []catalog.Values
	var data, logs int
	for _, f := range p.Snap.Source.Properties.Rows("files") {
		plain := catalog.Values{"name": f.Text("name"), "kind": f.Text("kind")}
		group := f.Text("filegroup")
		switch {
		case f.Text("kind") == fileLog:
			logs++
		case group == "" || strings.EqualFold(group, primary):
			data++
		default:
			plain["filegroup"] = group
		}
		one := plain.With("path", defaultPath(more, plain, p.In.Database.Name, data, logs))
		size, _ := f.Int("size")
		out, sized = append(out, one), append(sized, one.With("size", size))
	}
	planRoom(p, sized)
	p.Default("files", out, "the server's folders")
	return out
}

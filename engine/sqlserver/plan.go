package sqlserver

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/planning"
)

// The kinds of steps that this engine carries out.
const (
	stepCreate = "create_database"
	stepOwner  = "set_owner"
	stepAlter  = "alter_database"
	stepAlone  = "alter_alone"
	stepDrop   = "drop_database"
	stepRename = "rename_database"
	stepAside  = "set_aside"
	stepBack   = "bring_back"
	stepNote   = "note_holding"
	stepMark   = "write_mark"
	stepOnline = "bring_online"
)

// longSeconds bounds what works on files: a log is written full of zeros when it is made, rolling
// back takes as long as the work took, and a database that comes online is recovered first.
const longSeconds = 900

// Plan briefs an intent. It is pure.
func (Engine) Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error) {
	p, possible, err := planning.New(in, snap, &description, equal)
	if err != nil {
		return change.Brief{}, err
	}
	if possible {
		planKind(p)
	}
	return p.Seal(), nil
}

func planKind(p *planning.Draft) {
	planTriggers(p)
	switch p.In.Kind {
	case change.CreateDatabase:
		planCreate(p)
	case change.AlterDatabase:
		planAlter(p)
	case change.DropDatabase, change.RenameDatabase, change.SetAside:
		planTakeAway(p)
	case change.BringBack, change.Discard, change.KeepHolding:
		planHolding(p)
	case change.FillDatabase:
		planFill(p)
	case change.EndSessions:
		planning.EndSessions(&p.Brief, p.In, p.Snap, kill)
	case change.MarkServer:
		planMark(p)
	case change.CreateAccount:
		planCreateAccount(p)
	case change.AlterAccount:
		planAlterAccount(p)
	case change.RenameAccount:
		planRenameAccount(p)
	case change.SetPassword:
		planSetPassword(p)
	case change.DropAccount:
		planDropAccount(p)
	case change.GrantRole, change.RevokeRole:
		planMember(p, p.In.Kind == change.GrantRole)
	case change.GrantPrivilege:
		planGive(p)
	case change.RevokePrivilege:
		planTake(p)
	}
}

// planTriggers cautions where code of tenants would run as Genarch's login.
func planTriggers(p *planning.Draft) {
	list := detailsOf(p.Snap.Details).Triggers
	if len(list) == 0 {
		return
	}
	login, may := p.Snap.Instance.Login, "with all of its rights"
	if login.Superuser {
		may = "which may do everything on the server"
	}
	p.Find(change.Caution, change.DatabaseTriggers, "Read them, or have their owner disable them meanwhile: DISABLE "+
		"TRIGGER … ON DATABASE",
		"Triggers run whenever something there is altered, as whoever alters it: here as Genarch's login %s, %s. They "+
			"are: %s.", shown(login.Name), may, planning.Shorten(list))
}

// planMark briefs writing the mark by which this server is known for certain from then on.
func planMark(p *planning.Draft) {
	b, snap, mark := &p.Brief, p.Snap, p.In.Mark
	b.Summary = "mark " + snap.Server.Name
	if key := snap.Instance.Identity.Marks["mark"]; key != "" {
		b.Find(change.Stop, change.ServerHasIdentity, "Nothing has to be done.", "%s is marked already: %s.",
			snap.Server.Name, key)
		return
	}
	if !snap.Instance.Login.Superuser {
		b.Find(change.Stop, change.RightsMissing, "Have an administrator run it: "+addProperty(markName, mark),
			"Only administrators may alter the database master, and Genarch's login %s is none.",
			snap.Instance.Login.Name)
	}
	b.Find(change.Note, change.ServerHasIdentity, "",
		"A server has nothing by which it is known but its name. One random number, as an extended property of the "+
			"database master, makes it certain; a copy of the whole server is then recognised by its name.")
	p.Step(change.Step{Kind: stepMark, Title: "write the mark", Statement: addProperty(markName, mark),
		Undo: dropProperty(markName), Args: map[string]string{"property": markName, "value": mark}},
		change.Step{Kind: change.Verify, Title: "read the mark back", ReadOnly: true,
			Args: map[string]string{"check": "property", "property": markName, "value": mark}})
}

package mysqlfamily

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/planning"
	"path/filepath"
)

// The kinds of steps that this engine carries out.
const (
	stepCreate       = "create_database"
	stepAlter        = "alter_database"
	stepMarkDatabase = "create_marker_database"
	stepMarkTable    = "create_marker_table"
	stepMarkRow      = "write_marker"
	stepMarkVerify   = "verify_marker"
)

// Plan briefs an intent. It is pure.
func (e Engine[P]) Plan(in change.Intent, snap catalog.Snapshot) (change.Brief, error) {
	snap.Server.Engine = e.product().id()
	p, possible, err := planning.New(in, snap, e.product().description, equal)
	if err != nil {
		return change.Brief{}, err
	}
	if possible {
		planKind(p)
	}
	return p.Seal(), nil
}

func planKind(p *planning.Draft) {
	b, in, snap := &p.Brief, p.In, p.Snap
	switch in.Kind {
	case change.CreateDatabase:
		planCreate(p)
	case change.AlterDatabase:
		planAlter(p)
	case change.FillDatabase:
		planFill(p)
	case change.DropDatabase:
		planDropDatabase(b, in, snap)
		program := detailsOf(snap.Details).Program
		planning.Export(p, program, filepath.Base(program.Path), detailsOf(snap.Details).NoProgram)
	case change.SetAside:
		planSetAside(b, in, snap)
	case change.BringBack, change.Discard, change.KeepHolding:
		planHolding(b, in, snap)
	case change.EndSessions:
		planEndSessions(b, in, snap)
	case change.MarkServer:
		planMark(b, in.Mark, snap)
	case change.CreateAccount:
		planCreateAccount(b, *in.Account, snap)
	case change.AlterAccount:
		planAlterAccount(b, in, snap)
	case change.RenameAccount:
		planRenameAccount(b, *in.Account, snap)
	case change.SetPassword:
		planSetPassword(b, *in.Account, snap)
	case change.DropAccount:
		planDropAccount(b, in, snap)
	case change.GrantRole, change.RevokeRole:
		planMember(b, *in.Member, snap, in.Kind == change.GrantRole)
	case change.GrantPrivilege:
		planGive(b, *in.Grant, snap)
	case change.RevokePrivilege:
		planTake(b, *in.Grant, snap)
	}
}

// planMark briefs writing the marker row by which this server is known for
// certain from then on.
func planMark(b *change.Brief, mark string, snap catalog.Snapshot) {
	b.Summary = "mark " + snap.Server.Name
	if key := snap.Instance.Identity.Marks["marker"]; key != "" {
		b.Find(change.Stop, change.ServerHasIdentity, "Nothing has to be done.", "%s is marked already: %s.",
			snap.Server.Name, key)
		return
	}
	planning.Rights(b, snap)
	b.Find(change.Note, change.ServerHasIdentity, "",
		productOf(snap).copies+" A small database %s with one random number makes it certain; a copy that is "+
			"restored elsewhere is then recognised by its address and folder.", markerDatabase)
	table := quoteIdent(markerDatabase) + "." + quoteIdent(markerTable)
	b.Steps = []change.Step{
		{Kind: stepMarkDatabase, Title: "create database " + markerDatabase,
			Args: map[string]string{"name": markerDatabase},
			Statement: createDatabase(markerDatabase, "utf8mb4", "utf8mb4_bin",
				productOf(snap).remark("by this Genarch knows the server; leave "+
					"it")), Undo: dropDatabase(markerDatabase)},
		{Kind: stepMarkTable, Title: "create its table", Args: map[string]string{"name": markerDatabase},
			Statement: "CREATE TABLE " + table +
				" (\n  id CHAR(36) CHARACTER SET ascii NOT NULL PRIMARY KEY,\n  made TIMESTAMP NOT NULL DEFAULT CURRENT_TIMESTAMP\n)", Undo: "DROP TABLE " + table},
		{Kind: stepMarkRow, Title: "write the mark", Args: map[string]string{"mark": mark},
			Statement: "INSERT INTO " + table + " (id) VALUES (" + quoteText(mark) + ")",
			Undo:      "DELETE FROM " + table + " WHERE id = " + quoteText(mark)},
		{Kind: stepMarkVerify, Title: "read the mark back", ReadOnly: true, Args: map[string]string{"mark": mark}},
	}
}

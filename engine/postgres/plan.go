package postgres

import (
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine/planning"
)

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
	b, in, snap := &p.Brief, p.In, p.Snap
	switch in.Kind {
	case change.CreateDatabase:
		planCreate(p)
	case change.AlterDatabase:
		planAlter(p)
	case change.FillDatabase:
		planFill(p)
	case change.DropDatabase, change.RenameDatabase, change.SetAside:
		planTakeAway(p)
		planning.Export(p, detailsOf(snap.Details).Program, "pg_dump", detailsOf(snap.Details).NoProgram)
	case change.BringBack, change.Discard, change.KeepHolding:
		if in.Holding.Account {
			planAccountHolding(b, in, snap)
			break
		}
		planHolding(p)
	case change.SetAsideAccount:
		planSetAsideAccount(b, in, snap)
	case change.EndSessions:
		planEndSessions(b, in, snap)
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

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

package sqlserver

import (
	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// planTeam opens a new database to a team, and to nobody else: a role in it whose members may do
// everything, and two logins, each with a user that has a bundle.
func planTeam(p *planning.Draft) {
	spec := *p.In.Database
	t := *spec.Team
	planning.Team(&p.Brief, t, p.Snap, loginLimits)
	p.Summary += " for the team " + shown(t.Name)
	if login := p.Snap.Instance.Login; p.Asked.Has("owner") && !login.Superuser && p.Asked.Text("owner") != login.Name {
		p.About("owner", change.Stop, change.OptionInvalid, "Leave the owner out, and give the database away "+
			"afterwards.",
			"Once it is %s's, Genarch's login %s could not make the team's users in it.", shown(p.Asked.Text("owner")),
			shown(login.Name))
	}
	inside := func(who catalog.Principal, role bool) catalog.Principal {
		return catalog.Principal{Name: who.Name, Database: spec.Name, Role: role}
	}
	owner := inside(t.Owner(), true)
	p.Step(createStep(owner, ""), memberStep(catalog.Principal{Name: owners, Database: spec.Name, Role: true}, owner,
		true))
	p.Set(change.Setting{Name: "owner role", Value: owner.Name, Asked: true,
		Decides: "bundle own: " + description.BundleDecides(access.BundleOwn) + "; nobody signs in as it: whoever " +
			"alters tables is put into it"})
	for _, g := range []struct {
		who    catalog.Principal
		bundle access.Bundle
		name   string
	}{{t.App(), access.BundleWrite, "application account"}, {t.Reader(), access.BundleRead, "reader account"}} {
		user := inside(g.who, false)
		own := createStep(user, " FOR LOGIN "+quoteIdent(g.who.Name))
		own.Args["login"] = g.who.Name
		// A new user may connect already.
		set := bundles[g.bundle].onDatabase.Minus(connect)
		o := catalog.Object{Scope: catalog.ScopeDatabase, Database: spec.Name}
		p.Step(loginStep(g.who.Name, ""), own, giveStep(o, user, set, nil, false, false))
		p.Set(change.Setting{Name: g.name, Value: g.who.Name, Asked: true,
			Decides: "bundle " + string(g.bundle) + ": " + description.BundleDecides(g.bundle)})
	}
}

// proveTeam tries the team's logins on the new database.
func proveTeam(database string, t change.TeamSpec) change.Step {
	names := []string{t.App().Name, t.Reader().Name}
	return change.Step{Kind: engine.StepProve, Title: "sign in as both accounts and try what they may and may not do",
		ReadOnly: true, Seconds: 60, Args: map[string]string{"accounts": engine.EncodeList(names), "database": database,
			"bundles": engine.EncodeList([]string{"write", "read"})}}.NeedsSecrets(names...)
}

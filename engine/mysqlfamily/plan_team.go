package mysqlfamily

import (
	"strings"

	"example.com/genarch/core/access"
	"example.com/genarch/core/catalog"
	"example.com/genarch/core/change"
	"example.com/genarch/core/naming"
	"example.com/genarch/core/privilege"
	"example.com/genarch/engine"
	"example.com/genarch/engine/planning"
)

// proofTable is made in a new database to try the accounts on, and removed.
const proofTable = "genarch_proof"

// teamOf settles the team's accounts: everywhere unless a host was asked for.
func teamOf(spec change.DatabaseSpec) change.TeamSpec {
	t := *spec.Team
	if t.Host == "" {
		t.Host = "%"
	}
	t.Host = strings.ToLower(t.Host)
	return t
}

func teamRole(t change.TeamSpec, of *product) catalog.Principal { return of.role(t.Owner().Name) }

// planTeam makes the role and the accounts that the database is for.
func planTeam(p *planning.Draft) {
	b, snap, t := &p.Brief, p.Snap, teamOf(*p.In.Database)
	planning.Team(b, t, snap, productOf(snap).accountLimits)
	planHost(b, t.Host, snap)
	if p.Asked.Has("owner") {
		p.About("owner", change.Stop, change.OptionInvalid, "Leave the owner out.",
			"The team gets an owner role of its own, %s.", t.Owner().Name)
	}
	planGivable(b, p.In.Database.Name, snap)
	method := productOf(snap).method(b, "", "", snap)
	b.Steps = append(b.Steps, createRoleStep(teamRole(t, productOf(snap)), productOf(snap)))
	for _, who := range []catalog.Principal{t.App(), t.Reader()} {
		if !b.Stopped() {
			planRivals(b, who, snap)
		}
		b.Steps = append(b.Steps, createAccountStep(who, true, method, "", productOf(snap)))
	}
	b.Summary += " for the team " + naming.Show(t.Name)
}

// teamGrants opens the database to the team, and to nobody else.
func teamGrants(p *planning.Draft) []change.Step {
	spec := *p.In.Database
	t := teamOf(spec)
	o := catalog.Object{Scope: catalog.ScopeDatabase, Database: spec.Name}
	var out []change.Step
	for _, g := range []struct {
		to     catalog.Principal
		bundle access.Bundle
		name   string
		is     string
	}{{teamRole(t, productOf(p.Snap)), access.BundleOwn, "owner role", "; nobody signs in as it: it is granted " +
		"to whoever alters tables"},
		{t.App(), access.BundleWrite, "application account", ""},
		{t.Reader(), access.BundleRead, "reader account", ""}} {
		set := productOf(p.Snap).bundles[g.bundle]
		out = append(out, giveStep("grant "+naming.Show(g.to.String())+" the bundle "+string(g.bundle)+" on it", g.to,
			o, set, privilege.Set{}, false, false))
		p.Set(change.Setting{Name: g.name, Value: g.to.String(), Asked: true,
			Decides: "bundle " + string(g.bundle) + ": " +
				productOf(p.Snap).description.BundleDecides(g.bundle) + g.is})
	}
	return out
}

// proveTeam tries the team's accounts on the new database, where their host
// lets Genarch in.
func proveTeam(b *change.Brief, spec change.DatabaseSpec, snap catalog.Snapshot) {
	t := teamOf(spec)
	names := tryable(b, snap, t.App(), t.Reader())
	if len(names) == 2 {
		b.Steps = append(b.Steps, change.Step{Kind: engine.StepProve,
			Title: "sign in as both accounts and try what they may and may not do", ReadOnly: true, Seconds: 60,
			Args: map[string]string{"accounts": engine.EncodeList(names), "database": spec.Name,
				"bundles": engine.EncodeList([]string{"write", "read"})}}.NeedsSecrets(namesOf(names)...))
	}
}
